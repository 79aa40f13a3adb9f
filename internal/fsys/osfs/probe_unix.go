//go:build linux || darwin

package osfs

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"

	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
)

// FreeSpace implements fsys.Spacer.
func (f *FS) FreeSpace(context.Context) (fsys.Space, error) {
	base, err := f.root.Open(".")
	if err != nil {
		return fsys.Space{}, err
	}
	defer base.Close()
	var stat unix.Statfs_t
	if err := unix.Fstatfs(int(base.Fd()), &stat); err != nil {
		return fsys.Space{}, fmt.Errorf("ask free space of %s: %w", f.root.Name(), err)
	}
	out := fsys.Space{Bytes: int64(stat.Bavail) * int64(stat.Bsize), Files: int64(stat.Ffree)}
	if stat.Files == 0 { // some file systems make room for names as they come
		out.Files = -1
	}
	return out, nil
}

// Writable implements fsys.Prober.
func (f *FS) Writable(_ context.Context, dir string) error {
	folder, err := f.root.Open(dir)
	if err != nil {
		return err
	}
	defer folder.Close()
	if err := unix.Faccessat(int(folder.Fd()), ".", unix.W_OK|unix.X_OK, 0); err != nil {
		return &fs.PathError{Op: "write in", Path: dir, Err: err}
	}
	if !sameMount(filepath.Join(f.root.Name(), dir), f.root.Name()) {
		return fsys.ErrMount
	}
	return nil
}
