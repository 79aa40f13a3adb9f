//go:build unix

package ftptest

import (
	"os/exec"
	"syscall"
)

// inOwnGroup has a program begin a group of processes.
func inOwnGroup(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// killGroup ends all of a group.
func killGroup(leader int) { _ = syscall.Kill(-leader, syscall.SIGKILL) } // it may have ended
