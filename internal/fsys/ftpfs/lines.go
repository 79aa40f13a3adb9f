package ftpfs

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/textproto"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/connect"
	"tartine/internal/connect/ftpline"
	"tartine/internal/farend"
)

// Dial makes another connection.
type Dial func(ctx context.Context) (*ftpline.Conn, error)

// lines is the connections to one server. How many it allows is found out: when it takes no more, those that are open
// have to do.
type lines struct {
	dial     Dial
	patience time.Duration

	mu      sync.Mutex
	idle    []*ftpline.Conn
	open    int
	most    int
	changed chan struct{} // closed, and made anew, when a connection becomes free
	closed  bool
}

func newLines(first *ftpline.Conn, dial Dial, most int, patience time.Duration) *lines {
	return &lines{dial: dial, patience: patience, idle: []*ftpline.Conn{first}, open: 1, most: max(most, 1),
		changed: make(chan struct{})}
}

func (l *lines) limit() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.most
}

func (l *lines) count() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.open
}

// acquire gives a connection that nobody else uses, and makes one where that is allowed.
func (l *lines) acquire(ctx context.Context) (*ftpline.Conn, error) {
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		l.mu.Lock()
		changed := l.changed
		switch {
		case l.closed:
			l.mu.Unlock()
			return nil, farend.ErrLost
		case len(l.idle) > 0:
			line := l.idle[len(l.idle)-1]
			l.idle = l.idle[:len(l.idle)-1]
			l.mu.Unlock()
			return line, nil
		case l.open < l.most:
			l.open++
			l.mu.Unlock()
			line, err := l.dial(ctx)
			if err == nil {
				return line, nil
			}
			if !l.without(err) {
				return nil, err
			}
		default:
			l.mu.Unlock()
			select {
			case <-changed:
			case <-ctx.Done():
			}
		}
	}
}

// without notes that a connection could not be made, and tells whether those that are open have to do.
func (l *lines) without(err error) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open--
	l.wake()
	var full *ftpline.FullError
	if l.open == 0 || !errors.As(err, &full) {
		return false
	}
	l.most = l.open
	return true
}

func (l *lines) wake() {
	close(l.changed)
	l.changed = make(chan struct{})
}

// give takes a connection back, and ends one that is broken.
func (l *lines) give(line *ftpline.Conn, broken bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	defer l.wake()
	if broken || l.closed {
		line.Close()
		l.open--
		return
	}
	l.idle = append(l.idle, line)
}

func (l *lines) close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	for _, line := range l.idle {
		line.Close()
		l.open--
	}
	l.idle = nil
	l.wake()
	return nil
}

// Pauses before something is tried again, which grow.
const (
	firstPause = 200 * time.Millisecond
	mostPause  = 5 * time.Second
)

// errKept tells that an operation keeps its connection, and gives it back later.
var errKept = errors.New("the connection is kept")

// do carries something out over one connection, and over another one when that breaks, until nothing has got through
// for as long as patience says. Rewind makes ready for another go, and tells whether the one before has brought
// something; it may be nil.
func (l *lines) do(ctx context.Context, rewind func() (moved bool, err error), run func(*ftpline.Conn) error) error {
	var deadline time.Time
	pause := firstPause
	for {
		line, err := l.acquire(ctx)
		if err == nil {
			stop := context.AfterFunc(ctx, func() { line.Close() })
			if err = refused(line, run(line)); err == errKept {
				stop()
				return nil
			}
			broken := err != nil && isBroken(err)
			if !stop() {
				broken = true
			}
			l.give(line, broken)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if !broken {
				return err
			}
		} else if final(err) {
			return err
		}
		if deadline.IsZero() {
			deadline = time.Now().Add(l.patience)
		}
		if time.Now().After(deadline) {
			return farend.ErrLost
		}
		if rewind != nil {
			moved, err := rewind()
			if err != nil {
				return farend.ErrLost
			}
			if moved {
				deadline, pause = time.Time{}, firstPause
			}
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return ctx.Err()
		}
		pause = min(2*pause, mostPause)
	}
}

// all does something for each of so many, over as many connections as there may be.
func (l *lines) all(ctx context.Context, count int, each func(ctx context.Context, i int) error) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(l.limit())
	for i := range count {
		group.Go(func() error { return each(ctx, i) })
	}
	return group.Wait()
}

// final tells whether it is of no use to try to connect again.
func final(err error) bool {
	var failed *connect.Error
	if errors.Is(err, farend.ErrLost) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return true
	}
	var reply *textproto.Error
	var certificate *ftpline.CertificateError
	return errors.As(err, &failed) && (errors.As(err, &certificate) || failed.Step == connect.Login && errors.As(err, &reply) && reply.Code == 530 && !isFull(err))
}

func isFull(err error) bool {
	var full *ftpline.FullError
	return errors.As(err, &full)
}

// isBroken tells whether a connection is of no use any more after an error: the connection is gone, or the server says
// that it goes (421), or that a transfer could not be made or was cut (425, 426).
func isBroken(err error) bool {
	var source *sourceError
	if errors.As(err, &source) {
		return false // the transfer was ended in order
	}
	var reply *textproto.Error
	if errors.As(err, &reply) {
		dies := reply.Code == 500 && strings.HasPrefix(reply.Msg, "OOPS") // the last words of vsftpd, where one of its processes has ended
		return dies || reply.Code == 421 || reply.Code == 425 || reply.Code == 426
	}
	var network net.Error
	var protocol textproto.ProtocolError
	var record tls.RecordHeaderError // something else than TLS came: a server that ends says so in the clear
	var alert tls.AlertError
	if errors.As(err, &record) || errors.As(err, &alert) {
		return true
	}
	return errors.As(err, &network) || errors.As(err, &protocol) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, net.ErrClosed) || errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNRESET)
}
