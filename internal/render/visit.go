package render

import (
	"fmt"
	"strings"

	"tartine/internal/web"
)

// Visit tells what a look through the web found, the result last.
func (p *Printer) Visit(h Heading, r *web.Report) {
	var list []row
	for _, f := range r.Findings {
		list = append(list, row{word: word(f.Kind), name: Name(f.Path), note: f.Note, bytes: -1})
	}
	p.rows(list)
	if len(list) > 0 {
		p.printf("\n")
	}
	for _, w := range r.Warnings {
		p.Warn("%s", w)
	}
	asked := fmt.Sprintf("%s asked for", Count(r.Asked, "file"))
	if r.Asked < r.Of {
		asked = fmt.Sprintf("%s of %s asked for, at random", Number(int64(r.Asked)), Count(r.Of, "file"))
	}
	notes := []string{asked}
	for _, n := range []struct {
		count int
		what  string
	}{{r.Unmodified, "unchanged since they came before"}, {r.Compressed, "compressed on the way"}, {r.Run, "run by the server and not compared"},
		{r.Hidden, "with a dot before the name, and not served"}} {
		if n.count > 0 {
			notes = append(notes, fmt.Sprintf("%s %s", Number(int64(n.count)), n.what))
		}
	}
	notes = append(notes, Bytes(r.Bytes)+" came over "+strings.TrimSuffix(r.Protocol, ".0"))
	if r.Well() {
		p.printf("%s  %s: %s\n", p.paint("match", 10), r.Base, strings.Join(notes, ", "))
		return
	}
	p.printf("%s  %s: %s; %s\n", p.paint("differs", 10), r.Base, kindsOf(r), strings.Join(notes, ", "))
	p.printf("%s  %s\n", p.paint("next", 10), p.wrapped(nextOf(h, r), 12))
}

// kindsOf counts what was found.
func kindsOf(r *web.Report) string {
	counts := map[web.Kind]int{}
	for _, f := range r.Findings {
		counts[f.Kind]++
	}
	var parts []string
	for _, kind := range []web.Kind{web.Wrong, web.Old, web.Missing, web.Redirected, web.Status, web.Rewritten, web.Type, web.Served, web.Silent} {
		if n := counts[kind]; n > 0 {
			parts = append(parts, fmt.Sprintf("%s %s", Number(int64(n)), kind))
		}
	}
	return strings.Join(parts, ", ")
}

// nextOf says what to do about what was found first.
func nextOf(h Heading, r *web.Report) string {
	has := map[web.Kind]bool{}
	for _, f := range r.Findings {
		has[f.Kind] = true
	}
	switch {
	case has[web.Served]:
		return "have the server refuse what should not be served: files that begin with a dot, backups, listings of folders"
	case has[web.Old]:
		return "wait until caches have let it go, or purge them; --resolve HOST:PORT:ADDRESS asks the server behind them"
	case has[web.Wrong]:
		return fmt.Sprintf("tartine verify %s looks whether the site itself is as it was deployed", h.Name())
	case has[web.Rewritten]:
		return "look for a proxy on the way that changes what passes"
	case has[web.Type]:
		return "have the server give these names the content type that browsers expect"
	}
	return "look at the settings of the web server: which folder it serves, and under which address"
}

// VisitJSON writes what a look through the web found as one object.
func (p *Printer) VisitJSON(h Heading, r *web.Report) error {
	type finding struct {
		Path string `json:"path"`
		URL  string `json:"url"`
		Kind string `json:"kind"`
		Note string `json:"note"`
	}
	out := struct {
		Target     string    `json:"target"`
		Result     string    `json:"result"`
		Base       string    `json:"base"`
		Protocol   string    `json:"protocol"`
		Checked    int       `json:"checked"`
		Of         int       `json:"of"`
		Matched    int       `json:"matched"`
		Unmodified int       `json:"unmodified"`
		Compressed int       `json:"compressed"`
		Run        int       `json:"run_by_server"`
		Hidden     int       `json:"hidden"`
		Bytes      int64     `json:"bytes"`
		Findings   []finding `json:"findings"`
		Warnings   []string  `json:"warnings"`
	}{h.Name(), "match", r.Base, r.Protocol, r.Asked, r.Of, r.Matched, r.Unmodified, r.Compressed, r.Run, r.Hidden, r.Bytes,
		[]finding{}, append([]string{}, r.Warnings...)}
	if !r.Well() {
		out.Result = "differs"
	}
	for _, f := range r.Findings {
		out.Findings = append(out.Findings, finding{f.Path, f.URL, string(f.Kind), f.Note})
	}
	return WriteJSON(p.Out, out)
}
