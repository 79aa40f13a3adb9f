package ftpfs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"tartine/internal/connect/ftpline"
	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// Link implements fsys.Linker with a copy: the server makes it where it can (SITE CPFR and CPTO), else it goes through
// this machine. Like Put it does not make the new file exclusively.
func (f *FS) Link(ctx context.Context, from, to string) error {
	found, there, err := f.lookBoth(ctx, [2]string{to, from})
	if err == nil && !there[1] {
		found[1], err = f.Lstat(ctx, from) // which tells why
	}
	switch info := found[1]; {
	case err != nil:
		return err
	case there[0]:
		return &fs.PathError{Op: "copy to", Path: f.full(to), Err: fs.ErrExist}
	case !info.Mode.IsRegular():
		return &fs.PathError{Op: "copy", Path: f.full(from), Err: fmt.Errorf("not a file: %w", fs.ErrInvalid)}
	}
	info := found[1]
	attr := fsys.Attributes{Mode: info.Mode.Perm(), ModTime: info.ModTime}
	if f.copies {
		err := f.do(ctx, "copy to", to, nil, func(line *ftpline.Conn) error {
			if _, _, err := line.Command(3, "SITE CPFR %s", f.full(from)); err != nil {
				return err
			}
			if _, _, err := line.Command(2, "SITE CPTO %s", f.full(to)); err != nil {
				return err
			}
			return f.setAttributes(line, to, attr)
		})
		if err == nil || errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
			return err
		}
	}
	content, err := f.openAs(ctx, from, info)
	if err != nil {
		return err
	}
	defer content.Close()
	// There may be no second connection, so it is read whole first.
	spool, err := os.CreateTemp("", "tartine-")
	if err != nil {
		return err
	}
	_ = os.Remove(spool.Name()) // where an open file can be removed nothing of it stays, whatever happens
	defer os.Remove(spool.Name())
	defer spool.Close()
	if _, err := fsys.Copy(ctx, spool, content); err != nil {
		return err
	}
	if err := content.Close(); err != nil {
		return err
	}
	if _, err := spool.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return f.putWhole(ctx, to, spool, attr)
}

// partSuffix ends the name of what is being copied.
const partSuffix = ".tartine-part"

// putWhole makes a file that is there whole, or not at all.
func (f *FS) putWhole(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) error {
	part := name + partSuffix
	_, err := f.Put(ctx, part, content, attr)
	if err == nil {
		if _, there := f.Lstat(ctx, name); there == nil {
			err = &fs.PathError{Op: "copy to", Path: f.full(name), Err: fs.ErrExist}
		} else {
			err = f.Rename(ctx, part, name)
		}
	}
	if err != nil && !errors.Is(err, farend.ErrLost) {
		_ = f.Remove(context.WithoutCancel(ctx), part)
	}
	return err
}
