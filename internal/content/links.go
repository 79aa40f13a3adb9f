package content

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"tartine/internal/manifest"
)

// maxLinks is how many links in a row are followed before they count as a circle, as in Linux's path resolution.
const maxLinks = 40

func compare(a, b string) int { return strings.Compare(a, b) }

// checkLinks moves the links that lead out of the tree to Refused. A link is followed through other links of the
// tree, since "a/.." is not the folder above a when a is itself a link. One that leads nowhere inside the tree, or in
// a circle, may stay: it shows nothing that is not in the tree.
func (t *Tree) checkLinks() {
	links := map[string]string{}
	for i := range t.Entries {
		if t.Entries[i].Kind == manifest.Link {
			links[t.Entries[i].Path] = t.Entries[i].Link
		}
	}
	if len(links) == 0 {
		return
	}
	kept := 0
	for i, e := range t.Entries {
		if e.Kind == manifest.Link {
			if leadsOut(links, e.Path) {
				t.Refused = append(t.Refused, Failure{e.Path, t.Local(i), fmt.Errorf("%w: it says %q", ErrLeadsOut, e.Link)})
				continue
			}
		}
		t.Entries[kept], t.from[kept] = e, t.from[i]
		kept++
	}
	t.Entries, t.from = t.Entries[:kept], t.from[:kept]
	slices.SortFunc(t.Refused, func(a, b Failure) int { return compare(a.Path, b.Path) })
}

// leadsOut follows a link step by step.
func leadsOut(links map[string]string, link string) bool {
	at := "."
	todo := strings.Split(link, "/")
	for followed := 0; len(todo) > 0; {
		element := todo[0]
		todo = todo[1:]
		switch element {
		case "", ".":
			continue
		case "..":
			if at == "." {
				return true
			}
			at = path.Dir(at)
			continue
		}
		at = path.Join(at, element)
		if target, ok := links[at]; ok {
			if followed++; followed > maxLinks {
				return false
			}
			if strings.HasPrefix(target, "/") || isDriveLetter(target) {
				return true
			}
			at = path.Dir(at)
			todo = append(strings.Split(target, "/"), todo...)
		}
	}
	return false
}

func isDriveLetter(target string) bool { return len(target) > 1 && target[1] == ':' }
