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
		p.printf("%-8s  the later source %s brings the same path, %s\n", "shadowed", sources[e.ShadowedBy].Path, Name(e.Path))
	default:
		p.printf("%-8s  %s\n", "in", because)
		if e.Guarded {
			p.printf("%-8s  a deployment stops here: it looks like a secret or does not belong on a server (%s)\n", "guard", e.Reason)
		}
		p.printf("%-8s  at %s\n", "lands", Name(e.Path))
	}
	p.printf("\n")
}
