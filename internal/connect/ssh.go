// Package connect opens byte streams to other machines.
//
// For SSH it checks the host key against a pinned fingerprint or known_hosts files, and logs in with a key file, the
// keys of an agent, and a password, in this order. Its errors tell which step failed; only the caller turns them into
// advice.
package connect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"tartine/internal/fsys"
)

// SSH says where to connect and how to log in.
type SSH struct {
	Host       string
	Port       int    // 0: 22
	User       string // empty: the user who runs this program
	Identity   string // a private key file; empty: the usual ones below ~/.ssh
	HostKey    string // SHA256:…; empty: known_hosts decides
	KnownHosts string // a file; empty: the user's and the system's
	Password   func() (string, error)
	Passphrase func(file string) (string, error) // asked for when a key file has one; may be nil
	Timeout    time.Duration                     // for each step; 0: 15 s
	Via        *SSH                              // a host that is gone through, which may go through others; nil: none

	// What OpenSSH's client settings add (see Configure).
	Identities      []string // key files that are tried when Identity is empty; missing ones are passed over
	AgentOff        bool     // keys of an agent are not tried
	KnownHostsFiles []string
	HostKeyAlias    string // the name under which the host key is looked up
}

// Step is a stage of connecting.
type Step string

// The steps, in their order.
const (
	Lookup  Step = "name lookup"
	Port    Step = "port"
	HostKey Step = "host key"
	Login   Step = "login"
	Start   Step = "file transfer"
)

// Error tells which step of connecting failed, and where.
type Error struct {
	Step    Step
	Address string // host:port
	User    string
	Err     error
}

func (e *Error) Error() string { return fmt.Sprintf("%s of %s: %v", e.Step, e.Address, e.Err) }

func (e *Error) Unwrap() error { return e.Err }

// HostKeyError tells that a host showed a key that is not the expected one, or that nothing is known of it.
type HostKeyError struct {
	Type, Fingerprint string
	Key               ssh.PublicKey
	Pinned            string                // the fingerprint that was expected, when it was pinned
	Known             []knownhosts.KnownKey // what is recorded for the host, when it was not; empty: nothing
}

func (e *HostKeyError) Error() string {
	switch {
	case e.Pinned != "":
		return fmt.Sprintf("the host shows the %s key %s, not the pinned %s", e.Type, e.Fingerprint, e.Pinned)
	case len(e.Known) > 0:
		return fmt.Sprintf("the host shows the %s key %s, not the one recorded in %s line %d, %s", e.Type, e.Fingerprint,
			e.Known[0].Filename, e.Known[0].Line, ssh.FingerprintSHA256(e.Known[0].Key))
	default:
		return fmt.Sprintf("the host shows the %s key %s, and nothing is recorded for it", e.Type, e.Fingerprint)
	}
}

// IdentityError tells that a key file cannot be used.
type IdentityError struct {
	File   string
	Reason string
	Open   bool // others can read it
	Locked bool // it has a passphrase
}

func (e *IdentityError) Error() string { return fmt.Sprintf("key file %s %s", e.File, e.Reason) }

const defaultTimeout = 15 * time.Second

// Address gives host:port.
func (s *SSH) Address() string {
	port := s.Port
	if port == 0 {
		port = 22
	}
	return net.JoinHostPort(s.Host, strconv.Itoa(port))
}

// Dial connects and logs in. Its error is an *Error or that of the context.
func (s *SSH) Dial(ctx context.Context) (*ssh.Client, error) { return s.dial(ctx, s.methods) }

func (s *SSH) dial(ctx context.Context, ways func() ([]ssh.AuthMethod, func(), error)) (*ssh.Client, error) {
	if s.Timeout == 0 {
		s.Timeout = defaultTimeout
	}
	if s.User == "" {
		if me, err := user.Current(); err == nil {
			s.User = me.Username
		}
	}
	fail := func(step Step, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &Error{step, s.Address(), s.User, err}
	}
	check, err := s.hostKeyCheck()
	if err != nil {
		return nil, fail(HostKey, err)
	}
	methods, closeAgent, err := ways()
	defer closeAgent()
	if err != nil {
		return nil, fail(Login, err)
	}
	conn, err := s.open(ctx)
	if err != nil {
		var (
			lookup  *net.DNSError
			already *Error
		)
		switch {
		case errors.As(err, &already):
			return nil, err // a host on the way
		case errors.As(err, &lookup):
			return nil, fail(Lookup, err)
		default:
			return nil, fail(Port, err)
		}
	}
	// A server that stays silent, or a person who gives up, must not leave the handshake hanging.
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	var late atomic.Bool
	timer := time.AfterFunc(s.Timeout, func() {
		late.Store(true)
		conn.Close()
	})
	defer timer.Stop()
	var refused *HostKeyError
	name, remote := s.keyName(), noAddress{}
	config := &ssh.ClientConfig{User: s.User, Auth: methods, HostKeyAlgorithms: check.algorithms(name, remote)}
	config.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error {
		refused = check.check(name, remote, key)
		if refused != nil {
			return refused
		}
		return nil
	}
	secure, channels, requests, err := ssh.NewClientConn(conn, s.Address(), config)
	if err != nil {
		conn.Close()
		switch {
		case late.Load():
			return nil, fail(Port, os.ErrDeadlineExceeded)
		case refused != nil:
			return nil, fail(HostKey, refused)
		case isLoginFailure(err):
			return nil, fail(Login, err)
		default:
			return nil, fail(Port, fmt.Errorf("no SSH server answers: %w", err))
		}
	}
	return ssh.NewClient(secure, channels, requests), nil
}

// open opens the byte stream to the host, through the hosts on the way.
func (s *SSH) open(ctx context.Context) (net.Conn, error) {
	if s.Via == nil {
		return (&net.Dialer{Timeout: s.Timeout}).DialContext(ctx, "tcp", s.Address())
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

// through is a stream through another host, whose connection ends with it.
type through struct {
	net.Conn
	near *ssh.Client
}

func (t *through) Close() error { return errors.Join(t.Conn.Close(), t.near.Close()) }

func isLoginFailure(err error) bool {
	var partial *ssh.ServerAuthError
	return errors.As(err, &partial) || errors.Is(err, ssh.ErrNoAuth) || strings.Contains(err.Error(), "unable to authenticate") || strings.Contains(strings.ToLower(err.Error()), "too many authentication failures")
}

// keyName gives host:port as the host key is looked up.
func (s *SSH) keyName() string {
	if s.HostKeyAlias != "" {
		return net.JoinHostPort(s.HostKeyAlias, "22")
	}
	return s.Address()
}

// noAddress is given where the address that a name led to is not to be looked up beside the name.
type noAddress struct{}

func (noAddress) Network() string { return "tcp" }
func (noAddress) String() string  { return "0.0.0.0:0" }

// hostKeys decides about a host's key.
type hostKeys struct {
	pinned string
	known  ssh.HostKeyCallback // nil: nothing is known of any host
}

func (s *SSH) hostKeyCheck() (*hostKeys, error) {
	if s.HostKey != "" {
		return &hostKeys{pinned: s.HostKey}, nil
	}
	files := append([]string{s.KnownHosts}, s.KnownHostsFiles...)
	if s.KnownHosts == "" && len(s.KnownHostsFiles) == 0 {
		files = []string{"/etc/ssh/ssh_known_hosts"}
		if home, err := os.UserHomeDir(); err == nil {
			files = append(files, filepath.Join(home, ".ssh", "known_hosts"))
		}
	}
	var standing []string
	for _, file := range files {
		if _, err := os.Stat(file); err == nil {
			standing = append(standing, file)
		}
	}
	if len(standing) == 0 {
		return &hostKeys{}, nil
	}
	known, err := knownhosts.New(standing...)
	if err != nil {
		return nil, err
	}
	return &hostKeys{known: known}, nil
}

func (h *hostKeys) check(host string, remote net.Addr, key ssh.PublicKey) *HostKeyError {
	out := &HostKeyError{Type: key.Type(), Fingerprint: ssh.FingerprintSHA256(key), Key: key}
	if h.pinned != "" {
		if h.pinned == out.Fingerprint {
			return nil
		}
		out.Pinned = h.pinned
		return out
	}
	if h.known == nil {
		return out
	}
	err := h.known(host, remote, key)
	var unknown *knownhosts.KeyError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &unknown):
		out.Known = unknown.Want
	}
	return out
}

// algorithms gives the types of key that are known for a host, so that it shows one that can be checked; nil: any.
func (h *hostKeys) algorithms(host string, remote net.Addr) []string {
	if h.known == nil {
		return nil
	}
	var unknown *knownhosts.KeyError
	if err := h.known(host, remote, noKey{}); !errors.As(err, &unknown) {
		return nil
	}
	var out []string
	for _, want := range unknown.Want {
		if want.Key.Type() == ssh.KeyAlgoRSA {
			out = append(out, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			out = append(out, want.Key.Type())
		}
	}
	return out
}

// noKey is a key that no file knows.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }

// methods gives the ways to log in. The agent's connection is closed by the function that it returns.
func (s *SSH) methods() ([]ssh.AuthMethod, func(), error) {
	var (
		signers []ssh.Signer
		done    = func() {}
	)
	if s.Identity != "" {
		signer, err := readIdentity(s.Identity, s.Passphrase)
		if err != nil {
			return nil, done, err
		}
		signers = append(signers, signer)
	}
	for _, file := range s.Identities {
		if s.Identity != "" {
			break
		}
		signer, err := readIdentity(file, s.Passphrase)
		var wrong *IdentityError
		switch {
		case err == nil:
			signers = append(signers, signer)
		case errors.As(err, &wrong) && wrong.Open:
			return nil, done, err
		}
	}
	if socket := os.Getenv("SSH_AUTH_SOCK"); socket != "" && s.Identity == "" && !s.AgentOff {
		if conn, err := net.Dial("unix", socket); err == nil {
			done = func() { conn.Close() }
			if held, err := agent.NewClient(conn).Signers(); err == nil {
				signers = append(signers, held...)
			}
		}
	}
	if home, err := os.UserHomeDir(); err == nil && s.Identity == "" && len(s.Identities) == 0 {
		for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			if signer, err := readIdentity(filepath.Join(home, ".ssh", name), nil); err == nil {
				signers = append(signers, signer)
			}
		}
	}
	var methods []ssh.AuthMethod
	if len(signers) > 0 {
		methods = append(methods, ssh.PublicKeys(signers...))
	}
	if s.Password != nil {
		methods = append(methods, ssh.PasswordCallback(s.Password))
	}
	return methods, done, nil
}

// readIdentity reads a private key file. Without a way to ask, one that has a passphrase is an *IdentityError.
func readIdentity(file string, passphrase func(string) (string, error)) (ssh.Signer, error) {
	info, err := os.Stat(file)
	if err != nil {
		var inner *fs.PathError
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return nil, &IdentityError{File: file, Reason: "cannot be read: " + err.Error()}
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return nil, &IdentityError{File: file, Reason: fmt.Sprintf("can be read by others (mode %04o)", info.Mode().Perm()), Open: true}
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, &IdentityError{File: file, Reason: "cannot be read: " + errors.Unwrap(err).Error()}
	}
	signer, err := ssh.ParsePrivateKey(text)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) && passphrase != nil {
		phrase, asked := passphrase(file)
		if asked != nil {
			return nil, asked
		}
		if signer, err = ssh.ParsePrivateKeyWithPassphrase(text, []byte(phrase)); err != nil {
			return nil, &IdentityError{File: file, Reason: "does not open with this passphrase", Locked: true}
		}
	}
	switch {
	case errors.As(err, &locked):
		return nil, &IdentityError{File: file, Reason: "has a passphrase", Locked: true}
	case err != nil:
		return nil, &IdentityError{File: file, Reason: "is no private key: " + err.Error()}
	}
	return signer, nil
}

// Exec gives a function that runs commands over a connection, as sftpfs.Exec.
func Exec(client *ssh.Client) func(ctx context.Context, command string, stdin io.Reader, stdout io.Writer) error {
	return func(ctx context.Context, command string, stdin io.Reader, stdout io.Writer) error {
		session, err := client.NewSession()
		if err != nil {
			return fmt.Errorf("%w: %w", fsys.ErrUnsupported, err)
		}
		defer session.Close()
		stop := context.AfterFunc(ctx, func() { session.Close() })
		defer stop()
		session.Stdin, session.Stdout = stdin, stdout
		if err := session.Run(command); err != nil {
			return fmt.Errorf("%w: %w", fsys.ErrUnsupported, err)
		}
		return nil
	}
}
