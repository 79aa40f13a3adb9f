package site

import (
	"context"
	"slices"
	"strings"
	"sync"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// folderRecord is what a deployment recorded, for those who go through a site folder by folder, from above downwards. It must be closed.
type folderRecord struct {
	shelf *shelf
	top   blocks.Ref       // zero: nothing is recorded, or it is a list
	list  []manifest.Entry // of an old record

	mu   sync.Mutex
	refs map[string]blocks.Ref // of folders in those that were looked into, and that were not looked into themselves
}

// recordedIn is what is recorded of one folder.
type recordedIn struct {
	entries []manifest.Entry // sorted by path
	prefix  string           // of these paths
	below   func(name string) bool
}

// openFolderRecord opens the record of a deployment; 0: there is none.
func (s *Site) openFolderRecord(ctx context.Context, number int) (*folderRecord, error) {
	out := &folderRecord{shelf: &shelf{site: s}, refs: map[string]blocks.Ref{}}
	if number == 0 {
		return out, nil
	}
	h, old, err := s.readHead(ctx, number, true)
	if err != nil {
		return nil, err
	}
	if old != nil {
		out.list = old.Entries
		return out, nil
	}
	if out.shelf, err = s.openShelf(ctx, h, true); err != nil {
		out.shelf.close()
		return nil, err
	}
	out.top = blocks.Ref{Name: h.Top, Entries: h.Count}
	return out, nil
}

func (r *folderRecord) close() { r.shelf.close() }

// in gives what is recorded of a folder.
func (r *folderRecord) in(dir string) (*recordedIn, error) {
	prefix := ""
	if dir != "." {
		prefix = dir + "/"
	}
	if r.list != nil {
		return &recordedIn{knownIn(r.list, dir).entries, prefix, func(name string) bool {
			_, filled := manifest.FindBelow(r.list, prefix+name)
			return filled
		}}, nil
	}
	ref, err := r.ref(dir)
	if err != nil || ref.Entries == 0 {
		return &recordedIn{below: func(string) bool { return false }}, err
	}
	entries, below, err := blocks.Folder(ref, nil, r.shelf.block)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.refs, dir)
	for _, b := range below {
		r.refs[prefix+b.Name] = b.Ref
	}
	return &recordedIn{entries: entries, below: func(name string) bool {
		_, is := findBelow(below, name)
		return is
	}}, nil
}

func findBelow(below []blocks.Below, name string) (at int, found bool) {
	return slices.BinarySearchFunc(below, name, func(b blocks.Below, name string) int { return strings.Compare(b.Name, name) })
}

// ref gives the block of a folder; zero: nothing is recorded below it.
func (r *folderRecord) ref(dir string) (blocks.Ref, error) {
	if dir == "." {
		return r.top, nil
	}
	r.mu.Lock()
	ref, known := r.refs[dir]
	r.mu.Unlock()
	if known {
		return ref, nil
	}
	above, name := fsys.Split(dir)
	ref, err := r.ref(above)
	if err != nil || ref.Entries == 0 {
		return ref, err
	}
	_, below, err := blocks.Folder(ref, nil, r.shelf.block)
	if at, found := findBelow(below, name); found && err == nil {
		return below[at].Ref, nil
	}
	return blocks.Ref{}, err
}

// find gives what is recorded under a name in the folder; nil: nothing is.
func (in *recordedIn) find(name string) *manifest.Entry {
	if at, found := manifest.Find(in.entries, in.prefix+name); found {
		return &in.entries[at]
	}
	return nil
}
