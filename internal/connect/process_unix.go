//go:build unix

package connect

import (
	"errors"
	"os/exec"
	"os/signal"
	"syscall"
)

// inGroup has a program start in a process group of its own, and gives what interrupts all that belong to that, and
// what ends them.
func inGroup(cmd *exec.Cmd) (interrupt, kill func()) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	send := func(signal syscall.Signal) func() {
		return func() { _ = syscall.Kill(-cmd.Process.Pid, signal) } // it may have ended
	}
	return send(syscall.SIGINT), send(syscall.SIGKILL)
}

// startPlainly starts a program that SIGPIPE ends, as programs expect it: what this program ignores they would ignore, too.
func startPlainly(cmd *exec.Cmd) error {
	if signal.Ignored(syscall.SIGPIPE) {
		signal.Reset(syscall.SIGPIPE)
		defer signal.Ignore(syscall.SIGPIPE)
	}
	return cmd.Start()
}

// exitOf gives the exit status of a program of this machine that was waited for.
func exitOf(cmd *exec.Cmd, err error) (int, error) {
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) {
		return 0, err
	}
	if status, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return 128 + int(status.Signal()), nil
	}
	return cmd.ProcessState.ExitCode(), nil
}
