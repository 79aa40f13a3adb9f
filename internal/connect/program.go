package connect

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"tartine/internal/farend"
)

// programStart is how long a far end may take to start a program.
const programStart = 20 * time.Second

// running is a program that was asked for at a far end, and has perhaps begun.
type running struct {
	program *farend.Program
	out     *farend.Outlet
	gate    *farend.Gate // before it
	errs    *farend.Tail // the end of what it wrote to standard error
	command string

	mu   sync.Mutex
	word string // on the line of the marker
}

// begun takes what is on the line of the marker, if that came.
func (r *running) begun(word string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.word = word
}

func (r *running) processes() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.word
}

func start(p *farend.Program) (*running, error) {
	marker := "tartine-" + rand.Text()
	command, err := p.Command(marker)
	if err != nil {
		return nil, err
	}
	out := &farend.Outlet{To: p.Out}
	return &running{program: p, out: out, gate: farend.NewGate(marker, out), errs: &farend.Tail{Most: 1 << 10}, command: command}, nil
}

func (r *running) stderr() io.Writer { return io.MultiWriter(r.program.Err, r.errs) }

// feed hands standard input on once the program has begun: what a login runs must not read it. It closes the gate's other
// side when the program does not begin in time. It ends with the context.
func (r *running) feed(ctx context.Context, in io.WriteCloser, giveUp func()) {
	select {
	case word := <-r.gate.Opened:
		r.begun(word)
	case <-time.After(programStart):
		giveUp()
		return
	case <-ctx.Done():
		return
	}
	go func() { // reading may last longer than the program does
		if r.program.In != nil {
			_, _ = io.Copy(in, r.program.In) // the program need not read it
		}
		in.Close()
	}()
}

// outcome gives the status of a program that has ended, or why it did not begin.
func (r *running) outcome(status int, err error) (int, error) {
	select {
	case word := <-r.gate.Opened: // it began and ended at once
		r.begun(word)
	default:
	}
	switch {
	case r.out.Gone():
		return farend.BrokenStatus, nil
	case !r.gate.IsOpen():
		said := r.gate.Before()
		if said == "" {
			said = r.errs.String()
		}
		if errors.Is(err, farend.ErrLost) {
			return 0, err
		}
		return 0, &farend.NotStartedError{Said: said}
	case r.processes() == "-folder":
		return 0, &farend.NotStartedError{Folder: r.program.Folder}
	}
	return status, err
}

// RunProgram runs a program over a connection and gives its exit status: of one that a signal ended 128 and the signal's
// number. When the context ends the program is interrupted.
func RunProgram(ctx context.Context, client *Client, p *farend.Program) (int, error) {
	r, err := start(p)
	if err != nil {
		return 0, err
	}
	session, err := client.NewSession()
	if err != nil {
		return 0, why(client, err)
	}
	defer session.Close()
	session.Stdout, session.Stderr = r.gate, r.stderr()
	r.out.Broken = func() { client.Close() }
	in, err := session.StdinPipe()
	if err == nil && p.Terminal != nil {
		t := p.Terminal
		err = session.RequestPty(t.Kind, t.Height, t.Width, ssh.TerminalModes{})
	}
	if err == nil {
		err = session.Start(r.command)
	}
	if err != nil {
		if err = why(client, err); errors.Is(err, farend.ErrUnsupported) {
			return 0, &farend.NotStartedError{Err: err}
		}
		return 0, err
	}
	running, ended := context.WithCancel(context.WithoutCancel(ctx))
	fed := make(chan struct{})
	go func() { defer close(fed); r.feed(running, in, func() { session.Close() }) }()
	interrupt := func() {
		if r.signal(running, client) != nil {
			_ = session.Signal(ssh.SIGINT) // some servers take it, for some users
		}
	}
	go farend.Attend(ctx, running, p.Terminal, interrupt, func() { client.Close() },
		func(width, height int) { _ = session.WindowChange(height, width) })
	err = session.Wait()
	ended()
	<-fed
	var exit *ssh.ExitError
	switch {
	case errors.As(err, &exit) && exit.Signal() != "":
		return r.outcome(128+signalNumbers[exit.Signal()], nil)
	case errors.As(err, &exit):
		return r.outcome(exit.ExitStatus(), nil)
	case err != nil && ctx.Err() != nil:
		return r.outcome(128+signalNumbers["INT"], nil)
	case err != nil:
		return r.outcome(0, fmt.Errorf("%w: %w", farend.ErrLost, err))
	}
	return r.outcome(0, nil)
}

// signal interrupts a program as a terminal would: all that belong to its process group. Its own process leads that, or the
// one above it does, which is the login's shell.
func (r *running) signal(ctx context.Context, client *Client) error {
	var self, above int
	if _, err := fmt.Sscan(r.processes(), &self, &above); err != nil {
		return err
	}
	command := fmt.Sprintf("sh -c 'kill -INT -%d 2>/dev/null || kill -INT -%d 2>/dev/null || kill -INT %[1]d'", self, above)
	return Exec(client)(ctx, command, nil, io.Discard)
}

// signalNumbers are the numbers of signals that end programs (POSIX).
var signalNumbers = map[string]int{"HUP": 1, "INT": 2, "QUIT": 3, "ILL": 4, "ABRT": 6, "FPE": 8, "KILL": 9, "SEGV": 11, "PIPE": 13,
	"ALRM": 14, "TERM": 15, "USR1": 10, "USR2": 12}

// RunThrough runs a program behind one of this machine that leads to a shell.
func RunThrough(ctx context.Context, command []string, p *farend.Program) (int, error) {
	r, err := start(p)
	if err != nil {
		return 0, err
	}
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = r.gate, r.stderr(), time.Second
	r.out.Broken = func() { _ = cmd.Process.Kill() }
	in, err := cmd.StdinPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return 0, fmt.Errorf("start %s: %w", command[0], err)
	}
	running, ended := context.WithCancel(context.WithoutCancel(ctx))
	fed := make(chan struct{})
	go func() { defer close(fed); r.feed(running, in, func() { _ = cmd.Process.Kill() }) }()
	go farend.Attend(ctx, running, nil, func() { _ = cmd.Process.Signal(os.Interrupt) }, func() { _ = cmd.Process.Kill() }, nil)
	if _, err = io.WriteString(in, "exec "+r.command+"\n"); err != nil {
		in.Close() // how the command ended tells more
	}
	err = cmd.Wait()
	ended()
	<-fed
	return r.outcome(exitOf(cmd, err))
}

// RunHere runs a program on this machine.
func RunHere(ctx context.Context, p *farend.Program) (int, error) {
	if info, err := os.Stat(p.Folder); err != nil || !info.IsDir() {
		return 0, &farend.NotStartedError{Folder: p.Folder}
	}
	cmd := exec.Command(p.Args[0], p.Args[1:]...)
	cmd.Dir, cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.WaitDelay = p.Folder, p.In, p.Out, p.Err, time.Second
	if len(p.Env) > 0 {
		cmd.Env = append(os.Environ(), p.Env...)
	}
	interrupt, kill := func() {}, func() { _ = cmd.Process.Kill() } // a terminal has told it
	if in, isFile := p.In.(*os.File); !isFile || !term.IsTerminal(int(in.Fd())) {
		interrupt, kill = inGroup(cmd)
	}
	if err := startPlainly(cmd); err != nil {
		return 0, &farend.NotStartedError{Said: err.Error(), Err: err}
	}
	running, ended := context.WithCancel(context.WithoutCancel(ctx))
	go farend.Attend(ctx, running, nil, interrupt, kill, nil)
	err := cmd.Wait()
	ended()
	return exitOf(cmd, err)
}
