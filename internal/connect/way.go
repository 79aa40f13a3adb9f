package connect

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"tartine/internal/farend"
)

// open opens the byte stream to the host: straight, through the hosts on the way, or through a command.
func (s *SSH) open(ctx context.Context, took func(Step)) (net.Conn, error) {
	if s.Via == nil && !isNone(s.Command) {
		return runWay(s.Command)
	}
	if s.Via == nil {
		return s.openStraight(ctx, took)
	}
	near, err := s.Via.Dial(ctx)
	if err != nil {
		return nil, err
	}
	conn, err := near.DialContext(ctx, "tcp", s.Address())
	if err != nil {
		near.Close()
		return nil, fmt.Errorf("through %s: %w", s.Via.Address(), err)
	}
	return &through{conn, near}, nil
}

func (s *SSH) openStraight(ctx context.Context, took func(Step)) (conn net.Conn, err error) {
	dialer := &net.Dialer{Timeout: s.Timeout}
	if s.BindAddress != "" {
		from, err := net.ResolveTCPAddr("tcp", net.JoinHostPort(s.BindAddress, "0"))
		if err != nil {
			return nil, fmt.Errorf("BindAddress: %w", err)
		}
		dialer.LocalAddr = from
	}
	var once sync.Once // a name may lead to several addresses
	dialer.ControlContext = func(_ context.Context, _, _ string, socket syscall.RawConn) error {
		once.Do(func() { took(Lookup) })
		if s.BindInterface == "" {
			return nil
		}
		if err := bindTo(socket, s.BindInterface); err != nil {
			return fmt.Errorf("BindInterface %s: %w", s.BindInterface, err)
		}
		return nil
	}
	network := s.Network
	if network == "" {
		network = "tcp"
	}
	for try := 1; ; try++ {
		if conn, err = dialer.DialContext(ctx, network, s.Address()); err == nil {
			took(Port)
			return conn, nil
		}
		if try >= s.Attempts {
			return nil, err
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// WayError tells that the command that leads to a host ended before the host said anything.
type WayError struct {
	Command string
	Said    string // the end of what it said beside
}

func (e *WayError) Error() string {
	if e.Said == "" {
		return fmt.Sprintf("the command %q (ProxyCommand) ended, and said nothing", e.Command)
	}
	return fmt.Sprintf("the command %q (ProxyCommand) ended: it said %q", e.Command, e.Said)
}

// wayConn is a connection through the standard input and output of a command.
type wayConn struct {
	io.Reader
	io.WriteCloser
	command string
	said    *farend.Tail
	kill    func()
	wait    func() error
	once    sync.Once
}

// runWay starts the command in the user's shell, as ssh does.
func runWay(command string) (net.Conn, error) {
	shell := os.Getenv("SHELL")
	if shell == "" {
		shell = "/bin/sh"
	}
	ctx, cancel := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, shell, "-c", "exec "+command)
	c := &wayConn{command: command, said: &farend.Tail{Most: mostSaid}, kill: cancel}
	cmd.Stderr = c.said
	cmd.WaitDelay = endGrace
	in, err := cmd.StdinPipe()
	if err == nil {
		var out io.Reader
		if out, err = cmd.StdoutPipe(); err == nil {
			if err = cmd.Start(); err == nil {
				c.Reader, c.WriteCloser = out, in
				c.wait = cmd.Wait
				return c, nil
			}
		}
	}
	cancel()
	return nil, fmt.Errorf("start %s: %w", shell, err)
}

// why tells how the command ended. It is called when nothing more can be read.
func (c *wayConn) why() error { return &WayError{c.command, c.said.String()} }

// Close ends the command: by the end of what it is told, or, when it goes on, by force.
func (c *wayConn) Close() (err error) {
	c.once.Do(func() {
		err = c.WriteCloser.Close()
		late := time.AfterFunc(endGrace, c.kill)
		_ = c.wait() // how it ended is of no interest any more
		late.Stop()
		c.kill()
	})
	return err
}

func (c *wayConn) LocalAddr() net.Addr              { return noAddress{} }
func (c *wayConn) RemoteAddr() net.Addr             { return noAddress{} }
func (c *wayConn) SetDeadline(time.Time) error      { return nil }
func (c *wayConn) SetReadDeadline(time.Time) error  { return nil }
func (c *wayConn) SetWriteDeadline(time.Time) error { return nil }

// mostSaid is how much of what a command says is kept, in bytes.
const mostSaid = 400
