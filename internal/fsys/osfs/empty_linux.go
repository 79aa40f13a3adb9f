package osfs

import (
	"bytes"
	"context"
	"encoding/binary"
	"io/fs"
	"os"
	"runtime"
	"sync"

	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
)

// Empty implements fsys.Emptier. It takes one system call for a file: sizes are not found out. A folder is open only while
// files are removed from it, so that few descriptors are enough for any depth; as many folders as there are processors are
// worked on at once.
func (f *FS) Empty(ctx context.Context, dir string, _ int, removed func(files, folders int),
	failed func(name string, err error) error) error {
	e := &emptying{f, make(chan struct{}, runtime.GOMAXPROCS(0)-1), removed, failed}
	if err := e.enter(ctx, dir); err != nil {
		return err
	}
	return e.failed(dir, f.root.Remove(dir))
}

type emptying struct {
	*FS
	free    chan struct{} // one for each more that is at work
	removed func(files, folders int)
	failed  func(name string, err error) error
}

// enter removes what is in a folder.
func (e *emptying) enter(ctx context.Context, dir string) error {
	folders, err := e.removeFiles(ctx, dir)
	if err != nil {
		return err
	}
	var (
		working sync.WaitGroup
		mu      sync.Mutex
		first   error
	)
	below := func(name string) {
		err := e.enter(ctx, name)
		if err == nil {
			if err = e.root.Remove(name); err == nil {
				e.removed(0, 1)
			} else {
				err = e.failed(name, err)
			}
		}
		mu.Lock()
		defer mu.Unlock()
		if first == nil {
			first = err
		}
	}
	for _, folder := range folders {
		name := fsys.Join(dir, folder)
		select {
		case e.free <- struct{}{}:
			working.Go(func() {
				below(name)
				<-e.free
			})
		default:
			below(name)
		}
	}
	working.Wait()
	return first
}

// removeFiles removes what is not a folder, and gives the folders.
func (e *emptying) removeFiles(ctx context.Context, dir string) (folders []string, err error) {
	open, err := e.root.OpenFile(dir, os.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, e.failed(dir, err)
	}
	defer open.Close()
	fd := int(open.Fd())
	files, folders, err := namesIn(fd)
	if err != nil {
		return nil, e.failed(dir, &fs.PathError{Op: "list", Path: dir, Err: err})
	}
	gone := 0
	for i, name := range files {
		if i%1000 == 0 {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
		}
		if err := unix.Unlinkat(fd, name, 0); err == nil {
			gone++
		} else if err := e.failed(fsys.Join(dir, name), &fs.PathError{Op: "remove", Path: name, Err: err}); err != nil {
			return nil, err
		}
	}
	if gone > 0 {
		e.removed(gone, 0)
	}
	return folders, nil
}

// namesIn gives the names in a folder that is open: folders, and all else. The system tells which is which as it lists
// them (getdents64(2)); of file systems that do not, it is asked for each.
func namesIn(fd int) (files, folders []string, err error) {
	buf := make([]byte, 64<<10)
	for {
		n, err := unix.Getdents(fd, buf)
		if err != nil || n == 0 {
			return files, folders, err
		}
		for rest := buf[:n]; len(rest) > direntName; {
			size := min(int(binary.NativeEndian.Uint16(rest[16:])), len(rest))
			if size <= direntName {
				return nil, nil, unix.EIO
			}
			text, _, _ := bytes.Cut(rest[direntName:size], []byte{0})
			kind, name := rest[18], string(text)
			rest = rest[size:]
			if name == "." || name == ".." {
				continue
			}
			if kind == unix.DT_UNKNOWN {
				var found unix.Stat_t
				if err := unix.Fstatat(fd, name, &found, unix.AT_SYMLINK_NOFOLLOW); err == nil && found.Mode&unix.S_IFMT == unix.S_IFDIR {
					kind = unix.DT_DIR
				}
			}
			if kind == unix.DT_DIR {
				folders = append(folders, name)
			} else {
				files = append(files, name)
			}
		}
	}
}

// direntName is where the name begins in an entry of a folder, after a number, an offset, a size and the kind.
const direntName = 19
