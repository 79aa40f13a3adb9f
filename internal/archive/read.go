package archive

import (
	"archive/tar"
	"archive/zip"
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
	"sync"
)

// List reads an archive to its end and gives what is in it. Its error is an *Error, or that of the context.
func List(ctx context.Context, file io.ReaderAt, size int64, opt Options) (*Listing, error) {
	head := make([]byte, block)
	n, err := file.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, err
	}
	format, err := Detect(head[:n])
	switch {
	case err != nil:
		return nil, &Error{Offset: -1, Err: err}
	case format == Zip:
		return listZip(ctx, file, size, opt)
	}
	listing, err := listTar(ctx, file, size, format, opt)
	var wrong *Error
	if errors.As(err, &wrong) && wrong.Offset == 0 && errors.Is(err, tar.ErrHeader) { // it is packed, and no tar
		return nil, &Error{Offset: -1, Err: ErrFormat}
	}
	return listing, err
}

// Reader opens the entries of an archive that was listed. Its methods may be called at once. Whoever reads an entry
// compares its digest: the archive may have changed meanwhile.
//
// What is packed as a whole is unpacked in its order, as far as is needed for what is opened, and only what is wanted is
// kept: in memory while it is little, else in a file that has no name and goes with the program.
type Reader struct {
	file    io.ReaderAt
	listing *Listing
	dir     string

	mu     sync.Mutex
	zip    *zip.Reader
	wanted map[int64]bool // by offset; nil: everything
	order  []*Entry       // files in the order of the unpacked tar
	kept   map[int64]int64
	next   int // of order
	in     io.ReadCloser
	at     int64 // how far it is unpacked
	spool  spool
	size   int64 // of what is spooled
	most   int64 // that is kept in memory
}

// mostInMemory is up to how many bytes are kept in memory.
const mostInMemory = 64 << 20

// NewReader opens an archive's entries. A folder takes what does not fit into memory; it is made when it is needed.
func NewReader(file io.ReaderAt, listing *Listing, dir string) *Reader {
	return &Reader{file: file, listing: listing, dir: dir, most: mostInMemory}
}

// Want says of which files the content will be asked for, so that nothing else is kept.
func (r *Reader) Want(entries []*Entry) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.order != nil {
		return
	}
	r.wanted = map[int64]bool{}
	for _, e := range entries {
		r.wanted[e.Offset] = true
	}
}

// Close frees what is kept. The archive itself is the caller's.
func (r *Reader) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.in != nil {
		r.in.Close()
		r.in = nil
	}
	if r.spool != nil {
		return r.spool.Close()
	}
	return nil
}

// Open opens the bytes of a file.
func (r *Reader) Open(e *Entry) (io.ReadCloser, error) {
	switch {
	case !e.Mode.IsRegular():
		return nil, &Error{e.Path, -1, errors.New("it is not a file")}
	case r.listing.Format == Zip:
		return r.openZip(e)
	case e.Offset < 0:
		return r.openPieces(e)
	case r.listing.Format == Tar:
		return io.NopCloser(io.NewSectionReader(r.file, e.Offset, e.Size)), nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	at, err := r.unpack(e)
	if err != nil {
		return nil, &Error{e.Path, e.Offset, err}
	}
	return io.NopCloser(io.NewSectionReader(r.spool, at, e.Size)), nil
}

func (r *Reader) openZip(e *Entry) (io.ReadCloser, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.zip == nil {
		z, err := openZip(r.file, r.listing.Size)
		if err != nil {
			return nil, err
		}
		r.zip = z
	}
	if e.Number >= len(r.zip.File) {
		return nil, &Error{e.Path, e.Offset, errChanged}
	}
	return r.zip.File[e.Number].Open()
}

// errChanged tells that an archive is another one than was listed.
var errChanged = errors.New("the archive changed while it was read")

// openPieces opens a file that a tar holds in pieces, by going through the tar up to it.
func (r *Reader) openPieces(e *Entry) (io.ReadCloser, error) {
	in, err := r.listing.Format.unpack(io.NewSectionReader(r.file, 0, r.listing.Size))
	if err != nil {
		return nil, err
	}
	t := tar.NewReader(in)
	for range e.Number + 1 {
		if _, err := t.Next(); err != nil {
			in.Close()
			return nil, &Error{e.Path, -1, errChanged}
		}
	}
	return struct {
		io.Reader
		io.Closer
	}{t, in}, nil
}

// unpack unpacks up to the end of a file, and gives where it is kept.
func (r *Reader) unpack(e *Entry) (int64, error) {
	if r.order == nil {
		r.plan()
	}
	if at, known := r.kept[e.Offset]; known {
		return at, nil
	}
	if r.wanted != nil && !r.wanted[e.Offset] {
		r.wanted[e.Offset] = true
		if e.Offset < r.at { // it has gone by
			r.rewind()
		}
	}
	for r.next < len(r.order) {
		f := r.order[r.next]
		r.next++
		if _, known := r.kept[f.Offset]; known || r.wanted != nil && !r.wanted[f.Offset] {
			continue
		}
		if err := r.keep(f); err != nil {
			r.rewind()
			return 0, err
		}
		if f.Offset == e.Offset {
			break
		}
	}
	at, known := r.kept[e.Offset]
	if !known {
		return 0, errChanged
	}
	return at, nil
}

// plan sorts the files by where they begin.
func (r *Reader) plan() {
	r.kept, r.order = map[int64]int64{}, []*Entry{}
	for i := range r.listing.Entries {
		if e := &r.listing.Entries[i]; e.Mode.IsRegular() && e.Offset >= 0 {
			r.order = append(r.order, e)
		}
	}
	slices.SortStableFunc(r.order, func(a, b *Entry) int { return cmp.Compare(a.Offset, b.Offset) })
}

func (r *Reader) rewind() {
	if r.in != nil {
		r.in.Close()
	}
	r.in, r.at, r.next = nil, 0, 0
}

// keep unpacks a file.
func (r *Reader) keep(e *Entry) (err error) {
	if r.spool == nil {
		if r.spool, err = r.newSpool(); err != nil {
			return err
		}
	}
	if r.in == nil {
		if r.in, err = r.listing.Format.unpack(io.NewSectionReader(r.file, 0, r.listing.Size)); err != nil {
			return err
		}
	}
	n, err := io.CopyN(io.Discard, r.in, e.Offset-r.at)
	r.at += n
	if err == nil {
		n, err = io.CopyN(&ahead{r.spool, r.size}, r.in, e.Size)
		r.at += n
	}
	if err != nil {
		return torn(err)
	}
	r.kept[e.Offset], r.size = r.size, r.size+e.Size
	return nil
}

// spool is where unpacked files are kept.
type spool interface {
	io.ReaderAt
	io.WriterAt
	io.Closer
}

func (r *Reader) newSpool() (spool, error) {
	var size int64
	for _, e := range r.order {
		if r.wanted == nil || r.wanted[e.Offset] {
			size += e.Size
		}
	}
	if size <= r.most {
		return &memory{}, nil
	}
	return Scratch(r.dir)
}

// Scratch makes a file without a name in a folder, which is made when it is missing. It goes with the program, or when
// it is closed.
func Scratch(dir string) (*os.File, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(dir, "unpacked-*")
	if err != nil {
		return nil, err
	}
	unlink(file)
	return file, nil
}

// ahead writes from an offset on.
type ahead struct {
	to io.WriterAt
	at int64
}

func (a *ahead) Write(p []byte) (int, error) {
	n, err := a.to.WriteAt(p, a.at)
	a.at += int64(n)
	return n, err
}

// memory is a spool in memory. What was written stays as it is.
type memory struct {
	mu    sync.RWMutex
	bytes []byte
}

func (m *memory) WriteAt(p []byte, at int64) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if end := at + int64(len(p)); end > int64(len(m.bytes)) {
		m.bytes = slices.Grow(m.bytes, int(end)-len(m.bytes))[:end]
	}
	return copy(m.bytes[at:], p), nil
}

func (m *memory) ReadAt(p []byte, at int64) (int, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	if at > int64(len(m.bytes)) {
		return 0, fs.ErrInvalid
	}
	n := copy(p, m.bytes[at:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (m *memory) Close() error { return nil }
