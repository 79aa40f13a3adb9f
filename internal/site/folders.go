package site

import (
	"context"
	"sync"

	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// folders keeps folders open in which something is done with many files, where the place can do that. It must be closed.
type folders struct {
	site *Site
	mu   sync.Mutex
	open map[string]*folder
}

type folder struct {
	fsys.Folder
	users int
}

// mostFolders is how many are kept open.
const mostFolders = 256

func (s *Site) openFolders() *folders { return &folders{site: s, open: map[string]*folder{}} }

// enter opens a folder, or gives one that is open. It must be left.
func (f *folders) enter(ctx context.Context, dir string) (*folder, error) {
	opener, ok := f.site.fs.(fsys.FolderOpener)
	if !ok {
		return nil, farend.ErrUnsupported
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	at := f.open[dir]
	if at == nil {
		opened, err := opener.OpenFolder(ctx, dir)
		if err != nil {
			return nil, err
		}
		f.trim()
		at = &folder{Folder: opened}
		f.open[dir] = at
	}
	at.users++
	return at, nil
}

func (f *folders) leave(at *folder) {
	f.mu.Lock()
	defer f.mu.Unlock()
	at.users--
}

// put writes a file whole. It fails with farend.ErrUnsupported where it cannot be done in this way.
func (f *folders) put(ctx context.Context, name string, content []byte, attr fsys.Attributes) error {
	dir, base := fsys.Split(name)
	at, err := f.enter(ctx, dir)
	if err != nil {
		return err
	}
	defer f.leave(at)
	return at.Put(base, content, attr)
}

// read appends all of a file to room.
func (f *folders) read(ctx context.Context, name string, most int64, room []byte) ([]byte, error) {
	dir, base := fsys.Split(name)
	at, err := f.enter(ctx, dir)
	if err != nil {
		return room, err
	}
	defer f.leave(at)
	return at.Read(base, most, room)
}

// link gives a file a second name.
func (f *folders) link(ctx context.Context, from, to string) error {
	dir, old := fsys.Split(from)
	source, err := f.enter(ctx, dir)
	if err != nil {
		return err
	}
	defer f.leave(source)
	dir, name := fsys.Split(to)
	at, err := f.enter(ctx, dir)
	if err != nil {
		return err
	}
	defer f.leave(at)
	return at.Link(source.Folder, old, name)
}

// trim closes folders in which nothing is done when there are many.
func (f *folders) trim() {
	if len(f.open) < mostFolders {
		return
	}
	for dir, at := range f.open {
		if at.users == 0 {
			_ = at.Close() // nothing was written through it that is not closed
			delete(f.open, dir)
		}
	}
}

func (f *folders) close() {
	for _, at := range f.open {
		_ = at.Close() // see trim
	}
}
