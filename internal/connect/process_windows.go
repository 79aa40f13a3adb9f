package connect

import (
	"errors"
	"os/exec"
)

// inGroup gives what ends a program: here there is no gentler way that all programs know.
func inGroup(cmd *exec.Cmd) (interrupt, kill func()) {
	end := func() { _ = cmd.Process.Kill() }
	return end, end
}

// startPlainly starts a program.
func startPlainly(cmd *exec.Cmd) error { return cmd.Start() }

// exitOf gives the exit status of a program of this machine that was waited for.
func exitOf(cmd *exec.Cmd, err error) (int, error) {
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) {
		return 0, err
	}
	return cmd.ProcessState.ExitCode(), nil
}
