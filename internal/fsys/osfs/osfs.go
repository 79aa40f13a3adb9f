// Package osfs is a folder of this machine as an fsys.FS.
//
// Everything goes through an os.Root, so no name and no link leads out of the base. On Windows permission bits are
// not kept.
package osfs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"runtime"
	"strconv"
	"sync"
	"syscall"
	"time"

	"tartine/internal/fsys"
)

// FS implements fsys.FS.
type FS struct {
	// Owner is whom everything that is made belongs to; nil: who makes it. Only the system's administrator may set it.
	Owner *Owner

	root  *os.Root
	names sync.Map // of users, by their numbers

	numbers sync.Map // of owners, by their names
}

// Owner is a user and a group, by their numbers.
type Owner struct{ User, Group int }

// own gives something that was made its owner.
func (f *FS) own(name string) error {
	if f.Owner == nil {
		return nil
	}
	return f.root.Lchown(name, f.Owner.User, f.Owner.Group)
}

var _ fsys.FS = (*FS)(nil)

// Open opens a folder that exists.
func Open(base string) (*FS, error) {
	root, err := os.OpenRoot(base)
	if err != nil {
		return nil, err
	}
	return &FS{root: root}, nil
}

// Close lets go of the base folder.
func (f *FS) Close() error { return f.root.Close() }

// Abilities implements fsys.FS.
func (f *FS) Abilities() fsys.Abilities {
	windows := runtime.GOOS == "windows"
	return fsys.Abilities{AtomicReplace: true, Modes: !windows, WindowsNames: windows, Links: true,
		TimeStep: time.Nanosecond}
}

// Lstat implements fsys.FS.
func (f *FS) Lstat(_ context.Context, name string) (fsys.Info, error) {
	info, err := f.root.Lstat(name)
	if err != nil {
		return fsys.Info{}, err
	}
	return f.describe(info, name)
}

func (f *FS) describe(info fs.FileInfo, name string) (fsys.Info, error) {
	out := fsys.Info{Name: info.Name(), Attributes: fsys.Attributes{Mode: info.Mode(), ModTime: info.ModTime()},
		Size: info.Size()}
	out.Changed, out.User, out.Group = fromStat(info.Sys())
	if info.Mode()&fs.ModeSymlink != 0 {
		var err error
		if out.Link, err = f.root.Readlink(name); err != nil {
			return out, err
		}
	}
	return out, nil
}

// List implements fsys.FS.
func (f *FS) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	folder, err := f.root.Open(dir)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if out, done, err := f.listQuickly(folder, dir); done {
		return out, err
	}
	found, err := folder.Readdir(-1)
	if err != nil {
		return nil, err
	}
	out := make([]fsys.Info, 0, len(found))
	for _, info := range found {
		name := fsys.Join(dir, info.Name())
		described, err := f.describe(info, name)
		if err != nil { // a link was removed or replaced since the folder was read
			described, err = f.Lstat(ctx, name)
		}
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, described)
	}
	return out, nil
}

// Self implements fsys.Selfer.
func (f *FS) Self(context.Context) (user uint32, known bool) {
	if f.Owner != nil {
		return uint32(f.Owner.User), true
	}
	self := os.Geteuid() // negative where there are no such numbers
	return uint32(self), self >= 0
}

// UserName implements fsys.Namer.
func (f *FS) UserName(id uint32) string {
	if name, known := f.names.Load(id); known {
		return name.(string)
	}
	name := ""
	if found, err := user.LookupId(strconv.FormatUint(uint64(id), 10)); err == nil {
		name = found.Username
	}
	f.names.Store(id, name)
	return name
}

// Open implements fsys.FS. A link is not followed, not even one that leads to a file below the base.
func (f *FS) Open(_ context.Context, name string) (io.ReadCloser, error) {
	if info, err := f.root.Lstat(name); err != nil {
		return nil, err
	} else if info.Mode()&fs.ModeSymlink != 0 {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fmt.Errorf("not a file: %w", fs.ErrInvalid)}
	}
	file, err := f.root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // opening a pipe must not wait for its other end
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: fmt.Errorf("not a file: %w", fs.ErrInvalid)}
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// Put implements fsys.FS.
func (f *FS) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return f.write(ctx, name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0, content, attr)
}

// Create implements fsys.FS.
func (f *FS) Create(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return f.write(ctx, name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0, content, attr)
}

// Extend implements fsys.Extender.
func (f *FS) Extend(ctx context.Context, name string, offset int64, content io.Reader,
	attr fsys.Attributes) (int64, error) {
	return f.write(ctx, name, os.O_WRONLY, offset, content, attr)
}

func (f *FS) write(ctx context.Context, name string, flags int, offset int64, content io.Reader,
	attr fsys.Attributes) (int64, error) {
	file, err := f.root.OpenFile(name, flags, 0o600)
	if err != nil {
		return 0, err
	}
	if offset > 0 {
		_, err = file.Seek(offset, io.SeekStart)
	}
	if err == nil && f.Owner != nil {
		err = file.Chown(f.Owner.User, f.Owner.Group)
	}
	if err == nil {
		err = f.give(attr, file.Chown)
	}
	var size int64
	if err == nil {
		size, err = fsys.Copy(ctx, struct{ io.Writer }{file}, content)
	}
	if err == nil && f.Abilities().Modes && attr.Mode != 0 {
		err = file.Chmod(attr.Mode.Perm())
	}
	if err == nil && !syncsAll {
		err = file.Sync()
	}
	if closing := file.Close(); err == nil {
		err = closing
	}
	if err == nil && !attr.ModTime.IsZero() {
		err = f.root.Chtimes(name, time.Time{}, attr.ModTime)
	}
	return size, err
}

// Link implements fsys.Linker.
func (f *FS) Link(_ context.Context, from, to string) error { return f.root.Link(from, to) }

// Copies implements fsys.Copier.
func (f *FS) Copies(ctx context.Context, pairs []fsys.Pair, done func(int)) error {
	for i, pair := range pairs {
		if err := ctx.Err(); err != nil {
			return err
		}
		if f.copy(pair) == nil {
			done(i)
		}
	}
	return nil
}

func (f *FS) copy(pair fsys.Pair) error {
	from, err := f.Open(context.Background(), pair.From)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := f.root.OpenFile(pair.To, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if f.Owner != nil {
		if err := to.Chown(f.Owner.User, f.Owner.Group); err != nil {
			to.Close()
			return err
		}
	}
	_, err = io.Copy(to, from) // as files, so that the system may share the blocks
	if closing := to.Close(); err == nil {
		err = closing
	}
	return err
}

// SetAttr implements fsys.FS.
func (f *FS) SetAttr(_ context.Context, name string, attr fsys.Attributes) error {
	if err := f.give(attr, func(uid, gid int) error { return f.root.Lchown(name, uid, gid) }); err != nil {
		return err
	}
	if f.Abilities().Modes {
		if err := f.root.Chmod(name, attr.Mode.Perm()); err != nil {
			return err
		}
	}
	if attr.ModTime.IsZero() {
		return nil
	}
	return f.root.Chtimes(name, time.Time{}, attr.ModTime)
}

// Symlink implements fsys.FS.
func (f *FS) Symlink(_ context.Context, target, name string) error {
	if err := f.root.Symlink(target, name); err != nil {
		return err
	}
	return f.own(name)
}

// Mkdir implements fsys.FS.
func (f *FS) Mkdir(_ context.Context, name string, mode fs.FileMode) error {
	if err := f.root.Mkdir(name, mode.Perm()); err != nil {
		return err
	}
	if err := f.own(name); err != nil {
		return err
	}
	if !f.Abilities().Modes {
		return nil
	}
	return f.root.Chmod(name, mode.Perm()) // whatever the umask says
}

// Rename implements fsys.FS.
func (f *FS) Rename(_ context.Context, from, to string) error { return f.root.Rename(from, to) }

// Remove implements fsys.FS.
func (f *FS) Remove(_ context.Context, name string) error { return f.root.Remove(name) }
