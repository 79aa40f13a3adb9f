package render

import (
	"fmt"
	"strings"

	"tartine/internal/deploy"
	"tartine/internal/manifest"
)

// Adoption shows what was changed at a site and where it goes here.
func (p *Printer) Adoption(h Heading, a *deploy.Adoption) {
	p.printf("%s\n\n", h.title())
	var list []row
	for i := range a.Taken {
		t := &a.Taken[i]
		r := row{word: adoptionWord(t.Word), name: Name(t.Path()), bytes: -1, note: "to " + Name(t.Home.Local)}
		switch {
		case t.Entry == nil:
			r.note = "gone there; " + Name(t.Home.Local) + " would be removed"
		case t.Entry.Kind == manifest.File:
			r.bytes = t.Entry.Size
		}
		if t.Newer {
			r.note += ", which was changed here, too"
		}
		list = append(list, r)
	}
	for _, l := range a.Left {
		list = append(list, row{word: "left", name: Name(l.Path), bytes: -1, note: l.Status + "; " + l.Reason})
	}
	p.rows(list)
	p.printf("\n")
}

func adoptionWord(status string) word {
	if strings.HasSuffix(status, " by hand") {
		return "by hand"
	}
	return word(status)
}

// Adopted tells what was taken over, the result last.
func (p *Printer) Adopted(h Heading, done []deploy.Adopted, left []deploy.AdoptionLeft) {
	written, removed := 0, 0
	for i := range done {
		if done[i].Entry == nil {
			removed++
		} else {
			written++
		}
	}
	for _, l := range left {
		p.printf("%s  %s  %s\n", p.paint("failed", 8), Name(l.Path), Safe(l.Reason))
	}
	what := Count(written, "path") + " written here"
	if removed > 0 {
		what += fmt.Sprintf(", %s removed here", Number(int64(removed)))
	}
	if len(left) > 0 {
		p.printf("%s  from %s: %s; %s could not be\n", p.paint("incomplete", 10), h.Place(), what, Number(int64(len(left))))
		return
	}
	p.printf("%s  from %s: %s\n", p.paint("adopted", 10), h.Place(), what)
	p.printf("%s  tartine deploy %s records it\n", p.paint("next", 10), h.target())
}

// AdoptedJSON writes it as an object.
func (p *Printer) AdoptedJSON(h Heading, result string, done []deploy.Adopted, left []deploy.AdoptionLeft) error {
	type item struct {
		Path   string `json:"path"`
		Status string `json:"status"`
		Local  string `json:"local"`
		Action string `json:"action"` // write or remove
		Newer  bool   `json:"changed_here"`
	}
	type stays struct {
		Path   string `json:"path"`
		Status string `json:"status"`
		Reason string `json:"reason"`
	}
	out := struct {
		Target  string  `json:"target"`
		Result  string  `json:"result"`
		Adopted []item  `json:"adopted"`
		Left    []stays `json:"left"`
	}{h.Name(), result, []item{}, []stays{}}
	for i := range done {
		d := &done[i]
		it := item{Path: d.Path(), Status: d.Word, Local: d.Home.Local, Action: "write", Newer: d.Newer}
		if d.Entry == nil {
			it.Action = "remove"
		}
		out.Adopted = append(out.Adopted, it)
	}
	for _, l := range left {
		out.Left = append(out.Left, stays(l))
	}
	return WriteJSON(p.Out, out)
}
