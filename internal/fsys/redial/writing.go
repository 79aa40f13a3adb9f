package redial

import (
	"context"
	"errors"
	"io"
	"io/fs"

	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// write writes a file whole, or from where it is to begin; after a loss, and while the connection is thin, piece by
// piece.
func (f *FS) write(ctx context.Context, w *writing, whole func(place fsys.FS) (int64, error)) (int64, error) {
	w.at, w.restart = w.begin, Restarting(w.content)
	w.size, w.sized = fsys.SizeOf(w.content)
	return run(ctx, f, func(place fsys.FS, again bool) (int64, error) {
		switch {
		case again:
			return f.goOn(ctx, place, w)
		case f.thin() && w.sized && w.size > leastPiece:
			w.piece, w.known = leastPiece, true
			return f.goOn(ctx, place, w)
		}
		return whole(place)
	})
}

// Resumer is a reader that can go on from so many bytes behind its beginning. It is one whose bytes are checked in the
// end: what is taken for arrived may turn out not to be what it was.
type Resumer interface{ Resume(from int64) error }

// Pieces of a file that is written over a thin connection, in bytes. Each one twice as long as the one before, from the
// least again after a loss.
const (
	leastPiece = 128 << 10
	mostPiece  = 16 << 20
)

// writing is a file that is being written, from an offset on.
type writing struct {
	name    string
	begin   int64 // from where on it is written
	at      int64 // up to where it has arrived, as far as is known
	known   bool  // at is what the far end answered, over the connection that is open
	piece   int64 // how much is written next
	content io.Reader
	size    int64 // of content
	sized   bool  // size is known
	attr    fsys.Attributes
	restart func() error
}

// errMore tells that a piece was written and there are more.
var errMore = errors.New("there is more to write")

// goOn writes the next piece behind what has arrived, or everything anew where that cannot be done. The size is that of
// everything, as if it had been written at once.
func (f *FS) goOn(ctx context.Context, place fsys.FS, w *writing) (int64, error) {
	resumer, can := w.content.(Resumer)
	extender, extends := place.(fsys.Extender)
	if !w.known {
		if err := f.arrived(ctx, place, w); err != nil {
			return 0, err
		}
	}
	if !can || !extends || !w.sized {
		return w.anew(ctx, place)
	}
	if !w.known {
		if resumer.Resume(w.at-w.begin) != nil {
			return 0, errNoRewind
		}
	}
	w.known = false
	left := w.size - (w.at - w.begin)
	piece := &limited{io.LimitReader(w.content, w.piece), min(w.piece, left)}
	attr := w.attr
	if piece.size < left {
		attr = fsys.Attributes{Mode: attr.Mode | ownerWrites} // there is more to write to it
	}
	write := func() (int64, error) { return extender.Extend(ctx, w.name, w.at, piece, attr) }
	if w.at == 0 {
		write = func() (int64, error) { return place.Put(ctx, w.name, piece, attr) }
	}
	sent, err := write()
	switch {
	case errors.Is(err, farend.ErrUnsupported):
		return w.anew(ctx, place)
	case err != nil:
		return 0, err
	}
	w.at, w.known, w.piece = w.at+sent, true, min(2*w.piece, mostPiece)
	f.Moved()
	if sent == left || sent < piece.size {
		return w.at - w.begin, nil
	}
	return 0, errMore
}

// arrived finds out up to where a file has arrived before a connection was lost.
func (f *FS) arrived(ctx context.Context, place fsys.FS, w *writing) error {
	w.piece = leastPiece
	info, err := place.Lstat(ctx, w.name)
	switch {
	case errors.Is(err, farend.ErrLost):
		return err
	case err != nil || info.Size < w.at:
		w.at = w.begin
	}
	if at := info.Size - place.Abilities().Unordered; err == nil && at > w.at {
		w.at = at
		f.Moved()
	}
	if err == nil && info.Mode.IsRegular() && info.Mode.Perm()&ownerWrites == 0 { // it is whole, and only the answer was lost
		return orLost(nil, place.SetAttr(ctx, w.name, fsys.Attributes{Mode: info.Mode.Perm() | ownerWrites}))
	}
	return nil
}

const ownerWrites fs.FileMode = 0o200

// anew writes everything from its beginning.
func (w *writing) anew(ctx context.Context, place fsys.FS) (int64, error) {
	if w.restart() != nil {
		return 0, errNoRewind
	}
	if w.begin == 0 {
		return place.Put(ctx, w.name, w.content, w.attr)
	}
	extender, extends := place.(fsys.Extender)
	if !extends {
		return 0, farend.ErrUnsupported
	}
	return extender.Extend(ctx, w.name, w.begin, w.content, w.attr)
}

// limited is a piece of known size.
type limited struct {
	io.Reader
	size int64
}

// Size gives how long the piece is, in bytes.
func (l *limited) Size() int64 { return l.size }

// Restarting gives a function that has content begin anew from where it is now, or fails where it cannot.
func Restarting(content io.Reader) func() error {
	switch r := content.(type) {
	case Resumer:
		return func() error { return r.Resume(0) }
	case io.Seeker:
		start, err := r.Seek(0, io.SeekCurrent)
		if err != nil {
			return func() error { return err }
		}
		return func() error {
			_, err := r.Seek(start, io.SeekStart)
			return err
		}
	}
	return func() error { return fs.ErrInvalid }
}
