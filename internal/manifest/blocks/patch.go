package blocks

import (
	"strings"
	"sync/atomic"

	"tartine/internal/manifest"
)

// Finder gives the bytes of a block. It may be called from several goroutines at once.
type Finder = func(name manifest.Digest) ([]byte, error)

// Edit is a path of a tree that is another one from then on, or is new, or goes.
type Edit struct {
	Path  string
	Entry *manifest.Entry // nil: it goes
}

// placed is a folder in another one, behind so many of its entries.
type placed struct {
	Below
	before int
}

// direct gives what is directly in a folder whose path, with a slash behind it, is given. The paths of entries are whole.
func direct(folder Ref, path string, room []manifest.Entry, find Finder) (entries []manifest.Entry, below []placed, err error) {
	r := &reader{find: find, paths: new(atomic.Int64), out: room}
	r.below = func(name string, ref Ref) { below = append(below, placed{Below{name, ref}, len(r.out)}) }
	err = r.folder(folder, path, 0)
	return r.out, below, err
}

// Walk calls visit with the entries of a tree, sorted by path, until it tells that that is enough. Visit must not keep them: no more
// is in memory at a time than the folders that are one in the other. Its errors are those of Read.
func Walk(top Ref, find Finder, visit func(e *manifest.Entry) bool) error {
	return WalkFrom("", top, find, visit)
}

// WalkFrom is Walk for the entries from a path on. Folders before it are not read.
func WalkFrom(path string, top Ref, find Finder, visit func(e *manifest.Entry) bool) error {
	_, err := (&walking{from: path, find: find, visit: visit}).folder(top, "", 0)
	return err
}

type walking struct {
	from  string // the path; empty: it was come to
	find  Finder
	visit func(e *manifest.Entry) bool
	rooms [][]manifest.Entry // by depth
}

func (w *walking) folder(folder Ref, path string, depth int) (more bool, err error) {
	if depth > deepest {
		return false, &DamageError{folder.Name, strings.TrimSuffix(path, "/"), "lies too deep"}
	}
	if depth == len(w.rooms) {
		w.rooms = append(w.rooms, nil)
	}
	entries, below, err := direct(folder, path, w.rooms[depth][:0], w.find)
	if err != nil {
		return false, err
	}
	w.rooms[depth] = entries
	at := 0
	for _, b := range below {
		for ; at < b.before; at++ {
			if !w.take(&entries[at]) {
				return false, nil
			}
		}
		if below := path + b.Name + "/"; below < w.from && !strings.HasPrefix(w.from, below) {
			continue
		}
		if more, err := w.folder(b.Ref, path+b.Name+"/", depth+1); err != nil || !more {
			return false, err
		}
	}
	for ; at < len(entries); at++ {
		if !w.take(&entries[at]) {
			return false, nil
		}
	}
	return true, nil
}

func (w *walking) take(e *manifest.Entry) bool {
	if e.Path < w.from {
		return true
	}
	w.from = ""
	return w.visit(e)
}

// Patch makes the blocks of the tree that edits, which are sorted by path, make of another one. A folder in which, and in whose
// folders, there is no edit is not read, and keeps its block. Put is called as by Build. The errors are those of Read.
func Patch(top Ref, edits []Edit, find Finder, put func(name manifest.Digest, block []byte)) (Ref, error) {
	p := &patching{builder: builder{put: put}, find: find}
	p.enter("")
	if err := p.folder(top, edits); err != nil {
		return Ref{}, err
	}
	return p.end(), nil
}

type patching struct {
	builder
	find Finder
}

// folder puts together what is in the innermost folder, of which a block may be there.
func (p *patching) folder(was Ref, edits []Edit) error {
	var (
		path    = p.path
		entries []manifest.Entry
		below   []placed
		err     error
		at      int // of entries
	)
	if len(p.open) > deepest {
		return &DamageError{was.Name, strings.TrimSuffix(path, "/"), "lies too deep"}
	}
	if was.Entries > 0 {
		if entries, below, err = direct(was, path, nil, p.find); err != nil {
			return err
		}
	}
	// until adds the entries before a path, and what is there of it is left out.
	until := func(name string) {
		for ; at < len(entries) && entries[at].Path < name; at++ {
			p.addEntry(&entries[at])
		}
		if at < len(entries) && entries[at].Path == name {
			at++
		}
	}
	for len(below) > 0 || len(edits) > 0 {
		next, isFolder := "", true
		if len(below) > 0 {
			next = path + below[0].Name + "/"
		}
		own := 0 // edits
		if len(edits) > 0 {
			name := edits[0].Path
			slash := strings.IndexByte(name[len(path):], '/')
			if slash >= 0 {
				name = name[:len(path)+slash+1]
			}
			if next == "" || name <= next {
				next, isFolder, own = name, slash >= 0, 1
			}
		}
		if !isFolder {
			if until(next); edits[0].Entry != nil {
				p.addEntry(edits[0].Entry)
			}
			edits = edits[1:]
			continue
		}
		until(next)
		var inside Ref
		if len(below) > 0 && path+below[0].Name+"/" == next {
			inside, below = below[0].Ref, below[1:]
		}
		if own == 0 {
			p.add(item{name: next[len(path):], ref: inside})
			continue
		}
		for own < len(edits) && strings.HasPrefix(edits[own].Path, next) {
			own++
		}
		p.enter(next)
		if err := p.folder(inside, edits[:own]); err != nil {
			return err
		}
		p.leave()
		edits = edits[own:]
	}
	for ; at < len(entries); at++ {
		p.addEntry(&entries[at])
	}
	return nil
}

func (b *builder) addEntry(e *manifest.Entry) {
	b.add(item{name: e.Path[len(b.path):], entry: *e, ref: Ref{Entries: 1}})
}
