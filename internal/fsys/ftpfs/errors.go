package ftpfs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/textproto"
	"strings"

	"github.com/jlaffaye/ftp"

	"tartine/internal/fsys"
)

// mend gives an error the form that fsys.FS promises. What the server says is for people, so where it is not plain the
// cause is looked for.
func (f *FS) mend(ctx context.Context, op, name string, err error) error {
	var reply *textproto.Error
	switch {
	case errors.As(err, &reply):
		err = f.cause(ctx, op, name, reply)
	case errors.Is(err, ftp.ErrInvalidCommand):
		err = errors.New("a name with a line break cannot stand there")
	}
	var already *fs.PathError
	if errors.As(err, &already) {
		return err
	}
	return &fs.PathError{Op: op, Path: f.full(name), Err: err}
}

func (f *FS) cause(ctx context.Context, op, name string, reply *textproto.Error) error {
	said := strings.ToLower(reply.Msg)
	says := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(said, w) {
				return true
			}
		}
		return false
	}
	plain := fmt.Errorf("the server says: %d %s", reply.Code, firstLine(reply.Msg))
	switch {
	case reply.Code == 552, reply.Code == 452, says("quota", "no space", "disk full"):
		return fmt.Errorf("%w (%d %s)", ErrNoRoom, reply.Code, firstLine(reply.Msg))
	case says("no such file", "not found", "does not exist", "doesn't exist", "not exist"):
		return fs.ErrNotExist
	case says("file exists", "already exists", "directory exists"):
		return fs.ErrExist
	case reply.Code != 550 && reply.Code != 553 && reply.Code != 521:
		return plain
	}
	switch op {
	case "look up":
		if says("denied", "permission") {
			return fmt.Errorf("%w (%s)", fs.ErrPermission, firstLine(reply.Msg))
		}
		return fs.ErrNotExist
	case "make folder":
		if _, err := f.Lstat(ctx, name); err == nil {
			return fs.ErrExist
		}
		name, _ = fsys.Split(name)
	case "write":
		if dir, _ := fsys.Split(name); dir != "." {
			name = dir
		}
	}
	if _, err := f.Lstat(ctx, name); errors.Is(err, fs.ErrNotExist) {
		return fs.ErrNotExist
	}
	if says("denied", "permission", "not permitted") {
		return fmt.Errorf("%w (%s)", fs.ErrPermission, firstLine(reply.Msg))
	}
	return plain
}

// firstLine is the first line of a reply.
func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return fsys.Said(line, 200)
}
