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
// as many. Digests are found out folder by folder, too. Where a content has nothing about it that takes a list to see to, it stays
// so until somebody asks for the list (see Tree.Entries): a site that is as it was, or that is new, does without.

// piece is what is directly in a folder, of one source, sorted by name. Of each: how many bytes its name has in common with the
// one before (uvarint), the length of the rest (uvarint), the rest, and the facts as in manifest.Packed.
type piece struct {
	dir    string // of the tree
	source int32
	count  int32
	unread int32 // files without a digest
	paths  int   // bytes of all paths
	packed []byte
}

// packPieces folds up what a folder of a source holds, and the folder itself, which is in the one above it.
func packPieces(all []found) []piece {
	return pack(len(all), all[0].source, func(i int) *manifest.Entry { return &all[i].Entry })
}

// pack folds up entries of one source.
func pack(count int, source int32, at func(i int) *manifest.Entry) (out []piece) {
	own := packers.Get().(*packer)
	order, packed := own.order[:0], own.packed
	sorted := true
	for i := range count {
		order = append(order, int32(i))
		sorted = sorted && (i == 0 || at(i-1).Path <= at(i).Path)
	}
	own.order = order
	if !sorted {
		slices.SortFunc(order, func(a, b int32) int { return strings.Compare(at(int(a)).Path, at(int(b)).Path) })
	}
	for len(order) > 0 {
		dir, before := "", ""
		p := piece{source: source}
		packed = packed[:0]
		for ; len(order) > 0; order = order[1:] {
			e := at(int(order[0]))
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
			if e.Kind == manifest.File && e.Digest.IsZero() {
				p.unread++
			}
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

// failed is in the place of the source where a file could not be read.
const failed = -1

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
// that that is enough. No path occurs twice (see settle).
func (f *folds) walk(take func(m *member, below bool) bool) {
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
		m := &inner.members[inner.at]
		inner.at++
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
	f.walk(func(m *member, below bool) bool {
		switch e := &m.Entry; {
		case isImplied(e, below):
			return true
		case e.Kind == manifest.Dir:
			e.Size = 0
		}
		return visit(&m.Entry, m.source)
	})
}

// unfold gives the list of all entries of a tree that is in shape, and their sources.
func (f *folds) unfold() (entries []manifest.Entry, from []int32) {
	entries, from = make([]manifest.Entry, 0, f.count), make([]int32, 0, f.count)
	f.each(func(e *manifest.Entry, source int32) bool {
		entries, from = append(entries, *e), append(from, source)
		return true
	})
	return entries, from
}

// openFolder is the paths of what is in a folder, sorted, and the source of each.
type openFolder struct {
	dir     string
	paths   []string
	sources []int32
}

// open gives what is in a folder.
func (f *folds) open(dir string) *openFolder {
	at := sort.Search(len(f.pieces), func(i int) bool { return compareFolders(f.pieces[i].dir, dir) >= 0 })
	var members []member
	for ; at < len(f.pieces) && f.pieces[at].dir == dir; at++ {
		members = f.pieces[at].unpack(members)
	}
	slices.SortFunc(members, func(a, b member) int { return strings.Compare(a.Path, b.Path) })
	out := &openFolder{dir: dir}
	for i := range members {
		out.paths, out.sources = append(out.paths, members[i].Path), append(out.sources, members[i].source)
	}
	return out
}

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
	f, entries := t.folds, t.entries
	t.folding.Unlock()
	if f != nil {
		f.each(func(e *manifest.Entry, _ int32) bool { return visit(e) })
		return
	}
	for i := range entries {
		if !visit(&entries[i]) {
			return
		}
	}
}

// mostOpen is how many folders are kept unfolded: files are opened in the order of their paths, or nearly so.
const mostOpen = 4

// feeding gives the source that feeds a path.
func (t *Tree) feeding(path string) (source int32, found bool) {
	t.folding.Lock()
	defer t.folding.Unlock()
	if t.folds == nil {
		at, found := manifest.Find(t.entries, path)
		if found {
			source = t.from[at]
		}
		return source, found
	}
	dir, _ := fsys.Split(path)
	at := slices.IndexFunc(t.recent, func(f *openFolder) bool { return f.dir == dir })
	if at < 0 {
		if len(t.recent) == mostOpen {
			t.recent = slices.Delete(t.recent, 0, 1)
		}
		t.recent, at = append(t.recent, t.folds.open(dir)), len(t.recent)
	}
	in := t.recent[at]
	i, found := slices.BinarySearch(in.paths, path)
	if found {
		source = in.sources[i]
	}
	return source, found
}

// mostWaiting is how many entries are unfolded at once while digests are found out, but for those of one folder.
const mostWaiting = 4 * stretchFiles

// settle puts what was taken into order: the later source wins where several bring a path, and digests that no cache knows are
// found out. Files that could not be read are named, and are not part of it.
func (g *gathering) settle(ctx context.Context) (*folds, error) {
	sortPieces(g.pieces)
	var (
		out            []piece
		waiting        [][]member // folders
		unread, unfold int        // files and entries of those
		finish         = func() error {
			err := g.digest(ctx, waiting)
			for _, members := range waiting {
				out = appendPieces(out, members)
			}
			waiting, unread, unfold = nil, 0, 0
			return err
		}
	)
	for all := g.pieces; len(all) > 0; {
		same, missing := 0, 0
		for ; same < len(all) && all[same].dir == all[0].dir; same++ {
			missing += int(all[same].unread)
		}
		if same == 1 && missing == 0 {
			out, all = append(out, all[0]), all[1:]
			continue
		}
		var members []member
		for i := range all[:same] {
			members, all[i].packed = all[i].unpack(members), nil
		}
		if same > 1 {
			slices.SortStableFunc(members, func(a, b member) int { return strings.Compare(a.Path, b.Path) })
			members = g.winners(members)
		}
		all = all[same:]
		waiting, unread, unfold = append(waiting, members), unread+missing, unfold+len(members)
		if unread >= stretchFiles || unfold >= mostWaiting {
			if err := finish(); err != nil {
				return nil, err
			}
		}
	}
	if err := finish(); err != nil {
		return nil, err
	}
	g.pieces = nil
	sortPieces(out)
	return &folds{pieces: out}, nil
}

func sortPieces(pieces []piece) {
	slices.SortStableFunc(pieces, func(a, b piece) int {
		if order := compareFolders(a.dir, b.dir); order != 0 {
			return order
		}
		return int(a.source - b.source)
	})
}

// appendPieces folds up what is in a folder, a piece for each source.
func appendPieces(out []piece, members []member) []piece {
	for len(members) > 0 {
		var own, others []int
		for i := range members {
			switch members[i].source {
			case failed:
			case members[0].source:
				own = append(own, i)
			default:
				others = append(others, i)
			}
		}
		if len(own) > 0 {
			out = append(out, pack(len(own), members[0].source, func(i int) *manifest.Entry { return &members[own[i]].Entry })...)
		}
		rest := make([]member, len(others))
		for i, at := range others {
			rest[i] = members[at]
		}
		members = rest
	}
	return out
}

// winners gives the members that count where several have one path: the last of them.
func (g *gathering) winners(members []member) []member {
	kept := members[:0]
	for first := 0; first < len(members); {
		end := first + 1
		for end < len(members) && members[end].Path == members[first].Path {
			end++
		}
		if end > first+1 {
			g.noteCollision(members[first:end])
		}
		kept, first = append(kept, members[end-1]), end
	}
	return kept
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

// list gives all that was taken, in the order of paths, and the source of each.
func (f *folds) list() (entries []manifest.Entry, from []int32) {
	count := 0
	for i := range f.pieces {
		count += int(f.pieces[i].count)
	}
	entries, from = make([]manifest.Entry, 0, count), make([]int32, 0, count)
	f.walk(func(m *member, _ bool) bool {
		entries, from = append(entries, m.Entry), append(from, m.source)
		return true
	})
	return entries, from
}

// leave leaves what was taken folded up, where that can be, with all that Scan has to tell of it.
func (g *gathering) leave(f *folds) bool {
	onDisk := !slices.ContainsFunc(g.Sources, func(s Source) bool { return s.Files != nil })
	if g.opt.Fold == 0 || g.opt.memory != nil || len(g.opt.Attributes)+len(g.suspects) > 0 || !onDisk {
		return false
	}
	var (
		links = map[string]string{}
		lands = make([]Landing, len(g.Landings))
		plain = true
	)
	f.walk(func(m *member, below bool) bool {
		e := &m.Entry
		switch {
		case isImplied(e, below):
			return true
		case below && e.Kind != manifest.Dir, e.Kind == manifest.File && e.Digest.IsZero():
			plain = false
		case e.Kind == manifest.Link:
			links[e.Path] = e.Link
		case e.Kind == manifest.File:
			lands[m.source].Files++
			lands[m.source].Bytes += e.Size
		}
		f.count++
		return plain
	})
	for path := range links {
		plain = plain && !manifest.LeadsOut(path, manifest.LinksOf(links))
	}
	if !plain || f.count < g.opt.Fold {
		return false
	}
	for i := range lands {
		g.Landings[i].Files, g.Landings[i].Bytes = lands[i].Files, lands[i].Bytes
	}
	g.folds = f
	return true
}
