// Package render turns comparisons, outcomes and reports into text for a person and JSON for a program.
//
// Reports and JSON go to one writer, warnings and progress to another. Status is always a word; colour repeats it.
package render

import (
	"fmt"
	"io"
	"iter"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Printer writes for one run.
type Printer struct {
	Out, Err io.Writer
	Color    bool // on Out
	Verbose  bool // list every name
	Quiet    bool // no text on Out
	Width    int  // of the terminal that Out is, in columns; 0: it is none
}

// namesShown is how many names of one status are listed unless all are asked for.
const namesShown = 40

// word is one of the words that begin a line, with the colour that repeats it (ECMA-48 SGR parameters).
type word string

var colours = map[word]string{
	"new": "96", "changed": "93", "retired": "90", "stray": "35", "drifted": "95", "failed": "91", "well": "92", "back": "1;93", "restored": "1;93", "unwell": "1;91", "old": "93", "redirected": "93", "status": "91", "rewritten": "93", "type": "93", "served": "91", "silent": "91", "build": "96", "before": "96", "after": "96", "check": "96",
	"missing": "91", "done": "92", "not done": "93", "given up": "1;93", "altered": "91", "mode": "93", "owner": "93", "link": "93",
	"deployed": "1;92", "packed": "1;92", "wiped": "1;92", "adopted": "1;92", "by hand": "35", "unchanged": "1;92", "match": "1;92", "verified": "92", "differs": "1;91", "incomplete": "1;93",
	"error": "1;91", "warning": "93", "good": "92", "slow": "93", "wrong": "1;91",
}

// paint gives a word in its colour, filled up to a width.
func (p *Printer) paint(w word, width int) painted {
	text := Safe(string(w)) + strings.Repeat(" ", max(width-len(w), 0))
	if code, ok := colours[w]; ok && p.Color {
		return painted("\x1b[" + code + "m" + text + "\x1b[0m")
	}
	return painted(text)
}

func (p *Printer) printf(format string, args ...any) {
	if !p.Quiet {
		Fprintf(p.Out, format, args...)
	}
}

// Warn writes a warning.
func (p *Printer) Warn(format string, args ...any) {
	Fprintf(p.Err, "warning  "+format+"\n", args...)
}

// Count gives a number with its noun: 1 file, 2,000 files.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if stem, ok := strings.CutSuffix(noun, "y"); ok && !strings.HasSuffix(stem, "a") {
		return Number(int64(n)) + " " + stem + "ies"
	}
	return Number(int64(n)) + " " + noun + "s"
}

// Number gives a number with its thousands parted.
func Number(n int64) string {
	digits := strconv.FormatInt(n, 10)
	sign := ""
	if n < 0 {
		sign, digits = "-", digits[1:]
	}
	for at := len(digits) - 3; at > 0; at -= 3 {
		digits = digits[:at] + "," + digits[at:]
	}
	return sign + digits
}

// Bytes gives a size in decimal units (1 kB is 1000 bytes) with three digits.
func Bytes(n int64) string {
	if n < 1000 {
		return fmt.Sprintf("%d B", n)
	}
	value := float64(n)
	for _, unit := range []string{"kB", "MB", "GB", "TB"} {
		value /= 1000
		switch {
		case value < 9.995:
			return fmt.Sprintf("%.2f %s", value, unit)
		case value < 99.95:
			return fmt.Sprintf("%.1f %s", value, unit)
		case value < 999.5:
			return fmt.Sprintf("%.0f %s", value, unit)
		}
	}
	return fmt.Sprintf("%.0f PB", value/1000)
}

// Name gives a path for the screen: one that holds control or other unprintable characters is quoted.
func Name(path string) string {
	for _, r := range path {
		if !strconv.IsPrint(r) || r == utf8.RuneError {
			return strconv.Quote(path)
		}
	}
	return path
}

// row is one line of a list: a word, a name, and what is said of it.
type row struct {
	word  word
	name  string
	bytes int64 // -1: there is no size to speak of
	note  string
	paths int // how many paths a folder's row stands for
}

func (r *row) size() string {
	if r.bytes < 0 {
		return ""
	}
	return Bytes(r.bytes)
}

// rows writes a list in columns.
func (p *Printer) rows(list []row) {
	width, sizes, words := 0, 0, len("changed")+1
	for _, r := range list {
		words = max(words, len(r.word))
		width = max(width, utf8.RuneCountInString(r.name))
		sizes = max(sizes, len(r.size()))
	}
	width = min(width, 64)
	if p.room() > 0 {
		width = min(width, max(p.room()-words-2-sizes-2, 0))
	}
	for _, r := range list {
		line := r.name
		if sizes > 0 {
			line += strings.Repeat(" ", max(width-utf8.RuneCountInString(r.name), 0))
			line += fmt.Sprintf("  %*s", sizes, r.size())
		} else if r.note != "" {
			line += strings.Repeat(" ", max(width-utf8.RuneCountInString(r.name), 0))
		}
		if r.note != "" && p.room() > 0 && words+2+utf8.RuneCountInString(line+"  "+r.note) > p.room() {
			p.printf("%s  %s\n%*s%s\n", p.paint(r.word, words), strings.TrimRight(line, " "), words+2, "",
				p.wrapped(r.note, words+2))
			continue
		} else if r.note != "" {
			line += "  " + r.note
		}
		p.printf("%s  %s\n", p.paint(r.word, words), strings.TrimRight(line, " "))
	}
}

// shortened cuts so many rows to what a screen can take: names below the top go together by their first folder.
func (p *Printer) shortened(n int, list iter.Seq[row]) []row {
	if p.Verbose || n <= namesShown {
		return slices.Collect(list)
	}
	var out []row
	folders := map[string]int{} // to an index into out
	for r := range list {
		folder, _, below := strings.Cut(r.name, "/")
		if !below {
			out = append(out, r)
			continue
		}
		at, ok := folders[folder]
		if !ok {
			at = len(out)
			folders[folder] = at
			out = append(out, row{word: r.word, name: folder + "/"})
		}
		out[at].paths++
		out[at].bytes += r.bytes
	}
	for i := range out {
		if out[i].paths > 0 {
			out[i].note = Count(out[i].paths, "path")
		}
	}
	if more := len(out) - namesShown; more > 0 {
		out = append(out[:namesShown], row{word: out[0].word,
			name: fmt.Sprintf("and %s more, which --verbose lists", Number(int64(more))), bytes: -1})
	}
	return out
}
