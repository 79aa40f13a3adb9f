package osfs

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// folder is one that was opened through the root. Only names of one element are used below it, none of which is
// followed as a link; so nothing leads out of it.
type folder struct {
	dir   *os.File
	name  string
	owner *Owner
	of    *FS
}

// OpenFolder implements fsys.FolderOpener.
func (f *FS) OpenFolder(_ context.Context, name string) (fsys.Folder, error) {
	dir, err := f.root.Open(name)
	if err != nil {
		return nil, err
	}
	return &folder{dir, name, f.Owner, f}, nil
}

func (f *folder) Close() error { return f.dir.Close() }

// failed gives an error of an operation on a name.
func (f *folder) failed(op, name string, err error) error {
	return &fs.PathError{Op: op, Path: fsys.Join(f.name, name), Err: err}
}

// checkName refuses what is no name of one element.
func checkName(name string) error {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") {
		return fs.ErrInvalid
	}
	return nil
}

var errNoFile = errors.New("not a file")

// openFile opens a file of an open folder, to be read, and gives its length in bytes. A link is not followed.
func openFile(dir *os.File, name string) (fd int, length int64, err error) {
	fd, err = unix.Openat(int(dir.Fd()), name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return 0, 0, err
	}
	var stat unix.Stat_t
	if err = unix.Fstat(fd, &stat); err == nil && stat.Mode&unix.S_IFMT != unix.S_IFREG {
		err = errNoFile
	}
	if err != nil {
		unix.Close(fd)
		return 0, 0, err
	}
	return fd, stat.Size, nil
}

// Read implements fsys.Folder.
func (f *folder) Read(name string, most int64, room []byte) ([]byte, error) {
	if err := checkName(name); err != nil {
		return room, f.failed("read", name, err)
	}
	fd, length, err := openFile(f.dir, name)
	if err != nil {
		return room, f.failed("read", name, err)
	}
	defer unix.Close(fd)
	before, left := len(room), most+1
	for size := length + 1; err == nil && left > 0; size = 4 << 10 { // it may grow meanwhile
		room = slices.Grow(room, int(min(size, left)))
		var n int
		if n, err = unix.Read(fd, room[len(room):min(cap(room), len(room)+int(left))]); errors.Is(err, unix.EINTR) {
			n, err = 0, nil
			continue
		}
		if n <= 0 {
			break
		}
		room, left = room[:len(room)+n], left-int64(n)
		if int64(len(room)-before) == length && len(room) < cap(room) { // all of it at once
			break
		}
	}
	if err == nil && left == 0 {
		err = fsys.ErrTooLong
	}
	if err != nil {
		return room[:before], f.failed("read", name, err)
	}
	return room, nil
}

// Link implements fsys.Folder.
func (f *folder) Link(from fsys.Folder, old, name string) error {
	other, ok := from.(*folder)
	err := cmp.Or(checkName(old), checkName(name))
	if err == nil && !ok {
		err = farend.ErrUnsupported
	}
	if err == nil {
		err = unix.Linkat(int(other.dir.Fd()), old, int(f.dir.Fd()), name, 0)
	}
	if err != nil {
		return f.failed("link", name, err)
	}
	return nil
}

// Put implements fsys.Folder. A file that exists is not written into, since it may have another name elsewhere.
func (f *folder) Put(name string, content []byte, attr fsys.Attributes) (err error) {
	if err := checkName(name); err != nil {
		return f.failed("write", name, err)
	}
	dir := int(f.dir.Fd())
	const flags = unix.O_WRONLY | unix.O_CREAT | unix.O_EXCL | unix.O_NOFOLLOW | unix.O_CLOEXEC
	mode := uint32(attr.Mode.Perm())
	fd, err := unix.Openat(dir, name, flags, mode)
	if errors.Is(err, unix.EEXIST) {
		if err = unix.Unlinkat(dir, name, 0); err == nil {
			fd, err = unix.Openat(dir, name, flags, mode)
		}
	}
	if err != nil {
		return f.failed("write", name, err)
	}
	for rest := content; len(rest) > 0 && err == nil; {
		var n int
		if n, err = unix.Write(fd, rest); errors.Is(err, unix.EINTR) {
			err = nil
		}
		rest = rest[max(n, 0):]
	}
	if err == nil && f.owner != nil {
		err = unix.Fchown(fd, f.owner.User, f.owner.Group)
	}
	if err == nil {
		err = f.of.give(attr, func(uid, gid int) error { return unix.Fchown(fd, uid, gid) })
	}
	if err == nil && mode&umask() != 0 {
		err = unix.Fchmod(fd, mode)
	}
	if err == nil && !attr.ModTime.IsZero() {
		var times [2]unix.Timespec
		times[0].Nsec = unix.UTIME_NOW
		if times[1], err = unix.TimeToTimespec(attr.ModTime); err == nil {
			err = unix.UtimesNanoAt(dir, name, times[:], unix.AT_SYMLINK_NOFOLLOW)
		}
	}
	if closing := unix.Close(fd); err == nil {
		err = closing
	}
	if err != nil {
		return f.failed("write", name, err)
	}
	return nil
}

// umask gives the bits that are taken from the mode of what is made. Where that is not known it is all of them, so that
// each mode is set.
var umask = sync.OnceValue(func() uint32 {
	status, err := os.Open("/proc/self/status")
	if err != nil {
		return 0o777
	}
	defer status.Close()
	for lines := bufio.NewScanner(status); lines.Scan(); {
		if text, ok := strings.CutPrefix(lines.Text(), "Umask:"); ok {
			if mask, err := strconv.ParseUint(strings.TrimSpace(text), 8, 32); err == nil {
				return uint32(mask)
			}
		}
	}
	return 0o777
})
