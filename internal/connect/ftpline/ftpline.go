// Package ftpline is the control connection to an FTP server (RFC 959), over TLS where that is asked for (RFC 4217):
// how it is opened, logged in on, and what is agreed on it. Transfers go through the library that it rests on.
package ftpline

import (
	"bufio"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jlaffaye/ftp"

	"tartine/internal/connect"
	"tartine/internal/farend"
	"tartine/internal/trace"
)

const (
	answerTimeout = 30 * time.Second
	mostGreeted   = 80 // how much is shown of a greeting that is not one of FTP, in bytes
)

// Dialer says how to log in to a server of the File Transfer Protocol (RFC 959), over TLS as in RFC 4217.
type Dialer struct {
	Host     string
	Port     int // 0: 21
	User     string
	Password func() (string, error) // nil: as an anonymous user
	TLS      bool                   // the connection is made private before the login, and so is what is transferred
	// the fingerprint that pins the certificate, SHA256:<hex of its DER form>; empty: an authority must vouch for it
	Certificate string
	Timeout     time.Duration     // of each answer; 0: a usual one
	Limit       *connect.Throttle // nil: as fast as it goes
	Took        func(step connect.Step, length time.Duration)

	once     sync.Once
	features atomic.Pointer[map[string]string] // of the server; each connection is told the same
}

// CertificateError tells that a server's certificate is not trusted.
type CertificateError struct {
	Fingerprint string // of the one that the server shows
	Pinned      string // the one that was expected; empty: none was
	Err         error
}

func (e *CertificateError) Error() string {
	if e.Pinned != "" {
		return fmt.Sprintf("its certificate is %s, and %s is pinned", e.Fingerprint, e.Pinned)
	}
	said := "no authority that this machine knows vouches for its certificate " + e.Fingerprint
	if e.Err != nil {
		said += ": " + e.Err.Error()
	}
	return said
}

func (e *CertificateError) Unwrap() error { return e.Err }

// FullError tells that a server takes no more connections at present.
type FullError struct{ Err error }

func (e *FullError) Error() string { return fmt.Sprintf("it takes no more connections: %v", e.Err) }

func (e *FullError) Unwrap() error { return e.Err }

// Conn is a connection on which a user is logged in. It carries out one command at a time.
type Conn struct {
	*ftp.ServerConn
	Features map[string]string // what the server says that it can do (RFC 2389), by command
	Listed   []byte            // what the last listing was, as it came

	control *control
	replies *textproto.Reader
	listing bool
}

// Asked gives the word of the command that was sent last, in capitals.
func (l *Conn) Asked() string { return l.control.asked }

// Address gives host:port.
func (f *Dialer) Address() string {
	port := f.Port
	if port == 0 {
		port = 21
	}
	return net.JoinHostPort(f.Host, strconv.Itoa(port))
}

// Dial connects and logs in. Its error is a *connect.Error, with a *CertificateError or a *FullError in it where that
// is the matter, or that of the context.
func (f *Dialer) Dial(ctx context.Context) (*Conn, error) {
	f.once.Do(func() {
		if f.Timeout == 0 {
			f.Timeout = answerTimeout
		}
	})
	line := &Conn{}
	private := f.tlsConfig()
	step := connect.Lookup
	fail := func(err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var reply *textproto.Error
		if errors.As(err, &reply) && (reply.Code == 421 || reply.Code == 530 && full.MatchString(reply.Msg)) {
			err = &FullError{reply}
		}
		return &connect.Error{Step: step, Address: f.Address(), User: f.User, Err: err, Service: "FTP"}
	}
	log := trace.Log(ctx)
	began := time.Now()
	done := func(next connect.Step) {
		log.Debug("FTP step", "step", string(step), "host", f.Address(), "took",
			time.Since(began).Round(time.Microsecond))
		if f.Took != nil {
			f.Took(step, time.Since(began))
		}
		step, began = next, time.Now()
	}
	addresses, err := net.DefaultResolver.LookupHost(ctx, f.Host)
	if err != nil {
		return nil, fail(err)
	}
	done(connect.Port)
	conn, err := f.reach(ctx, addresses)
	if err != nil {
		return nil, fail(err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	greeting, err := f.greet(conn)
	if err == nil && f.TLS {
		done(connect.Certificate)
		conn, err = f.secure(ctx, conn, private)
	}
	if err != nil {
		conn.Close()
		return nil, fail(err)
	}
	done(connect.Login)
	line.control = newControl(timed{Conn: conn, timeout: f.Timeout, limit: f.Limit}, trace.Wire(ctx))
	line.replies = textproto.NewReader(bufio.NewReader(line.control))
	if line.ServerConn, err = ftp.Dial(f.Address(), ftp.DialWithDialFunc(f.dialFor(ctx, line, private, greeting)),
		ftp.DialWithShutTimeout(f.Timeout), ftp.DialWithDisabledUTF8(true)); err != nil {
		conn.Close()
		return nil, fail(err)
	}
	if err := f.logIn(line); err != nil {
		line.Close()
		return nil, fail(err)
	}
	done(connect.Start)
	if err := f.agree(line); err != nil {
		line.Close()
		return nil, fail(err)
	}
	return line, nil
}

// full is what servers say that refuse a login because there are others already.
var full = regexp.MustCompile(`(?i)maximum|too many|connections|already connected`)

func (f *Dialer) reach(ctx context.Context, addresses []string) (conn net.Conn, err error) {
	dialer := net.Dialer{Timeout: f.Timeout}
	_, port, _ := net.SplitHostPort(f.Address())
	for _, address := range addresses {
		if conn, err = dialer.DialContext(ctx, "tcp", net.JoinHostPort(address, port)); err == nil {
			return conn, nil
		}
	}
	return nil, err
}

// greet reads how the server begins, byte for byte so that nothing behind it is lost.
func (f *Dialer) greet(conn net.Conn) (string, error) {
	if err := conn.SetDeadline(time.Now().Add(f.Timeout)); err != nil {
		return "", err
	}
	text, err := readReply(conn)
	var timeout net.Error
	switch {
	case errors.As(err, &timeout) && timeout.Timeout():
		return "", connect.ErrSilent
	case errors.Is(err, io.EOF):
		return "", connect.ErrHungUp
	case err != nil:
		return "", err
	case !strings.HasPrefix(text, "220"):
		if code, _ := strconv.Atoi(text[:min(3, len(text))]); code >= 400 && code < 600 {
			return "", &textproto.Error{Code: code, Msg: strings.TrimSpace(text[3:])}
		}
		return "", &connect.ProtocolError{Said: farend.Said(text, mostGreeted)}
	}
	return text, conn.SetDeadline(time.Time{})
}

// readReply reads one reply, which may have several lines (RFC 959, 4.2).
func readReply(conn net.Conn) (string, error) {
	var text []byte
	for begin := 0; len(text) < 64<<10; {
		var one [1]byte
		if _, err := conn.Read(one[:]); err != nil {
			return "", err
		}
		if text = append(text, one[0]); one[0] != '\n' {
			if len(text) == 4 && (text[0] < '1' || text[0] > '5') {
				return string(text), nil // it is no reply at all
			}
			continue
		}
		last := text[begin:]
		if begin = len(text); len(last) >= 4 && last[3] == ' ' && string(last[:3]) == string(text[:3]) {
			return string(text), nil
		}
	}
	return string(text), nil
}

// secure makes a connection private (RFC 4217, 4).
func (f *Dialer) secure(ctx context.Context, conn net.Conn, config *tls.Config) (net.Conn, error) {
	if err := conn.SetDeadline(time.Now().Add(f.Timeout)); err != nil {
		return conn, err
	}
	if err := tell(conn, "AUTH TLS", "234"); err != nil {
		return conn, err
	}
	private := tls.Client(conn, config)
	if err := private.HandshakeContext(ctx); err != nil {
		var (
			certificate *CertificateError
			clear       tls.RecordHeaderError
		)
		switch {
		case errors.As(err, &certificate):
			err = certificate
		case errors.As(err, &clear) && clear.RecordHeader[0] >= '1' && clear.RecordHeader[0] <= '5': // a reply, most likely that it goes
			err = connect.ErrHungUp
		}
		return conn, err
	}
	for _, command := range []string{"PBSZ 0", "PROT P"} {
		if err := tell(private, command, "200"); err != nil {
			return conn, err
		}
	}
	return private, conn.SetDeadline(time.Time{})
}

// tell sends a command and waits for the one reply that will do.
func tell(conn net.Conn, command, want string) error {
	if _, err := io.WriteString(conn, command+"\r\n"); err != nil {
		return err
	}
	text, err := readReply(conn)
	if err == nil && !strings.HasPrefix(text, want) {
		return fmt.Errorf("the server answers %s with %q", command, farend.Said(text, mostGreeted))
	}
	return err
}

// tlsConfig is for one login and its transfers: servers ask that these go on in the session of the login, and of no
// other.
func (f *Dialer) tlsConfig() *tls.Config {
	return &tls.Config{ServerName: f.Host, ClientSessionCache: tls.NewLRUClientSessionCache(1),
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: true, // VerifyConnection does it, so that the fingerprint can be told
		VerifyConnection: func(state tls.ConnectionState) error {
			own := state.PeerCertificates[0]
			sum := sha256.Sum256(own.Raw)
			fingerprint := "SHA256:" + hex.EncodeToString(sum[:])
			if f.Certificate != "" {
				if !strings.EqualFold(f.Certificate, fingerprint) {
					return &CertificateError{Fingerprint: fingerprint, Pinned: f.Certificate}
				}
				return nil
			}
			if err := verifyChain(state, f.Host); err != nil {
				return &CertificateError{Fingerprint: fingerprint, Err: err}
			}
			return nil
		}}
}

// dialFor hands the library the open connection, and then one for each transfer.
func (f *Dialer) dialFor(ctx context.Context, line *Conn, private *tls.Config,
	greeting string) func(network, address string) (net.Conn, error) {
	first := true
	return func(network, address string) (net.Conn, error) {
		if first {
			first = false
			return &greeted{control: line.control, greeting: greeting}, nil
		}
		dialer := net.Dialer{Timeout: f.Timeout}
		conn, err := dialer.DialContext(context.WithoutCancel(ctx), network, address)
		if err != nil {
			return nil, err
		}
		out := &transfer{timed: timed{Conn: conn, timeout: f.Timeout, limit: f.Limit}, raw: conn, control: line.control}
		if line.listing {
			line.Listed = nil
			out.heard = &line.Listed
		}
		if f.TLS {
			out.Conn = tls.Client(conn, private)
		}
		return out, nil
	}
}

func (f *Dialer) logIn(line *Conn) error {
	user, password := f.User, ""
	if user == "" {
		user = "anonymous"
	}
	if f.Password != nil {
		var err error
		if password, err = f.Password(); err != nil {
			return err
		}
	}
	return line.Login(user, password)
}

// agree finds out what the server can do, and has names written in UTF-8 where it can.
func (f *Dialer) agree(line *Conn) error {
	if known := f.features.Load(); known != nil {
		line.Features = *known
	} else if err := line.askFeatures(); err != nil {
		return err
	}
	f.features.Store(&line.Features)
	if _, ok := line.Features["UTF8"]; !ok {
		return nil
	}
	_, err := line.may("OPTS UTF8 ON") // some offer it and refuse to talk of it: it is always on there, or never
	return err
}

// askFeatures asks what the server can do. What it refuses to tell, it cannot do.
func (l *Conn) askFeatures() error {
	l.Features = map[string]string{}
	text, err := l.may("FEAT")
	if err != nil {
		return err
	}
	for feature := range strings.Lines(text) {
		if name, more, _ := strings.Cut(strings.TrimSpace(feature), " "); strings.HasPrefix(feature, " ") {
			l.Features[strings.ToUpper(name)] = strings.TrimSpace(l.Features[strings.ToUpper(name)] + " " + more)
		}
	}
	// Few servers say with FEAT which commands of their own they have.
	text, err = l.may("SITE HELP")
	l.Features["SITE"] += " " + strings.ToUpper(strings.Join(strings.Fields(text), " "))
	return err
}

// may sends a command that a server need not have. It gives an empty reply where it was refused.
func (l *Conn) may(command string) (string, error) {
	_, text, err := l.Command(2, "%s", command)
	var reply *textproto.Error
	if errors.As(err, &reply) && reply.Code != 421 {
		return "", nil
	}
	return text, err
}

// Command sends a command that the library does not have and gives the reply. Want is the code of the reply that will
// do, or its first digit.
func (l *Conn) Command(want int, format string, arguments ...any) (int, string, error) {
	command := fmt.Sprintf(format, arguments...)
	if strings.ContainsAny(command, "\r\n") {
		return 0, "", ftp.ErrInvalidCommand
	}
	if _, err := io.WriteString(l.control, command+"\r\n"); err != nil {
		return 0, "", err
	}
	return l.replies.ReadResponse(want)
}

// Step is a command, and the code of the reply that will do, or its first digits.
type Step struct {
	Want    int
	Command string
}

// Steps sends commands as Ask does, and gives the first error.
func (l *Conn) Steps(steps ...Step) error {
	replies, err := l.Ask(steps...)
	for _, r := range replies {
		if err == nil {
			err = r.Err
		}
	}
	return err
}

// Reply is the text of a reply, or why it will not do: a *textproto.Error.
type Reply struct {
	Text string
	Err  error
}

// Ask sends commands right behind one another, in one round trip, and gives the reply to each: servers read them one by one
// (RFC 959, section 4.2), and each is answered, also behind one that was refused. Its error tells that the connection is
// lost.
func (l *Conn) Ask(steps ...Step) ([]Reply, error) {
	var all strings.Builder
	for _, s := range steps {
		if strings.ContainsAny(s.Command, "\r\n") {
			return nil, ftp.ErrInvalidCommand
		}
		all.WriteString(s.Command + "\r\n")
	}
	if _, err := io.WriteString(l.control, all.String()); err != nil {
		return nil, err
	}
	out := make([]Reply, len(steps))
	for i, s := range steps {
		_, text, err := l.replies.ReadResponse(s.Want)
		var reply *textproto.Error
		if err != nil && (!errors.As(err, &reply) || reply.Code == 421) { // nothing more comes
			return nil, err
		}
		out[i] = Reply{text, err}
	}
	return out, nil
}

// ListRaw lists a folder, which is then in Listed, line by line, where the server has listings for programs (MLSD), and
// in what it returns where it has not.
func (l *Conn) ListRaw(folder string) ([]*ftp.Entry, error) {
	l.listing = true
	defer func() { l.listing = false }()
	return l.List(folder)
}

// Close ends the connection at once.
func (l *Conn) Close() error { return l.control.Close() }

// greeted is a connection whose greeting has been read already.
type greeted struct {
	*control
	greeting string
}

func (g *greeted) Read(p []byte) (int, error) {
	if g.greeting != "" {
		n := copy(p, g.greeting)
		g.greeting = g.greeting[n:]
		return n, nil
	}
	return g.control.Read(p)
}

// verifyChain does what the library would do: an authority must vouch for the certificate, and for this host.
func verifyChain(state tls.ConnectionState, host string) error {
	options := x509.VerifyOptions{DNSName: host, Intermediates: x509.NewCertPool()}
	for _, more := range state.PeerCertificates[1:] {
		options.Intermediates.AddCert(more)
	}
	_, err := state.PeerCertificates[0].Verify(options)
	return err
}
