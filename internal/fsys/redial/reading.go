package redial

import (
	"context"
	"io"

	"tartine/internal/fsys"
)

// reading is a file that is read on after a lost connection from where it was.
type reading struct {
	ctx  context.Context
	fs   *FS
	name string
	file io.ReadCloser // nil: it could not be opened again
	at   int64
}

// sizedReading is a reading that knows how large its file was when it was opened.
type sizedReading struct {
	*reading
	size int64
}

// Size gives how large the file was when it was opened, in bytes.
func (r *sizedReading) Size() int64 { return r.size }

func (r *reading) Read(p []byte) (int, error) {
	// It takes no turn: it may be what a file is written from whose turn it is.
	n, err := Do(r.ctx, r.fs.Keeper, func(place fsys.FS, again bool) (int, error) {
		if again || r.file == nil {
			if err := r.reopen(place); err != nil {
				return 0, err
			}
		}
		return r.file.Read(p)
	})
	r.at += int64(n)
	if n > 0 {
		r.fs.Moved()
	}
	return n, err
}

// reopen opens the file anew, where it was.
func (r *reading) reopen(place fsys.FS) error {
	_ = r.Close() // it is gone with its connection
	file, err := place.Open(r.ctx, r.name)
	if err != nil {
		return err
	}
	r.file = file
	return fsys.Skip(r.ctx, file, r.at)
}

func (r *reading) Close() error {
	if r.file == nil {
		return nil
	}
	file := r.file
	r.file = nil
	return file.Close()
}
