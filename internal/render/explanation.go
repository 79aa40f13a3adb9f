package render

import (
	"fmt"

	"tartine/internal/content"
)

// Explanation says in two lines what becomes of a path.
func (p *Printer) Explanation(e *content.Explanation, sources []content.Source) {
	p.printf("%s\n", Name(e.Local))
	because := "no include or exclude speaks of it"
	if r := e.Decision.Rule; r != nil {
		because = fmt.Sprintf("%q matches it (%s)", r.Pattern, r.Place)
		if e.Decision.At != e.Relative {
			because = fmt.Sprintf("%q matches %s (%s)", r.Pattern, Name(e.Decision.At), r.Place)
		}
	}
	switch {
	case !e.Decision.Taken && e.Decision.Rule == nil:
		p.printf("%-8s  no include matches it\n", "out")
	case !e.Decision.Taken:
		p.printf("%-8s  %s\n", "out", because)
	case !e.Taken:
		p.printf("%-8s  %s\n", "out", e.Reason)
	case e.ShadowedBy >= 0:
		p.printf("%-8s  %s\n", "in", because)
		p.printf("%-8s  the later source %s brings the same path, %s\n", "shadowed", sources[e.ShadowedBy].Path,
			Name(e.Path))
	default:
		p.printf("%-8s  %s\n", "in", because)
		if e.Guarded {
			p.printf("%-8s  a deployment stops here: it looks like a secret or does not belong on a server (%s)\n",
				"guard", e.Reason)
		}
		p.printf("%-8s  at %s\n", "lands", Name(e.Path))
	}
	p.printf("\n")
}

// Explained is one explanation in JSON output.
type Explained struct {
	Path     string `json:"path"` // as asked
	Local    string `json:"local"`
	Lands    string `json:"lands,omitempty"`
	Taken    bool   `json:"taken"`
	Rule     string `json:"rule,omitempty"`
	Place    string `json:"place,omitempty"`
	Matched  string `json:"matched,omitempty"` // the path that the rule matched
	Reason   string `json:"reason,omitempty"`
	Shadowed string `json:"shadowed_by,omitempty"`
}

// Explain gives the JSON form of the explanation of a path that was asked about.
func Explain(asked string, e *content.Explanation, sources []content.Source) Explained {
	out := Explained{Path: asked, Local: e.Local, Taken: e.Taken && e.ShadowedBy < 0, Reason: e.Reason,
		Matched: e.Decision.At}
	if e.Taken {
		out.Lands = e.Path
	}
	if r := e.Decision.Rule; r != nil {
		out.Rule, out.Place = r.Pattern, r.Place
	}
	if e.ShadowedBy >= 0 {
		out.Shadowed = sources[e.ShadowedBy].Path
	}
	return out
}

// ExplanationsJSON writes explanations as an array.
func (p *Printer) ExplanationsJSON(all []Explained) error { return WriteJSON(p.Out, all) }
