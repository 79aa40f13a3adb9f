//go:build linux || darwin

package content

import (
	"io"
	"io/fs"

	"golang.org/x/sys/unix"
)

// file is a file that is read once, from its beginning to its end. Beside an os.File it costs half the system calls,
// which counts where there are a hundred thousand of them. It must be closed.
type file struct {
	fd   int
	name string
	size int64 // as it was looked up last; 0: that is not known, or says nothing
	at   int64
}

func openFile(name string) (*file, error) {
	f := &file{name: name}
	err := ignoringInterrupts(func() (err error) {
		f.fd, err = unix.Open(name, unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NONBLOCK, 0) // a pipe must not hold us up
		return err
	})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return f, nil
}

func (f *file) facts() (facts, error) {
	var stat unix.Stat_t
	if err := ignoringInterrupts(func() error { return unix.Fstat(f.fd, &stat) }); err != nil {
		return facts{}, &fs.PathError{Op: "look up", Path: f.name, Err: err}
	}
	f.size = stat.Size
	return factsOfStat(&stat), nil
}

// Read ends, without another look, where the file ended when it was looked up. Whoever reads it looks up once more, or compares
// the digest.
func (f *file) Read(p []byte) (n int, err error) {
	if f.size > 0 && f.at == f.size {
		return 0, io.EOF
	}
	err = ignoringInterrupts(func() (err error) {
		n, err = unix.Read(f.fd, p)
		return err
	})
	switch {
	case err != nil:
		return 0, &fs.PathError{Op: "read", Path: f.name, Err: err}
	case n == 0 && len(p) > 0:
		return 0, io.EOF
	}
	f.at += int64(n)
	return n, nil
}

func (f *file) Seek(offset int64, whence int) (int64, error) {
	at, err := unix.Seek(f.fd, offset, whence)
	if err != nil {
		return 0, &fs.PathError{Op: "seek", Path: f.name, Err: err}
	}
	f.at = at
	return at, nil
}

func (f *file) Close() error { return unix.Close(f.fd) }
