package osfs

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
)

// listQuickly lists a folder that is open with one system call for each name, and little memory. Done is false where it
// cannot: then nothing was read.
func (f *FS) listQuickly(folder *os.File, dir string) (out []fsys.Info, done bool, err error) {
	names, err := folder.Readdirnames(-1)
	if err != nil {
		return nil, true, err
	}
	out = make([]fsys.Info, 0, len(names))
	at := int(folder.Fd())
	var stat unix.Stat_t
	for _, name := range names {
		err := unix.Fstatat(at, name, &stat, unix.AT_SYMLINK_NOFOLLOW)
		for errors.Is(err, unix.EINTR) {
			err = unix.Fstatat(at, name, &stat, unix.AT_SYMLINK_NOFOLLOW)
		}
		if errors.Is(err, unix.ENOENT) {
			continue // removed since the folder was read
		}
		if err != nil {
			return nil, true, &fs.PathError{Op: "look up", Path: fsys.Join(dir, name), Err: err}
		}
		info := fsys.Info{Name: name, Attributes: fsys.Attributes{Mode: modeOf(stat.Mode),
			ModTime: time.Unix(stat.Mtim.Unix())}, Size: stat.Size,
			Changed: time.Unix(stat.Ctim.Unix()), User: fsys.User{ID: stat.Uid, Known: true}, Group: stat.Gid}
		if info.Mode&fs.ModeSymlink != 0 {
			if info.Link, err = f.root.Readlink(fsys.Join(dir, name)); errors.Is(err, fs.ErrNotExist) {
				continue
			} else if err != nil { // replaced since
				if info, err = f.Lstat(context.Background(), fsys.Join(dir, name)); err != nil {
					return nil, true, err
				}
			}
		}
		out = append(out, info)
	}
	return out, true, nil
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
