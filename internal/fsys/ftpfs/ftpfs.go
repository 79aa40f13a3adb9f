// Package ftpfs is a folder at a server of the File Transfer Protocol as an fsys.FS.
//
// Beside the commands of RFC 959 it uses what the server says that it offers: listings for programs (MLSD and MLST, RFC
// 3659), MFF, or MFMT and SITE CHMOD, to set times and modes, HASH or XSHA256 for digests at the far end. Without MLSD
// a listing has times to the minute at best; without MFMT a file has the time at which it was brought; without SITE
// CHMOD, the mode that the server gives. There are no links, and no name holds a line break. New files are not made
// exclusively: two who make the same one at the same moment may both believe that it is theirs.
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

	"tartine/internal/connect/ftpline"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/fsys/redial"
)

// FS implements fsys.FS.
type FS struct {
	base      string // absolute
	lines     *lines
	facts     bool        // it has listings for programs
	dates     bool        // it tells the time of one file exactly (MDTM)
	copies    bool        // it can copy files
	plain     atomic.Bool // listings for people leave no name out, or cannot be asked not to
	hash      string      // the command that computes digests; empty: there is none
	chosen    sync.Map    // connections on which its algorithm is chosen
	replaces  atomic.Bool // a rename replaces what is there, as far as is known
	noRestart atomic.Bool // a file cannot be written from the middle on
	sets      sets
	features  map[string]string // what the server says that it can do
	abilities fsys.Abilities
}

// ErrNoRoom tells that the server has no room left for this user.
var ErrNoRoom = errors.New("the server has no room left for this user")

// New gives the folder base, an absolute path, over connections that dial makes, as many as most at once. The first of
// them is there already. Patience is how long a connection that was lost is tried to be made again.
func New(first *ftpline.Conn, dial Dial, base string, most int, patience time.Duration) *FS {
	f := &FS{base: base, lines: newLines(first, dial, most, patience)}
	f.replaces.Store(true)
	features := first.Features
	_, f.facts = features["MLST"]
	_, f.dates = features["MDTM"]
	f.copies = strings.Contains(features["SITE"], "COPY")
	for _, way := range []string{"HASH", "XSHA256"} {
		if offered, ok := features[way]; ok && f.hash == "" &&
			(way != "HASH" || strings.Contains(strings.ToUpper(offered), "SHA-256")) {
			f.hash = way
		}
	}
	f.features = features
	f.sets.from(features)
	f.abilities = fsys.Abilities{TimeStep: time.Second, OneLine: true, OddNames: true}
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

// Abilities implements fsys.FS. Whether a rename replaces, and modes and times can be set, is known only once one had
// to.
func (f *FS) Abilities() fsys.Abilities {
	out := f.abilities
	out.AtomicReplace = f.replaces.Load()
	out.Modes = f.sets.modes() && f.sets.seen
	out.UnsetTimes = !f.sets.times()
	out.NoTimes = !f.facts || out.UnsetTimes
	return out
}

// Connections tells how many connections are open.
func (f *FS) Connections() int { return f.lines.count() }

// full gives the absolute path of a name; one that would climb out with ".." stays at the top.
func (f *FS) full(name string) string { return path.Join(f.base, path.Join("/", name)) }

// do carries out an operation, over another connection again when one is lost. Rewind makes the operation ready to be
// done again; nil: it always is.
func (f *FS) do(ctx context.Context, op, name string, rewind func() (moved bool, err error),
	run func(line *ftpline.Conn) error) error {
	err := f.lines.do(ctx, rewind, run)
	if err == nil || ctx.Err() != nil {
		return errors.Join(err, ctx.Err())
	}
	return f.failed(ctx, op, name, err)
}

// Lstat implements fsys.FS.
func (f *FS) Lstat(ctx context.Context, name string) (fsys.Info, error) {
	out, err := f.look(ctx, name)
	if err != nil && ctx.Err() == nil {
		err = f.failed(ctx, "look up", name, err)
	}
	return out, err
}

// look describes a name. Its error is the server's reply, or fs.ErrNotExist: the cause is not looked for, which is done
// by looking.
func (f *FS) look(ctx context.Context, name string) (out fsys.Info, err error) {
	err = f.lines.do(ctx, nil, func(line *ftpline.Conn) (err error) {
		out, err = f.lookOver(line, f.full(name))
		return err
	})
	if ctx.Err() != nil {
		err = errors.Join(err, ctx.Err())
	}
	if out.Name = path.Base(f.full(name)); name == "." {
		out.Name = "."
	}
	return out, err
}

// lookBoth describes two names, where they are there, in one round trip if that can be.
func (f *FS) lookBoth(ctx context.Context, names [2]string) (found [2]fsys.Info, there [2]bool, err error) {
	err = f.do(ctx, "look up", names[1], nil, func(line *ftpline.Conn) error {
		if f.facts {
			replies, err := line.Ask(ftpline.Step{Want: 250, Command: "MLST " + f.full(names[0])},
				ftpline.Step{Want: 250, Command: "MLST " + f.full(names[1])})
			for i, r := range replies {
				if r.Err == nil {
					found[i], r.Err = parseEntry(r.Text)
				}
				there[i] = r.Err == nil
			}
			return err
		}
		for i, name := range names {
			info, err := f.lookOver(line, f.full(name))
			if isBroken(err) {
				return err
			}
			found[i], there[i] = info, err == nil
		}
		return nil
	})
	return found, there, err
}

func (f *FS) lookOver(line *ftpline.Conn, full string) (fsys.Info, error) {
	if f.facts {
		_, text, err := line.Command(250, "MLST %s", full)
		if err != nil {
			return fsys.Info{}, err
		}
		return parseEntry(text)
	}
	if full == "/" {
		return fsys.Info{Attributes: fsys.Attributes{Mode: fs.ModeDir | 0o755}}, nil
	}
	list, err := f.listOver(line, path.Dir(full))
	if err != nil {
		return fsys.Info{}, err
	}
	for _, info := range list {
		if info.Name == path.Base(full) {
			return info, nil
		}
	}
	return fsys.Info{}, fs.ErrNotExist
}

// List implements fsys.FS.
func (f *FS) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	if !f.facts { // some servers list a folder that does not exist as an empty one
		info, err := f.Lstat(ctx, dir)
		if err == nil && !info.Mode.IsDir() {
			err = &fs.PathError{Op: "list", Path: f.full(dir), Err: errors.New("not a folder")}
		}
		if err != nil {
			return nil, err
		}
	}
	var out []fsys.Info
	err := f.do(ctx, "list", dir, nil, func(line *ftpline.Conn) (err error) {
		out, err = f.listOver(line, f.full(dir))
		return err
	})
	return out, err
}

func (f *FS) listOver(line *ftpline.Conn, full string) (out []fsys.Info, err error) {
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
	return describe(entries, line.Listed, time.Now()), nil
}

// listHidden gets a listing for people with the names that begin with a dot: an option that most servers understand,
// and that the others take for a part of the name.
func (f *FS) listHidden(line *ftpline.Conn, full string) ([]*ftp.Entry, error) {
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
	return f.openAs(ctx, name, info)
}

// openAs opens a file of which it is known what it is.
func (f *FS) openAs(ctx context.Context, name string, info fsys.Info) (io.ReadCloser, error) {
	r := &reading{fs: f, ctx: ctx, name: name, size: info.Size}
	if err := r.open(); err != nil {
		return nil, err
	}
	return r, nil
}

// Create implements fsys.FS.
func (f *FS) Create(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	if _, err := f.Lstat(ctx, name); err == nil {
		return 0, &fs.PathError{Op: "write", Path: f.full(name), Err: fs.ErrExist}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	return f.Put(ctx, name, content, attr)
}

// Put implements fsys.FS.
func (f *FS) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	up := &upload{fs: f, ctx: ctx, name: name, content: content, counting: counting{in: fsys.WithContext(ctx, content)},
		restart: redial.Restarting(content)}
	err := f.do(ctx, "write", name, up.again, func(line *ftpline.Conn) error {
		if err := up.send(line); err != nil {
			return err
		}
		return f.finish(line, name, attr, content)
	})
	var source *sourceError
	if errors.As(err, &source) {
		err = source.err
	}
	return up.from + up.read, err
}

// upload is a file that is being written.
type upload struct {
	counting
	fs      *FS
	ctx     context.Context
	name    string
	content io.Reader
	restart func() error
	from    int64 // what has arrived already is not sent again
}

// again makes ready to go on behind what has arrived, where the server can (REST), else from the beginning.
func (u *upload) again() (moved bool, err error) {
	u.read, u.err = 0, nil
	resumer, ok := u.content.(redial.Resumer)
	if !ok || u.fs.noRestart.Load() {
		u.from = 0
		return false, u.restart()
	}
	info, err := u.fs.Lstat(u.ctx, u.name)
	if err != nil || info.Size <= 0 {
		u.from = 0
		return false, u.restart()
	}
	moved = info.Size > u.from
	u.from = info.Size
	return moved, resumer.Resume(u.from)
}

func (u *upload) send(line *ftpline.Conn) error {
	full := u.fs.full(u.name)
	if u.from > 0 {
		err := line.StorFrom(full, u, uint64(u.from))
		var reply *textproto.Error
		if u.err != nil || !errors.As(err, &reply) || u.read > 0 || isBroken(err) {
			return u.because(err)
		}
		u.fs.noRestart.Store(true) // it writes files from their beginning only
		if u.from = 0; u.restart() != nil {
			return farend.ErrLost
		}
	}
	return u.because(line.Stor(full, u))
}

// because gives the error of what is read here, where there was one.
func (u *upload) because(err error) error {
	if u.err != nil {
		return &sourceError{u.err}
	}
	return err
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

// Symlink implements fsys.FS: there are none.
func (f *FS) Symlink(_ context.Context, _, name string) error {
	return &fs.PathError{Op: "make link", Path: f.full(name), Err: farend.ErrUnsupported}
}

// Mkdir implements fsys.FS.
func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	return f.do(ctx, "make folder", name, nil, func(line *ftpline.Conn) error {
		if err := line.MakeDir(f.full(name)); err != nil {
			return err
		}
		return f.setAttributes(line, name, fsys.Attributes{Mode: mode})
	})
}

// Rename implements fsys.FS.
func (f *FS) Rename(ctx context.Context, from, to string) error {
	rename := func(from, to string) error {
		return f.lines.do(ctx, nil, func(line *ftpline.Conn) error {
			return line.Steps(ftpline.Step{Want: 350, Command: "RNFR " + from}, ftpline.Step{Want: 2, Command: "RNTO " + to})
		})
	}
	err := rename(f.full(from), f.full(to))
	var reply *textproto.Error
	if !errors.As(err, &reply) {
		if err != nil {
			err = f.failed(ctx, "rename to", to, err)
		}
		return err
	}
	if _, missing := f.Lstat(ctx, from); missing != nil {
		return missing
	}
	stands, missing := f.Lstat(ctx, to)
	if missing != nil || stands.Mode.IsDir() {
		return f.failed(ctx, "rename to", to, err)
	}
	f.replaces.Store(false)
	return fsys.ReplaceAside(f.full(from), f.full(to), func(from, to string) error {
		if err := rename(from, to); err != nil {
			return f.failed(ctx, "rename to", to, err)
		}
		return nil
	}, func(name string) error {
		return f.do(ctx, "remove", name, nil, func(line *ftpline.Conn) error { return line.Delete(name) })
	})
}

// RemoveFolder implements fsys.FolderRemover.
func (f *FS) RemoveFolder(ctx context.Context, name string) error {
	return f.do(ctx, "remove", name, nil, func(line *ftpline.Conn) error { return line.RemoveDir(f.full(name)) })
}

// Remove implements fsys.FS.
func (f *FS) Remove(ctx context.Context, name string) error {
	return f.do(ctx, "remove", name, nil, func(line *ftpline.Conn) error {
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
