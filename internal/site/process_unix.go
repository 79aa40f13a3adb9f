//go:build unix

package site

import (
	"errors"
	"syscall"
)

// processLives tells whether a process of this machine lives.
func processLives(id int) bool {
	return !errors.Is(syscall.Kill(id, 0), syscall.ESRCH)
}
