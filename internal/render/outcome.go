package render

import (
	"fmt"
	"strings"
	"time"

	"tartine/internal/deploy"
	"tartine/internal/diff"
	"tartine/internal/site"
)

// Deployed tells what a deployment did, the result last.
func (p *Printer) Deployed(h Heading, c *deploy.Comparison, out *site.Outcome, took time.Duration) {
	p.failures(out.Failed)
	removed, _ := c.Result.Count(diff.Retired)
	sent := fmt.Sprintf("%s, %s sent", Count(out.SentFiles, "file"), Bytes(out.SentBytes))
	if out.Resumed > 0 {
		sent += fmt.Sprintf(", %s sent earlier", Number(int64(out.Resumed)))
	}
	if out.Reused > 0 {
		sent += fmt.Sprintf(", %s taken from what the site holds", Number(int64(out.Reused)))
	}
	if out.Copied > 0 {
		sent += fmt.Sprintf(", %s copied there", Number(int64(out.Copied)))
	}
	if removed > 0 && out.Number > 0 {
		sent += fmt.Sprintf(", %s removed", Number(int64(removed)))
	}
	if out.NotAtomic {
		p.printf("%s  the server cannot replace a file in one step: for a moment there is nothing in its place\n",
			p.paint("note", 10))
	}
	if left := leftAsTheyAre(out); left != "" {
		p.printf("%s  %s\n", p.paint("note", 10), left)
	}
	if n := len(c.Result.Leaving); n > 0 && out.Number > 0 {
		p.printf("%s  %s: no longer in the content, left for visitors until %s; the first deployment after that removes them\n", p.paint("leaving", 10), Count(n, "file"), leavingUntil(c.Result))
	}
	switch {
	case len(out.Failed) > 0 && out.Number == 0:
		p.printf("%s  %s. Nothing was published: the site is as it was.\n", p.paint("incomplete", 10), sent)
		p.printf("%s  fix what failed and run it again: only what is missing is sent; or publish what arrived with --publish-partial\n", p.paint("next", 10))
	case len(out.Failed) > 0:
		p.printf("%s  deployment %d: %s; %s as said above\n", p.paint("incomplete", 10), out.Number, sent,
			Count(len(out.Failed), "path")+" failed")
		p.printf("%s  fix what failed and run it again: only what is missing is sent\n", p.paint("next", 10))
	default:
		if out.Verified && out.Method != "" {
			looked := "names, sizes and modes"
			if !c.KeepsModes() {
				looked = "names and sizes"
			}
			p.printf("%s  contents by digest (%s); %s re-checked\n", p.paint("verified", 10), methodText(out), looked)
		}
		p.printf("%s  deployment %d to %s: %s, in %s\n", p.paint("deployed", 10), out.Number, h.Place(), sent,
			Duration(took))
	}
}

// methodText says how digests were computed.
func methodText(out *site.Outcome) string {
	switch out.Method {
	case site.WhileWriting:
		return "computed at the far end while writing"
	case site.ByProgram:
		return out.Program + " at the far end"
	case site.ReadThere:
		return "read again at the far end"
	case site.FromContainer:
		return "read back from the container"
	case site.ComparedAnew:
		return "by comparing anew, after the connection was lost"
	}
	return "read back"
}

// leftAsTheyAre tells what the far end did not set though it was asked for.
func leftAsTheyAre(out *site.Outcome) string {
	var parts []string
	if out.ModesLeft > 0 {
		parts = append(parts, "the mode of "+Count(out.ModesLeft, "file"))
	}
	if out.TimesLeft > 0 {
		parts = append(parts, "the time of "+Count(out.TimesLeft, "file"))
	}
	if len(parts) == 0 {
		return ""
	}
	return fmt.Sprintf("the server did not set %s: it gives files its own", strings.Join(parts, " and "))
}

// failures lists what failed, and why.
func (p *Printer) failures(failed []site.Failure) {
	for _, f := range failed {
		p.printf("%s  %s  %v\n", p.paint("failed", 8), Name(f.Path), f.Err)
	}
	if len(failed) > 0 {
		p.printf("\n")
	}
}

// Unchanged tells that there was nothing to do, in one line.
func (p *Printer) Unchanged(h Heading, c *deploy.Comparison) {
	p.printf("%s  %s: %s since deployment %d, nothing sent\n", p.paint("unchanged", 10), h.Place(),
		Count(c.Result.Same, "path"), c.Survey.Number)
}

// Duration gives a time span with the digits that matter.
func Duration(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	default:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
}

// Verified tells what a verification found, the result last.
func (p *Printer) Verified(h Heading, r *site.Report) {
	var list []row
	for _, e := range r.Missing {
		list = append(list, row{word: "missing", name: Name(e.Path), bytes: -1})
	}
	for _, a := range r.Altered {
		list = append(list, row{word: "altered", name: Name(a.Path), note: a.Reason, bytes: -1})
	}
	for _, m := range r.Modes {
		list = append(list, row{word: "mode", name: Name(m.Path),
			note: fmt.Sprintf("is %04o, should be %04o", m.Found, m.Want), bytes: -1})
	}
	for _, o := range r.Owners {
		list = append(list, row{word: "owner", name: Name(o.Path), note: fmt.Sprintf("is %s, should be %s", o.Found, o.Want), bytes: -1})
	}
	for _, l := range r.Links {
		list = append(list, row{word: "link", name: Name(l.Path), note: linkNote(l), bytes: -1})
	}
	for _, e := range r.Strays {
		list = append(list, row{word: "stray", name: Name(e.Path), bytes: -1})
	}
	p.rows(list)
	if n := len(r.Leaving); n > 0 {
		p.printf("%s  %s: retired, and left for visitors for a while\n", p.paint("leaving", 10), Count(n, "file"))
	}
	if r.Matches() {
		p.printf("%s  %s: %s checked by content, %s read\n", p.paint("match", 10), h.Place(), Count(r.Checked, "path"),
			Bytes(r.Bytes))
		return
	}
	p.printf("\n%s  %s: %d missing, %d altered, %d with another mode, %d with another owner, %d other links, %s; %s checked\n",
		p.paint("differs", 10), h.Place(),
		len(r.Missing), len(r.Altered), len(r.Modes), len(r.Owners), len(r.Links), Count(len(r.Strays), "stray"),
		Count(r.Checked, "path"))
	if len(r.Missing)+len(r.Altered)+len(r.Modes)+len(r.Owners)+len(r.Links) == 0 {
		p.printf("%s  tartine deploy %s --remove-strays removes what no deployment put there; --strays ignore passes it over\n", p.paint("next", 10), h.target())
		return
	}
	p.printf("%s  tartine deploy %s --compare hash puts it right: it reads every file there, whatever its size and time say\n", p.paint("next", 10), h.target())
}

func linkNote(l site.LinkDifference) string {
	switch {
	case l.Want == "":
		return "is a link to " + Name(l.Found) + ", should be none"
	case l.Found == "":
		return "should be a link to " + Name(l.Want)
	default:
		return "leads to " + Name(l.Found) + ", should lead to " + Name(l.Want)
	}
}

// GivenUp shows the state of the site after an unfinished publish was given up.
func (p *Printer) GivenUp(h Heading, g *site.GivenUp) {
	if g.Undone {
		standing := "nothing was deployed before"
		if g.Stands > 0 {
			standing = fmt.Sprintf("deployment %d is unchanged", g.Stands)
		}
		p.printf("%s  %s: nothing of deployment %d was visible, and %s\n", p.paint("given up", 10), h.Place(), g.Number,
			standing)
		return
	}
	var list []row
	add := func(w word, paths []string, note string) {
		for _, path := range paths {
			list = append(list, row{word: w, name: Name(path), note: note, bytes: -1})
		}
	}
	add("done", g.Reached, fmt.Sprintf("as deployment %d has it", g.Number))
	add("not done", g.Before, "as it was before")
	add("altered", g.Other, "neither the one nor the other: it counts as drifted")
	p.rows(list)
	p.printf("\n%s  %s: deployment %d is recorded as it is, with %d of %s done\n", p.paint("given up", 10), h.Place(),
		g.Number,
		len(g.Reached), Count(len(g.Reached)+len(g.Before)+len(g.Other), "change"))
	p.printf("%s  tartine deploy %s brings the rest; tartine rollback %s restores the deployment before\n",
		p.paint("next", 10), h.target(), h.target())
}
