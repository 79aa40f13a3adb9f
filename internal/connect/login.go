package connect

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"tartine/internal/fsys"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// LoginError tells that the server did not let the user in, what was tried, and what the server would accept.
type LoginError struct {
	Tried   []string // in their order
	Accepts []string // methods of RFC 4252, such as publickey and password; empty: the server did not say
	Ended   bool     // the server hung up, as one does after too many tries
	Err     error
}

func (e *LoginError) Error() string {
	said := "there was nothing to try"
	if len(e.Tried) > 0 {
		said = "tried " + strings.Join(e.Tried, ", ")
	}
	if len(e.Accepts) > 0 {
		said += "; the server accepts " + strings.Join(e.Accepts, ", ")
	}
	if e.Ended {
		said += "; then the server hung up"
	}
	return said
}

func (e *LoginError) Unwrap() error { return e.Err }

// passwordTries is how often a person is asked for a password.
const passwordTries = 3

// login is the way in, one method after the other: keys, then a password that is known, then what a person is asked.
type login struct {
	ssh     *SSH
	ask     func(question string, echo bool) (string, error) // nil: there is nobody to ask
	keys    []key
	tried   []string
	accepts []string
	failure error // of a key that the server accepts and that cannot be used
	asked   int
	known   bool // the password that is known was tried
}

// next implements ssh.ClientConfig.AuthCallback.
func (l *login) next(at *ssh.ClientAuthContext) (ssh.AuthMethod, error) {
	l.accepts = at.AllowedMethods
	may := func(method string) bool { return slices.Contains(at.AllowedMethods, method) }
	switch {
	case may("publickey") && len(l.keys) > 0:
		k := l.keys[0]
		l.keys = l.keys[1:]
		l.tried = append(l.tried, k.name)
		return ssh.PublicKeys(watched{k.Signer, l}), nil
	case l.ssh.Password != nil && !l.known && (may("password") || may("keyboard-interactive")):
		l.known = true
		password, err := l.ssh.Password()
		if err != nil {
			return nil, err
		}
		l.tried = append(l.tried, "the password")
		if may("password") {
			return ssh.Password(password), nil
		}
		return ssh.KeyboardInteractive(func(_, _ string, questions []string, echo []bool) ([]string, error) {
			return l.answer(questions, echo, password)
		}), nil
	case l.ask != nil && may("keyboard-interactive") && l.asked < passwordTries:
		l.asked++
		l.tried = append(l.tried, "what was typed")
		return ssh.KeyboardInteractive(func(_, _ string, questions []string, echo []bool) ([]string, error) {
			return l.answer(questions, echo, "")
		}), nil
	case l.ask != nil && may("password") && l.asked < passwordTries:
		l.asked++
		l.tried = append(l.tried, "the password that was typed")
		return ssh.PasswordCallback(func() (string, error) {
			return l.ask(fmt.Sprintf("password of %s at %s", l.ssh.User, l.ssh.Address()), false)
		}), nil
	}
	return nil, nil
}

// errNobody tells that the server asks what only a person can answer.
var errNobody = errors.New("the server asks a question, and there is no terminal to answer on")

// answer answers what the server asks: the one hidden question with the password that is known, others on the terminal.
func (l *login) answer(questions []string, echo []bool, password string) ([]string, error) {
	var out []string
	for i, question := range questions {
		if password != "" && !echo[i] {
			out, password = append(out, password), ""
			continue
		}
		if l.ask == nil {
			l.failure = errNobody
			return nil, errNobody
		}
		text, err := l.ask(l.ssh.Address()+" asks: "+strings.TrimRight(fsys.Said(question, mostAsked), ": "), echo[i])
		if err != nil {
			return nil, err
		}
		out = append(out, text)
	}
	return out, nil
}

// mostAsked is how much of a question is shown, in bytes.
const mostAsked = 1000

// result says why nobody was let in.
func (l *login) result(err error) error {
	if l.failure != nil {
		return l.failure
	}
	out := &LoginError{Tried: l.tried, Accepts: l.accepts, Err: err}
	said := strings.ToLower(err.Error())
	out.Ended = strings.Contains(said, "disconnect") || strings.Contains(said, "eof") || strings.Contains(said, "reset") || strings.Contains(said, "broken pipe")
	return out
}

// watched notes why a key that the server accepts cannot be used.
type watched struct {
	ssh.Signer
	login *login
}

func (w watched) SignWithAlgorithm(rand io.Reader, data []byte, algorithm string) (signature *ssh.Signature, err error) {
	if able, ok := w.Signer.(ssh.AlgorithmSigner); ok {
		signature, err = able.SignWithAlgorithm(rand, data, algorithm)
	} else {
		signature, err = w.Signer.Sign(rand, data)
	}
	if err != nil {
		w.login.failure = err
	}
	return signature, err
}

// findKeys gives the keys to log in with: the one that is named and no other; or those that the client settings name,
// then those of an agent, then the usual ones below ~/.ssh. Keys whose passphrase is not known yet come last. The
// agent's connection is closed by the function that it returns.
func (s *SSH) findKeys() (keys []key, done func(), err error) {
	done = func() {}
	var held []ssh.Signer
	if socket := os.Getenv("SSH_AUTH_SOCK"); socket != "" {
		if conn, err := net.Dial("unix", socket); err == nil {
			done = func() { conn.Close() }
			held, _ = agent.NewClient(conn).Signers() // an agent that does not answer has none
		}
	}
	if s.Identity != "" {
		keys, err := keyFile(s.Identity, s.Passphrase, held)
		return keys, done, err
	}
	for _, file := range s.Identities {
		found, err := keyFile(file, s.Passphrase, held)
		var wrong *IdentityError
		if errors.As(err, &wrong) && wrong.Open {
			return nil, done, err
		}
		keys = append(keys, found...)
	}
	if !s.AgentOff {
		for _, signer := range held {
			keys = append(keys, key{signer, "the agent's key " + ssh.FingerprintSHA256(signer.PublicKey())})
		}
	}
	if home, err := os.UserHomeDir(); err == nil && len(s.Identities) == 0 {
		for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			if found, err := keyFile(filepath.Join(home, ".ssh", name), s.Passphrase, held); err == nil {
				keys = append(keys, found...)
			}
		}
	}
	return inOrder(s.addCertificates(keys)), done, nil
}

// addCertificates puts certificates before the keys that they are for.
func (s *SSH) addCertificates(keys []key) (out []key) {
	for _, k := range keys {
		for _, file := range s.Certificates {
			if certificate, err := certify(k.Signer, file); err == nil {
				out = append(out, certificate)
			}
		}
		out = append(out, k)
	}
	return out
}

// inOrder leaves out what comes twice, and puts keys last for which a person must be asked.
func inOrder(keys []key) []key {
	var ready, locked []key
	seen := map[string]bool{}
	for _, k := range keys {
		if id := string(k.PublicKey().Marshal()); seen[id] {
			continue
		} else {
			seen[id] = true
		}
		if _, ok := k.Signer.(*sealed); ok {
			locked = append(locked, k)
		} else {
			ready = append(ready, k)
		}
	}
	return append(ready, locked...)
}
