package content

import (
	"fmt"
	"strings"

	"tartine/internal/manifest"
)

func compare(a, b string) int { return strings.Compare(a, b) }

// checkLinks moves the links that lead out of the tree to Refused. A link is followed through other links of the
// tree, since "a/.." is not the folder above a when a is itself a link. One that leads nowhere inside the tree, or in
// a circle, may stay: it shows nothing that is not in the tree.
func (t *Tree) checkLinks() {
	links := map[string]string{}
	for i := range t.entries {
		if t.entries[i].Kind == manifest.Link {
			links[t.entries[i].Path] = t.entries[i].Link
		}
	}
	if len(links) == 0 {
		return
	}
	kept := 0
	for i, e := range t.entries {
		if e.Kind == manifest.Link {
			if manifest.LeadsOut(e.Path, manifest.LinksOf(links)) {
				t.refuse(e.Path, t.from[i], e.Link)
				continue
			}
		}
		t.entries[kept], t.from[kept] = e, t.from[i]
		kept++
	}
	t.entries, t.from = t.entries[:kept], t.from[:kept]
}

// refuse notes that a link leads out of the tree.
func (t *Tree) refuse(path string, source int32, to string) {
	t.Refused = append(t.Refused, Failure{path, t.Sources[source].local(path), fmt.Errorf("%w: it says %q", ErrLeadsOut, to)})
}
