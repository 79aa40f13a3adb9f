package osfs

import (
	"context"
	"errors"
	"os"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
)

// Liken implements fsys.Likener.
func (f *FS) Liken(_ context.Context, from, to string) error {
	old, err := f.root.OpenFile(from, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer old.Close()
	fresh, err := f.root.OpenFile(to, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer fresh.Close()
	names, err := attributesOf(int(old.Fd()))
	if err != nil {
		return &os.PathError{Op: "read the attributes of", Path: from, Err: err}
	}
	for _, name := range names {
		value, err := valueOf(int(old.Fd()), name)
		if errors.Is(err, unix.ENODATA) {
			continue // it went meanwhile
		}
		if err == nil {
			if is, failed := valueOf(int(fresh.Fd()), name); failed == nil && string(is) == string(value) {
				continue
			}
			err = unix.Fsetxattr(int(fresh.Fd()), name, value, 0)
		}
		if err != nil {
			return &os.PathError{Op: "keep the attribute " + name + " of", Path: from, Err: err}
		}
	}
	return nil
}

var _ fsys.Likener = (*FS)(nil)

func attributesOf(fd int) ([]string, error) {
	size, err := unix.Flistxattr(fd, nil)
	if errors.Is(err, unix.ENOTSUP) {
		return nil, nil
	}
	if err != nil || size == 0 {
		return nil, err
	}
	list := make([]byte, size)
	if size, err = unix.Flistxattr(fd, list); err != nil {
		return nil, err
	}
	return strings.Split(strings.TrimSuffix(string(list[:size]), "\x00"), "\x00"), nil
}

func valueOf(fd int, name string) ([]byte, error) {
	size, err := unix.Fgetxattr(fd, name, nil)
	if err != nil {
		return nil, err
	}
	value := make([]byte, size+1) // one more, since an empty one asks for the size
	size, err = unix.Fgetxattr(fd, name, value)
	if err != nil {
		return nil, err
	}
	return value[:size], nil
}
