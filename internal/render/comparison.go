package render

import (
	"fmt"
	"iter"
	"path"
	"strings"
	"time"

	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// Heading says what goes where.
type Heading struct {
	Part    string // of the target, where it means several places; empty: it means one
	Site    string // the site's name; may be empty
	Target  string // the target's name; empty for a bare address
	Address string
	Root    string // the root's path at the far end
}

// Name gives what a person calls the target.
func (h Heading) Name() string { return h.target() }

// title gives the site, the target and its address.
func (h Heading) title() string {
	title := h.target()
	if h.Target != "" {
		title += "  " + h.Address
	}
	if h.Site != "" {
		title = h.Site + " to " + title
	}
	return title
}

// Place gives the name of what was done something to: the target, or the part of it.
func (h Heading) Place() string {
	if h.Part != "" {
		return h.Part + " of " + h.target()
	}
	return h.target()
}

func (h Heading) target() string {
	if h.Target == "" {
		return h.Address
	}
	return h.Target
}

// Landings shows where each source will be.
func (p *Printer) Landings(h Heading, tree *content.Tree) {
	p.printf("%s\n\n", h.title())
	width, dest := 0, 0
	for _, l := range tree.Landings {
		width, dest = max(width, len(l.Source.Title())), max(dest, len(h.landing(l)))
	}
	const beside = len("lands     ") + len("  at  ") + len("  1,000 files  100.0 MB") + 4
	narrow := p.room() > 0 && width+dest+beside > p.room()
	for i, l := range tree.Landings {
		lead := "lands"
		if i > 0 {
			lead = ""
		}
		if narrow {
			p.printf("%-8s  %s\n%-8s  at %s\n%-8s  %s, %s\n", lead, l.Source.Title(), "", h.landing(l), "",
				Count(l.Files, "file"), Bytes(l.Bytes))
			continue
		}
		p.printf("%-8s  %-*s  at  %-*s  %12s  %9s\n", lead, width, l.Source.Title(), dest, h.landing(l),
			Count(l.Files, "file"), Bytes(l.Bytes))
	}
	p.printf("\n")
}

func (h Heading) landing(l content.Landing) string {
	to := path.Join(h.Root, l.Source.Dest)
	if l.Single {
		return path.Join(to, l.Source.Name)
	}
	return strings.TrimSuffix(to, "/") + "/"
}

// Comparison shows counts and bytes first, then names.
func (p *Printer) Comparison(c *deploy.Comparison, removeStrays bool) {
	if p.Quiet {
		return
	}
	p.counts(c, removeStrays)
	p.printf("\n")
	p.lists(c.Result)
}

// shownStatuses is the statuses whose paths are listed, in this order.
var shownStatuses = []diff.Status{diff.New, diff.Changed, diff.Retired, diff.Stray}

// lists writes the paths that are not the same, by status.
func (p *Printer) lists(r *diff.Result) {
	var list []row
	for _, status := range shownStatuses {
		n, _ := r.Count(status)
		list = append(list, p.shortened(n, names(r, status))...)
	}
	p.rows(list)
	if len(list) > 0 {
		p.printf("\n")
	}
}

func (p *Printer) counts(c *deploy.Comparison, removeStrays bool) {
	drifted := 0
	for i := range c.Result.Changes {
		if c.Result.Changes[i].Drifted {
			drifted++
		}
	}
	for _, status := range shownStatuses {
		n, bytes := c.Result.Count(status)
		if n == 0 {
			continue
		}
		note := ""
		switch {
		case status == diff.Retired:
			note = "no longer in the content; removed by a deployment"
		case status == diff.Stray && removeStrays:
			note = "no deployment put them there; removed as asked"
		case status == diff.Stray:
			note = "no deployment put them there; left alone"
		}
		p.count(word(status.String()), n, Bytes(bytes), note)
	}
	if n := len(c.Result.Leaving); n > 0 {
		p.count("leaving", n, Bytes(leavingBytes(c.Result)), "no longer in the content; left until "+leavingUntil(c.Result))
	}
	if drifted > 0 {
		p.count("drifted", drifted, "", fmt.Sprintf("of the above: altered or removed at the site since deployment %d",
			c.Survey.Number))
	}
	p.count("same", c.Result.Same, Bytes(c.Result.SameBytes), "")
	if n := len(c.Content.Failed); n > 0 {
		p.count("failed", n, "", "cannot be read here")
	}
}

func leavingBytes(r *diff.Result) (bytes int64) {
	for _, l := range r.Leaving {
		bytes += l.Size
	}
	return bytes
}

// leavingUntil gives the time at which the first may go, and the last.
func leavingUntil(r *diff.Result) string {
	first, last := r.Leaving[0].Until, r.Leaving[0].Until
	for _, l := range r.Leaving {
		if l.Until.Before(first) {
			first = l.Until
		}
		if l.Until.After(last) {
			last = l.Until
		}
	}
	text := first.Local().Format("2006-01-02 15:04")
	if last.Sub(first) >= time.Minute {
		text += " to " + last.Local().Format("2006-01-02 15:04")
	}
	return text
}

func (p *Printer) count(w word, n int, bytes, note string) {
	line := fmt.Sprintf("%13s  %9s  %s", Count(n, "path"), bytes, note)
	p.printf("%s  %s\n", p.paint(w, 8), strings.TrimRight(line, " "))
}

// names gives a row for each change with a status.
func names(r *diff.Result, status diff.Status) iter.Seq[row] {
	return func(yield func(row) bool) {
		r.Each(func(change *diff.Change) bool {
			if change.Status != status {
				return true
			}
			line := row{word: word(status.String()), name: Name(change.Path()), bytes: change.Size(), note: note(change)}
			if e := change.Want; e != nil && e.Kind != manifest.File || e == nil && change.Found.Kind != manifest.File {
				line.bytes = -1
			}
			return yield(line)
		})
	}
}

func note(c *diff.Change) string {
	var notes []string
	if c.Want != nil && c.Found != nil && (c.Want.Kind != c.Found.Kind || c.Found.Other != 0) {
		notes = append(notes, "was a "+c.Found.Kind.String())
	}
	if c.Want != nil && c.Want.Link != "" {
		notes = append(notes, "link to "+Name(c.Want.Link))
	}
	if c.Hand {
		notes = append(notes, "sent by hand")
	}
	if c.ModeOnly && c.Found.Mode.Perm() != c.Want.Mode.Perm() {
		notes = append(notes, fmt.Sprintf("mode %04o to %04o", c.Found.Mode.Perm(), c.Want.Mode.Perm()))
	} else if c.ModeOnly && c.Want.Owner != nil {
		notes = append(notes, "owner to "+c.Want.Owner.String())
	}
	if c.Drifted {
		how := "removed at the site"
		if c.Found != nil {
			how = "altered at the site"
			if c.Found.Kind == manifest.File && !c.Found.ModTime.IsZero() {
				how += " on " + c.Found.ModTime.Local().Format("2006-01-02 15:04")
			}
		}
		notes = append(notes, "drifted: "+how)
	}
	return strings.Join(notes, ", ")
}

// Warnings names what a person should know and that stops nothing.
func (p *Printer) Warnings(tree *content.Tree) {
	for _, l := range tree.LeftOut {
		if l.By == nil && l.Reason != "" && l.Reason != "links are skipped" {
			p.Warn("left out: %s: %s", Name(l.Path), l.Reason)
		}
	}
	const shown = 5
	for i, c := range tree.Collisions {
		if i == shown && !p.Verbose {
			p.Warn("and %s more", Count(len(tree.Collisions)-shown, "such path"))
			break
		}
		p.Warn("%s comes from %s; the same path in %s is shadowed", Name(c.Path), tree.Sources[c.Winner].Path,
			tree.Sources[c.Shadows[0]].Path)
	}
}
