//go:build linux || darwin

package content

import (
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// readFolder lists a folder. The names are looked up relative to it, which spares the kernel the way down to it.
func readFolder(dir string) ([]item, error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	names, err := f.Readdirnames(-1)
	items := make([]item, 0, len(names))
	descriptor := int(f.Fd())
	var stat unix.Stat_t
	for _, name := range names {
		looked := ignoringInterrupts(func() error {
			return unix.Fstatat(descriptor, name, &stat,
				unix.AT_SYMLINK_NOFOLLOW)
		})
		if looked == unix.ENOENT {
			continue // removed since the folder was read
		}
		it := item{name: name}
		if looked != nil {
			it.err = &fs.PathError{Op: "look up", Path: name, Err: looked}
		} else {
			it.facts = factsOfStat(&stat)
		}
		items = append(items, it)
	}
	return items, err
}

func ignoringInterrupts(call func() error) error {
	for {
		if err := call(); err != unix.EINTR {
			return err
		}
	}
}

func factsOfStat(stat *unix.Stat_t) facts {
	mode := fs.FileMode(stat.Mode & 0o777)
	switch stat.Mode & unix.S_IFMT {
	case unix.S_IFREG:
	case unix.S_IFDIR:
		mode |= fs.ModeDir
	case unix.S_IFLNK:
		mode |= fs.ModeSymlink
	case unix.S_IFIFO:
		mode |= fs.ModeNamedPipe
	case unix.S_IFSOCK:
		mode |= fs.ModeSocket
	case unix.S_IFCHR:
		mode |= fs.ModeDevice | fs.ModeCharDevice
	default:
		mode |= fs.ModeDevice
	}
	return facts{mode, identity{size: stat.Size, mtime: stat.Mtim.Nano(), ctime: stat.Ctim.Nano(), inode: stat.Ino}}
}
