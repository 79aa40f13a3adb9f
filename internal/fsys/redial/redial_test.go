package redial

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
)

// losing is a place whose line is lost over and over: before an operation, so that it is not done, or after it, so that
// only the answer is missing.
type losing struct {
	*osfs.FS
	count *atomic.Int64
}

func (l losing) lose(do func() error) error {
	// The numbers jump about (a linear congruence), so that no operation is lost each time.
	switch uint32(l.count.Add(1)*1664525+1013904223) >> 16 % 12 {
	case 1:
		return fsys.ErrLost
	case 2:
		_ = do() // whatever came of it, nobody hears of it
		return fsys.ErrLost
	}
	err := do()
	if errors.Is(err, fs.ErrClosed) {
		return fsys.ErrLost // somebody else's loss
	}
	return err
}

func (l losing) Lstat(ctx context.Context, name string) (info fsys.Info, err error) {
	err = l.lose(func() error { info, err = l.FS.Lstat(ctx, name); return err })
	return info, err
}

func (l losing) List(ctx context.Context, dir string) (list []fsys.Info, err error) {
	err = l.lose(func() error { list, err = l.FS.List(ctx, dir); return err })
	return list, err
}

func (l losing) Open(ctx context.Context, name string) (file io.ReadCloser, err error) {
	err = l.lose(func() error { file, err = l.FS.Open(ctx, name); return err })
	if err != nil {
		return nil, err
	}
	return losingFile{file, l}, nil
}

type losingFile struct {
	io.ReadCloser
	l losing
}

func (f losingFile) Read(p []byte) (n int, err error) {
	err = f.l.lose(func() error { n, err = f.ReadCloser.Read(p[:min(len(p), 1000)]); return err })
	if errors.Is(err, fsys.ErrLost) {
		n = 0
	}
	return n, err
}

func (f losingFile) Seek(offset int64, whence int) (int64, error) {
	return f.ReadCloser.(io.Seeker).Seek(offset, whence)
}

func (l losing) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attr) (sent int64, err error) {
	err = l.lose(func() error { sent, err = l.FS.Put(ctx, name, content, attr); return err })
	return sent, err
}

func (l losing) Extend(ctx context.Context, name string, offset int64, content io.Reader, attr fsys.Attr) (sent int64, err error) {
	err = l.lose(func() error { sent, err = l.FS.Extend(ctx, name, offset, content, attr); return err })
	return sent, err
}

func (l losing) SetAttr(ctx context.Context, name string, attr fsys.Attr) error {
	return l.lose(func() error { return l.FS.SetAttr(ctx, name, attr) })
}

func (l losing) Symlink(ctx context.Context, target, name string) error {
	return l.lose(func() error { return l.FS.Symlink(ctx, target, name) })
}

func (l losing) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	return l.lose(func() error { return l.FS.Mkdir(ctx, name, mode) })
}

func (l losing) Rename(ctx context.Context, from, to string) error {
	return l.lose(func() error { return l.FS.Rename(ctx, from, to) })
}

func (l losing) Remove(ctx context.Context, name string) error {
	return l.lose(func() error { return l.FS.Remove(ctx, name) })
}

func (l losing) Link(ctx context.Context, from, to string) error {
	return l.lose(func() error { return l.FS.Link(ctx, from, to) })
}

func (l losing) Digests(ctx context.Context, names []string, each func(int, manifest.Digest)) error {
	return l.lose(func() error { return fsys.ErrUnsupported })
}

func place(t *testing.T, open func(context.Context) (fsys.FS, error)) *FS {
	t.Helper()
	first, err := open(t.Context())
	require.NoError(t, err)
	f := New(first, Line[fsys.FS]{Open: open, Patience: time.Minute, Told: func(error, time.Duration) {}})
	f.first, f.longest = time.Microsecond, time.Microsecond
	t.Cleanup(func() { f.Close() })
	return f
}

// TestConformanceOverALineThatIsLostAllTheTime is the proof that a lost answer is not mistaken for a failure.
func TestConformanceOverALineThatIsLostAllTheTime(t *testing.T) {
	fsystest.Run(t, func(t *testing.T) fsys.FS {
		dir, count := t.TempDir(), &atomic.Int64{}
		return place(t, func(context.Context) (fsys.FS, error) {
			f, err := osfs.Open(dir)
			return losing{f, count}, err
		})
	})
}

// onceLost is a place whose line is lost once, after the operation was done.
func onceLost(t *testing.T, lose func(place fsys.FS)) *FS {
	dir := t.TempDir()
	lost := false
	return place(t, func(context.Context) (fsys.FS, error) {
		f, err := osfs.Open(dir)
		after := &fsystest.Between{FS: f, Before: func(op string, _ ...string) error {
			if op != "put" || lost {
				return nil
			}
			lost = true
			lose(f)
			return fsys.ErrLost
		}}
		return after, err
	})
}

func TestAnExclusiveWriteKnowsItsOwn(t *testing.T) {
	for stands, want := range map[string]error{"mine": nil, "mi": fsys.ErrLost, "": fsys.ErrLost, "another's": fs.ErrExist} {
		f := onceLost(t, func(place fsys.FS) {
			_, err := place.Put(t.Context(), "lock", strings.NewReader(stands), fsys.Attr{Mode: 0o644})
			require.NoError(t, err)
		})
		_, err := f.Put(t.Context(), "lock", strings.NewReader("mine"), fsys.Attr{Mode: 0o644, New: true})
		require.ErrorIs(t, err, want, stands)
	}
}

func TestWhatCannotBeginAnewIsALoss(t *testing.T) {
	f := onceLost(t, func(fsys.FS) {})
	_, err := f.Put(t.Context(), "file", io.MultiReader(strings.NewReader("once")), fsys.Attr{Mode: 0o644})
	require.ErrorIs(t, err, fsys.ErrLost)
}

func TestPatienceAndWhatEndsIt(t *testing.T) {
	dir, changed := t.TempDir(), errors.New("the host key has changed")
	for name, line := range map[string]Line[fsys.FS]{
		"patience runs out": {Patience: time.Millisecond},
		"a final error":     {Patience: time.Minute, Final: func(err error) bool { return errors.Is(err, changed) }},
	} {
		t.Run(name, func(t *testing.T) {
			inner, err := osfs.Open(dir)
			require.NoError(t, err)
			var opened, told int
			line.Told = func(error, time.Duration) { told++ }
			line.Open = func(context.Context) (fsys.FS, error) { opened++; return nil, changed }
			f := New(&fsystest.Between{FS: inner, Before: func(string, ...string) error { return fsys.ErrLost }}, line)
			f.first = time.Microsecond
			_, err = f.Lstat(t.Context(), ".")
			require.ErrorIs(t, err, fsys.ErrLost)
			require.Equal(t, opened, told)
			require.NotZero(t, opened)
			before := opened
			_, err = f.List(t.Context(), ".")
			require.ErrorIs(t, err, fsys.ErrLost, "the next operation does not wait once more")
			require.Equal(t, before, opened)
		})
	}
}
