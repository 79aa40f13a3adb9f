package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/render"
	"tartine/internal/targets"
)

// followEvery is how often a file that may grow is looked at.
const followEvery = time.Second

// cat is what is shown of files.
type cat struct {
	app       *app
	lines     string
	from, to  int // lines, from 1; 0: all
	last      int // lines; 0: all
	follow    bool
	forPerson bool // standard output is a terminal
	out       io.Writer
}

// caught is a file, or what was wanted of it, in an object.
type caught struct {
	Path   string  `json:"path"`
	Bytes  int     `json:"bytes"`
	Text   *string `json:"text,omitempty"`
	Base64 []byte  `json:"base64,omitempty"` // of what is no text
}

func (a *app) catCommand() *cobra.Command {
	c := &cat{app: a}
	cmd := &cobra.Command{
		Use:   "cat [TARGET] PATH…",
		Short: "Write files of the site to standard output",
		Long: `Cat writes the bytes of files of the site to standard output: all of them, some lines, or the last ones; with
--follow it goes on while a file grows, until it is interrupted. To a terminal it writes text alone.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := c.parse(); err != nil {
				return err
			}
			c.forPerson, c.out = isTerminal(a.terminal) && !a.json(), a.stdout
			var text bytes.Buffer
			if a.json() {
				c.out = &text
			}
			files := []caught{}
			return a.withPaths(cmd.Context(), args, func(ctx context.Context, s *targets.Opened, heading render.Heading, paths []string) error {
				switch {
				case len(paths) == 0:
					return usageError("no file is named", "name files of the site; tartine ls "+heading.Name()+" lists them")
				case c.follow && a.json():
					return usageError("--follow writes bytes as they come, which no object holds", "leave out --format json")
				case c.follow && len(paths) > 1:
					return usageError("--follow is for one file, and several are named", "")
				}
				for _, path := range paths {
					err := c.write(ctx, s, path)
					if errors.Is(err, fs.ErrInvalid) {
						return usageError(fmt.Sprintf("%s is not a file", render.Name(path)),
							fmt.Sprintf("tartine ls %s %s lists what is in a folder", heading.Name(), path))
					}
					if err != nil {
						return a.noSuchPath(ctx, s, heading, err)
					}
					if a.json() {
						files = append(files, catch(path, text.Bytes()))
						text.Reset()
					}
				}
				return a.object(map[string]any{"target": heading.Name(), "files": files})
			})
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	f := cmd.Flags()
	f.StringVar(&c.lines, "lines", "", "write these lines alone, as in 1-20 or 7 (`RANGE`)")
	f.IntVar(&c.last, "last", 0, "write the last `N` lines alone")
	f.BoolVar(&c.follow, "follow", false, "go on while the file grows")
	return cmd
}

func (c *cat) parse() error {
	if c.last < 0 {
		return usageError("--last is a number of lines from 1 up", "")
	}
	if c.lines == "" {
		return nil
	}
	if c.last > 0 || c.follow {
		return usageError("--lines goes neither with --last nor with --follow", "")
	}
	first, last, several := strings.Cut(c.lines, "-")
	var err, failed error
	c.from, err = strconv.Atoi(first)
	if c.to = c.from; several {
		c.to, failed = strconv.Atoi(last)
	}
	if err != nil || failed != nil || c.from < 1 || c.to < c.from {
		return usageError(fmt.Sprintf("--lines %q is not a range of lines", c.lines), "write it as in 1-20")
	}
	return nil
}

// catch puts what was read of a file into an object.
func catch(path string, content []byte) caught {
	out := caught{Path: path, Bytes: len(content)}
	if utf8.Valid(content) {
		text := string(content)
		out.Text = &text
	} else {
		out.Base64 = bytes.Clone(content)
	}
	return out
}

// write writes a file.
func (c *cat) write(ctx context.Context, s *targets.Opened, path string) error {
	file, err := s.Open(ctx, path)
	if err != nil {
		return err
	}
	defer file.Close()
	in, out := &counted{in: file}, c.out
	if c.forPerson {
		out = &textOnly{out: out, path: path}
	}
	switch {
	case c.last > 0:
		err = lastLines(out, in, c.last)
	case c.from > 0:
		err = someLines(out, in, c.from, c.to)
	default:
		_, err = io.Copy(out, in)
	}
	if err != nil || !c.follow {
		return err
	}
	return c.goOn(ctx, s, path, in.read, out)
}

// goOn writes what is added to a file, until it is interrupted.
func (c *cat) goOn(ctx context.Context, s *targets.Opened, path string, at int64, out io.Writer) error {
	for {
		part, err := calls.Read.On(ctx, s, calls.Range{Path: path, Offset: at})
		if ctx.Err() != nil {
			return nil // whoever follows has seen enough
		}
		if err != nil {
			return err
		}
		if _, err := out.Write(part.Content); err != nil {
			return err
		}
		if at += int64(len(part.Content)); !part.End {
			continue
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followEvery):
		}
	}
}

// counted counts what was read.
type counted struct {
	in   io.Reader
	read int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.read += int64(n)
	return n, err
}

// textOnly writes text, and refuses what would drive a terminal.
type textOnly struct {
	out  io.Writer
	path string
	part []byte // of a character whose end is still to come
}

func (t *textOnly) Write(p []byte) (int, error) {
	text := append(bytes.Clone(t.part), p...)
	t.part = nil
	for at := 0; at < len(text); {
		r, size := utf8.DecodeRune(text[at:])
		if r == utf8.RuneError && size == 1 && len(text)-at < utf8.UTFMax && !utf8.FullRune(text[at:]) {
			t.part, text = bytes.Clone(text[at:]), text[:at]
			break
		}
		if r == utf8.RuneError && size == 1 || !strconv.IsPrint(r) && r != '\n' && r != '\t' && r != '\r' && r != '\f' && r != '\ufeff' {
			return 0, usageError(render.Name(t.path)+" is not a text, and would drive the terminal",
				"write it to a file: tartine cat … >FILE, or tartine fetch")
		}
		at += size
	}
	if _, err := t.out.Write(text); err != nil {
		return 0, err
	}
	return len(p), nil
}

// someLines writes the lines from one to another.
func someLines(out io.Writer, in io.Reader, from, to int) error {
	line := 1
	buf := make([]byte, 64<<10)
	for line <= to {
		n, err := in.Read(buf)
		for rest := buf[:n]; len(rest) > 0 && line <= to; {
			end := bytes.IndexByte(rest, '\n') + 1
			ends := end > 0
			if !ends {
				end = len(rest)
			}
			if line >= from {
				if _, err := out.Write(rest[:end]); err != nil {
					return err
				}
			}
			if rest = rest[end:]; ends {
				line++
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// lastLines writes the last lines. No more of the file is in memory than they take.
func lastLines(out io.Writer, in io.Reader, last int) error {
	var (
		lines [][]byte
		now   []byte
	)
	keep := func(line []byte) {
		if lines = append(lines, line); len(lines) > last {
			lines[0], lines = nil, lines[1:]
		}
	}
	buf := make([]byte, 64<<10)
	for {
		n, err := in.Read(buf)
		for rest := buf[:n]; len(rest) > 0; {
			end := bytes.IndexByte(rest, '\n') + 1
			if end == 0 {
				now = append(now, rest...)
				break
			}
			keep(append(now, rest[:end]...))
			now, rest = nil, rest[end:]
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	if len(now) > 0 {
		keep(now)
	}
	_, err := out.Write(bytes.Join(lines, nil))
	return err
}
