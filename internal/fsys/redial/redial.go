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
	"sync"
	"time"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Line opens the place anew.
type Line struct {
	// Open opens it. A Final error ends all tries.
	Open  func(ctx context.Context) (fsys.FS, error)
	Final func(err error) bool // nil: none is
	// Patience is how long a lost line is tried to be opened again.
	Patience time.Duration
	// Told is called when the line was lost, before each try, with how long is waited; and with 0 once it is there again.
	Told func(err error, pause time.Duration)
}

// firstPause is how long is waited before the first try; each further one takes twice as long, up to longestPause. A
// line that was lost again within goodFor of its opening counts as one that is still being tried.
const (
	firstPause   = 250 * time.Millisecond
	longestPause = 15 * time.Second
	goodFor      = 30 * time.Second
)

// FS implements fsys.FS and the optional interfaces of the place, as far as that does.
type FS struct {
	line           Line
	first, longest time.Duration

	mu     sync.Mutex
	place  fsys.FS
	count  int // how often the line was opened
	opened time.Time
	pause  time.Duration // before the next try
	broken error         // why it will not be opened again
}

// New gives the place that is open, to be opened again by line when it is lost. It closes what it opens.
func New(place fsys.FS, line Line) *FS {
	return &FS{line: line, place: place, first: firstPause, longest: longestPause}
}

// now gives the place that is open, and which opening that is.
func (f *FS) now() (fsys.FS, int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.place, f.count
}

// again opens the place anew, unless somebody else did since an opening.
func (f *FS) again(ctx context.Context, count int, lost error) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.broken != nil {
		return f.broken
	}
	if f.count != count {
		return nil
	}
	_ = f.place.Close() // it is gone
	deadline := time.Now().Add(f.line.Patience)
	if time.Since(f.opened) > goodFor {
		f.pause = f.first
	}
	for {
		pause := f.pause
		f.pause = min(2*pause, f.longest)
		if time.Now().Add(pause).After(deadline) {
			f.broken = lost
			return lost
		}
		f.line.Told(lost, pause)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		place, err := f.line.Open(ctx)
		switch {
		case err == nil:
			f.place, f.count, f.opened = place, f.count+1, time.Now()
			f.line.Told(nil, 0)
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case f.line.Final != nil && f.line.Final(err):
			f.broken = fmt.Errorf("%w, and then: %w", fsys.ErrLost, err)
			return f.broken
		}
		lost = fmt.Errorf("%w, and then: %w", fsys.ErrLost, err)
	}
}

// mostTries is how often one operation is begun anew. A line that is lost each time it is used is of no use.
const mostTries = 8

// try does an operation, and once more for each time that the line was lost meanwhile. Rewind, which may be nil, makes
// ready for another go.
func (f *FS) try(ctx context.Context, rewind func() error, do func(place fsys.FS, again bool) error) error {
	for tries := 1; ; tries++ {
		place, count := f.now()
		err := do(place, tries > 1)
		if !errors.Is(err, fsys.ErrLost) || tries == mostTries {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if failed := f.again(ctx, count, err); failed != nil {
			return failed
		}
		if rewind != nil {
			if failed := rewind(); failed != nil {
				return err
			}
		}
	}
}

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
	place, _ := f.now()
	return place.Abilities()
}

// Close implements fsys.FS.
func (f *FS) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.broken = fsys.ErrLost
	return f.place.Close()
}
