package redial

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
)

// losing is a place whose connection is lost over and over: before an operation, so that it is not done, or after it, so that
// only the answer is missing.
type losing struct {
	*osfs.FS
	count *atomic.Int64
}

func (l losing) lose(do func() error) error {
	// The numbers jump about (a linear congruence), so that no operation is lost each time.
	switch uint32(l.count.Add(1)*1664525+1013904223) >> 16 % 12 {
	case 1:
		return farend.ErrLost
	case 2:
		_ = do() // whatever came of it, nobody hears of it
		return farend.ErrLost
	}
	err := do()
	if errors.Is(err, fs.ErrClosed) {
		return farend.ErrLost // somebody else's loss
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
	if errors.Is(err, farend.ErrLost) {
		n = 0
	}
	return n, err
}

func (f losingFile) Seek(offset int64, whence int) (int64, error) {
	return f.ReadCloser.(io.Seeker).Seek(offset, whence)
}

func (l losing) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (sent int64, err error) {
	err = l.lose(func() error { sent, err = l.FS.Put(ctx, name, content, attr); return err })
	return sent, err
}

func (l losing) Create(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (sent int64, err error) {
	err = l.lose(func() error { sent, err = l.FS.Create(ctx, name, content, attr); return err })
	return sent, err
}

func (l losing) Extend(ctx context.Context, name string, offset int64, content io.Reader, attr fsys.Attributes) (sent int64, err error) {
	err = l.lose(func() error { sent, err = l.FS.Extend(ctx, name, offset, content, attr); return err })
	return sent, err
}

func (l losing) SetAttr(ctx context.Context, name string, attr fsys.Attributes) error {
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
	return l.lose(func() error { return farend.ErrUnsupported })
}

func place(t *testing.T, open func(context.Context) (fsys.FS, error)) *FS {
	t.Helper()
	first, err := open(t.Context())
	require.NoError(t, err)
	f := New(first, Line[fsys.FS]{Open: open, Patience: 15 * time.Second, Told: func(error, time.Duration) {}})
	f.first, f.longest, f.pause = time.Microsecond, time.Microsecond, time.Microsecond
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

// onceLost is a place whose connection is lost once, after the operation was done.
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
			return farend.ErrLost
		}}
		return after, err
	})
}

func TestAnExclusiveWriteKnowsItsOwn(t *testing.T) {
	for stands, want := range map[string]error{"mine": nil, "mi": farend.ErrLost, "": farend.ErrLost, "another's": fs.ErrExist} {
		f := onceLost(t, func(place fsys.FS) {
			_, err := place.Put(t.Context(), "lock", strings.NewReader(stands), fsys.Attributes{Mode: 0o644})
			require.NoError(t, err)
		})
		_, err := f.Create(t.Context(), "lock", strings.NewReader("mine"), fsys.Attributes{Mode: 0o644})
		require.ErrorIs(t, err, want, stands)
	}
}

func TestWhatCannotBeginAnewIsALoss(t *testing.T) {
	f := onceLost(t, func(fsys.FS) {})
	_, err := f.Put(t.Context(), "file", io.MultiReader(strings.NewReader("once")), fsys.Attributes{Mode: 0o644})
	require.ErrorIs(t, err, farend.ErrLost)
}

func TestPatienceAndWhatEndsIt(t *testing.T) {
	dir, changed := t.TempDir(), errors.New("the host key has changed")
	for name, line := range map[string]Line[fsys.FS]{
		"patience runs out": {Patience: time.Millisecond},
		"a final error":     {Patience: 15 * time.Second, Final: func(err error) bool { return errors.Is(err, changed) }},
	} {
		t.Run(name, func(t *testing.T) {
			inner, err := osfs.Open(dir)
			require.NoError(t, err)
			var opened, told int
			line.Told = func(error, time.Duration) { told++ }
			line.Open = func(context.Context) (fsys.FS, error) { opened++; return nil, changed }
			f := New(&fsystest.Between{FS: inner, Before: func(string, ...string) error { return farend.ErrLost }}, line)
			f.first, f.pause = time.Microsecond, time.Microsecond
			_, err = f.Lstat(t.Context(), ".")
			require.ErrorIs(t, err, farend.ErrLost)
			require.Equal(t, opened, told)
			if line.Final != nil {
				require.Equal(t, 1, opened, "it is not tried again")
			}
			require.NotZero(t, opened)
			before := opened
			_, err = f.List(t.Context(), ".")
			require.ErrorIs(t, err, farend.ErrLost, "the next operation does not wait once more")
			require.Equal(t, before, opened)
		})
	}
}

// thin is a place whose connection carries so many bytes of a file that is written, and is lost then.
type thin struct {
	*osfs.FS
	carries   int64
	unordered int64
	sent      *atomic.Int64
}

func (l thin) Abilities() fsys.Abilities {
	able := l.FS.Abilities()
	able.Unordered = l.unordered
	return able
}

func (l thin) cut(content io.Reader) io.Reader {
	return io.MultiReader(io.TeeReader(io.LimitReader(content, l.carries), counter{l.sent}), lostReader{})
}

type counter struct{ sent *atomic.Int64 }

func (c counter) Write(p []byte) (int, error) { c.sent.Add(int64(len(p))); return len(p), nil }

type lostReader struct{}

func (lostReader) Read([]byte) (int, error) { return 0, farend.ErrLost }

func (l thin) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return l.FS.Put(ctx, name, l.through(content), attr)
}

func (l thin) Extend(ctx context.Context, name string, offset int64, content io.Reader, attr fsys.Attributes) (int64, error) {
	return l.FS.Extend(ctx, name, offset, l.through(content), attr)
}

// through cuts what is longer than the connection carries.
func (l thin) through(content io.Reader) io.Reader {
	if left, _ := fsys.SizeOf(content); left > l.carries {
		return l.cut(content)
	}
	return io.TeeReader(content, counter{l.sent})
}

// staged is content that goes on from anywhere.
type staged struct {
	*strings.Reader
	base string
}

func (s *staged) Size() int64 { return int64(s.Len()) }

func (s *staged) Resume(from int64) error {
	s.Reader.Reset(s.base[from:])
	return nil
}

func TestAFileGoesOnFromWhatArrived(t *testing.T) {
	for _, unordered := range []int64{0, 30} {
		dir, sent := t.TempDir(), &atomic.Int64{}
		f := place(t, func(context.Context) (fsys.FS, error) {
			f, err := osfs.Open(dir)
			return thin{f, 100, unordered, sent}, err
		})
		text := strings.Repeat("Gannet Rock ", 100) // twelve times what the connection carries
		size, err := f.Put(t.Context(), "plate", &staged{strings.NewReader(text), text}, fsys.Attributes{Mode: 0o644})
		require.NoError(t, err)
		require.Equal(t, int64(len(text)), size)
		digest, _, err := fsys.DigestOf(t.Context(), f, "plate")
		require.NoError(t, err)
		require.Equal(t, manifest.Digest(sha256.Sum256([]byte(text))), digest)
		require.LessOrEqual(t, sent.Load(), int64(len(text))+20*unordered, "no more is sent again than may be missing")

		size, err = f.Extend(t.Context(), "plate", 600, &staged{strings.NewReader(text[600:]), text[600:]}, fsys.Attributes{})
		require.NoError(t, err)
		require.Equal(t, int64(600), size)
	}
}

// TestPatienceIsTimeWithoutProgress has a connection that is lost after each operation for far longer than its patience.
func TestPatienceIsTimeWithoutProgress(t *testing.T) {
	dir := t.TempDir()
	const patience = 100 * time.Millisecond
	losses := 0
	open := func(context.Context) (fsys.FS, error) {
		f, err := osfs.Open(dir)
		carried := false
		return &fsystest.Between{FS: f, Before: func(string, ...string) error {
			if carried {
				losses++
				return farend.ErrLost
			}
			carried = true
			return nil
		}}, err
	}
	first, err := open(t.Context())
	require.NoError(t, err)
	f := New(first, Line[fsys.FS]{Open: open, Patience: patience, Told: func(error, time.Duration) {}})
	f.first, f.longest, f.pause = 10*time.Millisecond, 10*time.Millisecond, 10*time.Millisecond
	for losses < 30 { // three times as long as patience lasts, at least
		_, err := f.Lstat(t.Context(), ".")
		require.NoError(t, err)
	}
}

// TestAThinLineIsShared has eight files written at once over a connection that carries less, each time, than all of them have in flight.
func TestAThinLineIsShared(t *testing.T) {
	const carries, files = 300 << 10, 8
	dir := t.TempDir()
	var opened atomic.Int64
	f := place(t, func(context.Context) (fsys.FS, error) {
		opened.Add(1)
		f, err := osfs.Open(dir)
		left := &atomic.Int64{}
		left.Store(carries)
		return shared{f, left}, err
	})
	text := strings.Repeat("Gannet Rock ", 1<<20/12)
	var group errgroup.Group
	for i := range files {
		group.Go(func() error {
			_, err := f.Put(t.Context(), fmt.Sprint(i), &staged{strings.NewReader(text), text}, fsys.Attributes{Mode: 0o444})
			return err
		})
	}
	require.NoError(t, group.Wait())
	for i := range files {
		digest, _, err := fsys.DigestOf(t.Context(), f, fmt.Sprint(i))
		require.NoError(t, err)
		require.Equal(t, manifest.Digest(sha256.Sum256([]byte(text))), digest)
	}
	require.Less(t, opened.Load(), int64(files*len(text)/(128<<10)+files), "each connection brings a piece at least")
}

// shared is a place whose connection carries so many bytes for all files together, which take it in small steps, and is lost then. What is in
// flight is lost with it: none of what was not answered counts.
type shared struct {
	*osfs.FS
	left *atomic.Int64
}

func (l shared) Abilities() fsys.Abilities {
	able := l.FS.Abilities()
	able.Unordered = 1 << 30
	return able
}

// lost gives the error of an operation on what somebody else closed, since its connection is lost.
func lost(err error) error {
	if errors.Is(err, fs.ErrClosed) {
		return farend.ErrLost
	}
	return err
}

func (l shared) write(content io.Reader, write func(io.Reader) (int64, error)) (int64, error) {
	n, err := write(stepwise{content, l.left})
	return n, lost(err)
}

func (l shared) Lstat(ctx context.Context, name string) (fsys.Info, error) {
	info, err := l.FS.Lstat(ctx, name)
	return info, lost(err)
}

func (l shared) SetAttr(ctx context.Context, name string, attr fsys.Attributes) error {
	return lost(l.FS.SetAttr(ctx, name, attr))
}

func (l shared) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return l.write(content, func(in io.Reader) (int64, error) { return l.FS.Put(ctx, name, in, attr) })
}

func (l shared) Create(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return l.write(content, func(in io.Reader) (int64, error) { return l.FS.Create(ctx, name, in, attr) })
}

func (l shared) Extend(ctx context.Context, name string, offset int64, content io.Reader, attr fsys.Attributes) (int64, error) {
	return l.write(content, func(in io.Reader) (int64, error) { return l.FS.Extend(ctx, name, offset, in, attr) })
}

// stepwise lets others go on after each few bytes.
type stepwise struct {
	in   io.Reader
	left *atomic.Int64
}

func (s stepwise) Read(p []byte) (int, error) {
	n, err := s.in.Read(p[:min(len(p), 16<<10)])
	if s.left.Add(-int64(n)) < 0 {
		return 0, farend.ErrLost
	}
	<-time.After(100 * time.Microsecond)
	return n, err
}
