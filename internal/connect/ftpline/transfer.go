package ftpline

import (
	"bufio"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"time"

	"tartine/internal/connect"
)

// timed is a connection on which every step has a time limit and the rate is held.
type timed struct {
	net.Conn
	timeout time.Duration
	limit   *connect.Throttle
	heard   *[]byte // keeps what comes; nil: it is not kept
}

// mostListed is how much of a listing is taken, in bytes.
const mostListed = 256 << 20

func (w *timed) Read(p []byte) (int, error) {
	if err := w.SetReadDeadline(time.Now().Add(w.timeout)); err != nil {
		return 0, err
	}
	n, err := w.Conn.Read(p)
	if w.heard != nil {
		if *w.heard = append(*w.heard, p[:n]...); len(*w.heard) > mostListed {
			return n, fmt.Errorf("a listing of more than %d bytes", mostListed)
		}
	}
	w.limit.Pay(n)
	return n, err
}

func (w *timed) Write(p []byte) (int, error) {
	return w.limit.Write(p, func(piece []byte) (int, error) {
		if err := w.SetWriteDeadline(time.Now().Add(w.timeout)); err != nil {
			return 0, err
		}
		return w.Conn.Write(piece)
	})
}

// SetDeadline is not for others: every step has its own.
func (w *timed) SetDeadline(time.Time) error { return nil }

// control is the connection over which commands go.
type control struct {
	timed
	in    *bufio.Reader
	asked string
	heard int          // bytes of the replies to it
	log   *slog.Logger // of what crosses the wire; nil: none
}

// mostReply is how long the replies to one command may be, in bytes.
const mostReply = 1 << 20

func newControl(conn timed, log *slog.Logger) *control {
	c := &control{timed: conn, log: log}
	c.in = bufio.NewReader(&c.timed)
	return c
}

func (c *control) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	if c.log != nil && n > 0 {
		first, _, _ := strings.Cut(string(p[:n]), "\r\n")
		c.log.Debug("FTP received", "reply", first, "bytes", n)
	}
	if c.heard += n; c.heard > mostReply {
		return n, &connect.ProtocolError{Said: "a reply that does not end"}
	}
	return n, err
}

func (c *control) Write(p []byte) (int, error) {
	word, _, _ := strings.Cut(strings.TrimRight(string(p[:min(len(p), 64)]), "\r\n"), " ")
	c.asked, c.heard = strings.ToUpper(word), 0
	if c.log != nil {
		said := string(p)
		if c.asked == "PASS" || c.asked == "ACCT" {
			said = c.asked
		}
		c.log.Debug("FTP sent", "command", strings.TrimRight(said, "\r\n"))
	}
	return c.timed.Write(p)
}

// transfer is a connection over which a file or a listing goes.
type transfer struct {
	timed
	raw     net.Conn // without TLS
	control *control
	written bool
}

func (c *transfer) Write(p []byte) (int, error) {
	c.written = true
	return c.timed.Write(p)
}

// Handshake makes a connection private before anything was sent: an empty file sends nothing.
func (c *transfer) Handshake() error {
	c.written = true
	if private, ok := c.Conn.(*tls.Conn); ok {
		return private.Handshake()
	}
	return nil
}

// Close ends a transfer. Who has sent a file says that it has ended, first in TLS (close_notify, RFC 8446, 6.1) and
// then in TCP, and waits for the server's reply, which comes when it has read everything. A connection that is closed
// while something lies unread in it is reset, and what the server has not read yet is lost; with TLS 1.3 something
// always does, the tickets for further sessions that servers send unasked.
func (c *transfer) Close() error {
	if !c.written {
		return c.Conn.Close()
	}
	var err error
	if private, ok := c.Conn.(*tls.Conn); ok {
		err = private.CloseWrite()
	}
	if ends, ok := c.raw.(interface{ CloseWrite() error }); ok && err == nil {
		err = ends.CloseWrite()
	}
	if err == nil {
		_, _ = c.control.in.Peek(1) // whoever reads the reply sees what is wrong with it
	}
	return errors.Join(err, c.raw.Close())
}
