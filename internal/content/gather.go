package content

import (
	"slices"
	"strings"
	"sync"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// found is a path that a walk took, with the facts by which a cached digest is believed.
type found struct {
	manifest.Entry
	id     identity
	source int32
}

// gathering puts a tree together of what folders hold, while they are read: the digests that a cache knows are looked up
// folder by folder. A file whose digest no cache knows has none until all is put together.
type gathering struct {
	*Tree
	opt    *Options
	caches []*digests

	mu       sync.Mutex
	pieces   [][]manifest.Entry // what was taken, in any order: each but the last has as many as the first
	suspects []suspect
}

// suspect is a file whose content, which is known, the guard has something to say of.
type suspect struct {
	path    string
	source  int32
	verdict verdict
}

// take takes what a folder of a source holds. It may be called by several goroutines at once.
func (g *gathering) take(all []found) {
	if len(all) == 0 {
		return
	}
	var (
		source   = &g.Sources[all[0].source]
		cache    folderLookup // of the folder that the files are in
		suspects []suspect
		hits     int
	)
	for i := range all {
		f := &all[i]
		if f.Kind != manifest.File {
			continue
		}
		digest, v, ok := source.known(f.Path)
		if !ok {
			dir, name := fsys.Split(source.relative(f.Path))
			if cache.digests == nil {
				cache = g.caches[f.source].beside(dir)
			}
			var hit cached
			if hit, ok = cache.lookup(name, f.id); ok {
				hits++
				digest, v = hit.digest, hit.verdict
			}
		}
		if f.Digest = digest; v != harmless {
			suspects = append(suspects, suspect{f.Path, f.source, v})
		}
	}
	cache.leave()
	g.mu.Lock()
	defer g.mu.Unlock()
	for i := range all {
		g.add(&all[i])
	}
	g.CacheHits += hits
	g.suspects = append(g.suspects, suspects...)
}

// leastPiece is how many entries there is room for at least.
const leastPiece = 4096

func (g *gathering) add(f *found) {
	last := len(g.pieces) - 1
	if last < 0 || len(g.pieces[last]) == cap(g.pieces[0]) {
		g.pieces, last = append(g.pieces, make([]manifest.Entry, 0, g.piece())), last+1
	}
	g.pieces[last], g.from = append(g.pieces[last], f.Entry), append(g.from, f.source)
}

// piece gives how many entries a piece has: as many as the caches know files, so that one is enough where a content is
// what it was.
func (g *gathering) piece() int {
	if len(g.pieces) > 0 {
		return cap(g.pieces[0])
	}
	files := 0
	for _, cache := range g.caches {
		files += cache.files()
	}
	return max(files+files/64, leastPiece)
}

// merge sorts what all sources brought and lets the later source win where they meet.
func (g *gathering) merge() {
	path := func(i int32) string { return g.pieces[int(i)/g.piece()][int(i)%g.piece()].Path }
	order := make([]int32, len(g.from))
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortFunc(order, func(a, b int32) int {
		if c := strings.Compare(path(a), path(b)); c != 0 {
			return c
		}
		return int(g.from[a] - g.from[b])
	})
	if t := g.Tree; len(g.pieces) == 1 {
		t.Entries = g.pieces[0]
		t.arrange(order)
	} else {
		t.Entries = make([]manifest.Entry, len(order))
		from := make([]int32, len(order))
		for to, i := range order {
			t.Entries[to], from[to] = g.pieces[int(i)/g.piece()][int(i)%g.piece()], g.from[i]
		}
		t.from = from
	}
	g.pieces = nil
	g.settle()
}

// settle lets the later source win where several bring a path.
func (t *Tree) settle() {
	kept := 0
	for i := 0; i < len(t.Entries); {
		end := i + 1
		for end < len(t.Entries) && t.Entries[end].Path == t.Entries[i].Path {
			end++
		}
		if end > i+1 {
			t.noteCollision(i, end)
		}
		t.Entries[kept], t.from[kept] = t.Entries[end-1], t.from[end-1]
		kept, i = kept+1, end
	}
	clear(t.Entries[kept:])
	t.Entries, t.from = t.Entries[:kept], t.from[:kept]
}

// arrange puts the entries in an order, of which each place names the one that it gets. It goes round in circles, so that
// there is no second list of them.
func (t *Tree) arrange(order []int32) {
	const done = -1
	for first := range order {
		if order[first] == done {
			continue
		}
		entry, from := t.Entries[first], t.from[first]
		for at := first; ; {
			next := int(order[at])
			order[at] = done
			if next == first {
				t.Entries[at], t.from[at] = entry, from
				break
			}
			t.Entries[at], t.from[at] = t.Entries[next], t.from[next]
			at = next
		}
	}
}

// noteCollision notes that several sources bring one path, the last of them its winner. Folders merge and do not count.
func (t *Tree) noteCollision(first, end int) {
	winner := end - 1
	c := Collision{Path: t.Entries[winner].Path, Winner: int(t.from[winner])}
	for i := first; i < winner; i++ {
		if t.Entries[i].Kind != manifest.Dir || t.Entries[winner].Kind != manifest.Dir {
			c.Shadows = append(c.Shadows, int(t.from[i]))
		}
	}
	if c.Shadows != nil {
		t.Collisions = append(t.Collisions, c)
	}
}

// unread gives files of the tree that have no digest, from an entry on and in the order of their paths: those that are to be
// read, and those whose digests stay open; no more than some thousands in all. Next is the entry to go on with.
func (g *gathering) unread(from int) (unread, unopened []reading, next int) {
	for next = from; next < len(g.Entries) && len(unread)+len(unopened) < stretchFiles; next++ {
		e := &g.Entries[next]
		if e.Kind != manifest.File || !e.Digest.IsZero() {
			continue
		}
		r := reading{entry: e, source: g.from[next]}
		if g.opt.Later > 0 && e.Size >= g.opt.Later && g.Sources[r.source].Files == nil {
			unopened = append(unopened, r)
		} else {
			unread = append(unread, r)
		}
	}
	return unread, unopened, next
}

// stretchFiles is how many files are read before what was found out is put away.
const stretchFiles = 8192
