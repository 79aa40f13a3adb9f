package connect

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"tartine/internal/farend"

	"golang.org/x/crypto/ssh"
)

// ErrSilent tells that something takes the connection and then says nothing.
var ErrSilent = errors.New("the connection is taken, and then nothing is said")

// ErrHungUp tells that a connection was taken and ended at once.
var ErrHungUp = errors.New("the connection is taken and ended at once, before anything is said")

// ProtocolError tells that something answers that is not an SSH server.
type ProtocolError struct {
	Said string // how it begins, without what would drive a terminal
}

func (e *ProtocolError) Error() string { return fmt.Sprintf("it says %q", e.Said) }

// NothingInCommonError tells that a server offers only algorithms that are no longer safe, or that are not known here.
type NothingInCommonError struct {
	What   string // what they are for, such as key exchange
	Offers []string
	Able   []string // what this program was to use
	Unsafe bool     // there are some among those that are known here, and left out because they are no longer safe
}

func (e *NothingInCommonError) Error() string {
	return fmt.Sprintf("no %s in common: the server offers only %s", e.What, strings.Join(e.Offers, ", "))
}

func nothingInCommon(negotiation *ssh.AlgorithmNegotiationError) error {
	unsafe := ssh.InsecureAlgorithms()
	old := slices.Concat(unsafe.KeyExchanges, unsafe.Ciphers, unsafe.MACs, unsafe.HostKeys, []string{macSHA1})
	return &NothingInCommonError{negotiation.What, negotiation.RequestedAlgorithms, negotiation.SupportedAlgorithms,
		slices.ContainsFunc(negotiation.RequestedAlgorithms, func(name string) bool {
			return slices.Contains(old,
				name)
		})}
}

// line is the byte stream to a server: it remembers how the server began, and holds the rate that is allowed.
type line struct {
	net.Conn
	limit *Throttle

	mu    sync.Mutex
	heard []byte // the beginning
	first func() // called once, when the server begins to speak
}

// heardEnough is how much of what a server says at first is remembered, in bytes.
const heardEnough = 80

func (l *line) Read(p []byte) (int, error) {
	n, err := l.Conn.Read(p)
	l.mu.Lock()
	if n > 0 && l.first != nil {
		l.first()
		l.first = nil
	}
	l.heard = append(l.heard, p[:min(n, heardEnough-len(l.heard))]...)
	l.mu.Unlock()
	l.limit.Pay(n)
	return n, err
}

func (l *line) Write(p []byte) (int, error) { return l.limit.Write(p, l.Conn.Write) }

// said judges what the server said when the handshake failed before its key was shown.
func (l *line) said(err error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	greeting, _, _ := strings.Cut(string(l.heard), "\n")
	var negotiation *ssh.AlgorithmNegotiationError
	switch {
	case len(l.heard) == 0:
		if way, ok := l.Conn.(*wayConn); ok {
			return way.why()
		}
		return ErrHungUp
	case errors.As(err, &negotiation):
		return nothingInCommon(negotiation)
	case strings.Contains(string(l.heard), "SSH-"):
		return err
	default:
		return &ProtocolError{farend.Said(greeting, heardEnough)}
	}
}

// watchdog ends a connection when a step takes too long. It rests while a person is asked.
type watchdog struct {
	limit time.Duration
	timer *time.Timer
	mu    sync.Mutex
	late  bool
}

func watch(limit time.Duration, end func()) *watchdog {
	w := &watchdog{limit: limit}
	w.timer = time.AfterFunc(limit, func() {
		w.mu.Lock()
		w.late = true
		w.mu.Unlock()
		end()
	})
	return w
}

// step begins the next step.
func (w *watchdog) step() {
	if w.timer.Stop() {
		w.timer.Reset(w.limit)
	}
}

// resting gives a function that asks with the watchdog at rest.
func (w *watchdog) resting(ask func(string, bool) (string, error)) func(string, bool) (string, error) {
	if ask == nil {
		return nil
	}
	return func(question string, echo bool) (string, error) {
		defer w.rest()()
		return ask(question, echo)
	}
}

// rest stops it until what it gives is called.
func (w *watchdog) rest() (resume func()) {
	w.timer.Stop()
	return func() { w.timer.Reset(w.limit) }
}

func (w *watchdog) isLate() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.late
}

// Keep-alives: how often the server is asked for an answer, and how many may be missing.
const (
	defaultAlive = 15 * time.Second
	aliveMisses  = 3
)

// keepAlive asks the server for an answer now and then, and ends the connection when none comes. So a connection that
// is idle is not dropped on the way, and one that is dead is found out.
func keepAlive(client *Client, every time.Duration, misses int) {
	ended := make(chan struct{})
	go func() {
		_ = client.Wait() // why it ended is seen by who uses it
		close(ended)
	}()
	go func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			select {
			case <-ended:
				return
			case <-tick.C:
			}
			answered := make(chan struct{})
			go func() {
				defer close(answered)
				_, _, _ = client.SendRequest("keepalive@openssh.com", true, nil) // a refusal is an answer too
			}()
			select {
			case <-ended:
				return
			case <-answered:
			case <-time.After(time.Duration(misses) * every):
				client.Close()
			}
		}
	}()
}
