package sshconfig

import (
	"crypto/sha1" //nolint:gosec // the token %C is defined by it
	"encoding/hex"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
)

// Facts is what tokens stand for.
type Facts struct {
	Host  string // the name that is connected to (%h)
	Given string // as it was given (%n)
	Port  int
	User  string // at the host
	Alias string // HostKeyAlias, or empty
	Jumps string // ProxyJump, or empty

	Looked string // under which name the host's key is looked up (%H); empty: it is not
}

// Home gives the user's home folder as ssh does: what the system's accounts say, and not what $HOME says.
func Home() string {
	if me, err := user.Current(); err == nil && me.HomeDir != "" {
		return me.HomeDir
	}
	home, _ := os.UserHomeDir()
	return home
}

// ExpandPath puts in what tokens, variables (${NAME}) and ~ stand for in the name of a file.
func (f *Facts) ExpandPath(value string) (string, error) {
	out, err := f.Expand(value)
	if err != nil {
		return "", err
	}
	if out, err = variables(out); err != nil {
		return "", fmt.Errorf("%s: %w", value, err)
	}
	if out == "~" {
		return Home(), nil
	}
	if runtime.GOOS == "windows" && strings.HasPrefix(out, `~\`) {
		out = "~/" + out[2:]
	}
	if rest, ok := strings.CutPrefix(out, "~/"); ok {
		if Home() == "" {
			return "", fmt.Errorf("%s is below the home folder, and there is none", value)
		}
		return filepath.Join(Home(), rest), nil
	}
	if rest, ok := strings.CutPrefix(out, "~"); ok {
		name, below, _ := strings.Cut(rest, "/")
		other, err := user.Lookup(name)
		if err != nil {
			return "", fmt.Errorf("the user %s of %s is not known here", name, value)
		}
		return filepath.Join(other.HomeDir, below), nil
	}
	return out, nil
}

// variables puts in the values of ${NAME}, once: what they hold is not looked at.
func variables(text string) (string, error) {
	var out strings.Builder
	for {
		before, rest, found := strings.Cut(text, "${")
		out.WriteString(before)
		if !found {
			return out.String(), nil
		}
		name, after, closed := strings.Cut(rest, "}")
		set, ok := os.LookupEnv(name)
		if !closed || !ok {
			return "", fmt.Errorf("the variable %s is not set", name)
		}
		out.WriteString(set)
		text = after
	}
}

// Expand puts in what tokens stand for, as the section TOKENS of ssh_config(5) says.
func (f *Facts) Expand(value string) (string, error) {
	var out strings.Builder
	for i := 0; i < len(value); i++ {
		if value[i] != '%' {
			out.WriteByte(value[i])
			continue
		}
		if i++; i == len(value) {
			return "", fmt.Errorf("%s ends with a %% that means nothing", value)
		}
		text, ok := f.token(value[i])
		if !ok {
			return "", fmt.Errorf("%s has %%%c, which means nothing", value, value[i])
		}
		out.WriteString(text)
	}
	return out.String(), nil
}

// Words takes a command apart at its spaces, but not within quotes or after a backslash, and puts in what tokens stand
// for.
func (f *Facts) Words(command string) ([]string, error) {
	var (
		out  []string
		word []byte
		open byte // the quote that is open
		in   bool
	)
	for i := 0; i < len(command); i++ {
		switch c := command[i]; {
		case c == '\\' && i+1 < len(command) && strings.IndexByte(`'"\ `, command[i+1]) >= 0:
			i++
			word, in = append(word, command[i]), true
		case open == 0 && (c == ' ' || c == '\t'):
			if in {
				out = append(out, string(word))
			}
			word, in = nil, false
		case open == 0 && (c == '"' || c == '\''):
			open, in = c, true
		case c == open && open != 0:
			open = 0
		default:
			word, in = append(word, c), true
		}
	}
	if open != 0 {
		return nil, fmt.Errorf("%s has a quote that does not end", command)
	}
	if in {
		out = append(out, string(word))
	}
	for i := range out {
		var err error
		if out[i], err = f.Expand(out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (f *Facts) token(letter byte) (string, bool) {
	local, _ := os.Hostname()
	switch letter {
	case '%':
		return "%", true
	case 'C':
		sum := sha1.Sum([]byte(local + f.Host + strconv.Itoa(f.Port) + f.User + f.Jumps)) //nolint:gosec // as above
		return hex.EncodeToString(sum[:]), true
	case 'd':
		return Home(), true
	case 'H':
		return f.Looked, f.Looked != ""
	case 'h':
		return f.Host, true
	case 'I':
		return "HOSTNAME", f.Looked != "" // that is what is looked for
	case 'i':
		return strconv.Itoa(os.Getuid()), true
	case 'j':
		return f.Jumps, true
	case 'k':
		if f.Alias != "" {
			return f.Alias, true
		}
		return f.Given, true
	case 'L':
		short, _, _ := strings.Cut(local, ".")
		return short, true
	case 'l':
		return local, true
	case 'n':
		return f.Given, true
	case 'p':
		return strconv.Itoa(f.Port), true
	case 'r':
		return f.User, true
	case 'u':
		me, err := user.Current()
		if err != nil {
			return "", false
		}
		return me.Username, true
	}
	return "", false
}
