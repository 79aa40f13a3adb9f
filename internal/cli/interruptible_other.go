//go:build !unix

package cli

import (
	"io"
	"os"
)

// interruptible: no agent runs on these systems.
func interruptible(file *os.File) io.Reader { return file }
