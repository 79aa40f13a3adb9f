//go:build unix

package site

import (
	"errors"
	"syscall"
)

// ProcessLives tells whether a process of this machine lives.
func ProcessLives(id int) bool {
	return !errors.Is(syscall.Kill(id, 0), syscall.ESRCH)
}
