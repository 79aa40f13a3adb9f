package content

import (
	"context"
	"encoding/binary"
	"slices"
	"sort"
	"strings"
	"sync"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// What a scan takes is folded up, folder by folder: an entry takes some fifty bytes so, and a list of all of them three times
// as many. Where a content has nothing about it that takes a list to see to, and its digests are known but for a few, it
// stays so until somebody asks for the list (see Tree.Entries): a site that is as it was does with it.

// piece is what is directly in a folder, of one source, sorted by name. Of each: how many bytes its name has in common with the
// one before (uvarint), the length of the rest (uvarint), the rest, and the facts as in manifest.Packed.
type piece struct {
	dir    string // of the tree
	source int32
	count  int32
	paths  int // bytes of all paths
	packed []byte
}

// packPieces folds up what a folder of a source holds, and the folder itself, which is in the one above it.
func packPieces(all []found) (out []piece) {
	own := packers.Get().(*packer)
	order, packed := own.order[:0], own.packed
	for i := range all {
		order = append(order, int32(i))
	}
	own.order = order
	if !slices.IsSortedFunc(all, func(a, b found) int { return strings.Compare(a.Path, b.Path) }) {
		slices.SortFunc(order, func(a, b int32) int { return strings.Compare(all[a].Path, all[b].Path) })
	}
	for len(order) > 0 {
		dir, before := "", ""
		p := piece{source: all[0].source}
		packed = packed[:0]
		for ; len(order) > 0; order = order[1:] {
			e := &all[order[0]].Entry
			within, name := fsys.Split(e.Path)
			if p.count == 0 {
				dir = within
			} else if within != dir {
				break
			}
			common := 0
			for common < min(len(before), len(name)) && before[common] == name[common] {
				common++
			}
			packed = binary.AppendUvarint(binary.AppendUvarint(packed, uint64(common)), uint64(len(name)-common))
			packed = manifest.AppendFacts(append(packed, name[common:]...), e)
			before, p.count, p.paths = name, p.count+1, p.paths+len(e.Path)
		}
		p.dir, p.packed = dir, slices.Clone(packed)
		out = append(out, p)
	}
	own.packed = packed
	packers.Put(own)
	return out
}

// packer is what packing a folder takes, and the next one can use again.
type packer struct {
	order  []int32
	packed []byte
}

var packers = sync.Pool{New: func() any { return &packer{} }}

// member is an entry and the source that brings it.
type member struct {
	manifest.Entry
	source int32
}

// unpack appends the entries of a piece. Their paths are parts of one text.
func (p *piece) unpack(out []member) []member {
	var (
		text   strings.Builder
		prefix = ""
		before string
		rest   = p.packed
		number = func() int {
			value, n := binary.Uvarint(rest)
			rest = rest[n:]
			return int(value)
		}
	)
	if p.dir != "." {
		prefix = p.dir + "/"
	}
	text.Grow(p.paths)
	for len(rest) > 0 {
		common, length := number(), number()
		begin := text.Len()
		text.WriteString(prefix)
		text.WriteString(before[:common])
		text.Write(rest[:length])
		out = append(out, member{source: p.source})
		e := &out[len(out)-1].Entry
		e.Path = text.String()[begin:]
		before = e.Path[len(prefix):]
		rest, _ = manifest.TakeFacts(rest[length:], e) // it is ours
	}
	return out
}

// folds is all that was taken, folded up.
type folds struct {
	pieces []piece // in the order of compareFolders, and of their sources
	count  int     // of entries, once they are counted
	// fresh is the entries whose digests were found out after they had been folded up, by path.
	fresh map[string]*manifest.Entry
	once  bool // what was walked is not needed any more
}

// compareFolders compares folders of a tree as the paths below them are.
func compareFolders(a, b string) int {
	switch {
	case a == b:
		return 0
	case a == ".":
		return -1
	case b == ".":
		return 1
	case len(a) > len(b):
		return -compareFolders(b, a)
	case isBefore(a, b):
		return -1
	}
	return 1
}

// isBefore tells whether what is below a folder comes before a path that is not below it, or one below that one.
func isBefore(dir, path string) bool {
	if n := len(dir); len(path) > n && path[:n] == dir {
		return '/' <= path[n]
	}
	return dir < path
}

// walk calls take with all entries in the order of their paths, and whether there is something below them, until it tells
// that that is enough; and collide, unless it is nil, with those that have one path, of which the last one counts.
func (f *folds) walk(collide func(same []member), take func(m *member, below bool) bool) {
	type folder struct {
		members []member
		at      int
	}
	var (
		open, spare []*folder // each of those that are open is in the one before
		next        = 0       // piece
	)
	for {
		var inner *folder
		if len(open) > 0 {
			inner = open[len(open)-1]
			if inner.at == len(inner.members) {
				open, spare = open[:len(open)-1], append(spare, inner)
				continue
			}
		}
		if next < len(f.pieces) && (inner == nil || isBefore(f.pieces[next].dir, inner.members[inner.at].Path)) {
			into := &folder{}
			if len(spare) > 0 {
				into, spare = spare[len(spare)-1], spare[:len(spare)-1]
				into.members, into.at = into.members[:0], 0
			}
			first := next
			for ; next < len(f.pieces) && f.pieces[next].dir == f.pieces[first].dir; next++ {
				into.members = f.pieces[next].unpack(into.members)
				if f.once {
					f.pieces[next].packed = nil
				}
			}
			if next > first+1 {
				slices.SortStableFunc(into.members, func(a, b member) int { return strings.Compare(a.Path, b.Path) })
			}
			open = append(open, into)
			continue
		}
		if inner == nil {
			return
		}
		first := inner.at
		for inner.at++; inner.at < len(inner.members) && inner.members[inner.at].Path == inner.members[first].Path; inner.at++ {
		}
		if collide != nil && inner.at > first+1 {
			collide(inner.members[first:inner.at])
		}
		m := &inner.members[inner.at-1]
		if !take(m, f.isBelow(next, m.Path)) {
			return
		}
	}
}

// isBelow tells whether one of the pieces from one on is below a path.
func (f *folds) isBelow(from int, path string) bool {
	below := func(dir string) bool {
		return strings.HasPrefix(dir, path) && (len(dir) == len(path) || dir[len(path)] == '/')
	}
	if from == len(f.pieces) || !strings.HasPrefix(f.pieces[from].dir, path) { // as that of "a-b" may come before that of "a"
		return false
	}
	rest := f.pieces[from:]
	at := sort.Search(len(rest), func(i int) bool { return compareFolders(rest[i].dir, path) >= 0 })
	return below(rest[0].dir) || at < len(rest) && below(rest[at].dir)
}

// isImplied tells whether a folder needs no entry: it follows from what is below it, or nothing of it was taken.
func isImplied(e *manifest.Entry, below bool) bool {
	return e.Kind == manifest.Dir && (below && e.Plain() || !below && e.Size < 0)
}

// each calls visit with the entries of a tree that is in shape, until it tells that that is enough.
func (f *folds) each(visit func(e *manifest.Entry, source int32) bool) {
	f.walk(nil, func(m *member, below bool) bool {
		e := &m.Entry
		switch fresh := f.fresh[e.Path]; {
		case isImplied(e, below):
			return true
		case fresh != nil:
			e = fresh
		case e.Kind == manifest.Dir:
			e.Size = 0
		}
		return visit(e, m.source)
	})
}

// unfold gives the list of all entries of a tree that is in shape, and their sources; nothing is left of the folds then.
func (f *folds) unfold() (entries []manifest.Entry, from []int32) {
	entries, from, f.once = make([]manifest.Entry, 0, f.count), make([]int32, 0, f.count), true
	f.each(func(e *manifest.Entry, source int32) bool {
		entries, from = append(entries, *e), append(from, source)
		return true
	})
	return entries, from
}

// find gives the source of what is at a path.
func (f *folds) find(path string) (source int32, found bool) {
	dir, _ := fsys.Split(path)
	at := sort.Search(len(f.pieces), func(i int) bool { return compareFolders(f.pieces[i].dir, dir) >= 0 })
	for ; at < len(f.pieces) && f.pieces[at].dir == dir; at++ {
		for _, m := range f.pieces[at].unpack(nil) {
			if m.Path == path {
				source, found = m.source, true // the later one counts
			}
		}
	}
	return source, found
}

// mostLookups is how often a folded tree is asked for single paths. Who asks more often is better off with the list.
const mostLookups = 64

// Entries gives all entries, sorted by path.
func (t *Tree) Entries() []manifest.Entry {
	t.folding.Lock()
	defer t.folding.Unlock()
	if t.folds != nil {
		t.entries, t.from = t.folds.unfold()
		t.folds = nil
	}
	return t.entries
}

func (t *Tree) isFolded() bool {
	t.folding.Lock()
	defer t.folding.Unlock()
	return t.folds != nil
}

func (t *Tree) count() int {
	t.folding.Lock()
	defer t.folding.Unlock()
	if t.folds != nil {
		return t.folds.count
	}
	return len(t.entries)
}

func (t *Tree) each(visit func(e *manifest.Entry) bool) {
	t.folding.Lock()
	defer t.folding.Unlock()
	if t.folds != nil {
		t.folds.each(func(e *manifest.Entry, _ int32) bool { return visit(e) })
		return
	}
	for i := range t.entries {
		if !visit(&t.entries[i]) {
			return
		}
	}
}

// feeding gives the source that feeds a path.
func (t *Tree) feeding(path string) (source int32, found bool) {
	t.folding.Lock()
	if t.lookups++; t.folds != nil && t.lookups <= mostLookups {
		defer t.folding.Unlock()
		return t.folds.find(path)
	}
	t.folding.Unlock()
	at, found := t.Find(path)
	if found {
		source = t.from[at]
	}
	return source, found
}

// unfold puts what was taken into a list, in which the later source wins where several bring a path.
func (g *gathering) unfold() {
	f, count := g.sorted(), 0
	for i := range f.pieces {
		count += int(f.pieces[i].count)
	}
	g.entries, g.from, f.once = make([]manifest.Entry, 0, count), make([]int32, 0, count), true
	f.walk(g.noteCollision, func(m *member, _ bool) bool {
		g.entries, g.from = append(g.entries, m.Entry), append(g.from, m.source)
		return true
	})
	g.pieces = nil
}

func (g *gathering) sorted() *folds {
	slices.SortStableFunc(g.pieces, func(a, b piece) int {
		if order := compareFolders(a.dir, b.dir); order != 0 {
			return order
		}
		return int(a.source - b.source)
	})
	return &folds{pieces: g.pieces}
}

// noteCollision notes that several sources bring one path, the last of them its winner. Folders merge and do not count.
func (g *gathering) noteCollision(same []member) {
	winner := &same[len(same)-1]
	c := Collision{Path: winner.Path, Winner: int(winner.source)}
	for i := range same[:len(same)-1] {
		if same[i].Kind != manifest.Dir || winner.Kind != manifest.Dir {
			c.Shadows = append(c.Shadows, int(same[i].source))
		}
	}
	if c.Shadows != nil {
		g.Collisions = append(g.Collisions, c)
	}
}

// fold leaves what was taken folded up, where that can be, with all that Scan has to tell of it. Else it is as if it had not
// been called, but for what is in the cache.
func (g *gathering) fold(ctx context.Context) (folded bool, err error) {
	onDisk := !slices.ContainsFunc(g.Sources, func(s Source) bool { return s.Files != nil })
	if g.opt.Fold == 0 || g.opt.memory != nil || len(g.opt.Attributes)+len(g.suspects) > 0 || !onDisk {
		return false, nil
	}
	var (
		f      = g.sorted()
		unread []reading
		links  = map[string]string{}
		lands  = make([]Landing, len(g.Landings))
		plain  = true
	)
	f.walk(g.noteCollision, func(m *member, below bool) bool {
		e := &m.Entry
		switch {
		case isImplied(e, below):
			return true
		case below && e.Kind != manifest.Dir:
			plain = false
		case e.Kind == manifest.Link:
			links[e.Path] = e.Link
		case e.Kind == manifest.File:
			lands[m.source].Files++
			lands[m.source].Bytes += e.Size
			if e.Digest.IsZero() {
				own := *e
				unread = append(unread, reading{entry: &own, source: m.source})
				plain = len(unread) <= stretchFiles && (g.opt.Later == 0 || e.Size < g.opt.Later)
			}
		}
		f.count++
		return plain
	})
	for path := range links {
		plain = plain && !manifest.LeadsOut(path, manifest.LinksOf(links))
	}
	if plain = plain && f.count >= g.opt.Fold; plain {
		plain, err = g.refresh(ctx, f, unread, lands)
	}
	if !plain || err != nil {
		g.Collisions = nil
		return false, err
	}
	for i := range lands {
		g.Landings[i].Files, g.Landings[i].Bytes = lands[i].Files, lands[i].Bytes
	}
	g.saveCaches()
	g.sortFindings()
	g.folds, g.pieces = f, nil
	return true, nil
}

// refresh finds out the digests that are missing, and tells whether that was all there was to it.
func (g *gathering) refresh(ctx context.Context, f *folds, unread []reading, lands []Landing) (plain bool, err error) {
	sizes := make([]int64, len(unread))
	for i := range unread {
		sizes[i] = unread[i].entry.Size
	}
	if err := g.readAll(ctx, unread, *g.opt); err != nil {
		return false, err
	}
	plain, f.fresh = true, make(map[string]*manifest.Entry, len(unread))
	for i := range unread {
		r := &unread[i]
		g.learn(r)
		if plain = plain && r.err == nil && !g.suspicious(r.entry.Path, r.source, r.verdict); !plain {
			continue
		}
		f.fresh[r.entry.Path] = r.entry
		lands[r.source].Bytes += r.entry.Size - sizes[i]
	}
	return plain, nil
}
