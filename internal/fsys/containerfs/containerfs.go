// Package containerfs is a folder of a container in which nothing can be started, as an fsys.FS. The engine carries such a
// folder only as a whole, in archives (tar), and can neither rename nor remove in it.
//
// So what the site needs is brought into a folder of this machine first. All operations are done there, and Push carries
// what they changed into the container, in one archive. What was removed makes the folder that held it go too and come
// anew, with everything else that was in it: an archive that has a file and then a folder under one name does that. Until
// Push nothing changes in the container; while it runs, files are replaced one after the other, and not in one step.
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
	"sync"
	"syscall"
	"time"

	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
)

// Place is a container that takes and gives archives.
type Place interface {
	// Get packs what stands at a path; the archive's names begin with its last element. It fails with fs.ErrNotExist.
	Get(ctx context.Context, path string) (io.ReadCloser, error)
	// Put unpacks an archive into a folder that stands.
	Put(ctx context.Context, folder string, archive io.Reader) error
}

// FS implements fsys.FS.
type FS struct {
	fsys.FS // the folder of this machine
	local   *osfs.FS
	place   Place
	base    string // absolute, in the container
	dir     string // of this machine
	opt     Options

	mu      sync.Mutex
	there   map[string]standing // what stands in the container, as far as it was brought here
	changed map[string]bool
	odd     []string // devices and the like, which cannot be carried back
}

// standing is what is known of a name in the container beside what stands here.
type standing struct{ user, group int }

var _ fsys.FS = (*FS)(nil)

// Options says what a container is like.
type Options struct {
	Owner   *osfs.Owner // whom belongs what is made; nil: root
	Windows bool        // it knows no modes and has names of its own
}

// mostCarried is how many bytes are brought here at most.
const mostCarried = 64 << 30

// Open brings some names of a folder of a container here, with everything below them. A name at which nothing stands is
// none.
func Open(ctx context.Context, place Place, base string, names []string, opt Options) (*FS, error) {
	if opt.Owner == nil {
		opt.Owner = &osfs.Owner{}
	}
	dir, err := os.MkdirTemp("", "tartine-container-")
	if err != nil {
		return nil, err
	}
	f := &FS{place: place, base: base, dir: dir, opt: opt, there: map[string]standing{}, changed: map[string]bool{}}
	if f.local, err = osfs.Open(dir); err == nil {
		f.FS = f.local
		for _, name := range names {
			if err = f.bring(ctx, name); err != nil {
				break
			}
		}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Close removes what was brought here.
func (f *FS) Close() error {
	var err error
	if f.local != nil {
		err = f.local.Close()
	}
	return errors.Join(err, os.RemoveAll(f.dir))
}

// Abilities implements fsys.FS.
func (f *FS) Abilities() fsys.Abilities {
	out := f.local.Abilities()
	out.AtomicReplace, out.TimeStep = false, time.Second
	if f.opt.Windows { // links can be made there by some alone
		out.Modes, out.Links, out.WindowsNames = false, false, true
	}
	return out
}

func (f *FS) bring(ctx context.Context, name string) error {
	archive, err := f.place.Get(ctx, path.Join(f.base, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer archive.Close()
	return walkArchive(ctx, archive, name, func(at string, head *tar.Header, content io.Reader) error {
		f.there[at] = standing{head.Uid, head.Gid}
		return f.take(ctx, at, head, content)
	})
}

// walkArchive goes through an archive whose names begin with the last element of name.
func walkArchive(ctx context.Context, archive io.Reader, name string, each func(at string, head *tar.Header, content io.Reader) error) error {
	in := tar.NewReader(io.LimitReader(archive, mostCarried))
	for {
		head, err := in.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read the engine's archive of %s: %w", name, err)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		_, below, _ := strings.Cut(strings.TrimSuffix(path.Clean(head.Name), "/"), "/")
		at := fsys.Join(name, path.Join(".", below))
		if below != "" && !fs.ValidPath(below) {
			return fmt.Errorf("the engine's archive of %s names %q", name, head.Name)
		}
		if err := each(at, head, fsys.WithContext(ctx, in)); err != nil {
			return err
		}
	}
}

// take puts one name of an archive into the folder here.
func (f *FS) take(ctx context.Context, at string, head *tar.Header, content io.Reader) error {
	mode := head.FileInfo().Mode()
	attr := fsys.Attr{Mode: mode.Perm(), ModTime: head.ModTime.Truncate(time.Second)}
	switch head.Typeflag {
	case tar.TypeDir:
		return f.local.Mkdir(ctx, at, mode.Perm()|0o700)
	case tar.TypeReg:
		attr.Mode |= 0o400 // it must be read here
		_, err := f.local.Put(ctx, at, content, attr)
		return err
	case tar.TypeSymlink:
		return f.local.Symlink(ctx, head.Linkname, at)
	case tar.TypeLink: // another name of a file of the same archive
		_, below, _ := strings.Cut(path.Clean(head.Linkname), "/")
		top, _, _ := strings.Cut(at, "/")
		return f.local.Link(ctx, fsys.Join(top, below), at)
	default:
		f.odd = append(f.odd, at)
		return nil
	}
}

func (f *FS) note(err error, names ...string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, name := range names { // also after an error: part of it may have been done
		f.changed[name] = true
	}
	return err
}

// Put implements fsys.FS.
func (f *FS) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attr) (int64, error) {
	size, err := f.local.Put(ctx, name, content, attr)
	return size, f.note(err, name)
}

// SetAttr implements fsys.FS.
func (f *FS) SetAttr(ctx context.Context, name string, attr fsys.Attr) error {
	return f.note(f.local.SetAttr(ctx, name, attr), name)
}

// Symlink implements fsys.FS.
func (f *FS) Symlink(ctx context.Context, target, name string) error {
	return f.note(f.local.Symlink(ctx, target, name), name)
}

// Mkdir implements fsys.FS.
func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	return f.note(f.local.Mkdir(ctx, name, mode), name)
}

// Rename implements fsys.FS.
func (f *FS) Rename(ctx context.Context, from, to string) error {
	err := f.local.Rename(ctx, from, to)
	names := []string{from, to}
	f.mu.Lock()
	for name := range f.there { // another folder may take the place of one that went, but not its content
		if strings.HasPrefix(name, from+"/") {
			names = append(names, name)
		}
	}
	f.mu.Unlock()
	if err == nil { // and what comes with it may find a folder of its name there
		var below []string
		below, err = f.below(ctx, to)
		names = append(names, below...)
	}
	return f.note(err, names...)
}

// below gives all names below one.
func (f *FS) below(ctx context.Context, name string) (names []string, err error) {
	info, err := f.local.Lstat(ctx, name)
	if err != nil || !info.Mode.IsDir() {
		return nil, err
	}
	list, err := f.local.List(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, info := range list {
		at := fsys.Join(name, info.Name)
		more, err := f.below(ctx, at)
		if err != nil {
			return nil, err
		}
		names = append(append(names, at), more...)
	}
	return names, nil
}

// Remove implements fsys.FS.
func (f *FS) Remove(ctx context.Context, name string) error {
	return f.note(f.local.Remove(ctx, name), name)
}

// Link implements fsys.Linker.
func (f *FS) Link(ctx context.Context, from, to string) error {
	return f.note(f.local.Link(ctx, from, to), to)
}

// parcel is what goes into the container.
type parcel struct {
	anew  []string // folders that go, and come again
	names []string // what comes, in order; folders with everything below them where they are new
}

// Push carries what was changed into the container, and reads it back there: it fails when anything is not as it should be.
func (f *FS) Push(ctx context.Context) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	p, err := f.pack(ctx)
	if err != nil || len(p.anew)+len(p.names) == 0 {
		return err
	}
	sent := map[string]manifest.Digest{}
	out, in := io.Pipe()
	writing := make(chan error, 1)
	go func() {
		err := f.write(ctx, in, p, sent)
		in.CloseWithError(err)
		writing <- err
	}()
	err = f.place.Put(ctx, f.base, out)
	out.CloseWithError(errors.New("the engine takes no more"))
	if failed := <-writing; failed != nil && err == nil {
		err = failed
	}
	if err != nil {
		return err
	}
	if err := f.check(ctx, p, sent); err != nil {
		return err
	}
	f.changed = map[string]bool{}
	return nil
}

// pack finds out what must go and what must come.
func (f *FS) pack(ctx context.Context) (*parcel, error) {
	anew := map[string]bool{}
	p := &parcel{}
	var fresh []string // folders that are new, and so come with all that is in them
	for _, name := range slices.Sorted(maps.Keys(f.changed)) {
		info, err := f.local.Lstat(ctx, name)
		switch {
		case err == nil && under(name, fresh):
		case err == nil:
			p.names = append(p.names, name)
			if _, there := f.there[name]; !there && info.Mode.IsDir() {
				fresh = append(fresh, name)
			}
		case !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR): // else a folder above it is gone, or a file now
			return nil, err
		default:
			if _, there := f.there[name]; !there {
				continue // it came and went here
			}
			dir, _ := fsys.Split(name)
			for ; dir != "."; dir, _ = fsys.Split(dir) {
				if info, err := f.local.Lstat(ctx, dir); err == nil && info.Mode.IsDir() {
					break
				}
			}
			if dir == "." {
				return nil, fmt.Errorf("%s cannot be removed from a container in which nothing can be started", path.Join(f.base, name))
			}
			anew[dir] = true
		}
	}
	for _, dir := range slices.Sorted(maps.Keys(anew)) {
		if under(dir, p.anew) {
			continue
		}
		for _, odd := range f.odd {
			if strings.HasPrefix(odd, dir+"/") {
				return nil, fmt.Errorf("%s holds %s, which the engine cannot carry: remove it in the container first", path.Join(f.base, dir), odd)
			}
		}
		p.anew = append(p.anew, dir)
	}
	p.names = slices.DeleteFunc(p.names, func(name string) bool { return slices.Contains(p.anew, name) || under(name, p.anew) })
	return p, nil
}

func under(name string, folders []string) bool {
	return slices.ContainsFunc(folders, func(dir string) bool { return strings.HasPrefix(name, dir+"/") })
}

// write writes the archive. Records come last: while something is missing, what is recorded is what stood before.
func (f *FS) write(ctx context.Context, to io.Writer, p *parcel, sent map[string]manifest.Digest) error {
	out := tar.NewWriter(to)
	order := func(a, b string) int {
		if x, y := strings.HasPrefix(a, "."), strings.HasPrefix(b, "."); x != y {
			if x {
				return 1
			}
			return -1
		}
		return strings.Compare(a, b)
	}
	all := slices.Concat(p.anew, p.names)
	slices.SortFunc(all, order)
	for _, name := range all {
		anew := slices.Contains(p.anew, name)
		if anew { // a file in the folder's place makes it go
			if err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o600, Format: tar.FormatPAX}); err != nil {
				return err
			}
		}
		if err := f.writeTree(ctx, out, name, anew, sent); err != nil {
			return err
		}
	}
	return out.Close()
}

func (f *FS) writeTree(ctx context.Context, out *tar.Writer, name string, whole bool, sent map[string]manifest.Digest) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	info, err := f.local.Lstat(ctx, name)
	if err != nil {
		return err
	}
	owner, known := f.there[name]
	if !known {
		owner = standing{f.opt.Owner.User, f.opt.Owner.Group}
	}
	head := &tar.Header{Name: name, Mode: int64(info.Mode.Perm()), ModTime: info.ModTime, Uid: owner.user, Gid: owner.group, Format: tar.FormatPAX}
	switch {
	case info.Mode.IsDir():
		head.Typeflag, head.Name = tar.TypeDir, name+"/"
		if err := out.WriteHeader(head); err != nil {
			return err
		}
		if known && !whole {
			return nil // what is in it has been noted for itself
		}
		list, err := f.local.List(ctx, name)
		if err != nil {
			return err
		}
		slices.SortFunc(list, func(a, b fsys.Info) int { return strings.Compare(a.Name, b.Name) })
		for _, below := range list {
			if err := f.writeTree(ctx, out, fsys.Join(name, below.Name), true, sent); err != nil {
				return err
			}
		}
		return nil
	case info.Mode&fs.ModeSymlink != 0:
		head.Typeflag, head.Linkname = tar.TypeSymlink, info.Link
		return out.WriteHeader(head)
	}
	head.Typeflag, head.Size = tar.TypeReg, info.Size
	if err := out.WriteHeader(head); err != nil {
		return err
	}
	content, err := f.local.Open(ctx, name)
	if err != nil {
		return err
	}
	defer content.Close()
	hash := sha256.New()
	if _, err := fsys.Copy(ctx, io.MultiWriter(out, hash), content); err != nil {
		return err
	}
	sent[name] = manifest.Digest(hash.Sum(nil))
	return nil
}

// check reads what was sent back, and notes what stands there now.
func (f *FS) check(ctx context.Context, p *parcel, sent map[string]manifest.Digest) error {
	tops := map[string]bool{}
	for _, name := range slices.Concat(p.anew, p.names) {
		top, _, _ := strings.Cut(name, "/")
		tops[top] = true
	}
	maps.DeleteFunc(f.there, func(name string, _ standing) bool {
		top, _, _ := strings.Cut(name, "/")
		return tops[top]
	})
	for _, top := range slices.Sorted(maps.Keys(tops)) {
		archive, err := f.place.Get(ctx, path.Join(f.base, top))
		if err != nil {
			return err
		}
		err = walkArchive(ctx, archive, top, func(at string, head *tar.Header, content io.Reader) error {
			f.there[at] = standing{head.Uid, head.Gid}
			want, ok := sent[at]
			if !ok {
				return nil
			}
			delete(sent, at)
			if head.Typeflag == tar.TypeLink {
				return nil // of a file that is checked under its other name
			}
			hash := sha256.New()
			if _, err := io.Copy(hash, content); err != nil {
				return err
			}
			if manifest.Digest(hash.Sum(nil)) != want {
				return fmt.Errorf("%s of the container is not what was sent", path.Join(f.base, at))
			}
			return nil
		})
		if closing := archive.Close(); err == nil {
			err = closing
		}
		if err != nil {
			return err
		}
	}
	for name := range sent {
		return fmt.Errorf("%s of the container is missing after it was sent", path.Join(f.base, name))
	}
	return nil
}
