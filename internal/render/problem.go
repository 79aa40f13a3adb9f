package render

import (
	"io"
	"strings"
)

// OnErr gives a printer for the other writer.
func (p *Printer) OnErr(color bool) *Printer {
	return &Printer{Out: p.Err, Err: p.Err, Color: color, Verbose: p.Verbose, Width: p.Width}
}

// Problem writes what is wrong, the paths that it is about, and the next step.
func (p *Printer) Problem(what string, paths []string, next string) {
	p.printf("%s  %s\n", p.paint("error", 8), p.wrapped(what, 10))
	shown := paths
	if len(paths) > namesShown && !p.Verbose {
		shown = paths[:namesShown]
	}
	for _, path := range shown {
		p.printf("%s  %s\n", strings.Repeat(" ", 8), Name(path))
	}
	if more := len(paths) - len(shown); more > 0 {
		p.printf("%s  and %s more\n", strings.Repeat(" ", 8), Number(int64(more)))
	}
	if next != "" {
		p.printf("%s  %s\n", p.paint("next", 8), p.wrapped(next, 10))
	}
}

// ProblemJSON writes what is wrong as one object. Status is the exit status, and kind the word for it.
func ProblemJSON(out io.Writer, status int, kind, what string, paths []string, next string) error {
	if paths == nil {
		paths = []string{}
	}
	type problem struct {
		Kind    string   `json:"kind"`
		Message string   `json:"message"`
		Paths   []string `json:"paths"`
		Next    string   `json:"next"`
	}
	result := "failed"
	if kind == "refused" || kind == "interrupted" {
		result = kind
	}
	return writeAs(out, "error", struct {
		Result string  `json:"result"`
		Status int     `json:"status"`
		Error  problem `json:"error"`
	}{result, status, problem{kind, what, paths, next}})
}

// WouldSend ends a report that changed nothing.
func (p *Printer) WouldSend(h Heading, files int, bytes int64, changes bool) {
	if !changes {
		p.printf("%s  the site is as it should be\n", p.paint("unchanged", 10))
		return
	}
	p.printf("Nothing was changed. A deployment would send %s, %s: tartine deploy %s\n", Count(files, "file"),
		Bytes(bytes), h.target())
}

// Line writes one line of text.
func (p *Printer) Line(format string, args ...any) {
	p.printf(format+"\n", args...)
}
