// Package ftpfs is a folder at a server of the File Transfer Protocol as an fsys.FS.
//
// Beside the commands of RFC 959 it uses what the server says that it offers: listings for programs (MLSD and MLST, RFC
// 3659), MFF, or MFMT and SITE CHMOD, to set times and modes, HASH or XSHA256 for digests at the far end. Without MLSD a listing
// has times to the minute at best; without MFMT a file has the time at which it was brought; without SITE CHMOD, the
// mode that the server gives. There are no links, and no name holds a line break. New files are not made exclusively:
// two who make the same one at the same moment may both believe that it is theirs.
package ftpfs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/textproto"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jlaffaye/ftp"

	"tartine/internal/connect"
	"tartine/internal/fsys"
	"tartine/internal/fsys/redial"
)

// FS implements fsys.FS.
type FS struct {
	base      string // absolute
	lines     *lines
	facts     bool        // it has listings for programs
	modes     bool        // it can set and list modes
	times     bool        // it can set times
	changes   bool        // it can set both at once
	copies    bool        // it can copy files
	plain     atomic.Bool // listings for people leave no name out, or cannot be asked not to
	hash      string      // the command that computes digests; empty: there is none
	chosen    sync.Map    // connections on which its algorithm is chosen
	replaces  atomic.Bool // a rename replaces what stands there, as far as is known
	abilities fsys.Abilities
}

// ErrNoRoom tells that the server has no room left for this user.
var ErrNoRoom = errors.New("the server has no room left for this user")

// New gives the folder base, an absolute path, over connections that dial makes, as many as most at once. The first of
// them is there already. Patience is how long a connection that was lost is tried to be made again.
func New(first *connect.FTPLine, dial Dial, base string, most int, patience time.Duration) *FS {
	f := &FS{base: base, lines: newLines(first, dial, most, patience)}
	f.replaces.Store(true)
	features := first.Features
	facts, listsFacts := features["MLST"]
	f.facts = listsFacts
	_, f.times = features["MFMT"]
	f.modes = strings.Contains(strings.ToLower(facts), "unix.mode")
	changed, changes := features["MFF"]
	changed = strings.ToLower(changed)
	_, site := features["SITE"]
	f.copies = site && strings.Contains(strings.ToUpper(features["SITE"]), "COPY")
	f.changes = changes && f.modes && strings.Contains(changed, "unix.mode") && strings.Contains(changed, "modify")
	for _, way := range []string{"HASH", "XSHA256"} {
		if offered, ok := features[way]; ok && f.hash == "" && (way != "HASH" || strings.Contains(strings.ToUpper(offered), "SHA-256")) {
			f.hash = way
		}
	}
	f.abilities = fsys.Abilities{Modes: f.modes, TimeStep: time.Second, NoTimes: !f.times || !f.facts, OneLine: true}
	if !f.facts {
		f.abilities.TimeStep = time.Minute
	}
	if f.hash != "" {
		f.abilities.FarDigests = f.hash
	}
	return f
}

// Close ends all connections.
func (f *FS) Close() error { return f.lines.close() }

// Abilities implements fsys.FS. Whether a rename replaces is known only once one had to.
func (f *FS) Abilities() fsys.Abilities {
	out := f.abilities
	out.AtomicReplace = f.replaces.Load()
	return out
}

// Connections tells how many connections are open.
func (f *FS) Connections() int { return f.lines.count() }

// full gives the absolute path of a name; one that would climb out with ".." stays at the top.
func (f *FS) full(name string) string { return path.Join(f.base, path.Join("/", name)) }

// do carries out an operation, over another connection again when one is lost. Rewind makes the operation ready to be
// done again; nil: it always is.
func (f *FS) do(ctx context.Context, op, name string, rewind func() error, run func(line *connect.FTPLine) error) error {
	err := f.lines.do(ctx, rewind, run)
	if err == nil || ctx.Err() != nil {
		return errors.Join(err, ctx.Err())
	}
	return f.mend(ctx, op, name, err)
}

// Lstat implements fsys.FS.
func (f *FS) Lstat(ctx context.Context, name string) (out fsys.Info, err error) {
	if !f.facts {
		return f.lookInFolder(ctx, name)
	}
	err = f.do(ctx, "look up", name, nil, func(line *connect.FTPLine) error {
		_, text, err := line.Command(250, "MLST %s", f.full(name))
		if err != nil {
			return err
		}
		out, err = parseEntry(text)
		return err
	})
	if out.Name = path.Base(f.full(name)); name == "." {
		out.Name = "."
	}
	return out, err
}

// lookInFolder finds a name in the listing of its folder.
func (f *FS) lookInFolder(ctx context.Context, name string) (fsys.Info, error) {
	full := f.full(name)
	if full == "/" {
		return fsys.Info{Name: "/", Mode: fs.ModeDir | 0o755}, nil
	}
	list, err := f.listAt(ctx, path.Dir(full), name)
	if err != nil {
		return fsys.Info{}, err
	}
	for _, info := range list {
		if info.Name == path.Base(full) {
			return info, nil
		}
	}
	return fsys.Info{}, &fs.PathError{Op: "look up", Path: full, Err: fs.ErrNotExist}
}

// List implements fsys.FS.
func (f *FS) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	if !f.facts { // some servers list a folder that does not stand as an empty one
		info, err := f.Lstat(ctx, dir)
		if err == nil && !info.Mode.IsDir() {
			err = &fs.PathError{Op: "list", Path: f.full(dir), Err: errors.New("not a folder")}
		}
		if err != nil {
			return nil, err
		}
	}
	return f.listAt(ctx, f.full(dir), dir)
}

func (f *FS) listAt(ctx context.Context, full, name string) (out []fsys.Info, err error) {
	err = f.do(ctx, "list", name, nil, func(line *connect.FTPLine) (err error) {
		out, err = f.listOver(line, full)
		return err
	})
	return out, err
}

func (f *FS) listOver(line *connect.FTPLine, full string) (out []fsys.Info, err error) {
	if f.facts {
		if _, err := line.ListRaw(full); err != nil {
			return nil, err
		}
		return parseListing(line.Listed)
	}
	entries, err := f.listHidden(line, full)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if info, ok := describe(e); ok {
			out = append(out, info)
		}
	}
	return out, nil
}

// listHidden gets a listing for people with the names that begin with a dot: an option that most servers understand, and
// that the others take for a part of the name.
func (f *FS) listHidden(line *connect.FTPLine, full string) ([]*ftp.Entry, error) {
	if !f.plain.Load() {
		all, err := line.ListRaw("-a " + full)
		if isBroken(err) || err == nil && len(all) > 0 {
			return all, err
		}
	}
	some, err := line.ListRaw(full)
	if err == nil && len(some) > 0 {
		f.plain.Store(true)
	}
	return some, err
}

// Open implements fsys.FS. The file takes one connection until it is closed.
func (f *FS) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	info, err := f.Lstat(ctx, name)
	if err == nil && !info.Mode.IsRegular() {
		err = &fs.PathError{Op: "open", Path: f.full(name), Err: fmt.Errorf("not a file: %w", fs.ErrInvalid)}
	}
	if err != nil {
		return nil, err
	}
	r := &reading{fs: f, ctx: ctx, name: name, size: info.Size}
	if err := r.open(); err != nil {
		return nil, err
	}
	return r, nil
}

// Put implements fsys.FS.
func (f *FS) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attr) (int64, error) {
	if attr.New {
		if _, err := f.Lstat(ctx, name); err == nil {
			return 0, &fs.PathError{Op: "write", Path: f.full(name), Err: fs.ErrExist}
		} else if !errors.Is(err, fs.ErrNotExist) {
			return 0, err
		}
	}
	counted := &counting{in: fsys.WithContext(ctx, content)}
	rewind := redial.Rewinding(content)
	err := f.do(ctx, "write", name, func() error {
		counted.read, counted.err = 0, nil
		if rewind == nil {
			return fsys.ErrLost
		}
		return rewind()
	}, func(line *connect.FTPLine) error {
		err := line.Stor(f.full(name), counted)
		if counted.err != nil {
			return &sourceError{counted.err}
		}
		if err != nil {
			return err
		}
		return f.settle(line, name, attr)
	})
	var source *sourceError
	if errors.As(err, &source) {
		err = source.err
	}
	return counted.read, err
}

// sourceError is an error of what is read here, not of the server.
type sourceError struct{ err error }

func (e *sourceError) Error() string { return e.err.Error() }

// counting counts what is read, and keeps the error.
type counting struct {
	in   io.Reader
	read int64
	err  error
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.read += int64(n)
	if err != nil && err != io.EOF {
		c.err = err
	}
	return n, err
}

// settle gives a file its mode and its time, as far as the server can.
func (f *FS) settle(line *connect.FTPLine, name string, attr fsys.Attr) error {
	if f.changes {
		facts := ""
		if !attr.ModTime.IsZero() && f.times {
			facts = "Modify=" + attr.ModTime.UTC().Format("20060102150405") + ";"
		}
		if attr.Mode != 0 && f.modes {
			facts += fmt.Sprintf("UNIX.mode=%04o;", attr.Mode.Perm())
		}
		if facts == "" {
			return nil
		}
		_, _, err := line.Command(213, "MFF %s %s", facts, f.full(name))
		return err
	}
	if err := f.chmod(line, name, attr.Mode); err != nil {
		return err
	}
	if attr.ModTime.IsZero() || !f.times {
		return nil
	}
	_, _, err := line.Command(213, "MFMT %s %s", attr.ModTime.UTC().Format("20060102150405"), f.full(name))
	return err
}

func (f *FS) chmod(line *connect.FTPLine, name string, mode fs.FileMode) error {
	if mode == 0 || !f.modes {
		return nil
	}
	_, _, err := line.Command(2, "SITE CHMOD %o %s", mode.Perm(), f.full(name))
	var reply *textproto.Error
	if errors.As(err, &reply) && !isBroken(err) {
		// Servers read this command word by word, and so not every name. Often the mode is right as it is.
		if _, text, failed := line.Command(250, "MLST %s", f.full(name)); failed == nil {
			if info, failed := parseEntry(text); failed == nil && info.Mode.Perm() == mode.Perm() {
				return nil
			}
		}
	}
	return err
}

// SetAttr implements fsys.FS.
func (f *FS) SetAttr(ctx context.Context, name string, attr fsys.Attr) error {
	return f.do(ctx, "set mode of", name, nil, func(line *connect.FTPLine) error { return f.settle(line, name, attr) })
}

// Symlink implements fsys.FS: there are none.
func (f *FS) Symlink(_ context.Context, _, name string) error {
	return &fs.PathError{Op: "make link", Path: f.full(name), Err: fsys.ErrUnsupported}
}

// Mkdir implements fsys.FS.
func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	return f.do(ctx, "make folder", name, nil, func(line *connect.FTPLine) error {
		if err := line.MakeDir(f.full(name)); err != nil {
			return err
		}
		return f.settle(line, name, fsys.Attr{Mode: mode})
	})
}

// Rename implements fsys.FS.
func (f *FS) Rename(ctx context.Context, from, to string) error {
	rename := func(from, to string) error {
		return f.lines.do(ctx, nil, func(line *connect.FTPLine) error { return line.Rename(from, to) })
	}
	err := rename(f.full(from), f.full(to))
	var reply *textproto.Error
	if !errors.As(err, &reply) {
		if err != nil {
			err = f.mend(ctx, "rename to", to, err)
		}
		return err
	}
	if _, missing := f.Lstat(ctx, from); missing != nil {
		return missing
	}
	stands, missing := f.Lstat(ctx, to)
	if missing != nil || stands.Mode.IsDir() {
		return f.mend(ctx, "rename to", to, err)
	}
	f.replaces.Store(false)
	return fsys.ReplaceAside(f.full(from), f.full(to), func(from, to string) error {
		if err := rename(from, to); err != nil {
			return f.mend(ctx, "rename to", to, err)
		}
		return nil
	}, func(name string) error {
		return f.do(ctx, "remove", name, nil, func(line *connect.FTPLine) error { return line.Delete(name) })
	})
}

// Remove implements fsys.FS.
func (f *FS) Remove(ctx context.Context, name string) error {
	return f.do(ctx, "remove", name, nil, func(line *connect.FTPLine) error {
		err := line.Delete(f.full(name))
		var reply *textproto.Error
		if !errors.As(err, &reply) || isBroken(err) {
			return err
		}
		// Some servers remove a folder with all that is in it.
		if list, failed := f.listOver(line, f.full(name)); failed != nil {
			return err
		} else if len(list) > 0 {
			return errors.New("the folder is not empty")
		}
		if again := line.RemoveDir(f.full(name)); again == nil {
			return nil
		}
		return err
	})
}
