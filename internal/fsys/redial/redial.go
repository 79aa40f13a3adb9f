// Package redial is an FS over a line that is opened again when it is lost.
//
// An operation that a lost line broke off is done once more over the new one. Nobody knows whether the far end had done
// it already, so an answer that says just that counts as success the second time: a folder to be made that stands, a
// name to be removed that is gone, a file to be renamed that is gone while something stands at its new name. What an
// operation reads from must be able to begin anew (io.Seeker, or Rewinder); else the loss is the answer.
package redial

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// FS implements fsys.FS and the optional interfaces of the place, as far as that does.
type FS struct{ *Keeper[fsys.FS] }

// New gives the place that is open, to be opened again by line when it is lost. It closes what it opens.
func New(place fsys.FS, line Line[fsys.FS]) *FS { return &FS{Keep(place, line)} }

// try does an operation, and once more for each time that the line was lost meanwhile. Rewind, which may be nil, makes
// ready for another go.
func (f *FS) try(ctx context.Context, rewind func() error, do func(place fsys.FS, again bool) error) error {
	return f.Try(ctx, func(place fsys.FS, again bool) error {
		if again && rewind != nil {
			if rewind() != nil {
				return errNoRewind
			}
		}
		return do(place, again)
	})
}

// errNoRewind tells that what was read from cannot begin anew: the loss stands.
var errNoRewind = fmt.Errorf("%w in the middle of what cannot be sent again", fsys.ErrLost)

// Lstat implements fsys.FS.
func (f *FS) Lstat(ctx context.Context, name string) (info fsys.Info, err error) {
	err = f.try(ctx, nil, func(place fsys.FS, _ bool) error {
		info, err = place.Lstat(ctx, name)
		return err
	})
	return info, err
}

// List implements fsys.FS.
func (f *FS) List(ctx context.Context, dir string) (list []fsys.Info, err error) {
	err = f.try(ctx, nil, func(place fsys.FS, _ bool) error {
		list, err = place.List(ctx, dir)
		return err
	})
	return list, err
}

// SetAttr implements fsys.FS.
func (f *FS) SetAttr(ctx context.Context, name string, attr fsys.Attr) error {
	return f.try(ctx, nil, func(place fsys.FS, _ bool) error { return place.SetAttr(ctx, name, attr) })
}

// Put implements fsys.FS.
func (f *FS) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attr) (sent int64, err error) {
	rewind := Rewinding(content)
	err = f.try(ctx, rewind, func(place fsys.FS, again bool) error {
		sent, err = place.Put(ctx, name, content, attr)
		if again && attr.New && errors.Is(err, fs.ErrExist) {
			sent, err = ours(ctx, place, name, content, rewind)
		}
		return err
	})
	return sent, err
}

// mostOurs is how long a file may be that is made exclusively, in bytes: a lock.
const mostOurs = 64 << 10

// ours finds out whether the file that stands is the one that was written before the line was lost. Part of it is
// neither ours nor somebody else's: then the loss is the answer.
func ours(ctx context.Context, place fsys.FS, name string, content io.Reader, rewind func() error) (int64, error) {
	if err := rewind(); err != nil {
		return 0, fsys.ErrLost
	}
	wanted, err := io.ReadAll(io.LimitReader(content, mostOurs))
	if err != nil {
		return 0, err
	}
	file, err := place.Open(ctx, name)
	if err != nil {
		return 0, err
	}
	defer file.Close()
	stands, err := io.ReadAll(io.LimitReader(file, mostOurs))
	switch {
	case err != nil:
		return 0, err
	case bytes.Equal(stands, wanted):
		return int64(len(wanted)), nil
	case bytes.HasPrefix(wanted, stands):
		return 0, fsys.ErrLost
	}
	return 0, fs.ErrExist
}

// Extend implements fsys.Extender.
func (f *FS) Extend(ctx context.Context, name string, offset int64, content io.Reader, attr fsys.Attr) (sent int64, err error) {
	err = f.try(ctx, Rewinding(content), func(place fsys.FS, _ bool) error {
		extender, ok := place.(fsys.Extender)
		if !ok {
			return fsys.ErrUnsupported
		}
		sent, err = extender.Extend(ctx, name, offset, content, attr)
		return err
	})
	return sent, err
}

// Rewinder is a reader that can begin anew.
type Rewinder interface{ Rewind() error }

// Rewinding gives a function that has content begin anew from where it is now, or fails where it cannot.
func Rewinding(content io.Reader) func() error {
	switch r := content.(type) {
	case Rewinder:
		return r.Rewind
	case io.Seeker:
		start, err := r.Seek(0, io.SeekCurrent)
		if err != nil {
			return func() error { return err }
		}
		return func() error {
			_, err := r.Seek(start, io.SeekStart)
			return err
		}
	}
	return func() error { return fs.ErrInvalid }
}

// Symlink implements fsys.FS.
func (f *FS) Symlink(ctx context.Context, target, name string) error {
	return f.try(ctx, nil, func(place fsys.FS, again bool) error {
		err := place.Symlink(ctx, target, name)
		if again && errors.Is(err, fs.ErrExist) {
			info, failed := place.Lstat(ctx, name)
			if failed == nil && info.Mode&fs.ModeSymlink != 0 && info.Link == target {
				return nil
			}
			return orLost(err, failed)
		}
		return err
	})
}

// Mkdir implements fsys.FS.
func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	return f.try(ctx, nil, func(place fsys.FS, again bool) error {
		err := place.Mkdir(ctx, name, mode)
		if again && errors.Is(err, fs.ErrExist) {
			info, failed := place.Lstat(ctx, name)
			if failed == nil && info.Mode.IsDir() {
				return place.SetAttr(ctx, name, fsys.Attr{Mode: mode})
			}
			return orLost(err, failed)
		}
		return err
	})
}

// Rename implements fsys.FS.
func (f *FS) Rename(ctx context.Context, from, to string) error {
	return f.try(ctx, nil, func(place fsys.FS, again bool) error {
		err := place.Rename(ctx, from, to)
		if again && errors.Is(err, fs.ErrNotExist) {
			_, failed := place.Lstat(ctx, to)
			if failed == nil {
				return nil
			}
			return orLost(err, failed)
		}
		return err
	})
}

// Remove implements fsys.FS.
func (f *FS) Remove(ctx context.Context, name string) error {
	return f.try(ctx, nil, func(place fsys.FS, again bool) error {
		err := place.Remove(ctx, name)
		if again && errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
}

// Link implements fsys.Linker.
func (f *FS) Link(ctx context.Context, from, to string) error {
	return f.try(ctx, nil, func(place fsys.FS, again bool) error {
		linker, ok := place.(fsys.Linker)
		if !ok {
			return fsys.ErrUnsupported
		}
		err := linker.Link(ctx, from, to)
		if again && errors.Is(err, fs.ErrExist) {
			same, failed := sameFile(ctx, place, from, to)
			if same {
				return nil
			}
			return orLost(err, failed)
		}
		return err
	})
}

// sameFile tells whether two files hold the same bytes: whoever links writes what nobody else does, or what is named
// after its digest.
func sameFile(ctx context.Context, place fsys.FS, a, b string) (bool, error) {
	one, _, err := fsys.DigestOf(ctx, place, a)
	if err != nil {
		return false, err
	}
	other, _, err := fsys.DigestOf(ctx, place, b)
	return err == nil && one == other, err
}

// orLost gives the error of an operation, unless a look at what it left found the line lost again.
func orLost(err, look error) error {
	if errors.Is(look, fsys.ErrLost) {
		return look
	}
	return err
}

// Digests implements fsys.Digester.
func (f *FS) Digests(ctx context.Context, names []string, each func(i int, digest manifest.Digest)) error {
	return f.try(ctx, nil, func(place fsys.FS, _ bool) error {
		digester, ok := place.(fsys.Digester)
		if !ok {
			return fsys.ErrUnsupported
		}
		return digester.Digests(ctx, names, each)
	})
}

// Copies implements fsys.Copier.
func (f *FS) Copies(ctx context.Context, pairs []fsys.Pair, done func(i int)) error {
	told := make([]bool, len(pairs))
	return f.try(ctx, nil, func(place fsys.FS, _ bool) error {
		copier, ok := place.(fsys.Copier)
		if !ok {
			return nil
		}
		return copier.Copies(ctx, pairs, func(i int) {
			if !told[i] {
				told[i] = true
				done(i)
			}
		})
	})
}

// FreeSpace implements fsys.Spacer.
func (f *FS) FreeSpace(ctx context.Context) (free fsys.Space, err error) {
	err = f.try(ctx, nil, func(place fsys.FS, _ bool) error {
		spacer, ok := place.(fsys.Spacer)
		if !ok {
			return fsys.ErrUnsupported
		}
		free, err = spacer.FreeSpace(ctx)
		return err
	})
	return free, err
}

// Open implements fsys.FS.
func (f *FS) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	r := &reading{ctx: ctx, fs: f, name: name}
	err := f.try(ctx, nil, func(place fsys.FS, _ bool) (err error) {
		r.file, err = place.Open(ctx, name)
		return err
	})
	if err != nil {
		return nil, err
	}
	return r, nil
}

// reading is a file that is read on after a lost line from where it was.
type reading struct {
	ctx  context.Context
	fs   *FS
	name string
	file io.ReadCloser
	at   int64
}

func (r *reading) Read(p []byte) (n int, err error) {
	err = r.fs.try(r.ctx, nil, func(place fsys.FS, again bool) error {
		if again {
			r.file.Close()
			var err error
			if r.file, err = place.Open(r.ctx, r.name); err != nil {
				r.file = io.NopCloser(nil)
				return err
			}
			if err := skip(r.ctx, r.file, r.at); err != nil {
				return err
			}
		}
		var err error
		n, err = r.file.Read(p)
		return err
	})
	r.at += int64(n)
	return n, err
}

func (r *reading) Close() error { return r.file.Close() }

// skip passes over the beginning of a file.
func skip(ctx context.Context, file io.Reader, bytes int64) error {
	if seeker, ok := file.(io.Seeker); ok {
		_, err := seeker.Seek(bytes, io.SeekStart)
		return err
	}
	_, err := fsys.Copy(ctx, io.Discard, io.LimitReader(file, bytes))
	return err
}

// Abilities implements fsys.FS.
func (f *FS) Abilities() fsys.Abilities {
	return f.Now().Abilities()
}
