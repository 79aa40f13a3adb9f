// Package sftpfs is a folder at a server's SFTP subsystem as an fsys.FS.
//
// It speaks version 3 of the protocol (draft-ietf-secsh-filexfer-02) and uses OpenSSH's extensions where the server
// offers them: posix-rename@openssh.com for a rename that replaces, fsync@openssh.com for durable files. Times are
// kept to the second, from 1970 to 2106. Where the server also gives a shell, digests are computed there.
package sftpfs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"net"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"tartine/internal/connect/sftpline"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Exec runs a command at the server. It fails with farend.ErrUnsupported where there is no shell.
type Exec func(ctx context.Context, command string, stdin io.Reader, stdout io.Writer) error

// FS implements fsys.FS and fsys.Digester.
type FS struct {
	client    *sftp.Client
	line      *sftpline.Line
	base      string // absolute
	exec      Exec
	also      []io.Closer
	abilities fsys.Abilities
	durable   bool

	second   atomic.Pointer[second] // nil: there is none
	turns    atomic.Uint32
	widening sync.WaitGroup
}

var (
	_ fsys.FS       = (*FS)(nil)
	_ fsys.Digester = (*FS)(nil)
)

// linksAtOnce is how many links of one folder are read at the same time.
const linksAtOnce = 16

// unordered is how much the client has in flight of one file that is written, in bytes: 64 requests of 32 KiB.
const unordered = 64 * 32 << 10

// ofWindows matches absolute paths as servers on Windows give them, such as /C:/sites.
var ofWindows = regexp.MustCompile(`^/[A-Za-z]:(/|$)`)

// New gives the folder base, an absolute path, through a client and the line that it speaks over. The FS closes the client
// in the end, and what it runs over also. Exec may be nil.
func New(client *sftp.Client, line *sftpline.Line, base string, exec Exec, also ...io.Closer) *FS {
	_, atomic := client.HasExtension("posix-rename@openssh.com")
	_, durable := client.HasExtension("fsync@openssh.com")
	f := &FS{client: client, line: line, base: base, exec: exec, also: also, durable: durable,
		abilities: fsys.Abilities{AtomicReplace: atomic, Modes: true, Links: true, TimeStep: time.Second,
			Unordered: unordered}}
	if ofWindows.MatchString(base) {
		f.abilities.Modes, f.abilities.WindowsNames = false, true
	}
	if exec != nil {
		f.abilities.FarDigests = "sha256sum"
	}
	return f
}

// Close ends the SFTP session and what it runs over.
func (f *FS) Close() error {
	err := f.client.Close()
	for _, c := range f.also {
		err = errors.Join(err, c.Close())
	}
	f.widening.Wait()
	if other := f.second.Load(); other != nil {
		_ = other.client.Close() // what it ran over is closed
	}
	return err
}

// Abilities implements fsys.FS.
func (f *FS) Abilities() fsys.Abilities { return f.abilities }

// full gives the absolute path of a name; one that would climb out with ".." stays at the top.
func (f *FS) full(name string) string { return path.Join(f.base, path.Join("/", name)) }

// failed gives an error the form that fsys.FS promises, with the operation and the full name in it once.
func (f *FS) failed(op, name string, err error) error {
	if err == nil {
		return nil
	}
	var inner *fs.PathError
	if errors.As(err, &inner) {
		err = inner.Err
	}
	var status *sftp.StatusError
	switch {
	case isLost(err):
		err = farend.ErrLost
	case errors.As(err, &status):
		err = errors.New(strings.TrimSpace(strings.TrimPrefix(strings.Trim(statusText(status), `"`), "sftp:")))
	}
	return &fs.PathError{Op: op, Path: f.full(name), Err: err}
}

// isLost tells whether an operation failed because the connection is gone, perhaps in the middle of a packet.
func isLost(err error) bool {
	for _, gone := range []error{sftp.ErrSSHFxConnectionLost, sftp.ErrSSHFxNoConnection, io.EOF, io.ErrUnexpectedEOF,
		io.ErrClosedPipe, net.ErrClosed,
		fs.ErrClosed, os.ErrDeadlineExceeded, syscall.EPIPE, syscall.ECONNRESET, syscall.ECONNABORTED,
		syscall.ETIMEDOUT, syscall.EHOSTUNREACH} {
		if errors.Is(err, gone) {
			return true
		}
	}
	return false
}

// statusText turns what the server says of a failure into a phrase. Version 3 has one code for most failures, so the
// likeliest causes are named with it.
func statusText(status *sftp.StatusError) string {
	switch status.FxCode() {
	case sftp.ErrSSHFxFailure:
		return "the server refused without a reason (disk full, quota, or a name it cannot hold)"
	case sftp.ErrSSHFxOpUnsupported:
		return "the server cannot do this"
	case sftp.ErrSSHFxBadMessage:
		return "the server did not understand (a name too long, or one it cannot hold)"
	}
	return status.Error()
}

// Lstat implements fsys.FS.
func (f *FS) Lstat(ctx context.Context, name string) (fsys.Info, error) {
	if err := ctx.Err(); err != nil {
		return fsys.Info{}, err
	}
	info, err := f.client.Lstat(f.full(name))
	if err != nil {
		return fsys.Info{}, f.failed("look up", name, err)
	}
	out := describe(info)
	if out.Mode&fs.ModeSymlink != 0 {
		if out.Link, err = f.client.ReadLink(f.full(name)); err != nil {
			return out, f.failed("read link", name, err)
		}
	}
	return out, nil
}

func describe(info fs.FileInfo) fsys.Info {
	out := fsys.Info{Name: info.Name(), Attributes: fsys.Attributes{Mode: info.Mode(), ModTime: info.ModTime()},
		Size: info.Size()}
	if stat, ok := info.Sys().(*sftp.FileStat); ok {
		out.User = fsys.User{ID: stat.UID, Known: true}
	}
	return out
}

// List implements fsys.FS.
func (f *FS) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	found, err := f.list(ctx, dir)
	if err != nil {
		return nil, f.failed("list", dir, err)
	}
	out := make([]fsys.Info, len(found))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(linksAtOnce)
	for i, info := range found {
		out[i] = describe(info)
		if strings.ContainsAny(out[i].Name, "/\x00") || out[i].Name == "" {
			return nil, f.failed("list", dir, fmt.Errorf("the server returned the name %q, which cannot be in a folder", out[i].Name))
		}
		if out[i].Mode&fs.ModeSymlink == 0 {
			continue
		}
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			name := fsys.Join(dir, out[i].Name)
			link, err := f.client.ReadLink(f.full(name))
			if err == nil {
				out[i].Link = link
				return nil
			}
			again, err := f.Lstat(ctx, name) // it was removed or replaced since the folder was read
			if errors.Is(err, fs.ErrNotExist) {
				out[i].Name = ""
				return nil
			}
			out[i] = again
			return err
		})
	}
	err = group.Wait()
	return slices.DeleteFunc(out, func(i fsys.Info) bool { return i.Name == "" }), err
}

// Open implements fsys.FS.
func (f *FS) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	info, err := f.Lstat(ctx, name)
	if err != nil {
		return nil, err
	}
	if !info.Mode.IsRegular() { // the server would wait at a pipe, and follow a link anywhere
		return nil, f.failed("open", name, fmt.Errorf("not a file: %w", fs.ErrInvalid))
	}
	if info.Size < smallFile {
		if small, err := f.openSmall(name, info.Size); err == nil || isLost(err) {
			return small, f.failed("open", name, err)
		}
	}
	file, err := f.client.Open(f.full(name))
	if err != nil {
		return nil, f.failed("open", name, err)
	}
	return &reading{File: file, fs: f, name: name, size: info.Size}, nil
}

// reading gives the errors of a file that is read their right form.
type reading struct {
	*sftp.File
	fs   *FS
	name string
	size int64 // when it was opened
}

// Size gives how large the file was when it was opened, in bytes.
func (r *reading) Size() int64 { return r.size }

func (r *reading) Read(p []byte) (int, error) {
	n, err := r.File.Read(p)
	if err != nil && err != io.EOF {
		err = r.fs.failed("read", r.name, err)
	}
	return n, err
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
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	if flags&os.O_CREATE != 0 {
		start, err := io.ReadAll(io.LimitReader(fsys.WithContext(ctx, content), smallFile))
		switch {
		case err != nil:
			return 0, f.failed("write", name, err)
		case len(start) < smallFile:
			size, err := f.writeSmall(name, flags, start, attr, f.proving(content))
			if err != nil && flags&os.O_EXCL != 0 {
				err = f.existing(name, err)
			}
			return size, f.failed("write", name, err)
		}
		content = &continued{io.MultiReader(bytes.NewReader(start), content), content}
	}
	file, err := f.client.OpenFile(f.full(name), flags)
	if err != nil {
		if flags&os.O_EXCL != 0 {
			err = f.existing(name, err)
		}
		return 0, f.failed("write", name, err)
	}
	if offset > 0 {
		_, err = file.Seek(offset, io.SeekStart)
	}
	var size int64
	if err == nil {
		size, err = file.ReadFrom(sized(fsys.WithContext(ctx, content), content))
	}
	if err == nil {
		err = f.setAttributes(file, name, attr)
	}
	if closing := file.Close(); err == nil {
		err = closing
	}
	if ctx.Err() != nil {
		return size, ctx.Err()
	}
	return size, f.failed("write", name, err)
}

// setAttributes gives a file that was written its mode and time and makes it durable, all in one round trip.
func (f *FS) setAttributes(file *sftp.File, name string, attr fsys.Attributes) error {
	var group errgroup.Group
	if attr.Mode != 0 {
		group.Go(func() error { return file.Chmod(attr.Mode.Perm()) })
	}
	if !attr.ModTime.IsZero() {
		group.Go(func() error { return f.chtimes(name, attr.ModTime) })
	}
	if f.durable {
		group.Go(file.Sync)
	}
	return group.Wait()
}

// proving gives what wants to know what is there once content was written; nil: nothing does, or a program there computes
// digests, which spares reading back.
func (f *FS) proving(content io.Reader) func(manifest.Digest) {
	if proved, ok := content.(fsys.Proved); ok && f.exec == nil {
		return proved.Proved
	}
	return nil
}

// continued is content of which the beginning was read and is put before the rest.
type continued struct {
	io.Reader
	content io.Reader
}

// sized hands on how long the content is, where that is known, so that the client keeps several writes in flight.
func sized(in, original io.Reader) io.Reader {
	if begun, ok := original.(*continued); ok {
		original = begun.content
	}
	if known, ok := original.(interface{ Size() int64 }); ok {
		return sizedReader{in, known.Size()}
	}
	return in
}

type sizedReader struct {
	io.Reader
	size int64
}

func (s sizedReader) Size() int64 { return s.size }

func (f *FS) chtimes(name string, mtime time.Time) error {
	seconds := min(max(mtime.Unix(), 0), math.MaxUint32)
	return f.client.Chtimes(f.full(name), time.Now(), time.Unix(seconds, 0))
}

// SetAttr implements fsys.FS.
func (f *FS) SetAttr(ctx context.Context, name string, attr fsys.Attributes) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return f.failed("set mode of", name, f.setAttr(name, attr))
}

// Symlink implements fsys.FS.
func (f *FS) Symlink(ctx context.Context, target, name string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return f.failed("make link", name, f.existing(name, f.client.Symlink(target, f.full(name))))
}

// Mkdir implements fsys.FS.
func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return f.failed("make folder", name, f.mkdir(name, mode))
}

// existing finds out whether making something failed because something exists there: version 3 has no code for it.
func (f *FS) existing(name string, err error) error {
	if err == nil || errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrNotExist) {
		return err
	}
	switch _, failed := f.client.Lstat(f.full(name)); {
	case failed == nil:
		return fs.ErrExist
	case isLost(failed):
		return failed
	}
	return err
}

// Link implements fsys.Linker with hardlink@openssh.com.
func (f *FS) Link(ctx context.Context, from, to string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if _, ok := f.client.HasExtension("hardlink@openssh.com"); !ok {
		return f.failed("link", to, farend.ErrUnsupported)
	}
	return f.failed("link", to, f.existing(to, f.client.Link(f.full(from), f.full(to))))
}

// FreeSpace implements fsys.Spacer with statvfs@openssh.com.
func (f *FS) FreeSpace(context.Context) (fsys.Space, error) {
	if _, ok := f.client.HasExtension("statvfs@openssh.com"); !ok {
		return fsys.Space{}, farend.ErrUnsupported
	}
	stat, err := f.client.StatVFS(f.base)
	if err != nil {
		return fsys.Space{}, f.failed("ask free space of", ".", err)
	}
	out := fsys.Space{Bytes: int64(stat.Bavail * stat.Frsize), Files: int64(stat.Favail)}
	if stat.Files == 0 { // some file systems make room for names as they come
		out.Files = -1
	}
	return out, nil
}

// Rename implements fsys.FS.
func (f *FS) Rename(ctx context.Context, from, to string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if f.abilities.AtomicReplace {
		return f.failed("rename to", to, f.client.PosixRename(f.full(from), f.full(to)))
	}
	err := f.client.Rename(f.full(from), f.full(to))
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return f.failed("rename to", to, err)
	}
	if info, failed := f.client.Lstat(f.full(to)); failed != nil || info.IsDir() {
		return f.failed("rename to", to, err)
	}
	return fsys.ReplaceAside(f.full(from), f.full(to), func(from, to string) error {
		return f.failed("rename to", to, f.client.Rename(from, to))
	}, func(name string) error { return f.failed("remove", name, f.client.Remove(name)) })
}

// Remove implements fsys.FS.
func (f *FS) Remove(ctx context.Context, name string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return f.failed("remove", name, f.client.Remove(f.full(name)))
}
