// Package containerfs is a folder of a container in which nothing can be started, as an fsys.FS. The engine carries
// such a folder only as a whole, in archives (tar), and can neither rename nor remove in it.
//
// So what the site needs is brought into a folder of this machine first, all but the bytes of large files. All
// operations are done there, and Push carries what they changed into the container, in one archive. What was removed
// makes the folder that held it go too and come anew, with everything else that was in it: an archive that has a file
// and then a folder under one name does that. Until Push nothing changes in the container; while it runs, files are
// replaced one after the other, and not in one step.
//
// An archive that ends early, because the line or the power went, leaves a part of what it brings. So it begins with a
// note of what it is about to change, and with second names (hard links) in Options.Aside of all files in folders that
// go and come anew; they end with it. Open puts back what such a folder has lost, and Interrupted tells what was
// changed.
package containerfs

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
)

// Place is a container that takes and gives archives.
type Place interface {
	// Get packs what is at a path; the archive's names begin with its last element. It fails with fs.ErrNotExist.
	Get(ctx context.Context, path string) (io.ReadCloser, error)
	// Put unpacks an archive into a folder that exists.
	Put(ctx context.Context, folder string, archive io.Reader) error
}

// FS implements fsys.FS.
type FS struct {
	claimed io.Closer // says that dir is in use
	read    int64     // see Read
	hashed  int64     // see Hashed
	fsys.FS           // the folder of this machine
	local   *osfs.FS
	tree    *os.Root // the same
	place   Place
	base    string   // absolute, in the container
	tops    []string // what was brought
	dir     string   // of this machine: tree is what is there, held what was put aside
	opt     Options

	unfinished *note // of an archive that ended early; nil: none did
	mu         sync.Mutex
	there      map[string]standing // what is in the container, as far as it was brought here
	changed    map[string]bool
	remotes    map[string]remote
	odd        []string // devices and the like, which cannot be carried back
}

// standing is what is known of a name in the container beside what is here.
type standing struct {
	user, group int
	file        bool // with bytes
}

var _ fsys.FS = (*FS)(nil)

// Options says what a container is like.
type Options struct {
	Owner   *osfs.Owner // whom belongs what is made; nil: root
	Root    osfs.Owner  // the numbers of the container's root in archives that it gives; in those it takes they are 0
	Windows bool        // it knows no modes and has names of its own
	Aside   string      // a name of which others make no use, in a folder that is last to be changed: the site's record
	Last    string      // a name that comes after all others, if it comes: what says how far the site is
	Lazy    bool        // digests of large files are computed when somebody asks for them, and not as they flow by
	Mounts  []string    // names at which something else is mounted: no folder above them can go
}

func (f *FS) standing(head *tar.Header) standing {
	inside := func(id, root int, fallback int) int {
		if id < root { // nobody's in the container
			return fallback
		}
		return id - root
	}
	return standing{inside(head.Uid, f.opt.Root.User, f.opt.Owner.User),
		inside(head.Gid, f.opt.Root.Group, f.opt.Owner.Group),
		head.Typeflag == tar.TypeReg || head.Typeflag == tar.TypeLink}
}

// mostCarried is how many bytes are brought here at most.
const mostCarried = 64 << 30

// folderPrefix begins the name of the folder to which things are brought; chance ends it.
const folderPrefix = "tartine-container-"

// Open brings some names of a folder of a container here, with everything below them. A name at which nothing exists is
// none.
func Open(ctx context.Context, place Place, base string, names []string, opt Options) (*FS, error) {
	if opt.Owner == nil {
		opt.Owner = &osfs.Owner{}
	}
	sweep()
	dir, err := os.MkdirTemp("", folderPrefix)
	if err != nil {
		return nil, err
	}
	claimed, err := claim(dir)
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	f := &FS{claimed: claimed, place: place, base: base, tops: names, dir: dir, opt: opt, there: map[string]standing{},
		changed: map[string]bool{}, remotes: map[string]remote{}}
	if err = f.fill(ctx, names); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (f *FS) fill(ctx context.Context, names []string) (err error) {
	for _, name := range []string{treeFolder, heldFolder} {
		if err := os.Mkdir(filepath.Join(f.dir, name), 0o700); err != nil {
			return err
		}
	}
	if f.tree, err = os.OpenRoot(filepath.Join(f.dir, treeFolder)); err != nil {
		return err
	}
	if f.local, err = osfs.Open(f.tree.Name()); err != nil {
		return err
	}
	f.FS = f.local
	for _, name := range names {
		if err := f.bring(ctx, name); err != nil {
			return err
		}
	}
	return f.restore(ctx)
}

// The folders of this machine's.
const (
	treeFolder = "tree"
	heldFolder = "held"
)

// Close removes what was brought here.
func (f *FS) Close() error {
	var err error
	if f.tree != nil {
		err = f.tree.Close()
	}
	if f.local != nil {
		err = errors.Join(err, f.local.Close())
	}
	return errors.Join(err, os.RemoveAll(f.dir), f.claimed.Close())
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
		if aside, below := f.belowAside(at); aside {
			return f.takeAside(name, below, head, content)
		}
		f.there[at] = f.standing(head)
		f.read += head.Size
		return f.unpack(ctx, name, at, head, content)
	})
}

// Read tells how many bytes of files were read to find out what is there.
func (f *FS) Read() int64 { return f.read }

// walkArchive goes through an archive whose names begin with the last element of name.
func walkArchive(ctx context.Context, archive io.Reader, name string,
	each func(at string, head *tar.Header, content io.Reader) error) error {
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

// unpack puts one name of an archive of top into the folder here.
func (f *FS) unpack(ctx context.Context, top, at string, head *tar.Header, content io.Reader) error {
	mode := head.FileInfo().Mode()
	attr := fsys.Attributes{Mode: mode.Perm(), ModTime: head.ModTime.Truncate(time.Second)}
	switch head.Typeflag {
	case tar.TypeDir:
		if at == "." {
			return nil
		}
		return f.local.Mkdir(ctx, at, mode.Perm()|0o700)
	case tar.TypeReg:
		attr.Mode |= 0o400 // it must be read here
		if head.Size >= largeFile {
			return f.takeLarge(ctx, at, head, content, attr)
		}
		_, err := f.local.Put(ctx, at, content, attr)
		return err
	case tar.TypeSymlink:
		return f.local.Symlink(ctx, head.Linkname, at)
	case tar.TypeLink: // another name of a file of the same archive
		first := linked(top, head)
		aside, below := f.belowAside(first)
		if !aside {
			if r, ok := f.remotes[first]; ok {
				f.remotes[at] = remote{at, r.digest}
			}
			return f.local.Link(ctx, first, at)
		}
		held, err := os.Open(f.heldFile(below))
		if err != nil {
			return err
		}
		defer held.Close()
		attr.Mode |= 0o400
		_, err = f.local.Put(ctx, at, held, attr)
		return err
	default:
		f.odd = append(f.odd, at)
		return nil
	}
}

// linked gives the name of the file that a hard link of an archive of top is of.
func linked(top string, head *tar.Header) string {
	_, below, _ := strings.Cut(path.Clean(head.Linkname), "/")
	return fsys.Join(top, below)
}

// Lstat implements fsys.FS. When files changed here says nothing of those of the container.
func (f *FS) Lstat(ctx context.Context, name string) (fsys.Info, error) {
	info, err := f.local.Lstat(ctx, name)
	info.Changed = time.Time{}
	return info, err
}

// List implements fsys.FS.
func (f *FS) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	list, err := f.local.List(ctx, dir)
	for i := range list {
		list[i].Changed = time.Time{}
	}
	return list, err
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
func (f *FS) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	size, err := f.local.Put(ctx, name, content, attr)
	f.forget(name)
	return size, f.note(err, name)
}

// Create implements fsys.FS.
func (f *FS) Create(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	size, err := f.local.Create(ctx, name, content, attr)
	if !errors.Is(err, fs.ErrExist) {
		f.forget(name)
	}
	return size, f.note(err, name)
}

// SetAttr implements fsys.FS.
func (f *FS) SetAttr(ctx context.Context, name string, attr fsys.Attributes) error {
	if r, ok := f.remoteAt(name); ok { // a link cannot change it
		f.mu.Lock()
		err := f.fetchRemote(ctx, name, r)
		f.mu.Unlock()
		if err != nil {
			return err
		}
	}
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
	info, missing := f.local.Lstat(ctx, from)
	folder := missing == nil && info.Mode.IsDir()
	err := f.local.Rename(ctx, from, to)
	names := []string{from, to}
	if folder {
		f.mu.Lock()
		for name := range f.there { // another folder may take the place of one that went, but not its content
			if strings.HasPrefix(name, from+"/") {
				names = append(names, name)
			}
		}
		f.mu.Unlock()
	}
	if err == nil { // and what comes with it may find a folder of its name there
		f.moved(ctx, from, to, folder)
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
	err := f.local.Remove(ctx, name)
	if err == nil {
		f.forget(name)
	}
	return f.note(err, name)
}

// Link implements fsys.Linker.
func (f *FS) Link(ctx context.Context, from, to string) error {
	err := f.local.Link(ctx, from, to)
	f.mu.Lock()
	if r, ok := f.remotes[from]; ok && err == nil {
		f.remotes[to] = r
	}
	f.mu.Unlock()
	return f.note(err, to)
}

// forget notes that other bytes are under a name, or none.
func (f *FS) forget(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.remotes, name)
}
