package osfs

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"os"
	"runtime"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
	"tartine/internal/lanehash"
	"tartine/internal/manifest"
)

// hashBatch is how many files one worker takes at a time.
const hashBatch = 64

// Hash implements fsys.Hasher. A folder is opened once for the files in it that follow one another; they are opened below
// it by names of one element, none of which is followed as a link.
func (f *FS) Hash(ctx context.Context, names []string, each func(int, manifest.Digest)) error {
	var next atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	for range min(runtime.GOMAXPROCS(0), (len(names)+hashBatch-1)/hashBatch) {
		group.Go(func() error {
			h := hasher{fs: f, hash: sha256.New(), buf: make([]byte, 128<<10), each: each}
			defer h.leave()
			for {
				first := int(next.Add(hashBatch)) - hashBatch
				if first >= len(names) {
					return nil
				}
				for i := first; i < min(first+hashBatch, len(names)); i++ {
					_ = h.file(ctx, i, names[i]) // who asks learns it from the digest that is missing
					if ctx.Err() != nil {
						return ctx.Err()
					}
				}
				h.sum()
			}
		})
	}
	return group.Wait()
}

// hasher reads one file after the other, and digests small ones together.
type hasher struct {
	fs      *FS
	hash    hash.Hash
	buf     []byte
	each    func(int, manifest.Digest)
	small   lanehash.Batch
	waiting [hashBatch]waiting // small files that were read
	count   int

	folder *os.File // that the last file was in; nil: none is open
	name   string
}

func (h *hasher) leave() {
	if h.folder != nil {
		h.folder.Close()
		h.folder = nil
	}
}

func (h *hasher) enter(dir string) (err error) {
	if h.folder != nil && h.name == dir {
		return nil
	}
	h.leave()
	h.folder, err = h.fs.root.Open(dir)
	h.name = dir
	return err
}

// waiting is a file whose digest is there with the next sum.
type waiting struct {
	at     int
	digest manifest.Digest
}

// sum digests the small files that were read.
func (h *hasher) sum() {
	h.small.Sum()
	for i := range h.waiting[:h.count] {
		h.each(h.waiting[i].at, h.waiting[i].digest)
	}
	h.count = 0
}

func (h *hasher) file(ctx context.Context, at int, name string) error {
	dir, base := fsys.Split(name)
	if err := h.enter(dir); err != nil {
		return err
	}
	fd, length, err := openFile(h.folder, base)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	small := length <= lanehash.Longest
	buf := h.buf
	if small {
		if h.small.Full() {
			h.sum()
		}
		buf = h.small.Room(int(length) + 1)
	}
	h.hash.Reset()
	for {
		n, err := unix.Read(fd, buf)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		if small && int64(n) == length { // all of it at once
			w := &h.waiting[h.count]
			w.at, h.count = at, h.count+1
			h.small.Add(n, (*[lanehash.Size]byte)(&w.digest))
			return nil
		}
		h.hash.Write(buf[:n])
		if n == 0 || int64(n) == length && n < len(buf) {
			break
		}
	}
	var digest manifest.Digest
	h.hash.Sum(digest[:0])
	h.each(at, digest)
	return nil
}
