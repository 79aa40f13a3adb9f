package site

import (
	"context"
	"iter"
	"sort"
	"strings"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// Where parts differ that hold much, they are not looked at as a whole: what is wanted and what is recorded of them is gone through
// side by side, and what is the same at both is left out. So what is held follows from what changes, also where that is a file in each
// folder. It takes one more walk through the record, which is why a few parts are looked at as they are.

// muchParts is parts of a site, those of a folder one behind the other, of which many differ.
type muchParts struct {
	parts []Part
	first map[string]int // the first one of each folder
}

// holds gives the part that a path is in, by index; -1: none.
func (m *muchParts) holds(path string) int {
	dir, name := fsys.Split(path)
	first, known := m.first[dir]
	if !known {
		return -1
	}
	rest := m.parts[first:]
	at := sort.Search(len(rest), func(i int) bool { return rest[i].Dir != dir || rest[i].From > name }) - 1
	if at < 0 || rest[at].Until != "" && name >= rest[at].Until {
		return -1
	}
	return first + at
}

// IsMuch tells that what differs is to be narrowed before it is compared.
func (d *Different) IsMuch() bool { return d.much != nil }

// Narrow leaves of the parts that differ what differs in them. Wanted gives the entries that are wanted in those parts, sorted by path.
// It gives those of them that are to be compared, and their indexes.
func (s *Site) Narrow(ctx context.Context, d *Different, want *Wanted, wanted manifest.Walk) (some []manifest.Entry, left Runs, err error) {
	var (
		b       = d.survey.brief
		young   = b.youngOnes()
		stays   = b.staying(want, young)
		differs = make([]bool, len(d.much.parts))
	)
	for _, i := range d.Parts {
		differs[i] = true
	}
	h, shelf, err := s.openRecord(ctx, d.survey.Number)
	defer shelf.close()
	if err != nil {
		return nil, nil, err
	}
	next, stop := iter.Pull(iter.Seq[*manifest.Entry](wanted))
	defer stop()
	var (
		w, more = next()
		at      = 0
		pass    = func() {
			w, more = next()
			at++
		}
		take = func() {
			some = append(some, lasting(w, strings.Clone(w.Path)))
			left.Add(at)
			pass()
		}
	)
	err = blocks.Walk(blocks.Ref{Name: h.Top, Entries: h.Count}, shelf.block, func(was *manifest.Entry) bool {
		for more && w.Path < was.Path {
			take()
		}
		switch isWanted := more && w.Path == was.Path; {
		case isWanted && w.Equal(*was) && w.Hand == was.Hand && !young[was.Path] && !b.isOdd(was.Path):
			pass()
		case isWanted:
			take()
			d.recorded = append(d.recorded, lasting(was, some[len(some)-1].Path))
		default:
			in := d.much.holds(was.Path)
			if in >= 0 && differs[in] || in < 0 && (stays == nil || !stays(was.Path, was.Kind)) {
				d.recorded = append(d.recorded, lasting(was, strings.Clone(was.Path)))
			}
		}
		return ctx.Err() == nil
	})
	for more && err == nil {
		take()
	}
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		d.recorded = nil
		return nil, nil, err
	}
	d.much = nil
	return some, left, nil
}

// lasting gives an entry that can be kept, of one whose texts are parts of longer ones.
func lasting(e *manifest.Entry, path string) manifest.Entry {
	own := *e
	own.Path, own.Link = path, strings.Clone(e.Link)
	return own
}
