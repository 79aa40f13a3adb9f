package deploy

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/calls"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/lanehash"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Run brings what is missing or is otherwise. Each file is written under another name, checked, and then renamed.
func (f *Fetch) Run(ctx context.Context, s calls.Engine, watch *site.Watch) (*Fetched, error) {
	out := &Fetched{Same: f.same, Failed: slices.Clone(f.left)}
	if err := f.clearWay(); err != nil {
		return nil, err
	}
	var (
		mu    sync.Mutex
		files atomic.Int64
		size  atomic.Int64
	)
	todo := append(append([]int{}, f.Missing...), f.Replaced...)
	if watch.Phase != nil {
		watch.Phase("fetch", len(todo), f.Bytes())
	}
	came := func(i int, err error) {
		if err != nil {
			mu.Lock()
			defer mu.Unlock()
			out.Failed = append(out.Failed, site.Failure{Path: f.entries.At(i).Path, Err: err})
			return
		}
		e := f.entries.At(i)
		files.Add(1)
		size.Add(e.Size)
		if watch.File != nil {
			watch.File(e.Path, e.Size)
		}
	}
	durable, done := f.syncer()
	defer done()
	f.syncs = durable != nil
	small, others := f.batches(todo)
	err := f.gather(ctx, s, small, watch, came)
	if err == nil {
		err = f.single(ctx, s, others, watch, came)
	}
	if err == nil && f.syncs {
		err = durable.Sync(context.WithoutCancel(ctx))
	}
	slices.SortFunc(out.Failed, func(a, b site.Failure) int { return strings.Compare(a.Path, b.Path) })
	out.Files, out.Bytes = int(files.Load()), size.Load()
	return out, err
}

// syncer gives what makes all that is written durable in one step, where the system has that; else nil.
func (f *Fetch) syncer() (syncer fsys.Syncer, done func()) {
	opened, err := osfs.Open(f.Into)
	if err != nil {
		return nil, func() {}
	}
	syncer, _ = fsys.FS(opened).(fsys.Syncer)
	return syncer, func() { opened.Close() }
}

// How much is asked for at once.
const (
	batchBytes = 16 << 20
	batchFiles = 2000
)

// batches parts what is to come into small files, many of which come at once, and all else.
func (f *Fetch) batches(todo []int) (small [][]int, others []int) {
	var (
		batch []int
		size  int64
	)
	for _, i := range todo {
		e := f.entries.At(i)
		if e.Kind != manifest.File || e.Size > site.MostGathered {
			others = append(others, i)
			continue
		}
		if len(batch) == batchFiles || size+e.Size > batchBytes {
			small = append(small, batch)
			batch, size = nil, 0
		}
		batch, size = append(batch, i), size+e.Size
	}
	if len(batch) > 0 {
		small = append(small, batch)
	}
	return small, others
}

// pieceFiles is how many files are written one after the other.
const pieceFiles = 64

// piece is some small files that have come.
type piece struct {
	at    []int // which
	files []calls.Gathered
}

// gather brings small files. Those of one batch are written while the next one is read.
func (f *Fetch) gather(ctx context.Context, s calls.Engine, batches [][]int, watch *site.Watch, came func(i int, err error)) error {
	if len(batches) == 0 {
		return nil
	}
	group, ctx := errgroup.WithContext(ctx)
	pieces := make(chan piece)
	group.Go(func() error {
		defer close(pieces)
		for _, batch := range batches {
			paths := make([]string, len(batch))
			for at, i := range batch {
				paths[at] = f.entries.At(i).Path
			}
			files, err := calls.Gather.On(ctx, s, paths)
			if err == nil && len(files) != len(paths) {
				err = fmt.Errorf("%w: %d files for %d", calls.ErrProtocol, len(files), len(paths))
			}
			if err != nil {
				return err
			}
			for from := 0; from < len(batch); from += pieceFiles {
				until := min(from+pieceFiles, len(batch))
				select {
				case pieces <- piece{batch[from:until], files[from:until]}:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
		}
		return nil
	})
	for range min(max(f.Jobs, 1), 2*runtime.GOMAXPROCS(0)) {
		group.Go(func() error {
			in := folderHere{of: f}
			defer in.leave()
			for p := range pieces {
				if err := f.place(ctx, &in, p, watch, came); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return group.Wait()
}

// errDigest tells that a file is not what the site said.
var errDigest = errors.New("digest mismatch: it was altered meanwhile, or could not be read")

// place writes small files that have come, whose bytes are digested together.
func (f *Fetch) place(ctx context.Context, in *folderHere, p piece, watch *site.Watch, came func(i int, err error)) error {
	contents, digests := make([][]byte, len(p.files)), make([]manifest.Digest, len(p.files))
	into := make([]*[lanehash.Size]byte, len(p.files))
	for i := range p.files {
		contents[i], into[i] = p.files[i].Content, (*[lanehash.Size]byte)(&digests[i])
	}
	lanehash.Sum(contents, into)
	for at, i := range p.at {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		e, err := f.entries.At(i), p.files[at].Err
		if err == nil && digests[at] != e.Digest {
			err = errDigest
		}
		if err == nil {
			err = f.put(in, &e, i, func(file io.Writer) error {
				_, err := io.MultiWriter(file, told(watch)).Write(contents[at])
				return err
			})
		}
		came(i, err)
	}
	return nil
}

// single brings what are no small files, several at once.
func (f *Fetch) single(ctx context.Context, s calls.Engine, others []int, watch *site.Watch, came func(i int, err error)) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(f.Jobs, 1))
	for _, i := range others {
		group.Go(func() error {
			err := f.other(ctx, s, i, watch)
			if ctx.Err() != nil || errors.Is(err, farend.ErrLost) {
				return errors.Join(err, ctx.Err())
			}
			came(i, err)
			return nil
		})
	}
	return group.Wait()
}

// other puts in its place what is no small file.
func (f *Fetch) other(ctx context.Context, s calls.Engine, i int, watch *site.Watch) error {
	e := f.entries.At(i)
	name := f.name(&e)
	if e.Kind == manifest.Dir {
		return f.root.MkdirAll(filepath.FromSlash(name), 0o755)
	}
	in := folderHere{of: f}
	defer in.leave()
	if e.Kind == manifest.Link {
		if f.leadsOut(name) {
			return errLeads
		}
		return in.replace(name, i, func(root *os.Root, aside string) error { return root.Symlink(e.Link, aside) })
	}
	content, err := calls.Open(ctx, s, e.Path)
	if err != nil {
		return err
	}
	defer content.Close()
	return f.put(&in, &e, i, func(file io.Writer) error {
		hash := sha256.New()
		_, err := fsys.Copy(ctx, io.MultiWriter(file, hash, told(watch)), content)
		if err == nil && manifest.Digest(hash.Sum(nil)) != e.Digest {
			err = errDigest
		}
		return err
	})
}

// put puts a file in its place, which write is given to write.
func (f *Fetch) put(in *folderHere, e *manifest.Entry, i int, write func(file io.Writer) error) error {
	mode := e.Mode.Perm() & 0o755
	if mode == 0 {
		mode = 0o644
	}
	return in.replace(f.name(e), i, func(root *os.Root, aside string) error {
		file, err := root.OpenFile(aside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode|0o600)
		if err != nil {
			return err
		}
		err = write(file)
		if err == nil && !f.syncs {
			err = file.Sync()
		}
		if closing := file.Close(); err == nil {
			err = closing
		}
		if err == nil && !e.ModTime.IsZero() {
			err = root.Chtimes(aside, time.Time{}, e.ModTime)
		}
		return err
	})
}

// folderHere is the folder of this machine in which something was written last. It is kept open: what is done in it needs no other
// look at where it is.
type folderHere struct {
	of   *Fetch
	name string
	root *os.Root // nil: none is open
}

func (h *folderHere) leave() {
	if h.root != nil {
		h.root.Close()
		h.root = nil
	}
}

// enter opens the folder of a name, and makes it where it is missing.
func (h *folderHere) enter(dir string) (err error) {
	if h.root != nil && h.name == dir {
		return nil
	}
	h.leave()
	name := filepath.FromSlash(dir)
	if err := h.of.makeFolder(name); err != nil {
		return err
	}
	h.name = dir
	h.root, err = h.of.root.OpenRoot(name)
	return err
}

// replace has something written under another name, and gives it its own then.
func (h *folderHere) replace(name string, i int, write func(root *os.Root, aside string) error) error {
	dir, base := fsys.Split(name)
	if err := h.enter(dir); err != nil {
		return err
	}
	// No other name of the site ends so: a path element has 255 bytes at most, and this one is made up here.
	aside := fmt.Sprintf(".tartine-%d-%d", os.Getpid(), i)
	err := write(h.root, aside)
	if err == nil {
		err = h.root.Rename(aside, base)
	}
	if err != nil {
		_ = h.root.Remove(aside) // nothing half-written stays
	}
	return err
}

func (f *Fetch) makeFolder(dir string) error {
	if _, stands := f.folders.Load(dir); stands {
		return nil
	}
	if dir != "." {
		if err := f.root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	if _, swept := f.folders.Swap(dir, true); !swept {
		f.sweep(dir)
	}
	return nil
}

// told tells a watch of bytes that are written.
func told(watch *site.Watch) io.Writer {
	if watch.Bytes == nil {
		return io.Discard
	}
	return tellBytes(watch.Bytes)
}

type tellBytes func(int64)

func (t tellBytes) Write(p []byte) (int, error) {
	t(int64(len(p)))
	return len(p), nil
}
