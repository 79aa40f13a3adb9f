package content

import (
	"slices"
	"sort"
	"strings"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// What a scan takes is folded up, folder by folder: an entry takes some fifty bytes so, and a list of all of them three times
// as many. Digests are found out folder by folder, too. A large content stays so until somebody asks for the list (see Tree.Entries):
// a site that is as it was, or that is new, does without.

// folds is all that was taken, folded up.
type folds struct {
	pieces []piece                    // in the order of compareFolders, and of their sources
	aside  *aside                     // where those are that are not in memory
	count  int                        // of entries, once they are counted
	out    map[string]bool            // what was taken, and is no part of it after all
	found  map[string]*manifest.Entry // files whose digests were found out late
}

// leaveOut leaves out what was taken. What is above it is as it was.
func (f *folds) leaveOut(path string) {
	if f.out == nil {
		f.out = map[string]bool{}
	}
	f.out[path] = true
	f.count--
}

// resolve says what is in a file whose digest was open, or that it could not be read.
func (f *folds) resolve(e *manifest.Entry, failed bool) {
	if failed {
		f.leaveOut(e.Path)
		return
	}
	if f.found == nil {
		f.found = map[string]*manifest.Entry{}
	}
	f.found[e.Path] = e
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
func (f *folds) walk(take func(m *member, below bool) bool) { f.walkIn(nil, take) }

// walkIn is walk for what is directly in some folders; nil: in all.
func (f *folds) walkIn(in func(dir string) bool, take func(m *member, below bool) bool) {
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
			if in != nil && !in(f.pieces[next].dir) {
				next++
				continue
			}
			into := &folder{}
			if len(spare) > 0 {
				into, spare = spare[len(spare)-1], spare[:len(spare)-1]
				into.members, into.at = into.members[:0], 0
			}
			first := next
			for ; next < len(f.pieces) && f.pieces[next].dir == f.pieces[first].dir; next++ {
				into.members = f.pieces[next].unpack(into.members, f.aside)
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
	if from == len(f.pieces) || !strings.HasPrefix(f.pieces[from].dir, path) { // as that of "a-b" may come before that of "a"
		return false
	}
	rest := f.pieces[from:]
	at := sort.Search(len(rest), func(i int) bool { return compareFolders(rest[i].dir, path) >= 0 })
	return fsys.Contains(path, rest[0].dir) || at < len(rest) && fsys.Contains(path, rest[at].dir)
}

// among tells whether a folder is one of some; nil where those are.
func among(dirs map[string]bool) func(dir string) bool {
	if dirs == nil {
		return nil
	}
	return func(dir string) bool { return dirs[dir] }
}

// isImplied tells whether a folder needs no entry: it follows from what is below it, or nothing of it was taken.
func isImplied(e *manifest.Entry, below bool) bool {
	return e.Kind == manifest.Dir && (below && e.Plain() || !below && e.Size < 0)
}

// each calls visit with the entries of a tree that is in shape, until it tells that that is enough.
func (f *folds) each(visit func(e *manifest.Entry, source int32) bool) { f.eachIn(nil, visit) }

// eachIn is each for what is directly in some folders; nil: in all.
func (f *folds) eachIn(in func(dir string) bool, visit func(e *manifest.Entry, source int32) bool) {
	f.walkIn(in, func(m *member, below bool) bool {
		switch e := &m.Entry; {
		case isImplied(e, below), len(f.out) > 0 && f.out[e.Path]:
			return true
		case e.Kind == manifest.Dir:
			e.Size = 0
		case len(f.found) > 0 && f.found[e.Path] != nil:
			is := f.found[e.Path]
			e.Digest, e.Size, e.ModTime = is.Digest, is.Size, is.ModTime
		}
		return visit(&m.Entry, m.source)
	})
}

// unfold gives the list of all entries of a tree that is in shape, and their sources.
func (f *folds) unfold() (entries []manifest.Entry, from []int32) {
	return gathered(f.count, f.each)
}

// list gives all that was taken, in the order of paths, and the source of each.
func (f *folds) list() (entries []manifest.Entry, from []int32) {
	count := 0
	for i := range f.pieces {
		count += int(f.pieces[i].count)
	}
	return gathered(count, func(visit func(e *manifest.Entry, source int32) bool) {
		f.walk(func(m *member, _ bool) bool { return visit(&m.Entry, m.source) })
	})
}

func gathered(count int, each func(visit func(e *manifest.Entry, source int32) bool)) (entries []manifest.Entry, from []int32) {
	entries, from = make([]manifest.Entry, 0, count), make([]int32, 0, count)
	each(func(e *manifest.Entry, source int32) bool {
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
		members = f.pieces[at].unpack(members, f.aside)
	}
	slices.SortFunc(members, func(a, b member) int { return strings.Compare(a.Path, b.Path) })
	out := &openFolder{dir: dir, paths: make([]string, 0, len(members)), sources: make([]int32, 0, len(members))}
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

// broken gives why not all entries could be read of what is folded up.
func (t *Tree) broken() error {
	t.folding.Lock()
	defer t.folding.Unlock()
	if t.aside == nil { // it was not scanned
		return nil
	}
	return t.aside.failed()
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

// each calls visit with the entries that are directly in some folders; nil: in all. Where there is a list of them it is called with all.
func (t *Tree) each(dirs map[string]bool, visit func(e *manifest.Entry) bool) {
	t.folding.Lock()
	f, entries := t.folds, t.entries
	t.folding.Unlock()
	if f != nil {
		f.eachIn(among(dirs), func(e *manifest.Entry, _ int32) bool { return visit(e) })
		return
	}
	manifest.Each(entries, visit)
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
