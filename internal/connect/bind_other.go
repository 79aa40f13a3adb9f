//go:build !linux

package connect

import (
	"errors"
	"syscall"
)

// bindTo has a socket use one network interface.
func bindTo(syscall.RawConn, string) error { return errors.New("that cannot be done on this system") }
