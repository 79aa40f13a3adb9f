// Package sshconfig finds out what OpenSSH's client settings (ssh_config(5)) say of a host, so that Tartine goes where
// ssh goes.
//
// Most files are plain: blocks for hosts, and settings of one word. Those are read here. Everything else (Match,
// quotes, CanonicalizeHostname, options that are not known here) is left to OpenSSH's own program: ssh -G resolves it.
// Where that is not installed it is an error, which names the line. Nothing is passed over, and no line is read in
// another way than ssh reads it.
package sshconfig

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// Options says what the settings say of a host. The keys are keywords in lower case. Switches are "yes" or "no", times
// are seconds or "none", and tokens are as they were written (see Expand). What is as ssh does without settings may be
// left out.
type Options map[string][]string

// First gives the only value of a keyword, or nothing.
func (o Options) First(keyword string) string {
	if len(o[keyword]) == 0 {
		return ""
	}
	return o[keyword][0]
}

// Files says where settings are looked for. Those that do not exist say nothing.
type Files struct {
	User    string // the user's; it wins over the system's
	System  string // empty: the user's alone counts, as with ssh -F
	Folder  string // of the user's, to which names of the files that it includes are relative
	Needed  bool   // the user's must be there: somebody has named it
	Checked bool   // nobody else may be able to write the user's
	Program string // OpenSSH's client; empty: ssh
}

// Error tells that a file of settings cannot be read.
type Error struct {
	File string
	Line int // 0: all of it
	Err  error
}

func (e *Error) Error() string {
	if e.Line > 0 {
		return fmt.Sprintf("SSH settings %s line %d: %v", e.File, e.Line, e.Err)
	}
	return fmt.Sprintf("SSH settings %s: %v", e.File, e.Err)
}

func (e *Error) Unwrap() error { return e.Err }

// ErrForeign tells that settings are written in a way that OpenSSH's own program alone can read, and that it is not
// installed.
var ErrForeign = errors.New("only OpenSSH's own program reads this, and it is not installed")

// Config is what some files say.
type Config struct {
	files   Files
	read    []*file
	foreign *Error // the first line that is left to OpenSSH's own program; nil: all is plain
	asked   defaults
}

// Load reads the files. Its errors are *Error.
func Load(files Files) (*Config, error) {
	c := &Config{files: files}
	for _, name := range []string{files.User, files.System} {
		if name == "" {
			continue
		}
		base := filepath.Dir(name)
		if name == files.User && files.Folder != "" {
			base = files.Folder
		}
		f, err := c.readFile(name, base, name == files.User && files.Checked, 0)
		if (errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR)) &&
			!(files.Needed && name == files.User) {
			continue
		}
		if err != nil {
			return nil, err
		}
		c.read = append(c.read, f)
	}
	return c, nil
}

// Plain tells whether all is read without a program.
func (c *Config) Plain() bool { return c.foreign == nil }

// For gives what is said of a host. User and port are those that are set already, empty and 0 where they are not:
// blocks may be for some users alone. Its errors are *Error, or that of the context.
func (c *Config) For(ctx context.Context, host, user string, port int) (Options, error) {
	// Both become part of commands (ProxyCommand, Match exec), where these characters mean something.
	if strings.HasPrefix(host, "-") || strings.ContainsAny(host, metacharacters+" \t\n\r") {
		return nil, &Error{File: c.files.User, Err: fmt.Errorf("the host %q has characters that no host has", host)}
	}
	if strings.HasPrefix(user, "-") || strings.ContainsAny(user, "'`\";&<>|(){}\n\r") || strings.HasSuffix(user, `\`) {
		return nil, &Error{File: c.files.User, Err: fmt.Errorf("the user %q has characters that no user has", user)}
	}
	if c.foreign != nil {
		return c.ask(ctx, host, user, port)
	}
	r := resolving{host: host, out: Options{}}
	for _, f := range c.read {
		r.file(f, true)
	}
	return r.out, nil
}

// metacharacters are those that a shell does not take as they are.
const metacharacters = "'`\"$\\;&<>|(){}"

// resolving collects what is said of a host: of most keywords the first line counts.
type resolving struct {
	host string
	out  Options
}

func (r *resolving) file(f *file, active bool) {
	may := active // what is included in a block for other hosts is for nobody
	for _, l := range f.lines {
		switch {
		case l.keyword == "host":
			active = may && hostMatches(l.values, r.host)
		case l.included != nil:
			for _, inner := range l.included {
				r.file(inner, active)
			}
		case active:
			r.set(l)
		}
	}
}

func (r *resolving) set(l line) {
	have := r.out[l.keyword]
	switch {
	case l.keyword == "proxyjump" && r.out["proxycommand"] != nil,
		l.keyword == "proxycommand" && r.out["proxyjump"] != nil &&
			!strings.EqualFold(r.out.First("proxyjump"), "none"):
		// The first of them holds; ssh does not count "ProxyJump none" as one.
	case !known[l.keyword].several:
		if have == nil {
			r.out[l.keyword] = l.values
		}
	default:
		for _, value := range l.values {
			if l.keyword == "sendenv" || !slices.Contains(have, value) { // ssh names a key once
				have = append(have, value)
			}
		}
		r.out[l.keyword] = have
	}
}

// hostMatches tells whether a block is for a host: some pattern matches its name, and none with an exclamation mark
// does.
func hostMatches(patterns []string, host string) bool {
	matched := false
	for _, p := range patterns {
		p, not := strings.CutPrefix(p, "!")
		if !Matches(p, host) {
			continue
		}
		if not {
			return false
		}
		matched = true
	}
	return matched
}

// Matches compares a name with a pattern, in which * is any characters, and ? is one.
func Matches(pattern, name string) bool {
	for pattern != "" {
		if pattern[0] == '*' {
			for pattern != "" && pattern[0] == '*' {
				pattern = pattern[1:]
			}
			for at := 0; at <= len(name); at++ {
				if Matches(pattern, name[at:]) {
					return true
				}
			}
			return false
		}
		if name == "" || pattern[0] != '?' && pattern[0] != name[0] {
			return false
		}
		pattern, name = pattern[1:], name[1:]
	}
	return name == ""
}

// checkWriters fails for a file that somebody else can write, as ssh does.
func checkWriters(name string, info os.FileInfo) error {
	if reason := OthersWrite(name, info); reason != "" {
		return &Error{File: name, Err: errors.New(reason)}
	}
	return nil
}
