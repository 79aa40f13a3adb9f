package connect

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"tartine/internal/farend"

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
	log     *slog.Logger
	rest    func() (resume func()) // stops the clock while a person may have to do something
	known   bool                   // the password that is known was tried
}

// The steps of a login. The password that is known is tried by whatever takes one.
const (
	byKey      = "publickey"
	byKnown    = "known password"
	byAnswers  = "keyboard-interactive"
	byPassword = "password"
)

// steps gives what is tried, in its order.
func (l *login) steps() []string {
	if len(l.ssh.Methods) == 0 {
		return []string{byKey, byKnown, byAnswers, byPassword}
	}
	var out []string
	for _, method := range l.ssh.Methods {
		if method == byAnswers || method == byPassword {
			out = append(out, byKnown)
		}
		out = append(out, method)
	}
	return out
}

// next implements ssh.ClientConfig.AuthCallback.
func (l *login) next(at *ssh.ClientAuthContext) (ssh.AuthMethod, error) {
	l.accepts = at.AllowedMethods
	l.log.Debug("SSH login", "server accepts", strings.Join(at.AllowedMethods, ","), "tried",
		strings.Join(l.tried, ", "))
	may := func(method string) bool {
		return slices.Contains(at.AllowedMethods, method) && !slices.Contains(l.ssh.Never, method) &&
			(len(l.ssh.Methods) == 0 || slices.Contains(l.ssh.Methods, method))
	}
	tries := l.ssh.Prompts
	if tries == 0 {
		tries = passwordTries
	}
	for _, step := range l.steps() {
		switch {
		case step == byKey && may(byKey) && len(l.keys) > 0:
			k := l.keys[0]
			l.keys = l.keys[1:]
			l.tried = append(l.tried, k.name)
			return ssh.PublicKeys(watched{k.Signer, l}), nil
		case step == byKnown && l.ssh.Password != nil && !l.known && (may(byPassword) || may(byAnswers)):
			return l.tryKnown(may(byPassword))
		case step == byAnswers && may(byAnswers) && l.ask != nil && l.asked < tries:
			l.asked++
			l.tried = append(l.tried, "what was typed")
			return ssh.KeyboardInteractive(func(_, _ string, questions []string, echo []bool) ([]string, error) {
				return l.answer(questions, echo, "")
			}), nil
		case step == byPassword && may(byPassword) && l.ask != nil && l.asked < tries:
			l.asked++
			l.tried = append(l.tried, "the password that was typed")
			return ssh.PasswordCallback(func() (string, error) {
				return l.ask(fmt.Sprintf("password of %s at %s", l.ssh.User, l.ssh.Address()), false)
			}), nil
		}
	}
	return nil, nil
}

// tryKnown tries the password that is known, as one, or as the answer to the server's question.
func (l *login) tryKnown(asPassword bool) (ssh.AuthMethod, error) {
	l.known = true
	password, err := l.ssh.Password()
	if err != nil {
		return nil, err
	}
	l.tried = append(l.tried, "the password")
	if asPassword {
		return ssh.Password(password), nil
	}
	return ssh.KeyboardInteractive(func(_, _ string, questions []string, echo []bool) ([]string, error) {
		return l.answer(questions, echo, password)
	}), nil
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
		text, err := l.ask(l.ssh.Address()+" asks: "+strings.TrimRight(farend.Said(question, mostAsked), ": "), echo[i])
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
	out.Ended = strings.Contains(said, "disconnect") || strings.Contains(said, "eof") ||
		strings.Contains(said, "reset") || strings.Contains(said, "broken pipe")
	return out
}

// watched notes why a key that the server accepts cannot be used.
type watched struct {
	ssh.Signer
	login *login
}

func (w watched) SignWithAlgorithm(rand io.Reader, data []byte,
	algorithm string) (signature *ssh.Signature, err error) {
	defer w.login.rest()() // for a passphrase, for the agent's question, or for a finger on a token
	if signature, err = signWith(w.Signer, rand, data, algorithm); err != nil {
		w.login.failure = err
	}
	return signature, err
}

// noAgent is the socket of no agent.
const noAgent = "none"

// agentSocket gives where the agent is asked, or nothing.
func (s *SSH) agentSocket() string {
	switch s.AgentSocket {
	case "":
		return os.Getenv("SSH_AUTH_SOCK")
	case noAgent:
		return ""
	}
	return s.AgentSocket
}

// findKeys gives the keys to log in with: the one that is named and no other; or those that the client settings name,
// then those of an agent, then the usual ones below ~/.ssh. Keys whose passphrase is not known yet come last. The
// agent's connection is closed by the function that it returns.
func (s *SSH) findKeys() (keys []key, done func(), err error) {
	done = func() {}
	if slices.Contains(s.Never, byKey) {
		return nil, done, nil
	}
	read := &keyReader{passphrase: s.Passphrase}
	if socket := s.agentSocket(); socket != "" {
		if conn, err := dialAgent(socket); err == nil {
			done = func() { conn.Close() }
			client := agent.NewClient(conn)
			read.held, _ = client.Signers() // an agent that does not answer has none
			read.used = s.addToAgent(client)
		}
	}
	if s.Key != nil {
		keys, err := read.source(s.Key)
		return inOrder(s.addCertificates(keys), s.MinRSA), done, err
	}
	if s.Identity != "" {
		keys, err := read.file(s.Identity)
		return inOrder(s.addCertificates(keys), s.MinRSA), done, err
	}
	var unusable error
	for _, file := range s.Identities {
		if file == os.DevNull { // none
			continue
		}
		found, err := read.file(file)
		var wrong *IdentityError
		if errors.As(err, &wrong) && wrong.Open {
			unusable = err
			s.notice(fmt.Sprintf("the key %s is not used: it %s", file, wrong.Reason))
		}
		keys = append(keys, found...)
	}
	if !s.IdentitiesOnly {
		for _, signer := range read.held {
			keys = append(keys, key{signer, "the agent's key " + ssh.FingerprintSHA256(signer.PublicKey())})
		}
	}
	if len(s.Identities) == 0 {
		for _, name := range []string{"id_rsa", "id_ecdsa", "id_ed25519"} { // ssh's order
			if found, err := read.file(filepath.Join(userFolder(), name)); err == nil {
				keys = append(keys, found...)
			}
		}
	}
	if len(keys) == 0 && unusable != nil {
		return nil, done, unusable
	}
	return inOrder(s.addCertificates(keys), s.MinRSA), done, nil
}

// addToAgent gives what hands a key that was read from a file to the agent once it has signed, as AddKeysToAgent says;
// nil: nothing does. Its value is yes, ask or confirm, a lifetime in seconds, or confirm and a lifetime.
func (s *SSH) addToAgent(to agent.Agent) func(file string, private any) {
	how, rest, _ := strings.Cut(s.AddKeysToAgent, " ")
	add := agent.AddedKey{ConfirmBeforeUse: how == "confirm"}
	if how == "confirm" {
		how = rest
	}
	if lifetime, err := strconv.ParseUint(how, 10, 32); err == nil {
		add.LifetimeSecs = uint32(lifetime)
	}
	if s.AddKeysToAgent == "" || s.AddKeysToAgent == "no" {
		return nil
	}
	return func(file string, private any) {
		if s.Key != nil { // it is in no file
			return
		}
		if s.AddKeysToAgent == "ask" {
			if s.Ask == nil {
				return
			}
			if said, err := s.Ask("add the key "+file+" to the agent (yes or no)?", true); err != nil ||
				!strings.EqualFold(strings.TrimSpace(said), "yes") {
				return
			}
		}
		add.PrivateKey, add.Comment = private, file
		if err := to.Add(add); err != nil {
			s.notice(fmt.Sprintf("the agent does not take the key %s (AddKeysToAgent): %v", file, err))
		}
	}
}

func (s *SSH) notice(text string) {
	if s.Notice != nil {
		s.Notice(text)
	}
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

// inOrder leaves out what comes twice, and keys of RSA with too few bits, and puts keys last for which a person must be
// asked.
func inOrder(keys []key, minRSA int) []key {
	var ready, locked []key
	seen := map[string]bool{}
	for _, k := range keys {
		id, bits := string(k.PublicKey().Marshal()), bitsOfRSA(k.PublicKey())
		if seen[id] || bits > 0 && bits < minRSA {
			continue
		}
		seen[id] = true
		if _, ok := k.Signer.(*sealed); ok {
			locked = append(locked, k)
		} else {
			ready = append(ready, k)
		}
	}
	return append(ready, locked...)
}
