package connect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os/exec"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"tartine/internal/farend"
)

// Shell is a POSIX shell at the far end that reads commands from its standard input.
type Shell struct {
	io.Reader
	io.Writer
	end  func() error
	lost func() bool // nil: not known
}

// Lost tells whether the connection is gone over which the shell was reached.
func (s *Shell) Lost() bool { return s.lost != nil && s.lost() }

// Within gives the shell at a rate that it shares with others; nil: as it is.
func (s *Shell) Within(limit *Throttle) *Shell {
	if limit == nil {
		return s
	}
	held := &throttled{s.Reader, s.Writer, limit}
	return &Shell{held, held, s.end, s.lost}
}

// Close ends the shell and what it runs.
func (s *Shell) Close() error { return s.end() }

// OpenShell starts a shell over a connection.
func OpenShell(client *Client) (*Shell, error) {
	return openShell(client, func(session *ssh.Session) error { return session.Start("sh") })
}

// OpenTerminalShell starts a shell over a connection that has a terminal, which passes all bytes as they are.
func OpenTerminalShell(client *Client) (*Shell, error) {
	return openShell(client, func(session *ssh.Session) error {
		if err := session.RequestPty("dumb", 24, 80, ssh.TerminalModes{ssh.ECHO: 0}); err != nil {
			return err
		}
		// A shell takes its commands as from a file, without prompts and groups of its own, where its output is no terminal.
		return session.Start("exec sh -c 'stty raw -echo; sh 2>/dev/null | cat'")
	})
}

func openShell(client *Client, start func(*ssh.Session) error) (*Shell, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, why(client, err)
	}
	in, err := session.StdinPipe()
	if err == nil {
		var out io.Reader
		if out, err = session.StdoutPipe(); err == nil {
			if err = start(session); err == nil {
				return &Shell{out, in, session.Close, func() bool {
					_, _, dead := client.SendRequest("keepalive@openssh.com", true, nil)
					return dead != nil
				}}, nil
			}
		}
	}
	session.Close()
	return nil, fmt.Errorf("%w: %w", farend.ErrUnsupported, err)
}

// endGrace is how long a program may take to end once nothing more is said to it.
const endGrace = 2 * time.Second

// RunShell starts a program of this machine whose standard input and output lead to a shell, wherever that is. What the
// program says beside goes to said.
func RunShell(ctx context.Context, command []string, said io.Writer) (*Shell, error) {
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Stderr, cmd.WaitDelay = said, endGrace // what it started may live on
	in, err := cmd.StdinPipe()
	if err == nil {
		var out io.ReadCloser
		if out, err = cmd.StdoutPipe(); err == nil {
			if err = cmd.Start(); err == nil {
				end := sync.OnceValue(func() error { // whose patience is over, and who opened it, may end it at the same time
					closing := in.Close()
					grace := time.AfterFunc(endGrace, cancel)
					_ = cmd.Wait() // how it ended is of no interest any more
					grace.Stop()
					cancel()
					return closing
				})
				return &Shell{out, in, end, nil}, nil
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

// Socket opens a connection to a Unix socket of a host. The connection to the host ends with it.
func Socket(ctx context.Context, dial *SSH, socket string) (net.Conn, error) {
	client, err := dial.Dial(ctx)
	if err != nil {
		return nil, err
	}
	conn, err := client.Dial("unix", socket)
	if err != nil {
		client.Close()
		return nil, fmt.Errorf("%s at %s: %w", socket, dial.Address(), err)
	}
	return &socketConn{conn, client}, nil
}

// socketConn is a connection that ends with what it runs over.
type socketConn struct {
	net.Conn
	client *Client
}

func (c *socketConn) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

func (c *socketConn) Close() error { return errors.Join(c.Conn.Close(), c.client.Close()) }
