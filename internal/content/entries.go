package content

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Entries is a source of which entries say all that is known, as of another site. They stay folded up, folder by folder.
type Entries struct {
	// List gives them, relative to the source and sorted by path. Folders need no entry of their own.
	List func(ctx context.Context) (*manifest.Folded, error)
	// Open opens the bytes of a file.
	Open func(path string) (io.ReadCloser, error)
	// Want is told which files will be opened, before any of them is.
	Want func(files []manifest.Entry)
}

// entryListing is what such a source holds.
type entryListing struct {
	of     *Entries
	pieces []piece           // one for each folder that something is in, in the order of compareFolders
	links  map[string]string // what each link says
	aside  aside             // nothing is

	mu     sync.Mutex
	recent []*entryFolder // those that were looked into lately
}

// entryFolder is a folder, unfolded.
type entryFolder struct {
	dir     string
	members []member // sorted by path
}

func (e *Entries) load(ctx context.Context) (*entryListing, error) {
	all, err := e.List(ctx)
	if err != nil {
		return nil, err
	}
	out := &entryListing{of: e, links: map[string]string{}}
	open := []*entryFolder{{dir: "."}} // each in the one before
	leave := func() {
		last := open[len(open)-1]
		open = open[:len(open)-1]
		out.pieces = append(out.pieces, pack(len(last.members), 0, func(i int) *manifest.Entry { return &last.members[i].Entry })...)
	}
	before := ""
	all.Each(func(m *manifest.Entry) bool {
		if err = manifest.CheckBytes(m.Path); err == nil && m.Path <= before {
			err = errors.New("it is in it twice, or not in order")
		}
		for err == nil && !isIn(m.Path, open[len(open)-1].dir) {
			leave()
		}
		for at := open[len(open)-1]; err == nil && path.Dir(m.Path) != at.dir; at = open[len(open)-1] {
			var below *entryFolder
			if below, err = at.enter(m.Path); err == nil {
				open = append(open, below)
			}
		}
		if err != nil {
			err = fmt.Errorf("%q: %w", m.Path, err)
			return false
		}
		before = strings.Clone(m.Path)
		own := *m
		own.Path = before
		if own.Kind == manifest.Link {
			out.links[before] = own.Link
		}
		open[len(open)-1].members = append(open[len(open)-1].members, member{Entry: own})
		return true
	})
	for err == nil && len(open) > 0 {
		leave()
	}
	slices.SortFunc(out.pieces, func(a, b piece) int { return compareFolders(a.dir, b.dir) })
	return out, err
}

// isIn tells whether a path is below a folder.
func isIn(name, dir string) bool {
	return dir == "." || len(name) > len(dir) && name[len(dir)] == '/' && name[:len(dir)] == dir
}

// enter gives the folder in this one that a path is below. It has an entry from then on.
func (f *entryFolder) enter(name string) (*entryFolder, error) {
	begin := 0
	if f.dir != "." {
		begin = len(f.dir) + 1
	}
	dir := strings.Clone(name[:begin+strings.IndexByte(name[begin:], '/')])
	at, known := f.find(dir)
	if !known {
		e := manifest.Entry{Path: dir, Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: manifest.DirMode}}
		f.members = slices.Insert(f.members, at, member{Entry: e})
	} else if f.members[at].Kind != manifest.Dir {
		return nil, fmt.Errorf("%s is a file and a folder in it", dir)
	}
	return &entryFolder{dir: dir}, nil
}

func (f *entryFolder) find(name string) (at int, found bool) {
	return slices.BinarySearchFunc(f.members, name, func(m member, name string) int { return strings.Compare(m.Path, name) })
}

// folder gives a folder that something is in; nil: there is none.
func (l *entryListing) folder(dir string) *entryFolder {
	at := sort.Search(len(l.pieces), func(i int) bool { return compareFolders(l.pieces[i].dir, dir) >= 0 })
	if at == len(l.pieces) || l.pieces[at].dir != dir {
		return nil
	}
	return &entryFolder{dir, l.pieces[at].unpack(nil, &l.aside)}
}

// find gives what is at a path. Paths are asked for in their order, or nearly so.
func (l *entryListing) find(op, name string) (*manifest.Entry, error) {
	dir, _ := fsys.Split(name)
	l.mu.Lock()
	defer l.mu.Unlock()
	at := slices.IndexFunc(l.recent, func(f *entryFolder) bool { return f.dir == dir })
	if at < 0 {
		if f := l.folder(dir); f != nil {
			if at = len(l.recent); at == mostOpen {
				l.recent, at = slices.Delete(l.recent, 0, 1), at-1
			}
			l.recent = append(l.recent, f)
		}
	}
	if at >= 0 {
		if i, found := l.recent[at].find(name); found {
			return &l.recent[at].members[i].Entry, nil
		}
	}
	return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
}

func (l *entryListing) known(name string) (manifest.Digest, verdict, bool) {
	e, err := l.find("look up", name)
	if err != nil {
		return manifest.Digest{}, harmless, false
	}
	return e.Digest, harmless, !e.Digest.IsZero()
}

func (l *entryListing) resolve(name string) (string, error) {
	return resolve(name, func(name string) (string, bool, error) {
		target, is := l.links[name]
		return target, is, nil
	})
}

func (l *entryListing) stat(name string) (fs.FileInfo, error) {
	to, err := l.resolve(name)
	if err != nil {
		return nil, err
	}
	return l.lstat(to)
}

func (l *entryListing) lstat(name string) (fs.FileInfo, error) {
	if name == "." {
		return folderInfo{path: name}, nil
	}
	e, err := l.find("look up", name)
	if err != nil {
		return nil, err
	}
	if e.Kind == manifest.Dir {
		return folderInfo{path: name}, nil
	}
	return entryInfo{e}, nil
}

func (l *entryListing) list(folder string) ([]item, error) {
	to, err := l.resolve(folder)
	if err != nil {
		return nil, err
	}
	in := l.folder(to)
	if in == nil {
		return nil, nil // it is empty
	}
	out := make([]item, len(in.members))
	for i := range in.members {
		e := &in.members[i].Entry
		_, name := fsys.Split(e.Path)
		out[i] = item{name: name, facts: factsOf(entryInfo{e})}
	}
	return out, nil
}

func (l *entryListing) readlink(name string) (string, error) {
	target, is := l.links[name]
	if !is {
		return "", &fs.PathError{Op: "read", Path: name, Err: errors.New("it does not say where it leads")}
	}
	return target, nil
}

func (l *entryListing) open(name string) (opened, error) {
	to, err := l.resolve(name)
	if err != nil {
		return nil, err
	}
	e, err := l.find("open", to)
	if err != nil {
		return nil, err
	}
	is := factsOf(entryInfo{e})
	in, err := l.of.Open(to)
	if err != nil {
		return nil, err
	}
	return openedEntry{in, is}, nil
}

func (l *entryListing) join(folder, name string) string { return fsys.Join(folder, name) }

// openedEntry is a file of such a source.
type openedEntry struct {
	io.ReadCloser
	is facts
}

func (o openedEntry) facts() (facts, error) { return o.is, nil }

// entryInfo is what an entry says.
type entryInfo struct{ entry *manifest.Entry }

func (i entryInfo) Name() string       { return path.Base(i.entry.Path) }
func (i entryInfo) Size() int64        { return i.entry.Size }
func (i entryInfo) ModTime() time.Time { return i.entry.ModTime }
func (i entryInfo) IsDir() bool        { return i.entry.Kind == manifest.Dir }
func (i entryInfo) Sys() any           { return nil }

func (i entryInfo) Mode() fs.FileMode {
	switch i.entry.Kind {
	case manifest.Dir:
		return fs.ModeDir | i.entry.Mode
	case manifest.Link:
		return fs.ModeSymlink | 0o777
	}
	return i.entry.Mode
}
