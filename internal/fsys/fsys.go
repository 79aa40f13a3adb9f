// Package fsys is what a site needs of its place: a few file operations, each of them whole.
//
// The packages below it implement FS for a folder of this machine (osfs), for servers reached over SFTP (sftpfs) or FTP
// (ftpfs), and for containers in which nothing can be started (containerfs); redial opens the connection of any of them
// again when it is lost. All of them pass the suite in fsystest; that suite is the full statement of what an FS does.
package fsys

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/manifest"
)

// FS is a tree of files below a base folder. Names are slash-separated and relative to the base, which is ".".
//
// Errors match fs.ErrNotExist, fs.ErrExist and fs.ErrPermission where that is their cause, and ErrLost when the
// connection to the far end is gone. No name leads out of the base through "..". Methods may be called from several
// goroutines at once.
type FS interface {
	// Lstat describes a name without following a link.
	Lstat(ctx context.Context, name string) (Info, error)
	// List describes what is in a folder, in any order. Info.Name is the last element, as the far end spells it.
	List(ctx context.Context, dir string) ([]Info, error)
	// Open reads a file. It fails for a folder and does not follow a link out of the base.
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// Put writes a whole file, in the place of one that exists there, and returns the bytes written. When it fails,
	// part of a file may remain under the name.
	Put(ctx context.Context, name string, content io.Reader, attr Attributes) (int64, error)
	// Create is Put for a name at which nothing exists; it fails with fs.ErrExist where something does.
	Create(ctx context.Context, name string, content io.Reader, attr Attributes) (int64, error)
	// SetAttr gives a file or folder another mode, and another time unless that is zero.
	SetAttr(ctx context.Context, name string, attr Attributes) error
	// Symlink makes a new link that says target.
	Symlink(ctx context.Context, target, name string) error
	// Mkdir makes one folder with exactly this mode.
	Mkdir(ctx context.Context, name string, mode fs.FileMode) error
	// Rename moves a file, link or folder; a file or link that exists at the new name is replaced.
	Rename(ctx context.Context, from, to string) error
	// Remove removes a file, a link, or an empty folder.
	Remove(ctx context.Context, name string) error
	// Abilities tells what can be relied on.
	Abilities() Abilities
	Close() error
}

// Syncer is an FS that can make everything written so far durable in one step. Without it each Put does so for itself.
type Syncer interface {
	Sync(ctx context.Context) error
}

// Digester is an FS whose far end can compute digests. Each is called once for every name that it could read, perhaps
// from several goroutines; ErrUnsupported means that it can't after all.
type Digester interface {
	Digests(ctx context.Context, names []string, each func(i int, digest manifest.Digest)) error
}

// Hasher is an FS of this machine that digests many files faster than they are opened one by one. Each is called once for
// every name that it could read, from several goroutines.
type Hasher interface {
	Hash(ctx context.Context, names []string, each func(i int, digest manifest.Digest)) error
}

// Dater is an FS that tells more exactly of single files than in its listings when they were altered. Each is called,
// perhaps from several goroutines, for every name of which it tells; ErrUnsupported means that it does not.
type Dater interface {
	Dates(ctx context.Context, names []string, each func(i int, when time.Time)) error
}

// Learner is an FS that finds out only by trying what its place refuses. Refused gives that, in words of its own; Know
// tells it what was found out earlier, and, with nothing, to try everything again.
type Learner interface {
	Refused() []string
	Know(refused []string)
}

// Linker is an FS that can give a file a second name (a hard link). It fails with fs.ErrExist where something exists.
type Linker interface {
	Link(ctx context.Context, from, to string) error
}

// Copier is an FS that can copy files without their bytes crossing the wire. Done is called with the index of each
// pair that was copied, one call at a time; a pair that was not is no error, and part of a file may remain.
type Copier interface {
	Copies(ctx context.Context, pairs []Pair, done func(i int)) error
}

// Pair is a file and the name of its copy. What is under that name is replaced.
type Pair struct{ From, To string }

// Proved is content that is told, by an FS that reads back what it has written, the digest of what exists there then. An FS
// need not do so.
type Proved interface {
	Proved(digest manifest.Digest)
}

// Digested is content whose digest is known once it was read to its end, and was the same all the time.
type Digested interface {
	Digest() (digest manifest.Digest, known bool)
}

// FolderOpener is an FS that can open a folder once for many files. No link in its name is followed out of the base.
type FolderOpener interface {
	OpenFolder(ctx context.Context, name string) (Folder, error)
}

// Folder is a folder that is open. Names in it have one element, of which none is followed as a link. Its methods may be
// called from several goroutines at once.
type Folder interface {
	// Put writes a whole file, in the place of one that exists there.
	Put(name string, content []byte, attr Attributes) error
	// Read appends all of a file to what room holds. It fails with ErrTooLong where a file has more than so many bytes.
	Read(name string, most int64, room []byte) ([]byte, error)
	// Link gives a file of another open folder of the FS a second name. It fails with fs.ErrExist where something exists.
	Link(from Folder, old, name string) error
	Close() error
}

// Extender is an FS that can write a part of a file and leave what is before it as it is. Attributes are set when the
// mode is not zero.
type Extender interface {
	Extend(ctx context.Context, name string, offset int64, content io.Reader, attr Attributes) (int64, error)
}

// Giver is an FS that can give what is there to other users: then Put, SetAttr and their kin heed Attributes.Owner.
type Giver interface {
	// Numbers gives those of a user and a group; -1 for one that is not said. It fails for one that is not known there.
	Numbers(owner manifest.Owner) (user, group int, err error)
	// MayGive tells why something may not be given to them; nil: it may.
	MayGive(user, group int) error
}

// Likener is an FS that can give a file the access lists and the extended attributes of another one.
type Likener interface {
	Liken(ctx context.Context, from, to string) error
}

// Onlooker is an FS that knows the users of the system that it is on.
type Onlooker interface {
	// Who tells who reads and writes.
	Who() string
	// Shut tells at which folder, the uppermost one, a user is kept from reading what is at a name; empty: the user may.
	// Known is false where there is no such user.
	Shut(user, name string) (path string, known bool)
}

// Spacer is an FS that can tell how much may still be written.
type Spacer interface {
	FreeSpace(ctx context.Context) (Space, error)
}

// Space is what may still be written.
type Space struct {
	Bytes int64
	Files int64 // how many more files and folders (inodes); negative: there is no such limit
}

// Selfer is an FS that knows the number of the user it works as. Known is false where it cannot find out.
type Selfer interface {
	Self(ctx context.Context) (user uint32, known bool)
}

// Namer is an FS that knows what users are called; empty: that one has no name there.
type Namer interface {
	UserName(id uint32) string
}

// Prober is an FS that can tell, without writing, whether the user may write in a folder and rename into it. The error
// says why not.
type Prober interface {
	Writable(ctx context.Context, dir string) error
}

// Remover is an FS that cannot remove everything. CanRemove tells, without removing, why a name cannot be; nil: it can.
type Remover interface {
	CanRemove(ctx context.Context, name string) error
}

// Mounter is an FS that knows at which names another file system begins, below its base or at it.
type Mounter interface {
	Mounts(ctx context.Context) ([]string, error)
}

// FolderRemover is an FS in which a folder that is known to be one is removed sooner than by Remove. It need not be empty:
// where it is not, it may go with all below it, or stay, which is an error.
type FolderRemover interface {
	RemoveFolder(ctx context.Context, name string) error
}

// Emptier is an FS that removes a folder with all below it faster than name by name. Links are not followed. Removed is
// called with how many names are gone, and failed with each that could not be removed, whose error ends it; both perhaps
// from several goroutines. ErrUnsupported means that nothing was done.
type Emptier interface {
	Empty(ctx context.Context, dir string, jobs int, removed func(files, folders int),
		failed func(name string, err error) error) error
}

var (
	// ErrMount tells that a folder is in another mount than the base.
	ErrMount = errors.New("it is on another mount, into which nothing can be renamed")
	// ErrTooLong tells that a file has more bytes than were asked for.
	ErrTooLong = errors.New("it is longer than it was")
)

// Attributes are what a file or folder has beside its name and its bytes, as manifests have them. Where a place is told
// of them, a zero mode or time leaves that to it.
type Attributes = manifest.Attributes

// Info describes one name. Its mode has the type beside the permission bits.
type Info struct {
	Name string
	Attributes
	Size int64 // bytes of a file
	// Changed is when its bytes, its attributes or its names changed last (ctime), by the clock of the place. Unlike
	// ModTime it cannot be set. Zero where the place does not tell.
	Changed time.Time
	Link    string // what a link says
	User    User
	Group   uint32 // the number of the group that it belongs to, where the place tells the user
}

// User is whom something belongs to, as the number that the place tells.
type User struct {
	ID    uint32
	Known bool // the place tells
}

// Abilities tells what the far end can do.
type Abilities struct {
	AtomicReplace bool          // Rename replaces in one step: at no time is the name missing
	Modes         bool          // permission bits are kept
	Links         bool          // symbolic links can be made
	TimeStep      time.Duration // times are kept to this granularity
	// times say nothing but that a file is older than another one: they cannot be set, or not be told exactly
	NoTimes    bool
	UnsetTimes bool // times cannot be set: a file has the one at which it was brought
	OneLine    bool // no name holds a line break
	OddNames   bool // some names may be refused or come out as others: they are tried before they are used
	// names that differ only in case are one, and there are some that cannot be (see NotOnWindows)
	WindowsNames bool
	// how many bytes before the end of a file whose writing was broken off may be missing: requests in flight
	Unordered  int64
	FarDigests string // how digests are computed at the far end; empty: by reading back
}

// Join joins names, either of which may be ".".
func Join(dir, name string) string {
	switch {
	case dir == ".":
		return name
	case name == ".":
		return dir
	default:
		return dir + "/" + name
	}
}

// Contains tells whether a name is that of a folder, or of something in it, at any depth.
func Contains(dir, name string) bool {
	return dir == "." || strings.HasPrefix(name, dir) && (len(name) == len(dir) || name[len(dir)] == '/')
}

// Split parts a name into its folder ("." at the top) and its last element.
func Split(name string) (dir, base string) {
	if slash := strings.LastIndexByte(name, '/'); slash >= 0 {
		return name[:slash], name[slash+1:]
	}
	return ".", name
}

// Digests computes the digests of files, at the far end where that can be, else by reading them back with as many as
// jobs in flight. Each is called once for every name, perhaps from several goroutines, with the digest or with why
// there is none. It returns how many the far end computed; its error is ErrLost or that of the context.
func Digests(ctx context.Context, f FS, names []string, jobs int,
	each func(i int, digest manifest.Digest, err error)) (far int, err error) {
	if len(names) == 0 {
		return 0, nil
	}
	var count atomic.Int64
	done := make([]atomic.Bool, len(names))
	if far, ok := f.(Digester); ok {
		err := far.Digests(ctx, names, func(i int, digest manifest.Digest) {
			if !done[i].Swap(true) {
				count.Add(1)
				each(i, digest, nil)
			}
		})
		if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
			return int(count.Load()), errors.Join(err, ctx.Err())
		}
	}
	if hasher, ok := f.(Hasher); ok {
		if err := hasher.Hash(ctx, names, func(i int, digest manifest.Digest) {
			if !done[i].Swap(true) {
				each(i, digest, nil)
			}
		}); err != nil && !errors.Is(err, farend.ErrUnsupported) {
			return 0, err
		}
	}
	// What the far end passed over is read back, which also finds out why.
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(jobs, 1))
	for i, name := range names {
		if done[i].Load() {
			continue
		}
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			digest, _, err := DigestOf(ctx, f, name)
			if errors.Is(err, farend.ErrLost) {
				return err
			}
			each(i, digest, err)
			return nil
		})
	}
	return int(count.Load()), group.Wait()
}

// DigestOf reads a file back and returns its digest and its size in bytes.
func DigestOf(ctx context.Context, f FS, name string) (manifest.Digest, int64, error) {
	file, err := f.Open(ctx, name)
	if err != nil {
		return manifest.Digest{}, 0, err
	}
	defer file.Close()
	hash := sha256.New()
	size, err := Copy(ctx, hash, file)
	if err != nil {
		return manifest.Digest{}, size, fmt.Errorf("read %s: %w", name, err)
	}
	return manifest.Digest(hash.Sum(nil)), size, nil
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 128<<10); return &b }}

// SizeOf gives the size of a file that was opened, in bytes, where that can be had.
func SizeOf(file io.Reader) (size int64, known bool) {
	switch f := file.(type) {
	case interface{ Size() int64 }:
		return f.Size(), true
	case interface{ Stat() (fs.FileInfo, error) }:
		if info, err := f.Stat(); err == nil {
			return info.Size(), true
		}
	}
	return 0, false
}

// Copy copies until the end, an error, or the end of the context, and returns the bytes written.
func Copy(ctx context.Context, to io.Writer, from io.Reader) (int64, error) {
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	return io.CopyBuffer(to, struct{ io.Reader }{reader{ctx, from}}, *buf)
}

// Skip passes over the beginning of a file.
func Skip(ctx context.Context, file io.Reader, bytes int64) error {
	if seeker, ok := file.(io.Seeker); ok {
		_, err := seeker.Seek(bytes, io.SeekStart)
		return err
	}
	_, err := Copy(ctx, io.Discard, io.LimitReader(file, bytes))
	return err
}

// reader ends a long copy when its context is done.
type reader struct {
	ctx context.Context
	in  io.Reader
}

func (r reader) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.in.Read(p)
}

// WithContext gives a reader that fails once the context is done.
func WithContext(ctx context.Context, in io.Reader) io.Reader { return reader{ctx, in} }
