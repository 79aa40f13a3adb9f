package render

import (
	"fmt"

	"tartine/internal/site"
)

// Checks lists what an examination found, with what to fix.
func (p *Printer) Checks(h Heading, checks []site.Check) {
	p.printf("%s\n\n", h.title())
	wrong := 0
	for _, c := range checks {
		p.printf("%s  %-13s  %s\n", p.paint(word(c.Verdict), 8), c.Name, p.wrapped(c.Found, checkIndent))
		if c.Fix != "" && c.Verdict != site.Good {
			p.printf("%-8s  %-13s  %s\n", "", "", p.wrapped(c.Fix, checkIndent))
		}
		if c.Verdict == site.Wrong {
			wrong++
		}
	}
	p.printf("\n")
	if wrong > 0 {
		p.printf("%s to fix\n", Count(wrong, "thing"))
		return
	}
	p.printf("nothing to fix\n")
}

// checkIndent is the column in which what was found begins.
const checkIndent = 8 + 2 + 13 + 2

// ChecksJSON writes what an examination found as one object.
func (p *Printer) ChecksJSON(h Heading, checks []site.Check) error {
	return WriteJSON(p.Out, struct {
		Target string       `json:"target"`
		Checks []site.Check `json:"checks"`
	}{h.target(), checks})
}

// TargetState is a target of the settings and, when it was asked, how it is.
type TargetState struct {
	Name, Address string
	Answers       bool
	Stands        *site.Past // nil: no deployment is recorded
	Problem       string
}

func (t *TargetState) state() string {
	switch {
	case t.Problem != "":
		return t.Problem
	case t.Stands == nil:
		return "answers; nothing was deployed yet"
	default:
		return fmt.Sprintf("deployment %d of %s, by %s", t.Stands.Number,
			t.Stands.At.Local().Format("2006-01-02 15:04"), who(t.Stands))
	}
}

// Targets lists targets and, when they were asked, how they are.
func (p *Printer) Targets(list []TargetState, asked bool) {
	var rows [][]string
	for i := range list {
		row := []string{list[i].Name, list[i].Address}
		if asked {
			row = append(row, list[i].state())
		}
		rows = append(rows, row)
	}
	p.table(rows, len(rows[0]), 0)
}

// TargetsJSON writes targets as an array.
func (p *Printer) TargetsJSON(list []TargetState) error {
	type entry struct {
		Name       string `json:"name"`
		Address    string `json:"address"`
		Answers    bool   `json:"answers"`
		Deployment int    `json:"deployment"`
		Problem    string `json:"problem,omitempty"`
	}
	out := []entry{}
	for _, t := range list {
		e := entry{Name: t.Name, Address: t.Address, Answers: t.Answers, Problem: t.Problem}
		if t.Stands != nil {
			e.Deployment = t.Stands.Number
		}
		out = append(out, e)
	}
	return WriteJSON(p.Out, out)
}
