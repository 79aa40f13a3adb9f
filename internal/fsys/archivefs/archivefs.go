// Package archivefs shows what is in an archive as a place of files that cannot be written to.
//
// The archive's own top is the folder Root of it, so that a site has its record beside it, where there is none. Folders
// that follow from what is in them are shown as well.
package archivefs

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"

	"tartine/internal/archive"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Root is the folder in which everything is.
const Root = "archive"

// ErrReadOnly tells that something cannot be done with an archive, which is only written as a whole.
var ErrReadOnly = errors.New("an archive is only written as a whole")

// FS implements fsys.FS and fsys.Digester.
type FS struct {
	reader  *archive.Reader
	entries map[string]*archive.Entry // nil: a folder
	inside  map[string][]string       // what is in each folder, by its last element
}

// New shows what was listed; nil: there is no archive, and so no Root.
func New(listing *archive.Listing, reader *archive.Reader) *FS {
	f := &FS{reader, map[string]*archive.Entry{".": nil}, map[string][]string{".": nil}}
	if listing == nil {
		return f
	}
	f.add(Root, nil)
	for i := range listing.Entries {
		f.add(Root+"/"+listing.Entries[i].Path, &listing.Entries[i])
	}
	return f
}

func (f *FS) add(name string, e *archive.Entry) {
	if _, known := f.entries[name]; known {
		if e != nil {
			f.entries[name] = e // a folder of which more is known
		}
		return
	}
	f.entries[name] = e
	dir, base := fsys.Split(name)
	f.add(dir, nil)
	f.inside[dir] = append(f.inside[dir], base)
}

func (f *FS) find(op, name string) (*archive.Entry, error) {
	e, known := f.entries[name]
	if !known {
		return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
	}
	return e, nil
}

func info(name string, e *archive.Entry) fsys.Info {
	out := fsys.Info{Name: path.Base(name), Attributes: fsys.Attributes{Mode: fs.ModeDir | manifest.DirMode}}
	if e != nil {
		out.Mode, out.ModTime, out.Size, out.Link = e.Mode, e.ModTime, e.Size, e.Link
	}
	return out
}

// Lstat implements fsys.FS.
func (f *FS) Lstat(_ context.Context, name string) (fsys.Info, error) {
	e, err := f.find("look up", name)
	if err != nil {
		return fsys.Info{}, err
	}
	return info(name, e), nil
}

// List implements fsys.FS.
func (f *FS) List(_ context.Context, dir string) ([]fsys.Info, error) {
	e, err := f.find("read", dir)
	if err != nil {
		return nil, err
	}
	if e != nil && !e.Mode.IsDir() {
		return nil, &fs.PathError{Op: "read", Path: dir, Err: errors.New("it is not a folder")}
	}
	out := make([]fsys.Info, len(f.inside[dir]))
	for i, base := range f.inside[dir] {
		name := fsys.Join(dir, base)
		out[i] = info(name, f.entries[name])
	}
	return out, nil
}

// Open implements fsys.FS. Links are not followed: one that leads to a file of the archive is not a file itself.
func (f *FS) Open(_ context.Context, name string) (io.ReadCloser, error) {
	e, err := f.find("open", name)
	if err != nil {
		return nil, err
	}
	if e == nil || !e.Mode.IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: strings.TrimPrefix(name, Root+"/"), Err: errors.New("it is not a file")}
	}
	return f.reader.Open(e)
}

// Digests implements fsys.Digester: they are known since the archive was listed.
func (f *FS) Digests(_ context.Context, names []string, each func(i int, digest manifest.Digest)) error {
	for i, name := range names {
		if e := f.entries[name]; e != nil && e.Mode.IsRegular() {
			each(i, e.Digest)
		}
	}
	return nil
}

// Abilities implements fsys.FS.
func (f *FS) Abilities() fsys.Abilities {
	return fsys.Abilities{AtomicReplace: true, Modes: true, Links: true, TimeStep: 1, NoTimes: true, UnsetTimes: true}
}

// Close implements fsys.FS.
func (f *FS) Close() error {
	if f.reader == nil {
		return nil
	}
	return f.reader.Close()
}

// Put implements fsys.FS.
func (f *FS) Put(context.Context, string, io.Reader, fsys.Attributes) (int64, error) {
	return 0, ErrReadOnly
}

// Create implements fsys.FS.
func (f *FS) Create(context.Context, string, io.Reader, fsys.Attributes) (int64, error) {
	return 0, ErrReadOnly
}

// SetAttr implements fsys.FS.
func (f *FS) SetAttr(context.Context, string, fsys.Attributes) error { return ErrReadOnly }

// Symlink implements fsys.FS.
func (f *FS) Symlink(context.Context, string, string) error { return ErrReadOnly }

// Mkdir implements fsys.FS.
func (f *FS) Mkdir(context.Context, string, fs.FileMode) error { return ErrReadOnly }

// Rename implements fsys.FS.
func (f *FS) Rename(context.Context, string, string) error { return ErrReadOnly }

// Remove implements fsys.FS.
func (f *FS) Remove(context.Context, string) error { return ErrReadOnly }
