// Package connect opens byte streams to other machines.
//
// For SSH it checks the host key against a pinned fingerprint or known_hosts files, and logs in with key files and
// their certificates, the keys of an agent, a password, and what a person answers, in this order. Its errors tell which
// step failed; only the caller turns them into advice.
package connect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/user"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"tartine/internal/trace"
)

// SSH says where to connect and how to log in.
type SSH struct {
	Host     string
	Port     int        // 0: 22
	User     string     // empty: the user who runs this program
	Identity string     // a private key file; empty: the usual ones below ~/.ssh
	Key      *KeySource // the key itself, in place of a file
	HostKey  string     // SHA256:…; empty: known_hosts decides
	// the fingerprint of the key that a host which is not known yet is asked to show, of several; empty: any
	Wanted     string
	KnownHosts string // a file; empty: the user's and the system's
	Password   func() (string, error)
	Passphrase func(file string) (string, error) // asked for when a key file has one; may be nil
	Settled    bool                              // Passphrase asks nobody
	Timeout    time.Duration                     // for each step; 0: 15 s
	Limit      *Throttle                         // nil: as fast as it goes
	// Ask asks a person what the server wants to know; nil: there is nobody to ask.
	Ask func(question string, echo bool) (string, error)
	// Took is told how long each step took; it may be nil.
	Took func(step Step, length time.Duration)
	Via  *SSH // a host that is gone through, which may go through others; nil: none

	Notice func(text string) // told what a person should know; may be nil

	// What OpenSSH's client settings add (see Configure). What is empty is as it is without settings.
	Identities     []string // key files that are tried when Identity is empty; missing ones are passed over
	Certificates   []string // files of certificates for those keys, beside the ones that are with them
	IdentitiesOnly bool     // keys of an agent are not tried unless a file names them
	AgentSocket    string   // of the agent that is asked; empty: $SSH_AUTH_SOCK
	Never          []string // methods of RFC 4252 that are not tried
	Methods        []string // those that are tried, in their order
	Prompts        int      // how often a person is asked for a password
	AddKeysToAgent string   // what becomes of a key that was read from a file, once it has signed
	Environment    []string // variables that sessions get, as NAME=VALUE

	RevokedHostKeys     string   // a file of keys that must not be trusted; empty: none
	MinRSA              int      // how many bits a key of RSA has at least; 0: 1024
	AuthorityAlgorithms []string // those with which a certificate may be signed; empty: those that are safe

	KnownHostsFiles   []string
	GlobalKnownHosts  []string
	KnownHostsCommand []string
	HostKeyAlias      string // the name under which the host key is looked up
	Strict            string // what becomes of a host that is not known: StrictHostKeyChecking of ssh_config(5)
	HashKnownHosts    bool   // a host that is recorded is not named in the clear
	HostKeyAlgorithms []string
	KeyExchanges      []string
	Ciphers           []string
	MACs              []string
	Rekey             uint64 // after how many bytes new keys are agreed on

	Command       string // of the shell, whose standard input and output lead to the host
	Network       string // tcp4 or tcp6
	BindAddress   string // of this machine, from which the connection is made
	BindInterface string
	Attempts      int           // how often it is tried to connect, a second apart
	Alive         time.Duration // how often the server is asked for an answer; 0: 15 s
	AliveMisses   int           // how many may be missing; 0: 3

	shown      *string  // gets the fingerprint of the key that the host shows; nil: nobody wants it
	Given      string   // the host as the settings were asked about it
	Unhonoured []string // keywords that are set and have no effect here
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

	Certificate Step = "certificate" // of an FTP server
)

// Error tells which step of connecting failed, and where.
type Error struct {
	Step    Step
	Address string // host:port
	User    string
	Err     error
	Service string // what is expected there: SSH, when it is empty, or FTP
}

func (e *Error) Error() string { return fmt.Sprintf("%s of %s: %v", e.Step, e.Address, e.Err) }

func (e *Error) Unwrap() error { return e.Err }

const (
	defaultTimeout = 15 * time.Second
	defaultPort    = 22
)

// Address gives host:port.
func (s *SSH) Address() string {
	port := s.Port
	if port == 0 {
		port = defaultPort
	}
	return net.JoinHostPort(s.Host, strconv.Itoa(port))
}

// Dial connects and logs in. Its error is an *Error or that of the context.
func (s *SSH) Dial(ctx context.Context) (*Client, error) { return s.dial(ctx, s.findKeys) }

func (s *SSH) dial(ctx context.Context, findKeys func() ([]key, func(), error)) (*Client, error) {
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
		return &Error{Step: step, Address: s.Address(), User: s.User, Err: err}
	}
	check, err := s.hostKeyCheck(ctx)
	if err != nil {
		return nil, fail(HostKey, err)
	}
	keys, closeAgent, err := findKeys()
	defer closeAgent()
	if err != nil {
		return nil, fail(Login, err)
	}
	var first *HostKeyError // the first key that was not the pinned one
	for {
		client, refused, err := s.connect(ctx, check, keys, fail)
		switch {
		case err == nil || ctx.Err() != nil:
			return client, err
		case refused == nil && first != nil:
			return nil, fail(HostKey, first) // it has no key of another type
		case refused == nil:
			return nil, err
		case first == nil, refused.Fingerprint == s.Wanted:
			first = refused
		}
		if !check.pass(refused) {
			return nil, fail(HostKey, first)
		}
	}
}

// shaking is a handshake that is under way.
type shaking struct {
	*SSH
	log     *slog.Logger
	conn    *line
	dog     *watchdog
	in      *login
	check   *hostKeys
	fail    func(Step, error) error
	began   time.Time     // of the step that it is at
	refused *HostKeyError // the key that the host shows, where that is not trusted
	trusted bool
}

// connect connects once. It gives the key that the host shows where that is not trusted.
func (s *SSH) connect(ctx context.Context, check *hostKeys, keys []key,
	fail func(Step, error) error) (client *Client, refused *HostKeyError, err error) {
	h := &shaking{SSH: s, log: trace.Log(ctx), check: check, fail: fail, began: time.Now()}
	opened, err := s.open(ctx, h.took)
	if err != nil {
		var (
			lookup  *net.DNSError
			already *Error
		)
		switch {
		case errors.As(err, &already):
			return nil, nil, err // a host on the way
		case errors.As(err, &lookup):
			return nil, nil, fail(Lookup, err)
		default:
			return nil, nil, fail(Port, err)
		}
	}
	h.conn = &line{Conn: opened, limit: s.Limit}
	// A server that stays silent, or a person who gives up, must not leave the handshake hanging.
	stop := context.AfterFunc(ctx, func() { h.conn.Close() })
	defer stop()
	h.dog = watch(s.Timeout, func() { h.conn.Close() })
	defer h.dog.timer.Stop()
	h.conn.first = h.dog.step
	h.in = &login{ssh: s, keys: keys, ask: h.dog.resting(s.Ask), log: h.log, rest: h.dog.rest}
	client, err = h.shake(ctx)
	if err != nil {
		h.conn.Close()
		return nil, h.refused, err
	}
	keepAlive(client, cmp.Or(s.Alive, defaultAlive), cmp.Or(s.AliveMisses, aliveMisses))
	return client, nil, nil
}

// took notes how long a step took.
func (h *shaking) took(step Step) {
	h.log.Debug("SSH step", "step", string(step), "host", h.Address(), "took",
		time.Since(h.began).Round(time.Microsecond))
	if h.Took != nil {
		h.Took(step, time.Since(h.began))
	}
	h.began = time.Now()
}

// shake agrees on algorithms, looks at the host key, and logs in.
func (h *shaking) shake(ctx context.Context) (*Client, error) {
	offered, err := h.algorithms()
	if err != nil {
		return nil, h.fail(Port, err)
	}
	config := &ssh.ClientConfig{Config: offered, User: h.User, AuthCallback: h.in.next,
		HostKeyAlgorithms: h.check.algorithms()}
	config.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error { return h.look(ctx, key) }
	secure, channels, requests, err := ssh.NewClientConn(h.conn, h.Address(), config)
	if err != nil {
		return nil, h.failure(err)
	}
	h.took(Login)
	h.log.Info("logged in", "host", h.Address(), "user", h.User, "by",
		strings.Join(h.in.tried[max(len(h.in.tried)-1, 0):], ""), "server", string(secure.ServerVersion()))
	if agreed, ok := secure.(ssh.AlgorithmsConnMetadata); ok {
		a := agreed.Algorithms()
		h.log.Debug("SSH algorithms", "key exchange", a.KeyExchange, "host key", a.HostKey, "cipher", a.Write.Cipher,
			"MAC", a.Write.MAC)
	}
	return &Client{ssh.NewClient(secure, channels, requests), h.Environment}, nil
}

// look decides whether a host key is trusted.
func (h *shaking) look(ctx context.Context, key ssh.PublicKey) error {
	if h.shown != nil {
		*h.shown = ssh.FingerprintSHA256(key)
	}
	if h.refused = h.check.check(key); h.refused != nil && !h.accepts(ctx, h.refused) {
		return h.refused
	}
	h.refused = nil
	h.log.Info("the host key is trusted", "host", h.Address(), "type", key.Type(), "fingerprint",
		ssh.FingerprintSHA256(key), "by", h.check.by())
	h.trusted = true
	h.dog.step()
	h.took(HostKey)
	return nil
}

// failure tells at which step the handshake failed.
func (h *shaking) failure(err error) error {
	switch {
	case h.refused != nil:
		return h.fail(HostKey, h.refused)
	case h.dog.isLate() && h.trusted:
		return h.fail(Login, os.ErrDeadlineExceeded)
	case h.dog.isLate():
		return h.fail(Port, ErrSilent)
	case h.trusted:
		return h.fail(Login, h.in.result(err))
	}
	return h.fail(Port, h.conn.said(err))
}

// through is a stream through another host, whose connection ends with it.
type through struct {
	net.Conn
	near *Client
}

func (t *through) Close() error { return errors.Join(t.Conn.Close(), t.near.Close()) }
