package containerfs

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// A large file stays in the container. Its digest is computed as it flows by, or when somebody asks for it, and a file
// of its size without bytes (a sparse one) stands for it here. It is read there when somebody asks for its bytes; and
// where it gets another name, that is made there, too, by a link.

// remote is a file whose bytes are in the container.
type remote struct {
	origin string           // its name there
	digest *manifest.Digest // nil: nobody has asked
}

// largeFile is from what size on a file stays there, in bytes.
const largeFile = 64 << 10

// takeLarge makes what is there for a large file.
func (f *FS) takeLarge(ctx context.Context, at string, head *tar.Header, content io.Reader,
	attr fsys.Attributes) error {
	var digest *manifest.Digest
	var size int64
	var err error
	if f.opt.Lazy {
		size, err = fsys.Copy(ctx, io.Discard, content)
	} else {
		digest, size, err = hashOf(ctx, content)
	}
	if err != nil {
		return err
	}
	if size != head.Size {
		return io.ErrUnexpectedEOF
	}
	file, err := f.tree.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, attr.Mode)
	if err != nil {
		return err
	}
	err = errors.Join(file.Truncate(size), file.Chmod(attr.Mode), file.Close())
	if err == nil {
		err = f.tree.Chtimes(at, attr.ModTime, attr.ModTime)
	}
	f.remotes[at] = remote{at, digest}
	return err
}

func hashOf(ctx context.Context, content io.Reader) (*manifest.Digest, int64, error) {
	hash := sha256.New()
	size, err := fsys.Copy(ctx, hash, content)
	digest := manifest.Digest(hash.Sum(nil))
	return &digest, size, err
}

func (f *FS) remoteAt(name string) (remote, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	r, ok := f.remotes[name]
	return r, ok
}

// Open implements fsys.FS.
func (f *FS) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	if r, ok := f.remoteAt(name); ok {
		return f.openRemote(ctx, r)
	}
	return f.local.Open(ctx, name)
}

func (f *FS) openRemote(ctx context.Context, r remote) (io.ReadCloser, error) {
	archive, err := f.place.Get(ctx, path.Join(f.base, r.origin))
	if err != nil {
		return nil, err
	}
	in := tar.NewReader(archive)
	head, err := in.Next()
	if err == nil && head.Typeflag != tar.TypeReg {
		err = errors.New("it is not a file any more")
	}
	if err != nil {
		archive.Close()
		return nil, fmt.Errorf("read the engine's archive of %s: %w", r.origin, err)
	}
	return struct {
		io.Reader
		io.Closer
	}{in, archive}, nil
}

// Digests implements fsys.Digester for what stays in the container.
func (f *FS) Digests(ctx context.Context, names []string, each func(i int, digest manifest.Digest)) error {
	open := map[string]*manifest.Digest{} // by origin
	for _, name := range names {
		if r, ok := f.remoteAt(name); ok && r.digest == nil {
			open[r.origin] = nil
		}
	}
	if err := f.hash(ctx, open); err != nil {
		return err
	}
	f.mu.Lock()
	for name, r := range f.remotes {
		if digest := open[r.origin]; r.digest == nil && digest != nil {
			f.remotes[name] = remote{r.origin, digest}
		}
	}
	f.mu.Unlock()
	for i, name := range names {
		if r, ok := f.remoteAt(name); ok && r.digest != nil {
			each(i, *r.digest)
		}
	}
	return nil
}

// fewFiles is how many files are read one by one; for more, all that was brought is read once more.
const fewFiles = 8

func (f *FS) hashOf(ctx context.Context, content io.Reader) (*manifest.Digest, error) {
	digest, size, err := hashOf(ctx, content)
	f.hashed += size
	return digest, err
}

// Hashed tells how many bytes were read once more for their digests.
func (f *FS) Hashed() int64 { return f.hashed }

// hash computes digests of files of the container. One that is no longer there, or no file, keeps none.
func (f *FS) hash(ctx context.Context, open map[string]*manifest.Digest) error {
	if len(open) > fewFiles {
		for _, top := range f.tops {
			archive, err := f.place.Get(ctx, path.Join(f.base, top))
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return err
			}
			err = walkArchive(ctx, archive, top, func(at string, head *tar.Header, content io.Reader) (err error) {
				if _, asked := open[at]; asked && head.Typeflag == tar.TypeReg {
					open[at], err = f.hashOf(ctx, content)
				}
				return err
			})
			if err = errors.Join(err, archive.Close()); err != nil {
				return err
			}
		}
		return nil
	}
	for origin := range open {
		content, err := f.openRemote(ctx, remote{origin: origin})
		if err != nil {
			return err
		}
		open[origin], err = f.hashOf(ctx, fsys.WithContext(ctx, content))
		if err = errors.Join(err, content.Close()); err != nil {
			return err
		}
	}
	return nil
}

// moved notes that what was under a name, and below it where that is a folder, has another one.
func (f *FS) moved(ctx context.Context, from, to string, folder bool) {
	if from == to {
		return
	}
	_, err := f.local.Lstat(ctx, from) // two names of one file both stay
	stays := err == nil
	f.mu.Lock()
	defer f.mu.Unlock()
	r, ok := f.remotes[from]
	if delete(f.remotes, to); ok {
		f.remotes[to] = r
		if !stays {
			delete(f.remotes, from)
		}
	}
	if !folder {
		return
	}
	for _, name := range slices.Collect(maps.Keys(f.remotes)) {
		if below, ok := strings.CutPrefix(name, from+"/"); ok {
			f.remotes[to+"/"+below] = f.remotes[name]
			delete(f.remotes, name)
		}
	}
}

// fetchRemote brings the bytes of a file here.
func (f *FS) fetchRemote(ctx context.Context, name string, r remote) error {
	info, err := f.local.Lstat(ctx, name)
	if err != nil {
		return err
	}
	content, err := f.openRemote(ctx, r)
	if err != nil {
		return err
	}
	defer content.Close()
	hash := sha256.New()
	// Another name of the same file keeps what it has: the bytes come into a new one.
	if err := f.local.Remove(ctx, name); err != nil {
		return err
	}
	if _, err = f.local.Put(ctx, name, io.TeeReader(content, hash),
		fsys.Attributes{Mode: info.Mode.Perm(), ModTime: info.ModTime}); err != nil {
		return err
	}
	if r.digest != nil && manifest.Digest(hash.Sum(nil)) != *r.digest {
		return fmt.Errorf("%s of the container was altered meanwhile", path.Join(f.base, r.origin))
	}
	delete(f.remotes, name)
	return nil
}

// settleRemotes sees to it that the archive can be written: what a link cannot make in the container is brought here.
func (f *FS) settleRemotes(ctx context.Context, p *bundle) error {
	for _, name := range slices.Sorted(maps.Keys(f.remotes)) {
		if _, linked := p.aside[name]; linked || !f.comes(name, p) {
			continue
		}
		if err := f.fetchRemote(ctx, name, f.remotes[name]); err != nil {
			return err
		}
	}
	return nil
}

// comes tells whether a name is part of a bundle.
func (f *FS) comes(name string, p *bundle) bool {
	_, named := slices.BinarySearch(p.names, name)
	return named || under(name, p.anew) || under(name, p.makes)
}

// linkable tells whether a file of the container can get a second name where things are put aside.
func (f *FS) linkable(origin string) bool {
	mountOf := func(name string) (found string) {
		for _, m := range f.opt.Mounts {
			if within(name, m) && len(m) > len(found) {
				found = m
			}
		}
		return found
	}
	return mountOf(origin) == mountOf(f.opt.Aside)
}
