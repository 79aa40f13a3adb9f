package connect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"time"

	"golang.org/x/crypto/ssh"

	"tartine/internal/fsys"
)

// Shell is a POSIX shell at the far end that reads commands from its standard input.
type Shell struct {
	io.Reader
	io.Writer
	end func() error
}

// Close ends the shell and what it runs.
func (s *Shell) Close() error { return s.end() }

// OpenShell starts a shell over a connection.
func OpenShell(client *ssh.Client) (*Shell, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, why(client, err)
	}
	in, err := session.StdinPipe()
	if err == nil {
		var out io.Reader
		if out, err = session.StdoutPipe(); err == nil {
			if err = session.Start("sh"); err == nil {
				return &Shell{out, in, session.Close}, nil
			}
		}
	}
	session.Close()
	return nil, fmt.Errorf("%w: %w", fsys.ErrUnsupported, err)
}

// endGrace is how long a program may take to end once nothing more is said to it.
const endGrace = 2 * time.Second

// RunShell starts a program of this machine whose standard input and output lead to a shell, wherever that is. What the
// program says beside goes to said.
func RunShell(ctx context.Context, command []string, said io.Writer) (*Shell, error) {
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Stderr = said
	in, err := cmd.StdinPipe()
	if err == nil {
		var out io.ReadCloser
		if out, err = cmd.StdoutPipe(); err == nil {
			if err = cmd.Start(); err == nil {
				end := func() error {
					closing := in.Close()
					grace := time.AfterFunc(endGrace, cancel)
					_ = cmd.Wait() // how it ended is of no interest any more
					grace.Stop()
					cancel()
					return closing
				}
				return &Shell{out, in, end}, nil
			}
		}
	}
	cancel()
	var missing *exec.Error
	if errors.As(err, &missing) {
		err = missing.Err
	}
	return nil, fmt.Errorf("start %s: %w", command[0], err)
}
