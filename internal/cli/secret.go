package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"

	"github.com/zalando/go-keyring"
	"golang.org/x/term"

	"tartine/internal/config"
	"tartine/internal/connect"
	"tartine/internal/connect/sshconfig"
	"tartine/internal/render"
	"tartine/internal/targets"
)

// secret gives a function that finds a secret when it is needed. Its errors never hold the secret.
func (a *app) secret(from config.Secret, what string) func() (string, error) {
	return func() (string, error) {
		value, err := a.findSecret(from, what, firstLineOf)
		if err != nil {
			return "", &config.Error{At: from.At, Reason: fmt.Sprintf("%s: %v", what, err)}
		}
		a.hidden.Store(value, true)
		return value, nil
	}
}

// shortestHidden is how long a secret is at least that is taken out of what commands write, in bytes: what is shorter
// is in many words.
const shortestHidden = 4

// hide gives a text without the secrets that this run knows.
func (a *app) hide(text string) string {
	a.hidden.Range(func(secret, _ any) bool {
		if s := secret.(string); len(s) >= shortestHidden {
			text = strings.ReplaceAll(text, s, "(secret)")
		}
		return true
	})
	return text
}

// secretText is secret for one of several lines, such as a private key.
func (a *app) secretText(from config.Secret, what string) func() (string, error) {
	return once(func() (string, error) {
		value, err := a.findSecret(from, what, func(text string) string { return text })
		if err != nil {
			return "", &config.Error{At: from.At, Reason: fmt.Sprintf("%s: %v", what, err)}
		}
		return value, nil
	})
}

func firstLineOf(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return strings.TrimSuffix(line, "\r")
}

// findSecret finds a secret. Of what a file holds or a command prints, part gives what counts.
func (a *app) findSecret(from config.Secret, what string, part func(string) string) (string, error) {
	switch {
	case from.Env.Value != "":
		value, ok := os.LookupEnv(from.Env.Value)
		if !ok {
			return "", fmt.Errorf("the environment variable %s is not set", from.Env.Value)
		}
		return value, nil
	case from.File.Value != "":
		text, err := secretFile(config.Resolve(from.File))
		return part(text), err
	case len(from.Command) > 0:
		var words []string
		for _, w := range from.Command {
			words = append(words, w.Value)
		}
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Stderr = a.stderr
		out, err := cmd.Output()
		if err != nil {
			return "", fmt.Errorf("the command %s failed: %w", words[0], err)
		}
		return part(string(out)), nil
	case from.Keyring.Value != "":
		value, err := keyring.Get(keyringService, from.Keyring.Value)
		if errors.Is(err, keyring.ErrNotFound) {
			return "", fmt.Errorf("the keyring holds nothing under service %q and user %q", keyringService, from.Keyring.Value)
		}
		if err != nil {
			return "", fmt.Errorf("the keyring of this session cannot be asked: %w", err)
		}
		return value, nil
	default:
		if !a.canAsk() {
			return "", errors.New("there is no terminal to ask on")
		}
		return a.askSecret(what)
	}
}

// keyringService is the service under which the desktop's keyring is asked.
const keyringService = "tartine"

// once keeps what was found, so that a line that is opened again asks nobody twice. An error is not kept.
func once(find func() (string, error)) func() (string, error) {
	var (
		mu    sync.Mutex
		found bool
		value string
	)
	return func() (string, error) {
		mu.Lock()
		defer mu.Unlock()
		if found {
			return value, nil
		}
		got, err := find()
		if err == nil {
			found, value = true, got
		}
		return got, err
	}
}

// askAnswer asks what a server wants to know.
func (a *app) askAnswer(question string, echo bool) (string, error) {
	if program := a.askProgram(); program != "" {
		return a.askWith(program, question+": ")
	}
	if !echo {
		return a.askSecret(question)
	}
	render.Fprintf(a.stderr, "%s: ", question)
	line, err := bufio.NewReader(a.stdin).ReadString('\n')
	return strings.TrimRight(line, "\r\n"), err
}

// askSecret asks on the terminal, which does not show what is typed.
func (a *app) askSecret(what string) (string, error) {
	render.Fprintf(a.stderr, "%s: ", what)
	value, err := term.ReadPassword(int(a.stdin.Fd()))
	fmt.Fprintln(a.stderr)
	a.hidden.Store(string(value), true)
	return string(value), err
}

// askPassphrase asks for the passphrase of a key file, where there is somebody to ask; once for each file.
func (a *app) askPassphrase(file string) (string, error) {
	find, _ := a.phrases.LoadOrStore(file, once(func() (string, error) { return a.askForPassphrase(file) }))
	return find.(func() (string, error))()
}

func (a *app) askForPassphrase(file string) (string, error) {
	if program := a.askProgram(); program != "" {
		return a.askWith(program, "passphrase of "+file+": ")
	}
	if !a.canAsk() {
		return "", &connect.IdentityError{File: file, Reason: "has a passphrase, and there is no terminal to ask for it", Locked: true}
	}
	return a.askSecret("passphrase of " + file)
}

// askProgram gives the program that asks for secrets in the place of the terminal, by the rules of ssh(1): where there
// is no terminal, or SSH_ASKPASS_REQUIRE says so; empty: none.
func (a *app) askProgram() string {
	program, require := os.Getenv("SSH_ASKPASS"), os.Getenv("SSH_ASKPASS_REQUIRE")
	desktop := os.Getenv("DISPLAY") != "" || os.Getenv("WAYLAND_DISPLAY") != ""
	switch {
	case program == "" || require == "never":
		return ""
	case require == "force", require == "prefer" && desktop, !a.canAsk() && desktop:
		return program
	}
	return ""
}

// askWith has a program ask, which writes the answer.
func (a *app) askWith(program, question string) (string, error) {
	out, err := exec.Command(program, question).Output()
	if err != nil {
		return "", fmt.Errorf("the program %s (SSH_ASKPASS) gives no answer: %w", program, err)
	}
	answer := firstLineOf(string(out))
	a.hidden.Store(answer, true)
	return answer, nil
}

func secretFile(name string) (string, error) {
	info, err := os.Stat(name)
	if err != nil {
		return "", err
	}
	if reason := sshconfig.OthersRead(name, info); reason != "" {
		return "", fmt.Errorf("%s %s: %s", name, reason, targets.MakePrivate(name))
	}
	text, err := os.ReadFile(name)
	return string(text), err
}
