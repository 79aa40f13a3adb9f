package render

import (
	"fmt"
	"strings"
	"time"

	"tartine/internal/site"
)

// WouldWipe tells what is at a site that is to be wiped.
func (p *Printer) WouldWipe(h Heading, w *site.Wiped, keepStrays bool) {
	p.printf("%s\n\n", h.title())
	there := Count(w.Files, "file") + " with " + Bytes(w.Bytes)
	if w.Folders > 0 {
		there += " in " + Count(w.Folders, "folder")
	}
	rows := [][]string{{"  at the site", there}}
	note := func(n int, what string) {
		if n > 0 {
			rows = append(rows, []string{"", Number(int64(n)) + " of them " + what})
		}
	}
	strays := "that no deployment put there"
	if keepStrays {
		strays += ", which stay"
	}
	note(w.Strays, strays)
	note(w.Drifted, "altered since they were deployed")
	if len(w.Mounts) > 0 {
		rows = append(rows, []string{"", "other file systems, which are emptied: " + Few(w.Mounts)})
	}
	record := Count(w.Deployments, "deployment")
	if w.Kept > 0 {
		record += ", and content kept for rollbacks with " + Bytes(w.Kept)
	}
	rows = append(rows, []string{"  in the record", record})
	if w.Resumed {
		rows = append(rows, []string{"", "what an earlier wipe left"})
	}
	p.table(rows, 2, 1)
	p.printf("\n")
}

// Wiped tells what was removed, the result last.
func (p *Printer) Wiped(h Heading, w *site.Wiped, keepStrays bool, took time.Duration) {
	p.failures(w.Left)
	what := fmt.Sprintf("%s: %s and the record removed in %s", h.Place(), Count(w.Files, "file"), Duration(took))
	var stays []string
	switch {
	case keepStrays && w.RootStays:
		stays = append(stays, "the root stays with what no deployment put there")
	case w.RootStays:
		stays = append(stays, "the root stays as an empty folder")
	}
	if len(w.Left) > 0 {
		p.printf("%s  %s; %s could not be removed\n", p.paint("incomplete", 10), what, Count(len(w.Left), "path"))
		p.printf("%s  fix what is named above and run it again\n", p.paint("next", 10))
		return
	}
	p.printf("%s  %s\n", p.paint("wiped", 10), strings.Join(append([]string{what}, stays...), "; "))
}

// WouldWipeJSON writes what is there as an object.
func (p *Printer) WouldWipeJSON(h Heading, w *site.Wiped) error {
	return WriteJSON(p.Out, struct {
		Target      string   `json:"target"`
		Result      string   `json:"result"`
		Files       int      `json:"files"`
		Folders     int      `json:"folders"`
		Bytes       int64    `json:"bytes"`
		Strays      int      `json:"strays"`
		Drifted     int      `json:"drifted"`
		Mounts      []string `json:"mounts"`
		Deployments int      `json:"deployments"`
		KeptBytes   int64    `json:"kept_bytes"`
	}{h.Name(), "would be wiped", w.Files, w.Folders, w.Bytes, w.Strays, w.Drifted, append([]string{}, w.Mounts...),
		w.Deployments, w.Kept})
}

// WipedJSON writes what was removed as an object.
func (p *Printer) WipedJSON(h Heading, w *site.Wiped) error {
	out := struct {
		Target    string   `json:"target"`
		Result    string   `json:"result"` // wiped or incomplete
		Files     int      `json:"files"`
		Folders   int      `json:"folders"`
		RootStays bool     `json:"root_stays"`
		Failed    []failed `json:"failed"`
	}{h.Name(), "wiped", w.Files, w.Folders, w.RootStays, []failed{}}
	for _, f := range w.Left {
		out.Result, out.Failed = "incomplete", append(out.Failed, failed{f.Path, f.Err.Error()})
	}
	return WriteJSON(p.Out, out)
}
