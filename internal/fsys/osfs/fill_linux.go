package osfs

import (
	"bufio"
	"context"
	"errors"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
)

// filling is a folder that was opened through the root. Only names of one element are used below it, none of which is
// followed as a link; so nothing leads out of it.
type filling struct {
	dir   *os.File
	name  string
	owner *Owner
	of    *FS
}

// OpenFolder implements fsys.Filler.
func (f *FS) OpenFolder(_ context.Context, name string) (fsys.Folder, error) {
	dir, err := f.root.Open(name)
	if err != nil {
		return nil, err
	}
	return &filling{dir, name, f.Owner, f}, nil
}

func (f *filling) Close() error { return f.dir.Close() }

// Put implements fsys.Folder. A file that exists is not written into, since it may have another name elsewhere.
func (f *filling) Put(name string, content []byte, attr fsys.Attributes) (err error) {
	fail := func(op string, err error) error {
		return &fs.PathError{Op: op, Path: fsys.Join(f.name, name), Err: err}
	}
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") {
		return fail("write", fs.ErrInvalid)
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
		return fail("write", err)
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
		return fail("write", err)
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
