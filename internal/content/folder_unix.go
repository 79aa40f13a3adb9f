//go:build linux || darwin

package content

import (
	"io/fs"
	"os"
	"slices"

	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
)

// readFolder lists a folder. The names are looked up relative to it, which spares the kernel the way down to it.
func readFolder(dir string) ([]item, error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	names, err := f.Readdirnames(-1)
	slices.Sort(names)
	items, there := make([]item, len(names)), make([]bool, len(names))
	descriptor := int(f.Fd())
	_ = fsys.Spread(len(names), func(from, until int) error {
		var stat unix.Stat_t
		for i := from; i < until; i++ {
			there[i] = lookUp(descriptor, names[i], &stat, &items[i])
		}
		return nil
	})
	return fsys.Marked(items, there), err
}

// lookUp looks a name up in an open folder, and tells whether it is there: it may have been removed since the folder was read.
func lookUp(folder int, name string, stat *unix.Stat_t, it *item) bool {
	err := ignoringInterrupts(func() error { return unix.Fstatat(folder, name, stat, unix.AT_SYMLINK_NOFOLLOW) })
	if err == unix.ENOENT {
		return false
	}
	it.name = name
	if err != nil {
		it.err = &fs.PathError{Op: "look up", Path: name, Err: err}
	} else {
		it.facts = factsOfStat(stat)
	}
	return true
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
