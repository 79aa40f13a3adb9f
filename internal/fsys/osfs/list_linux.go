package osfs

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
)

// listQuickly lists a folder that is open, in the order of the names, with one system call for each, and little memory. Done is false where
// it cannot: then nothing was read.
func (f *FS) listQuickly(folder *os.File, dir string) (out []fsys.Info, done bool, err error) {
	names, err := folder.Readdirnames(-1)
	if err != nil {
		return nil, true, err
	}
	slices.Sort(names)
	out = make([]fsys.Info, len(names))
	there := make([]bool, len(names))
	at := int(folder.Fd())
	err = fsys.Spread(len(names), func(from, until int) (err error) {
		var stat unix.Stat_t
		for i := from; i < until && err == nil; i++ {
			there[i], err = f.lookUp(at, dir, names[i], &stat, &out[i])
		}
		return err
	})
	if err != nil {
		return nil, true, err
	}
	return fsys.Marked(out, there), true, nil
}

// lookUp looks a name up in an open folder; there is false where it was removed since the folder was read.
func (f *FS) lookUp(at int, dir, name string, stat *unix.Stat_t, info *fsys.Info) (there bool, err error) {
	err = unix.Fstatat(at, name, stat, unix.AT_SYMLINK_NOFOLLOW)
	for errors.Is(err, unix.EINTR) {
		err = unix.Fstatat(at, name, stat, unix.AT_SYMLINK_NOFOLLOW)
	}
	if errors.Is(err, unix.ENOENT) {
		return false, nil
	}
	if err != nil {
		return false, &fs.PathError{Op: "look up", Path: fsys.Join(dir, name), Err: err}
	}
	*info = fsys.Info{Name: name, Attributes: fsys.Attributes{Mode: modeOf(stat.Mode),
		ModTime: time.Unix(stat.Mtim.Unix())}, Size: stat.Size,
		Changed: time.Unix(stat.Ctim.Unix()), User: fsys.User{ID: stat.Uid, Known: true}, Group: stat.Gid}
	if info.Mode&fs.ModeSymlink == 0 {
		return true, nil
	}
	if info.Link, err = f.root.Readlink(fsys.Join(dir, name)); err == nil || errors.Is(err, fs.ErrNotExist) {
		return err == nil, nil
	}
	*info, err = f.Lstat(context.Background(), fsys.Join(dir, name)) // it was replaced since
	return err == nil, err
}

// modeOf turns the system's mode into Go's, as os does.
func modeOf(mode uint32) fs.FileMode {
	out := fs.FileMode(mode & 0o777)
	switch mode & unix.S_IFMT {
	case unix.S_IFBLK:
		out |= fs.ModeDevice
	case unix.S_IFCHR:
		out |= fs.ModeDevice | fs.ModeCharDevice
	case unix.S_IFDIR:
		out |= fs.ModeDir
	case unix.S_IFIFO:
		out |= fs.ModeNamedPipe
	case unix.S_IFLNK:
		out |= fs.ModeSymlink
	case unix.S_IFSOCK:
		out |= fs.ModeSocket
	}
	for _, b := range [...]struct {
		bit  uint32
		flag fs.FileMode
	}{{unix.S_ISUID, fs.ModeSetuid}, {unix.S_ISGID, fs.ModeSetgid}, {unix.S_ISVTX, fs.ModeSticky}} {
		if mode&b.bit != 0 {
			out |= b.flag
		}
	}
	return out
}
