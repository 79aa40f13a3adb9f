package render

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	textdiff "github.com/rogpeppe/go-internal/diff"

	"tartine/internal/diff"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// History lists past deployments, the latest first.
func (p *Printer) History(h Heading, past []site.Past) {
	p.printf("%s\n\n", h.title())
	rows := [][]string{{"", "when", "who", "from", "new", "changed", "retired", "same", "sent", "took", "tree"}}
	for i, d := range past {
		number := fmt.Sprint(d.Number)
		if i == 0 {
			number += " current"
		}
		rows = append(rows, []string{number, d.At.Local().Format("2006-01-02 15:04"), who(&d), origin(&d),
			Number(int64(d.New)), Number(int64(d.Changed)),
			Number(int64(d.Retired)), Number(int64(d.Same)), Bytes(d.SentBytes),
			Duration(time.Duration(d.Seconds * float64(time.Second))), d.Tree.Hex()[:12]})
	}
	p.table(p.without(rows, 10, 9, 8, 7, 6, 5, 4, 3), 4, 9)
}

func who(d *site.Past) string {
	if d.User == "" {
		return d.Host
	}
	return d.User + "@" + d.Host
}

// origin says where a deployment's content came from, and that it was found unwell.
func origin(d *site.Past) string {
	if d.Ran != nil && d.Ran.Unwell != "" {
		return strings.TrimSuffix("unwell; "+contentOf(d), "; -")
	}
	return contentOf(d)
}

func contentOf(d *site.Past) string {
	switch {
	case d.Hand:
		return "sent by hand"
	case d.Watched != nil:
		return fmt.Sprintf("watched, %s, %s", Count(d.Watched.Changes, "change"), between(d.Watched.Since, d.At))
	case d.Rollback > 0:
		return fmt.Sprintf("deployment %d", d.Rollback)
	case d.Promoted != nil && d.Promoted.Deployment > 0:
		return strings.TrimSuffix(fmt.Sprintf("%s, deployment %d, %s", d.Promoted.From, d.Promoted.Deployment, commit(d.Origin)), ", ")
	case d.Promoted != nil:
		return d.Promoted.From
	}
	return cmp.Or(commit(d.Origin), "-")
}

// commit gives a commit in short, with its branch; empty: there is none.
func commit(o *manifest.Origin) string {
	if o == nil || o.Commit == "" {
		return ""
	}
	return strings.TrimSpace(o.Commit[:min(len(o.Commit), 10)] + " " + o.Branch)
}

// between gives the time from one moment to another, with their day where it is not the same.
func between(from, to time.Time) string {
	from, to = from.Local(), to.Local()
	if from.Format(time.DateOnly) != to.Format(time.DateOnly) {
		return from.Format("2006-01-02 15:04") + " to " + to.Format("2006-01-02 15:04")
	}
	return from.Format("15:04") + " to " + to.Format("15:04")
}

// table writes rows in columns; those from first to last are numbers and are to the right.
func (p *Printer) table(rows [][]string, first, last int) {
	widths := widthsOf(rows)
	p.fit(widths, func(column int) bool { return column < first || column > last })
	for _, row := range rows {
		var line strings.Builder
		for i, cell := range row {
			cell = cut(cell, widths[i])
			fill := strings.Repeat(" ", widths[i]-len([]rune(cell)))
			if i >= first && i <= last {
				line.WriteString(fill + cell + "  ")
			} else {
				line.WriteString(cell + fill + "  ")
			}
		}
		p.printf("%s\n", strings.TrimRight(line.String(), " "))
	}
}

// HistoryJSON writes past deployments as an array, the latest first.
func (p *Printer) HistoryJSON(past []site.Past) error {
	type entry struct {
		manifest.Deployment
		Origin *manifest.Origin `json:"origin,omitempty"`
		Tree   manifest.Digest  `json:"tree"`
		Stands bool             `json:"stands"`
		Ran    *site.Ran        `json:"ran,omitempty"`
	}
	out := []entry{}
	for i, d := range past {
		out = append(out, entry{d.Deployment, d.Origin, d.Tree, i == 0, d.Ran})
	}
	return WriteJSON(p.Out, out)
}

// Between shows what changed from one deployment to another.
func (p *Printer) Between(h Heading, from, to int, r *diff.Result) {
	what := fmt.Sprintf("deployment %d", to)
	if from > 0 {
		what = fmt.Sprintf("from deployment %d to %d", from, to)
	}
	p.printf("%s: %s\n\n", h.title(), what)
	for _, status := range shownStatuses {
		if n, bytes := r.Count(status); n > 0 {
			p.count(word(status.String()), n, Bytes(bytes), "")
		}
	}
	p.count("same", r.Same, Bytes(r.SameBytes), "")
	p.printf("\n")
	p.lists(r)
}

// TextDifference shows how a text at the site differs from the content, in the unified format of POSIX diff -u.
func (p *Printer) TextDifference(path, there, here string) {
	p.textDifference(path, "at the site: ", there, "content: ", here)
}

// TextWritten shows how a text at the site differs from what somebody wrote to take its place, likewise.
func (p *Printer) TextWritten(path, there, written string) {
	p.textDifference(path, "at the site: ", there, "as you wrote it: ", written)
	p.printf("\n")
}

// TextHome shows how a text of the content differs from what is at the site and takes its place, likewise.
func (p *Printer) TextHome(path, here, there string) {
	p.textDifference(path, "content: ", here, "at the site: ", there)
	p.printf("\n")
}

func (p *Printer) textDifference(path, before, old, after, new string) {
	if old == new {
		p.printf("same      %s\n", Name(path))
		return
	}
	text := textdiff.Diff(before+Name(path), []byte(old), after+Name(path), []byte(new))
	_, changes, _ := strings.Cut(string(text), "\n") // the first line repeats both names
	for line := range strings.Lines(strings.TrimRight(changes, " \n")) {
		p.printf("%s\n", strings.TrimSuffix(line, "\n"))
	}
}
