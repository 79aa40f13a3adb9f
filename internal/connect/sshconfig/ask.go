package sshconfig

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// defaults is what ssh says without any settings.
type defaults struct {
	once sync.Once
	said Options
	err  error
}

// ask has OpenSSH's own program resolve the settings: ssh -G.
func (c *Config) ask(ctx context.Context, host, user string, port int) (Options, error) {
	program := c.files.Program
	if program == "" {
		program = "ssh"
	}
	path, err := exec.LookPath(program)
	if err != nil && c.files.Program == "" { // programs that a timer starts may have no PATH
		path, err = exec.LookPath("/usr/bin/ssh")
	}
	if err != nil {
		return nil, &Error{c.foreign.File, c.foreign.Line, fmt.Errorf("%w: %w", c.foreign.Err, ErrForeign)}
	}
	var arguments []string
	if c.files.System == "" {
		arguments = append(arguments, "-F", c.files.User)
	}
	if user != "" {
		arguments = append(arguments, "-l", user)
	}
	if port != 0 {
		arguments = append(arguments, "-p", strconv.Itoa(port))
	}
	out, err := resolve(ctx, path, append(arguments, "--", host))
	if err != nil {
		var said *saidError
		if errors.As(err, &said) {
			file, line := said.where()
			if file == "" {
				file = c.foreign.File
			}
			return nil, &Error{file, line, err}
		}
		return nil, err
	}
	c.asked.once.Do(func() { c.asked.said, c.asked.err = resolve(ctx, path, []string{"-F", os.DevNull, "--", host}) })
	if c.asked.err != nil {
		return nil, c.asked.err
	}
	for keyword, values := range out {
		if !resolved[keyword] && slices.Equal(values, c.asked.said[keyword]) {
			delete(out, keyword)
		}
	}
	return out, nil
}

// resolved are keywords whose values depend on the host.
var resolved = map[string]bool{"hostname": true, "user": true, "port": true}

// saidError is what ssh refuses.
type saidError struct{ said string }

func (e *saidError) Error() string { return "ssh refuses them: " + e.said }

var placed = regexp.MustCompile(`^(.*?):? line (\d+): `)

// where gives where the fault is, where ssh tells.
func (e *saidError) where() (file string, line int) {
	if found := placed.FindStringSubmatch(e.said); found != nil {
		line, _ = strconv.Atoi(found[2])
		return found[1], line
	}
	return "", 0
}

func resolve(ctx context.Context, program string, arguments []string) (Options, error) {
	cmd := exec.CommandContext(ctx, program, append([]string{"-G"}, arguments...)...)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	text, err := cmd.Output()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		first, _, _ := strings.Cut(strings.TrimSpace(stderr.String()), "\n")
		if first == "" {
			first = err.Error()
		}
		return nil, &saidError{strings.TrimSpace(strings.ToValidUTF8(first, "?"))}
	}
	out := Options{}
	for raw := range strings.Lines(string(text)) {
		keyword, value, _ := strings.Cut(strings.TrimRight(raw, "\r\n"), " ")
		switch {
		case keyword == "userknownhostsfile" || keyword == "globalknownhostsfile":
			out[keyword] = paths(value)
		case keyword == "setenv" || known[keyword].several:
			out[keyword] = append(out[keyword], value)
		case value == "true":
			out[keyword] = []string{"yes"}
		case value == "false":
			out[keyword] = []string{"no"}
		default:
			out[keyword] = []string{value}
		}
	}
	return out, nil
}

// paths takes apart names of files, which ssh prints with spaces between them, also when there are spaces in them.
func paths(text string) (out []string) {
	for _, piece := range strings.Split(text, " ") {
		if len(out) > 0 && !strings.HasPrefix(piece, "/") && !strings.HasPrefix(piece, "~") && piece != "none" {
			out[len(out)-1] += " " + piece
			continue
		}
		out = append(out, piece)
	}
	return out
}
