package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"tartine/internal/deploy"
	"tartine/internal/diff"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// sized is a path in JSON output.
type sized struct {
	Path string `json:"path"`
	Size int64  `json:"size"`
}

// leaving is a file that stays for a while.
type leaving struct {
	Path  string `json:"path"`
	Size  int64  `json:"size"`
	Until string `json:"until"`
}

type failed struct {
	Path  string `json:"path"`
	Error string `json:"error"`
}

// WriteJSON writes one value, indented, without what would drive a terminal.
func WriteJSON(w io.Writer, value any) error { return writeAs(w, "result", value) }

func writeAs(w io.Writer, kind string, value any) error {
	return writeIndented(w, kind, value, "  ")
}

// writeLine writes an object on one line.
func writeLine(w io.Writer, kind string, value any) error { return writeIndented(w, kind, value, "") }

func writeIndented(w io.Writer, kind string, value any, indent string) error {
	if lines, ok := w.(*Lines); ok {
		return lines.event(kind, value)
	}
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", indent)
	if err := encoder.Encode(value); err != nil {
		return err
	}
	_, err := w.Write(safeJSON(text.Bytes()))
	return err
}

// byStatus gives the paths of each status, and those that drifted.
func byStatus(r *diff.Result) (paths map[diff.Status][]sized, drifted []sized) {
	paths, drifted = map[diff.Status][]sized{diff.New: {}, diff.Changed: {}, diff.Retired: {}, diff.Stray: {}},
		[]sized{}
	r.Each(func(c *diff.Change) bool {
		s := sized{c.Path(), c.Size()}
		paths[c.Status] = append(paths[c.Status], s)
		if c.Drifted {
			drifted = append(drifted, s)
		}
		return true
	})
	return paths, drifted
}

// ComparisonJSON writes a comparison as one object.
func (p *Printer) ComparisonJSON(h Heading, c *deploy.Comparison, planned []Planned) error {
	out := struct {
		Target    string    `json:"target"`
		Same      int       `json:"same"`
		New       []sized   `json:"new"`
		Changed   []sized   `json:"changed"`
		Retired   []sized   `json:"retired"`
		Strays    []sized   `json:"strays"`
		Drifted   []sized   `json:"drifted"`
		Leaving   []leaving `json:"leaving"`
		Failed    []failed  `json:"failed"`
		SendBytes int64     `json:"send_bytes"`
		Commands  []Planned `json:"commands"` // that would run around it
	}{Commands: append([]Planned{}, planned...), Target: h.target(), Same: c.Result.Same, Leaving: []leaving{}, Failed: []failed{}}
	for _, l := range c.Result.Leaving {
		out.Leaving = append(out.Leaving, leaving{l.Path, l.Size, l.Until.UTC().Format(time.RFC3339)})
	}
	_, out.SendBytes = c.SendBytes()
	paths, drifted := byStatus(c.Result)
	out.New, out.Changed, out.Retired, out.Strays, out.Drifted = paths[diff.New], paths[diff.Changed],
		paths[diff.Retired], paths[diff.Stray], drifted
	for _, f := range c.Content.Failed {
		out.Failed = append(out.Failed, failed{f.Path, f.Err.Error()})
	}
	return WriteJSON(p.Out, out)
}

// ChangesJSON writes what changed between two deployments as one object.
func (p *Printer) ChangesJSON(h Heading, r *diff.Result) error {
	out, _ := byStatus(r)
	return WriteJSON(p.Out, struct {
		Target  string  `json:"target"`
		Same    int     `json:"same"`
		New     []sized `json:"new"`
		Changed []sized `json:"changed"`
		Retired []sized `json:"retired"`
	}{h.target(), r.Same, out[diff.New], out[diff.Changed], out[diff.Retired]})
}

// Done is what a session did.
type Done struct {
	Heading Heading
	*deploy.Result
	Options deploy.Options
	Ran     []deploy.Ran        // commands and checks around it
	Unwell  *deploy.UnwellError // nil: it is well
}

// OutcomeJSON writes what a deployment did as one object.
func (p *Printer) OutcomeJSON(d *Done) error {
	c, o := d.Comparison, d.Outcome
	type paths struct {
		New     []sized `json:"new"`
		Changed []sized `json:"changed"`
		Retired []sized `json:"retired"`
		Removed []sized `json:"removed"`
		Drifted []sized `json:"drifted"`
	}
	out := struct {
		Target     string          `json:"target"`
		URL        string          `json:"url"`
		New        int             `json:"new"`
		Changed    int             `json:"changed"`
		Retired    int             `json:"retired"`
		Same       int             `json:"same"`
		SentFiles  int             `json:"sent_files"`
		Copied     int             `json:"copied_files"` // there, from another folder
		SentBytes  int64           `json:"sent_bytes"`
		Failed     []failed        `json:"failed"`
		Tree       manifest.Digest `json:"tree"`
		Deployment int             `json:"deployment"`
		Verified   bool            `json:"verified"`
		ModesLeft  int             `json:"modes_not_set"`
		TimesLeft  int             `json:"times_not_set"`
		Result     string          `json:"result"`
		Paths      paths           `json:"paths"`
		SendBytes  int64           `json:"send_bytes"`
		Started    string          `json:"started"`
		Duration   float64         `json:"duration"` // in seconds
		Commands   []ranJSON       `json:"commands"`
		Unwell     *unwellJSON     `json:"unwell,omitempty"`
	}{Commands: ranOf(d.Ran), Unwell: unwellOf(d.Unwell), Target: d.Heading.target(), URL: d.Heading.Address, Same: c.Result.Same, Failed: []failed{}, Tree: d.TreeDigest(),
		Result:  "unchanged",
		Started: d.Options.Started.UTC().Format(time.RFC3339), Duration: time.Since(d.Options.Started).Seconds()}
	_, out.SendBytes = c.SendBytes()
	if d.Options.Trial && c.Result.Publishes(d.Options.RemoveStrays) {
		out.Result = "planned"
	}
	all, drifted := byStatus(c.Result)
	out.Paths = paths{all[diff.New], all[diff.Changed], all[diff.Retired], []sized{}, drifted}
	if d.Options.RemoveStrays {
		out.Paths.Removed = all[diff.Stray]
	}
	out.New, _ = c.Result.Count(diff.New)
	out.Changed, _ = c.Result.Count(diff.Changed)
	out.Retired, _ = c.Result.Count(diff.Retired)
	if o != nil {
		out.SentFiles, out.SentBytes, out.Copied, out.Deployment, out.Verified = o.SentFiles, o.SentBytes, o.Copied, o.Number, o.Verified
		out.ModesLeft, out.TimesLeft = o.ModesLeft, o.TimesLeft
		out.Result = "deployed"
		for _, f := range o.Failed {
			out.Failed = append(out.Failed, failed{f.Path, fmt.Sprint(f.Err)})
		}
		if len(o.Failed) > 0 {
			out.Result = "incomplete"
		}
	}
	switch {
	case d.Unwell == nil:
	case d.Unwell.Back > 0:
		out.Result = "rolled-back"
	default:
		out.Result = "unwell"
	}
	return WriteJSON(p.Out, out)
}

// ReportJSON writes what a verification found as one object.
func (p *Printer) ReportJSON(r *site.Report) error {
	type altered struct {
		Path   string `json:"path"`
		Reason string `json:"reason"`
	}
	type difference struct {
		Path  string `json:"path"`
		Want  string `json:"want"`
		Found string `json:"found"`
	}
	out := struct {
		Result  string          `json:"result"`
		Checked int             `json:"checked"`
		Missing []sized         `json:"missing"`
		Altered []altered       `json:"altered"`
		Modes   []difference    `json:"modes"`
		Owners  []difference    `json:"owners"`
		Links   []difference    `json:"links"`
		Strays  []sized         `json:"strays"`
		Leaving []sized         `json:"leaving"`
		Tree    manifest.Digest `json:"tree"`
	}{"match", r.Checked, []sized{}, []altered{}, []difference{}, []difference{}, []difference{}, []sized{}, []sized{}, r.Tree}
	for _, e := range r.Leaving {
		out.Leaving = append(out.Leaving, sized{e.Path, max(e.Size, 0)})
	}
	if !r.Matches() {
		out.Result = "differs"
	}
	for _, e := range r.Missing {
		out.Missing = append(out.Missing, sized{e.Path, max(e.Size, 0)})
	}
	for _, a := range r.Altered {
		out.Altered = append(out.Altered, altered{a.Path, a.Reason})
	}
	for _, m := range r.Modes {
		out.Modes = append(out.Modes, difference{m.Path, fmt.Sprintf("%04o", m.Want), fmt.Sprintf("%04o", m.Found)})
	}
	for _, o := range r.Owners {
		out.Owners = append(out.Owners, difference{o.Path, o.Want, o.Found})
	}
	for _, l := range r.Links {
		out.Links = append(out.Links, difference{l.Path, l.Want, l.Found})
	}
	for _, e := range r.Strays {
		out.Strays = append(out.Strays, sized{e.Path, max(e.Size, 0)})
	}
	return WriteJSON(p.Out, out)
}
