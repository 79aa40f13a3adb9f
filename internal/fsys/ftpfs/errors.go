package ftpfs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/textproto"
	"path"
	"strings"

	"github.com/jlaffaye/ftp"

	"tartine/internal/connect/ftpline"
	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// refusal is a reply that was not hoped for, with the command to which it came: a transfer takes several.
type refusal struct {
	command string
	reply   *textproto.Error
}

func (r *refusal) Error() string {
	return fmt.Sprintf("the server answers %s with %d %s", r.command, r.reply.Code, firstLine(r.reply.Msg))
}

func (r *refusal) Unwrap() error { return r.reply }

// says tells whether the reply has one of some words in it. What a server says is for people.
func (r *refusal) says(words ...string) bool {
	said := strings.ToLower(r.reply.Msg)
	for _, w := range words {
		if strings.Contains(said, w) {
			return true
		}
	}
	return false
}

func (r *refusal) denies() bool {
	return r.says("denied", "permission", "not permitted", "not allowed")
}

// refused gives an error that is a reply its command.
func refused(line *ftpline.Conn, err error) error {
	var reply *textproto.Error
	if errors.As(err, &reply) {
		return &refusal{line.Asked(), reply}
	}
	return err
}

// failed gives an error the form that fsys.FS promises. What the server says is for people, so where it is not plain
// the cause is looked for.
func (f *FS) failed(ctx context.Context, op, name string, err error) error {
	var refused *refusal
	switch {
	case errors.As(err, &refused):
		err = f.cause(ctx, op, name, refused)
	case errors.Is(err, ftp.ErrInvalidCommand):
		err = errors.New("a name with a line break cannot be there")
	}
	var already *fs.PathError
	if errors.As(err, &already) {
		return err
	}
	return &fs.PathError{Op: op, Path: f.full(name), Err: err}
}

// cause looks for what is behind a reply, with commands whose own replies are taken as they are: a cause is not looked
// for once more.
func (f *FS) cause(ctx context.Context, op, name string, r *refusal) error {
	forbidden := fmt.Errorf("%w (%w)", fs.ErrPermission, r)
	switch {
	case r.reply.Code == 552, r.reply.Code == 452, r.says("quota", "no space", "disk full"):
		return fmt.Errorf("%w (%d %s)", ErrNoRoom, r.reply.Code, firstLine(r.reply.Msg))
	case r.command == "PASV", r.command == "EPSV":
		return fmt.Errorf("the server allows no transfers: %w", forbidden)
	case r.says("no such file", "not found", "does not exist", "doesn't exist", "not exist"):
		return fs.ErrNotExist
	case r.says("file exists", "already exists", "directory exists"):
		return fs.ErrExist
	case r.reply.Code != 550 && r.reply.Code != 553 && r.reply.Code != 521:
		return r
	}
	switch op {
	case "look up", "list":
		folder := f.full(name)
		if op == "look up" && !f.facts {
			folder = path.Dir(folder)
		}
		if r.command == "LIST" || r.command == "MLSD" {
			if there, known := f.entered(ctx, folder); there && known {
				return fmt.Errorf("the server does not allow the folder %s to be listed: %w", folder, forbidden)
			}
		}
		if r.denies() {
			return forbidden
		}
		return fs.ErrNotExist
	case "make folder":
		if there, _ := f.stands(ctx, name); there {
			return fs.ErrExist
		}
		name, _ = fsys.Split(name)
	case "write":
		name, _ = fsys.Split(name)
	}
	if there, known := f.stands(ctx, name); known && !there {
		return fs.ErrNotExist
	}
	if r.denies() {
		return forbidden
	}
	return r
}

// stands tells whether a name is there, where that is known.
func (f *FS) stands(ctx context.Context, name string) (there, known bool) {
	_, err := f.look(ctx, name)
	var r *refusal
	switch {
	case err == nil:
		return true, true
	case errors.Is(err, fs.ErrNotExist):
		return false, true
	case errors.As(err, &r) && r.command == "MLST":
		return false, r.reply.Code == 550 && !r.denies()
	case errors.As(err, &r) && r.command == "LIST": // of the folder above
		there, known := f.entered(ctx, path.Dir(f.full(name)))
		return false, known && !there
	}
	return false, false
}

// entered tells whether a folder is there, where that is known.
func (f *FS) entered(ctx context.Context, full string) (there, known bool) {
	err := f.lines.do(ctx, nil, func(line *ftpline.Conn) error { return line.ChangeDir(full) })
	var r *refusal
	return err == nil, err == nil || errors.As(err, &r)
}

// firstLine is the first line of a reply.
func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return farend.Said(line, 200)
}
