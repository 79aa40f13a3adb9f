// Package redial is an FS over a connection that is opened again when it is lost.
//
// An operation that a lost connection broke off is done once more over the new one. Nobody knows whether the far end
// had done it already, so an answer that says just that counts as success the second time: a folder to be made that
// exists, a name to be removed that is gone, a file to be renamed that is gone while something exists at its new name.
// A file that was being written goes on from what has arrived of it, where what it is read from can (Resumer); else it
// must be able to begin anew (io.Seeker), or the loss is the answer. For a while after a loss files are written piece
// by piece, each of them answered, and operations take turns. So a connection that carries anything at all gets
// everything there in the end.
package redial

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// FS implements fsys.FS and the optional interfaces of the place, as far as that does.
type FS struct {
	*Keeper[fsys.FS]
	turn sync.Mutex
}

// New gives the place that is open, to be opened again by line when it is lost. It closes what it opens.
func New(place fsys.FS, line Line[fsys.FS]) *FS { return &FS{Keeper: Keep(place, line)} }

// run does an operation at the place, as Do. One that has ended shows that the connection carries something. While a
// connection is thin operations take turns: if all of them shared what it carries, none might get through.
func run[R any](ctx context.Context, f *FS, do func(place fsys.FS, again bool) (R, error)) (R, error) {
	result, err := Do(ctx, f.Keeper, func(place fsys.FS, again bool) (R, error) {
		if again || f.thin() {
			f.turn.Lock()
			defer f.turn.Unlock()
		}
		return do(place, again)
	})
	if err == nil {
		f.Moved()
	}
	return result, err
}

// only is run for an operation that gives nothing but its error.
func only(ctx context.Context, f *FS, do func(place fsys.FS, again bool) error) error {
	_, err := run(ctx, f, func(place fsys.FS, again bool) (struct{}, error) { return struct{}{}, do(place, again) })
	return err
}

// errNoRewind tells that what was read from cannot begin anew: the loss remains.
var errNoRewind = fmt.Errorf("%w in the middle of what cannot be sent again", farend.ErrLost)

// Lstat implements fsys.FS.
func (f *FS) Lstat(ctx context.Context, name string) (fsys.Info, error) {
	return run(ctx, f, func(place fsys.FS, _ bool) (fsys.Info, error) { return place.Lstat(ctx, name) })
}

// List implements fsys.FS.
func (f *FS) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	return run(ctx, f, func(place fsys.FS, _ bool) ([]fsys.Info, error) { return place.List(ctx, dir) })
}

// SetAttr implements fsys.FS.
func (f *FS) SetAttr(ctx context.Context, name string, attr fsys.Attributes) error {
	return only(ctx, f, func(place fsys.FS, _ bool) error { return place.SetAttr(ctx, name, attr) })
}

// Put implements fsys.FS.
func (f *FS) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return f.write(ctx, &writing{name: name, content: content, attr: attr}, func(place fsys.FS) (int64, error) {
		return place.Put(ctx, name, content, attr)
	})
}

// Extend implements fsys.Extender.
func (f *FS) Extend(ctx context.Context, name string, offset int64, content io.Reader,
	attr fsys.Attributes) (int64, error) {
	return f.write(ctx, &writing{name: name, begin: offset, content: content, attr: attr},
		func(place fsys.FS) (int64, error) {
			extender, ok := place.(fsys.Extender)
			if !ok {
				return 0, farend.ErrUnsupported
			}
			return extender.Extend(ctx, name, offset, content, attr)
		})
}

// Create implements fsys.FS.
func (f *FS) Create(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	restart := Restarting(content)
	return run(ctx, f, func(place fsys.FS, again bool) (int64, error) {
		if again && restart() != nil {
			return 0, errNoRewind
		}
		sent, err := place.Create(ctx, name, content, attr)
		if again && errors.Is(err, fs.ErrExist) {
			return ours(ctx, place, name, content, restart)
		}
		return sent, err
	})
}

// mostOurs is how long a file may be that is made exclusively, in bytes: a lock.
const mostOurs = 64 << 10

// ours finds out whether the file under a name is the one that was written before the connection was lost. Part of it
// is neither ours nor somebody else's: then the loss is the answer.
func ours(ctx context.Context, place fsys.FS, name string, content io.Reader, restart func() error) (int64, error) {
	if err := restart(); err != nil {
		return 0, errNoRewind
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
		return 0, errNoRewind
	}
	return 0, fs.ErrExist
}

// Symlink implements fsys.FS.
func (f *FS) Symlink(ctx context.Context, target, name string) error {
	return only(ctx, f, func(place fsys.FS, again bool) error {
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
	return only(ctx, f, func(place fsys.FS, again bool) error {
		err := place.Mkdir(ctx, name, mode)
		if again && errors.Is(err, fs.ErrExist) {
			info, failed := place.Lstat(ctx, name)
			if failed == nil && info.Mode.IsDir() {
				return place.SetAttr(ctx, name, fsys.Attributes{Mode: mode})
			}
			return orLost(err, failed)
		}
		return err
	})
}

// Rename implements fsys.FS.
func (f *FS) Rename(ctx context.Context, from, to string) error {
	return only(ctx, f, func(place fsys.FS, again bool) error {
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
	return only(ctx, f, func(place fsys.FS, again bool) error {
		err := place.Remove(ctx, name)
		if again && errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
}

// Link implements fsys.Linker.
func (f *FS) Link(ctx context.Context, from, to string) error {
	return only(ctx, f, func(place fsys.FS, again bool) error {
		linker, ok := place.(fsys.Linker)
		if !ok {
			return farend.ErrUnsupported
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

// orLost gives the error of an operation, unless a look at what it left found the connection lost again.
func orLost(err, look error) error {
	if errors.Is(look, farend.ErrLost) {
		return look
	}
	return err
}

// Digests implements fsys.Digester.
func (f *FS) Digests(ctx context.Context, names []string, each func(i int, digest manifest.Digest)) error {
	return only(ctx, f, func(place fsys.FS, _ bool) error {
		digester, ok := place.(fsys.Digester)
		if !ok {
			return farend.ErrUnsupported
		}
		return digester.Digests(ctx, names, each)
	})
}

// Copies implements fsys.Copier.
func (f *FS) Copies(ctx context.Context, pairs []fsys.Pair, done func(i int)) error {
	told := make([]bool, len(pairs))
	return only(ctx, f, func(place fsys.FS, _ bool) error {
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
func (f *FS) FreeSpace(ctx context.Context) (fsys.Space, error) {
	return run(ctx, f, func(place fsys.FS, _ bool) (fsys.Space, error) {
		spacer, ok := place.(fsys.Spacer)
		if !ok {
			return fsys.Space{}, farend.ErrUnsupported
		}
		return spacer.FreeSpace(ctx)
	})
}

// Self implements fsys.Selfer.
func (f *FS) Self(ctx context.Context) (user uint32, known bool) {
	selfer, ok := f.Now().(fsys.Selfer)
	if !ok {
		return 0, false
	}
	return selfer.Self(ctx)
}

// Open implements fsys.FS.
func (f *FS) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	file, err := run(ctx, f, func(place fsys.FS, _ bool) (io.ReadCloser, error) { return place.Open(ctx, name) })
	if err != nil {
		return nil, err
	}
	r := &reading{ctx: ctx, fs: f, name: name, file: file}
	if size, known := fsys.SizeOf(file); known {
		return &sizedReading{r, size}, nil
	}
	return r, nil
}

// Abilities implements fsys.FS.
func (f *FS) Abilities() fsys.Abilities {
	return f.Now().Abilities()
}
