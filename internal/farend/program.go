package farend

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Program is a program that is run at a far end for a person.
type Program struct {
	Args     []string // its name and what it is told; none holds a zero byte
	Folder   string   // in which it runs
	Home     bool     // Folder is below the home folder of who logs in
	In       io.Reader
	Out, Err io.Writer
	Terminal *Terminal // nil: it has none
	Env      []string  // what it has in its environment beside, NAME=VALUE each
	Named    string    // the name of a variable that holds the path of Folder; empty: none does
	Anywhere bool      // where the folder does not exist it runs in the home folder of who logs in
	// Wrap is what runs in the place of Args where there is a shell: a program that runs them, and reads In
	Wrap []string
}

// Words gives what is run where there is a shell.
func (p *Program) Words() []string {
	if p.Wrap != nil {
		return p.Wrap
	}
	return p.Args
}

// Terminal is what a program at a far end has in the place of this machine's terminal.
type Terminal struct {
	Kind          string // as TERM says
	Width, Height int
	Resized       <-chan [2]int // width and height, each time they change
}

// NotStartedError tells that a far end did not start a program.
type NotStartedError struct {
	Folder string // the folder that does not exist, or may not be entered; empty: something else is the matter
	Said   string // by the far end; may be empty
	Err    error  // on this machine; may be nil
}

func (e *NotStartedError) Unwrap() error { return e.Err }

func (e *NotStartedError) Error() string {
	switch {
	case e.Folder != "":
		return fmt.Sprintf("%s does not exist there, or may not be entered", e.Folder)
	case e.Said != "":
		return "the far end starts no program; it says: " + e.Said
	}
	return "the far end starts no program"
}

// mostArguments is how long a command may be, in bytes: systems take 128 KiB in one argument, as which it arrives.
const mostArguments = 90 << 10

// ErrTooLong tells that the arguments of a program are too long to be handed on.
var ErrTooLong = fmt.Errorf("its arguments have more than %d kB together", mostArguments/1000)

// Command gives a line that has any login shell run the program, with exactly these arguments. It prints a line with the
// marker as the program starts, behind whatever a login prints, and on it the numbers of the program's process and of the
// one above it.
//
// Shells disagree on quoting, but for letters, digits and a few signs within single quotes. So what is to be run is a
// script for sh, encoded in base64 (RFC 4648), that sh takes apart.
func (p *Program) Command(marker string) (string, error) {
	var script strings.Builder
	script.WriteString("unset IFS; set +f; ")
	if p.Home {
		script.WriteString("CDPATH= cd && ")
	}
	missing := "echo " + marker + "-folder; exit 126;"
	if p.Anywhere {
		missing = "CDPATH= cd || cd /;"
	}
	fmt.Fprintf(&script, "CDPATH= cd -- %s 2>/dev/null || { %s }; echo %s $$ $PPID; ", quoted(p.Folder), missing, marker)
	if p.Named != "" {
		home := ""
		if p.Home {
			home = `"$HOME"/`
		}
		fmt.Fprintf(&script, "export %s; %[1]s=%s%s; ", p.Named, home, quoted(p.Folder))
	}
	for _, variable := range p.Env {
		name, value, _ := strings.Cut(variable, "=")
		fmt.Fprintf(&script, "export %s; %[1]s=%s; ", name, quoted(value))
	}
	script.WriteString("exec")
	for _, arg := range p.Words() {
		script.WriteString(" " + quoted(arg))
	}
	if script.Len() > mostArguments {
		return "", ErrTooLong
	}
	return "sh -c 'set -f; IFS=; eval $(echo " + base64.StdEncoding.EncodeToString([]byte(script.String())) + " | base64 -d)'", nil
}

// quoted quotes a text for a POSIX shell.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// interruptGrace is how long a program may take to end that was interrupted.
const interruptGrace = 10 * time.Second

// Attend interrupts what runs when the first context ends, ends it when it does not end then, and tells it of a terminal
// that changes its size. It ends with the second.
func Attend(ctx, running context.Context, t *Terminal, interrupt, end func(), resize func(width, height int)) {
	var resized <-chan [2]int
	if t != nil {
		resized = t.Resized
	}
	stopped, late := ctx.Done(), (<-chan time.Time)(nil)
	for {
		select {
		case <-running.Done():
			return
		case size := <-resized:
			resize(size[0], size[1])
		case <-stopped:
			interrupt()
			stopped, late = nil, time.After(interruptGrace)
		case <-late:
			end()
			return
		}
	}
}

// Outlet passes on what a program writes, until nobody takes it any more: then it calls Broken, once, so that the program
// is ended, as one of this machine would be (SIGPIPE).
type Outlet struct {
	To     io.Writer
	Broken func()

	once sync.Once
	gone atomic.Bool
}

// BrokenStatus is the status of a program that ended so.
const BrokenStatus = 128 + 13

// Write implements io.Writer.
func (o *Outlet) Write(p []byte) (int, error) {
	n, err := o.To.Write(p)
	if err != nil {
		o.gone.Store(true)
		o.once.Do(o.Broken)
	}
	return n, err
}

// Gone tells whether nobody takes what is written.
func (o *Outlet) Gone() bool { return o.gone.Load() }

// Gate passes on what a far end writes from the line with a marker on.
type Gate struct {
	Opened chan string // gets what follows the marker on its line, once

	marker string
	out    io.Writer
	mu     sync.Mutex
	open   bool
	before []byte
}

// NewGate gives a gate before a writer.
func NewGate(marker string, out io.Writer) *Gate {
	return &Gate{Opened: make(chan string, 1), marker: marker, out: out}
}

// mostBefore is how much is looked through for the marker at a time, in bytes.
const mostBefore = 64 << 10

// Write implements io.Writer.
func (g *Gate) Write(p []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.open {
		return g.out.Write(p)
	}
	g.before = append(g.before, p...)
	at := bytes.Index(g.before, []byte(g.marker))
	if at < 0 {
		g.before = g.before[max(0, len(g.before)-mostBefore):]
		return len(p), nil
	}
	line, rest, whole := bytes.Cut(g.before[at+len(g.marker):], []byte{'\n'})
	if !whole {
		return len(p), nil
	}
	g.open, g.before = true, nil
	g.Opened <- strings.TrimRight(string(line), "\r")
	if len(rest) == 0 {
		return len(p), nil
	}
	_, err := g.out.Write(rest)
	return len(p), err
}

// Before gives what was written before the gate opened, fit to be shown.
func (g *Gate) Before() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return Said(string(g.before), mostShown)
}

// IsOpen tells whether the marker came.
func (g *Gate) IsOpen() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.open
}

// mostShown is how much of what a login says is shown, in bytes.
const mostShown = 400
