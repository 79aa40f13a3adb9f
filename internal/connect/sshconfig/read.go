package sshconfig

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

type file struct {
	lines []line
}

// line is one setting.
type line struct {
	keyword  string // in lower case
	values   []string
	included []*file
}

// The bounds of what is read.
const (
	mostDeep = 16      // files that include each other; ssh's bound
	mostText = 4 << 20 // bytes of a file
)

// readFile reads a file and those that it includes, whose names are relative to base. The first line that is not plain
// is noted.
func (c *Config) readFile(name, base string, checked bool, depth int) (*file, error) {
	if depth > mostDeep {
		return nil, &Error{File: name, Err: errors.New("too many files include each other")}
	}
	in, err := os.Open(name)
	if err != nil {
		return nil, &Error{File: name, Err: reason(err)}
	}
	defer in.Close()
	info, err := in.Stat()
	if err == nil && info.IsDir() {
		err = errors.New("is a folder")
	}
	if err != nil {
		return nil, &Error{File: name, Err: reason(err)}
	}
	if checked {
		if err := checkWriters(name, info); err != nil {
			return nil, err
		}
	}
	text, err := io.ReadAll(io.LimitReader(in, mostText))
	if err != nil {
		return nil, &Error{File: name, Err: reason(err)}
	}
	out := &file{}
	number := 0
	for raw := range strings.Lines(string(text)) {
		number++
		l, err := plainLine(raw)
		if err != nil {
			if c.foreign == nil {
				c.foreign = &Error{File: name, Line: number, Err: err}
			}
			continue
		}
		if l.keyword == "include" {
			if l.included, err = c.include(l.values, base, checked, depth); err != nil {
				return nil, err
			}
		}
		if l.keyword != "" {
			out.lines = append(out.lines, l)
		}
	}
	return out, nil
}

func reason(err error) error {
	var inner *fs.PathError
	if errors.As(err, &inner) {
		return inner.Err
	}
	return err
}

// include reads the files that patterns name, in their order. It is empty, and not nil, where there are none.
func (c *Config) include(patterns []string, base string, checked bool, depth int) ([]*file, error) {
	out := []*file{}
	for _, pattern := range patterns {
		if rest, ok := strings.CutPrefix(pattern, "~/"); ok {
			pattern = filepath.Join(Home(), rest)
		} else if !filepath.IsAbs(pattern) {
			pattern = filepath.Join(base, pattern)
		}
		names, err := filepath.Glob(pattern)
		if err != nil {
			return nil, &Error{File: pattern, Err: err}
		}
		for _, name := range names {
			if strings.HasPrefix(filepath.Base(name), ".") && !strings.HasPrefix(filepath.Base(pattern), ".") {
				continue // a star takes no hidden files
			}
			f, err := c.readFile(name, base, checked, depth+1)
			if err != nil {
				return nil, err
			}
			out = append(out, f)
		}
	}
	return out, nil
}

// plainLine reads a line, which may say nothing. It fails where ssh may read it in another way.
func plainLine(raw string) (line, error) {
	for _, c := range []byte(raw) {
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' || c >= 0x7f {
			return line{}, errors.New("it is not plain text")
		}
	}
	text := strings.Trim(raw, " \t\r\n")
	if text == "" || text[0] == '#' {
		return line{}, nil
	}
	end := strings.IndexAny(text, " \t=")
	if end <= 0 {
		return line{}, fmt.Errorf("%q has no value", text)
	}
	keyword, rest := strings.ToLower(text[:end]), strings.TrimLeft(text[end:], " \t")
	if after, ok := strings.CutPrefix(rest, "="); ok {
		rest = strings.TrimLeft(after, " \t")
	}
	kind, ok := known[keyword]
	if !ok {
		return line{}, fmt.Errorf("%s is not known here", text[:end])
	}
	if kind.alias != "" {
		keyword, kind = kind.alias, known[kind.alias]
	}
	if kind.whole {
		if rest == "" {
			return line{}, fmt.Errorf("%s has no value", text[:end])
		}
		return line{keyword: keyword, values: []string{rest}}, nil
	}
	if strings.ContainsAny(rest, "\"'\\#") || strings.HasPrefix(rest, "=") {
		return line{}, fmt.Errorf("%s is written with quotes or a comment", text[:end])
	}
	values := strings.FieldsFunc(rest, func(r rune) bool { return r == ' ' || r == '\t' })
	if len(values) == 0 || len(values) > 1 && !kind.list {
		return line{}, fmt.Errorf("%s has %d values", text[:end], len(values))
	}
	for i, value := range values {
		plain, ok := kind.read(value)
		if !ok {
			return line{}, fmt.Errorf("%s is %q", text[:end], value)
		}
		values[i] = plain
	}
	return line{keyword: keyword, values: values}, nil
}
