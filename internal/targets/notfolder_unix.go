//go:build unix

package targets

import (
	"errors"
	"syscall"
)

// isNotFolder tells whether a look-up failed because something on the way is a file.
func isNotFolder(err error) bool { return errors.Is(err, syscall.ENOTDIR) }
