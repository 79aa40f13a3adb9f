package render

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"tartine/internal/deploy"
	"tartine/internal/site"
)

// Planned is a command that would run around a publish.
type Planned struct {
	When  string `json:"when"` // before_publish, after_publish, check
	Where string `json:"where"`
	What  string `json:"what"`
}

// moments are the words for the moments at which commands run.
var moments = map[string]word{"build": "build", "before_publish": "before", "after_publish": "after", "check": "check"}

// moment gives the word for a moment.
func moment(when string) word {
	if w, known := moments[when]; known {
		return w
	}
	return word(when)
}

// Planned lists what would run.
func (p *Printer) Planned(list []Planned) {
	if len(list) == 0 {
		return
	}
	p.printf("\nWith it would run:\n")
	for _, c := range list {
		p.printf("%s  %-5s  %s\n", p.paint(moment(c.When), 10), c.Where, c.What)
	}
}

// Runs tells that something begins.
func (p *Printer) Runs(r deploy.Runs) {
	p.printf("%s  %-5s  %s\n", p.paint(moment(string(r.When)), 10), r.Where, r.What)
}

// linesShown is how many lines of the output of something that failed are shown.
const linesShown = 20

// Ran tells how something ended, where that is to be told, with the end of what it wrote where that was not shown.
func (p *Printer) Ran(r deploy.Ran, shown bool) {
	if r.Err != nil && !shown {
		lines := strings.Split(strings.TrimRight(r.Last, "\n"), "\n")
		if len(lines) > linesShown {
			lines = lines[len(lines)-linesShown:]
		}
		for _, line := range lines {
			if line != "" {
				p.printf("%s%s\n", outputPrefix, line)
			}
		}
	}
	switch {
	case r.Err != nil:
		text := fmt.Sprintf("%s: %v", r.What, r.Err)
		if r.When != deploy.Checking { // which says for how long it was tried
			text += ", after " + Duration(r.Took)
		}
		p.printf("%s  %-5s  %s\n", p.paint("failed", 10), r.Where, p.wrapped(text, 19))
	case r.When == deploy.Checking:
		p.printf("%s  %-5s  %s, after %s\n", p.paint("well", 10), r.Where, r.What, Duration(r.Took))
	}
}

// RollsBack tells that an earlier deployment is published in the place of an unwell one.
func (p *Printer) RollsBack(r deploy.RollsBack) {
	p.printf("%s  deployment %d is unwell; deployment %d is published again\n", p.paint("back", 10), r.Unwell.Number, r.To)
}

// RolledBack ends the report of a deployment that was found unwell.
func (p *Printer) RolledBack(h Heading, u *deploy.UnwellError) {
	if u.Back > 0 {
		p.printf("%s  %s: deployment %d is there again, as deployment %d\n", p.paint("restored", 10), h.Place(), u.Back, u.Again)
		return
	}
	p.printf("%s  %s: deployment %d is there, and is unwell\n", p.paint("unwell", 10), h.Place(), u.Number)
}

// outputPrefix begins each line that a command writes.
const outputPrefix = "            | "

// Prefixed writes what a command writes: whole lines, each behind a prefix, with nothing in them that drives a terminal.
type Prefixed struct {
	To io.Writer

	mu   sync.Mutex
	line []byte
}

// mostHeld is how much of a line without an end is waited for, in bytes.
const mostHeld = 4 << 10

// Write implements io.Writer.
func (w *Prefixed) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.line = append(w.line, p...)
	for {
		at := bytes.IndexByte(w.line, '\n')
		if at < 0 && len(w.line) < mostHeld {
			return len(p), nil
		}
		if at < 0 {
			at = len(w.line) - 1
		}
		w.write(w.line[:at+1])
		w.line = append(w.line[:0], w.line[at+1:]...)
	}
}

// End writes what is left.
func (w *Prefixed) End() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.line) > 0 {
		w.write(w.line)
		w.line = nil
	}
}

func (w *Prefixed) write(line []byte) {
	Fprintf(w.To, "%s%s\n", outputPrefix, strings.TrimRight(string(line), "\r\n"))
}

// ranJSON is something that ran, in JSON output.
type ranJSON struct {
	When    string  `json:"when"`
	Where   string  `json:"where"`
	What    string  `json:"what"`
	Status  int     `json:"status"`
	Error   string  `json:"error"`
	Seconds float64 `json:"seconds"`
}

// unwellJSON is why a deployment was found unwell, and what became of it.
type unwellJSON struct {
	Deployment int    `json:"deployment"`
	Reason     string `json:"reason"`
	RolledBack int    `json:"rolled_back_to"` // 0: it was kept
	As         int    `json:"as_deployment"`
}

func ranOf(list []deploy.Ran) []ranJSON {
	out := []ranJSON{}
	for i := range list {
		out = append(out, oneRan(&list[i]))
	}
	return out
}

func oneRan(r *deploy.Ran) ranJSON {
	out := ranJSON{When: string(r.When), Where: r.Where, What: r.What, Seconds: r.Took.Seconds()}
	if r.Err != nil {
		out.Error = r.Err.Error()
		var ended *deploy.EndedError
		if errors.As(r.Err, &ended) {
			out.Status = ended.Status
		}
	}
	return out
}

// RanEvent writes how something ended where JSON is a stream of events.
func (p *Printer) RanEvent(r *deploy.Ran) {
	if lines, ok := p.Out.(*Lines); ok {
		_ = lines.event("command", oneRan(r)) // whoever reads may have gone; the result says it, too
	}
}

// RanAround shows what ran around a past deployment.
func (p *Printer) RanAround(d *site.Past) {
	if d.Ran == nil || len(d.Ran.Commands) == 0 {
		return
	}
	p.ranList(d.Ran)
	switch {
	case d.Ran.Unwell != "":
		p.printf("%s  %s\n", p.paint("unwell", 8), d.Ran.Unwell)
	case !d.Ran.Settled:
		p.printf("%s  the run was interrupted before all had run\n", p.paint("open", 8))
	}
}

func unwellOf(u *deploy.UnwellError) *unwellJSON {
	if u == nil {
		return nil
	}
	return &unwellJSON{u.Number, u.What + ": " + u.Err.Error(), u.Back, u.Again}
}

// ranList shows what ran around a deployment, with the end of what it wrote.
func (p *Printer) ranList(ran *site.Ran) {
	for _, c := range ran.Commands {
		how := word("well")
		note := Duration(time.Duration(c.Seconds * float64(time.Second)))
		if c.Error != "" {
			how, note = "failed", c.Error+", after "+note
		}
		p.printf("%s  %s  %-5s  %s  %s\n", p.paint(how, 8), p.paint(moment(c.When), 6), c.Where, c.What, note)
		lines := strings.Split(strings.TrimRight(c.Output, "\n"), "\n")
		if len(lines) > linesShown && !p.Verbose {
			lines = lines[len(lines)-linesShown:]
		}
		for _, line := range lines {
			if line != "" {
				p.printf("%s%s\n", outputPrefix, line)
			}
		}
	}
}
