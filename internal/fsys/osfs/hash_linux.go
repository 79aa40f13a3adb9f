package osfs

import (
	"context"
	"crypto/sha256"
	"errors"
	"os"
	"runtime"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
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
			h := hasher{fs: f, buf: make([]byte, 128<<10)}
			defer h.leave()
			for {
				first := int(next.Add(hashBatch)) - hashBatch
				if first >= len(names) {
					return nil
				}
				for i := first; i < min(first+hashBatch, len(names)); i++ {
					digest, err := h.file(ctx, names[i])
					if ctx.Err() != nil {
						return ctx.Err()
					}
					if err == nil {
						each(i, digest)
					}
				}
			}
		})
	}
	return group.Wait()
}

// hasher digests one file after the other.
type hasher struct {
	fs     *FS
	buf    []byte
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

var errNoFile = errors.New("not a file")

func (h *hasher) file(ctx context.Context, name string) (digest manifest.Digest, err error) {
	dir, base := fsys.Split(name)
	if err := h.enter(dir); err != nil {
		return digest, err
	}
	fd, err := unix.Openat(int(h.folder.Fd()), base, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return digest, err
	}
	defer unix.Close(fd)
	var stat unix.Stat_t
	if err := unix.Fstat(fd, &stat); err != nil {
		return digest, err
	}
	if stat.Mode&unix.S_IFMT != unix.S_IFREG {
		return digest, errNoFile
	}
	hash := sha256.New()
	for {
		n, err := unix.Read(fd, h.buf)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || ctx.Err() != nil {
			return digest, errors.Join(err, ctx.Err())
		}
		hash.Write(h.buf[:n])
		if n == 0 || int64(n) == stat.Size && n < len(h.buf) {
			break
		}
	}
	hash.Sum(digest[:0])
	return digest, nil
}
