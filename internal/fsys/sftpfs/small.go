package sftpfs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"math"
	"net"
	"os"
	"slices"
	"time"

	"github.com/pkg/sftp"

	"tartine/internal/connect/sftpline"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Over a long line a small file costs the round trips that it takes. It is written in two: one gives the handle, the other
// everything else, in requests that follow one another. It is read in three, and its times are never asked for.

const (
	smallFile = 128 << 10 // bytes
	chunk     = 32 << 10  // that every server takes and gives at once
)

// Widen has another line to the same server opened, over which files are written, too: each line has a window of its own,
// and a server serves each by a process of its own. It does not wait for it, and where there is none the first must do.
func (f *FS) Widen(open func() (*sftp.Client, *sftpline.Line, error)) {
	f.widening.Go(func() {
		if client, line, err := open(); err == nil {
			f.second.Store(&second{client, line})
		}
	})
}

// second is a further line.
type second struct {
	client *sftp.Client
	line   *sftpline.Line
}

// forWriting gives the line over which the next file is written.
func (f *FS) forWriting() *sftpline.Line {
	if other := f.second.Load(); other != nil && f.turns.Add(1)%2 == 0 {
		return other.line
	}
	return f.line
}

// ask sends requests over the first line.
func (f *FS) ask(requests ...sftpline.Request) ([]sftpline.Answer, error) {
	return askOver(f.line, requests...)
}

// askOver sends requests, and gives the error of a connection that is gone the form that failed knows.
func askOver(line *sftpline.Line, requests ...sftpline.Request) ([]sftpline.Answer, error) {
	answers, err := line.Ask(requests...)
	if errors.Is(err, sftpline.ErrEnded) {
		err = net.ErrClosed
	}
	return answers, err
}

// writeSmall writes a small file whole, and tells content that wants to know what is there then.
func (f *FS) writeSmall(name string, flags int, text []byte, attr fsys.Attributes, prove func(manifest.Digest)) (int64, error) {
	full, how := f.full(name), uint32(sftpline.Writing|sftpline.Creating)
	if flags&os.O_EXCL != 0 {
		how |= sftpline.Exclusive
	} else {
		how |= sftpline.Emptying
	}
	if prove != nil {
		how |= sftpline.Reading
	}
	line := f.forWriting()
	answers, err := askOver(line, sftpline.Open(full, how, attr.Mode.Perm()))
	if err != nil {
		return 0, err
	}
	handle, err := answers[0].Handle()
	if err != nil {
		return 0, err
	}
	var requests []sftpline.Request
	for at := 0; at < len(text); at += chunk {
		requests = append(requests, sftpline.Write(handle, int64(at), text[at:min(at+chunk, len(text))]))
	}
	if f.durable {
		requests = append(requests, sftpline.Sync(handle))
	}
	reads := len(requests)
	if prove != nil {
		for at := 0; at <= len(text); at += chunk { // one behind the end, too
			requests = append(requests, sftpline.Read(handle, int64(at), chunk))
		}
	}
	closing := len(requests)
	requests = append(requests, sftpline.Close(handle))
	if attr.Mode != 0 || !attr.ModTime.IsZero() { // some servers date a file when it is closed, or write while they set its time
		requests = append(requests, setting(full, attr))
	}
	if answers, err = askOver(line, requests...); err != nil {
		return 0, err
	}
	for i := range answers {
		if i >= reads && i < closing {
			continue
		}
		if err := answers[i].Err(); err != nil {
			return 0, err
		}
	}
	if prove != nil {
		if digest, ok := digestOf(answers[reads:closing]); ok {
			prove(digest)
		}
	}
	return int64(len(text)), nil
}

// digestOf gives the digest of what was read in chunks up to the end of a file. It is not known where a server gives less
// than a chunk before the end.
func digestOf(answers []sftpline.Answer) (digest manifest.Digest, ok bool) {
	hash, short := sha256.New(), false
	for i := range answers {
		data, err := answers[i].Data()
		switch {
		case errors.Is(err, io.EOF):
			short = true
			continue
		case err != nil || short:
			return digest, false
		}
		hash.Write(data)
		short = len(data) < chunk
	}
	hash.Sum(digest[:0])
	return digest, short
}

// setting gives a name its mode and time, each unless it is zero.
func setting(full string, attr fsys.Attributes) sftpline.Request {
	var modification, access uint32
	if !attr.ModTime.IsZero() {
		modification, access = uint32(min(max(attr.ModTime.Unix(), 0), math.MaxUint32)), uint32(time.Now().Unix())
	}
	return sftpline.SetAttributes(full, attr.Mode, !attr.ModTime.IsZero(), access, modification)
}

// setAttr gives a name its mode and time in one round trip.
func (f *FS) setAttr(name string, attr fsys.Attributes) error {
	answers, err := f.ask(setting(f.full(name), attr))
	if err != nil {
		return err
	}
	return answers[0].Err()
}

// mkdir makes a folder. Where the server's umask has taken something of the mode away, that is set behind it.
func (f *FS) mkdir(name string, perm fs.FileMode) error {
	full := f.full(name)
	answers, err := f.ask(sftpline.Mkdir(full, perm), sftpline.Lstat(full))
	if err != nil {
		return err
	}
	if err := f.existing(name, answers[0].Err()); err != nil {
		return err
	}
	if found, err := answers[1].Facts(); err == nil && fs.FileMode(found.Mode).Perm() == perm.Perm() {
		return nil
	}
	return f.client.Chmod(full, perm.Perm())
}

// list lists a folder. A server answers with a hundred names, or less than that: as many answers are asked for at once as
// the folder seems to need.
func (f *FS) list(ctx context.Context, dir string) (out []fs.FileInfo, err error) {
	answers, err := f.ask(sftpline.OpenFolder(f.full(dir)))
	if err != nil {
		return nil, err
	}
	handle, err := answers[0].Handle()
	if err != nil {
		return nil, err
	}
	defer f.line.Tell(sftpline.Close(handle))
	for requests := 2; ; requests = min(2*requests, mostLists) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if answers, err = f.ask(slices.Repeat([]sftpline.Request{sftpline.List(handle)}, requests)...); err != nil {
			return nil, err
		}
		for i := range answers {
			names, err := answers[i].Names()
			if errors.Is(err, io.EOF) {
				return out, nil
			}
			if err != nil {
				return nil, err
			}
			for j := range names {
				out = append(out, listed{names[j]})
			}
		}
	}
}

const mostLists = 32

// listed is what a listing says of a name.
type listed struct{ sftpline.Facts }

func (l listed) Name() string       { return l.Facts.Name }
func (l listed) Size() int64        { return int64(l.Facts.Size) }
func (l listed) Mode() fs.FileMode  { return (&sftp.FileStat{Mode: l.Facts.Mode}).FileMode() }
func (l listed) ModTime() time.Time { return time.Unix(int64(l.Modification), 0) }
func (l listed) IsDir() bool        { return l.Mode().IsDir() }
func (l listed) Sys() any           { return &sftp.FileStat{UID: l.User, GID: l.Group} }

// openSmall reads a small file whole, of a size that was looked up.
func (f *FS) openSmall(name string, size int64) (io.ReadCloser, error) {
	answers, err := f.ask(sftpline.Open(f.full(name), sftpline.Reading, 0))
	if err != nil {
		return nil, err
	}
	handle, err := answers[0].Handle()
	if err != nil {
		return nil, err
	}
	var requests []sftpline.Request
	for at := int64(0); at <= size; at += chunk {
		requests = append(requests, sftpline.Read(handle, at, chunk))
	}
	if answers, err = f.ask(append(requests, sftpline.Close(handle))...); err != nil {
		return nil, err
	}
	var text bytes.Buffer
	ended := false
	for i := range answers[:len(requests)] {
		data, err := answers[i].Data()
		switch {
		case errors.Is(err, io.EOF):
			ended = true
			continue
		case err != nil:
			return nil, err
		case ended:
			return nil, errGrows
		}
		text.Write(data)
		ended = len(data) < chunk
	}
	if !ended {
		return nil, errGrows
	}
	return &whole{bytes.NewReader(text.Bytes())}, nil
}

// errGrows tells that a file could not be read in as many requests as its size says.
var errGrows = errors.New("the file has another size than was looked up")

// whole is a file that was read.
type whole struct{ *bytes.Reader }

func (whole) Close() error { return nil }
