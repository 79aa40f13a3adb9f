package sftpline

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"github.com/pkg/sftp"
)

// Types of messages, of draft-ietf-secsh-filexfer-02, section 3.
const (
	open      = 3
	closeFile = 4
	read      = 5
	write     = 6
	lstat     = 7
	setStat   = 9
	openDir   = 11
	readDir   = 12
	makeDir   = 14
	status    = 101
	handle    = 102
	data      = 103
	names     = 104
	attrs     = 105
	extended  = 200
)

// How a file is opened.
const (
	Reading   = 1
	Writing   = 2
	Creating  = 8
	Emptying  = 16
	Exclusive = 32
)

// Request is a message to the server, without its number.
type Request struct {
	kind byte
	body []byte
	data []byte // of a write; behind the rest
}

func (r *Request) append(out []byte, number uint32) []byte {
	out = binary.BigEndian.AppendUint32(out, uint32(5+len(r.body)+len(r.data)))
	out = append(out, r.kind)
	out = binary.BigEndian.AppendUint32(out, number)
	return append(append(out, r.body...), r.data...)
}

func text(out []byte, s string) []byte {
	return append(binary.BigEndian.AppendUint32(out, uint32(len(s))), s...)
}

func mode(out []byte, mode fs.FileMode) []byte {
	out = binary.BigEndian.AppendUint32(out, hasMode)
	return binary.BigEndian.AppendUint32(out, uint32(mode.Perm()))
}

// What attributes say.
const (
	hasSize     = 1
	hasOwners   = 2
	hasMode     = 4
	hasTimes    = 8
	hasExtended = 1 << 31
)

// Open opens a file. The mode is that of one that is made.
func Open(name string, how uint32, perm fs.FileMode) Request {
	out := binary.BigEndian.AppendUint32(text(nil, name), how)
	if perm == 0 {
		return Request{kind: open, body: binary.BigEndian.AppendUint32(out, 0)}
	}
	return Request{kind: open, body: mode(out, perm)}
}

// Close closes a file.
func Close(handle string) Request { return Request{kind: closeFile, body: text(nil, handle)} }

// Read reads from a file.
func Read(handle string, offset int64, length int) Request {
	out := binary.BigEndian.AppendUint64(text(nil, handle), uint64(offset))
	return Request{kind: read, body: binary.BigEndian.AppendUint32(out, uint32(length))}
}

// Write writes into a file.
func Write(handle string, offset int64, data []byte) Request {
	out := binary.BigEndian.AppendUint64(text(nil, handle), uint64(offset))
	return Request{kind: write, body: binary.BigEndian.AppendUint32(out, uint32(len(data))), data: data}
}

// Sync has what was written to a file made durable (fsync@openssh.com).
func Sync(handle string) Request {
	return Request{kind: extended, body: text(text(nil, "fsync@openssh.com"), handle)}
}

// SetAttributes gives a name a mode, unless that is 0, and times in seconds since 1970, if they are to be set.
func SetAttributes(name string, perm fs.FileMode, times bool, access, modification uint32) Request {
	out, flags := text(nil, name), uint32(0)
	at := len(out)
	out = binary.BigEndian.AppendUint32(out, 0)
	if perm != 0 {
		flags |= hasMode
		out = binary.BigEndian.AppendUint32(out, uint32(perm.Perm()))
	}
	if times {
		flags |= hasTimes
		out = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(out, access), modification)
	}
	binary.BigEndian.PutUint32(out[at:], flags)
	return Request{kind: setStat, body: out}
}

// Mkdir makes a folder.
func Mkdir(name string, perm fs.FileMode) Request {
	return Request{kind: makeDir, body: mode(text(nil, name), perm)}
}

// OpenFolder opens a folder, to list it.
func OpenFolder(name string) Request { return Request{kind: openDir, body: text(nil, name)} }

// List reads some names in a folder that was opened, those that come next.
func List(handle string) Request { return Request{kind: readDir, body: text(nil, handle)} }

// Lstat looks a name up.
func Lstat(name string) Request { return Request{kind: lstat, body: text(nil, name)} }

var errForm = errors.New("an answer of the SFTP server cannot be read")

// Err gives what a status says that is not OK: io.EOF, an error of package fs, or a *sftp.StatusError.
func (a *Answer) Err() error {
	if a.Type != status || len(a.Body) < 4 {
		return fmt.Errorf("%w: type %d in the place of a status", errForm, a.Type)
	}
	switch code := binary.BigEndian.Uint32(a.Body); code {
	case 0:
		return nil
	case 1:
		return io.EOF
	case 2:
		return fs.ErrNotExist
	case 3:
		return fs.ErrPermission
	default:
		return &sftp.StatusError{Code: code}
	}
}

// Handle gives the handle of a file that was opened.
func (a *Answer) Handle() (string, error) {
	if a.Type != handle {
		return "", a.failed()
	}
	r := &taking{rest: a.Body}
	return string(r.text()), r.err
}

// Data gives what was read. At the end of a file it fails with io.EOF.
func (a *Answer) Data() ([]byte, error) {
	if a.Type != data {
		return nil, a.failed()
	}
	r := &taking{rest: a.Body}
	return r.text(), r.err
}

// Facts is what a server says of a name.
type Facts struct {
	Name         string
	Mode         uint32 // the bits of POSIX, with those of the kind
	Size         uint64
	User, Group  uint32
	Modification uint32 // seconds since 1970
}

// Facts gives what a look-up found.
func (a *Answer) Facts() (Facts, error) {
	if a.Type != attrs {
		return Facts{}, a.failed()
	}
	r := &taking{rest: a.Body}
	facts := r.facts()
	return facts, r.err
}

// Names gives what was listed; the folders . and .. are not among it. At the end of a folder it fails with io.EOF.
func (a *Answer) Names() (out []Facts, err error) {
	if a.Type != names {
		return nil, a.failed()
	}
	r := &taking{rest: a.Body}
	for range min(r.number(), mostAnswer/8) {
		name := string(r.text())
		r.text() // a line for people
		facts := r.facts()
		if r.err != nil {
			return nil, r.err
		}
		if facts.Name = name; name != "." && name != ".." {
			out = append(out, facts)
		}
	}
	return out, r.err
}

// taking reads an answer, as long as that goes.
type taking struct {
	rest []byte
	err  error
}

func (t *taking) number() uint32 {
	if len(t.rest) < 4 {
		t.rest, t.err = nil, errForm
		return 0
	}
	n := binary.BigEndian.Uint32(t.rest)
	t.rest = t.rest[4:]
	return n
}

func (t *taking) text() []byte {
	length := t.number()
	if uint64(length) > uint64(len(t.rest)) {
		t.rest, t.err = nil, errForm
		return nil
	}
	s := t.rest[:length]
	t.rest = t.rest[length:]
	return s
}

func (t *taking) facts() (f Facts) {
	flags := t.number()
	if flags&hasSize != 0 {
		high := t.number()
		f.Size = uint64(high)<<32 | uint64(t.number())
	}
	if flags&hasOwners != 0 {
		f.User, f.Group = t.number(), t.number()
	}
	if flags&hasMode != 0 {
		f.Mode = t.number()
	}
	if flags&hasTimes != 0 {
		t.number() // when it was read last
		f.Modification = t.number()
	}
	if flags&hasExtended != 0 {
		for n := t.number(); n > 0 && t.err == nil; n-- {
			t.text()
			t.text()
		}
	}
	return f
}

// failed gives why another answer came than was expected.
func (a *Answer) failed() error {
	if err := a.Err(); err != nil {
		return err
	}
	return errForm
}
