package site

import (
	"strings"

	"tartine/internal/manifest"
)

// Taking takes entries, some at a time. It must not keep them.
type Taking func(entries []manifest.Entry) error

// givenAtOnce is how many entries are given at a time.
const givenAtOnce = 4096

// giving gives entries of which there is no list to who takes them; where nobody does it folds them up.
type giving struct {
	take   Taking
	before func(entries []manifest.Entry) error // is called with those that are given next; nil: nothing is to be done

	some   []manifest.Entry // that were not given yet
	count  int
	folded *manifest.Folded // nil: somebody takes them
	err    error            // the first one
}

// add adds an entry, which need not last.
func (g *giving) add(e *manifest.Entry) {
	if g.some = append(g.some, lasting(e, strings.Clone(e.Path))); len(g.some) == givenAtOnce {
		g.flush()
	}
}

func (g *giving) flush() {
	if g.err == nil && g.before != nil {
		g.err = g.before(g.some)
	}
	switch {
	case g.err != nil:
	case g.take != nil:
		g.err = g.take(g.some)
	default:
		if g.folded == nil {
			g.folded = &manifest.Folded{}
		}
		g.folded.Add(g.some)
	}
	g.count += len(g.some)
	clear(g.some) // the texts of their paths go
	g.some = g.some[:0]
}

// end gives the rest of them, and how many there were in all.
func (g *giving) end() (count int, folded *manifest.Folded, err error) {
	g.flush()
	return g.count, g.folded, g.err
}
