package archive

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"strings"

	"tartine/internal/manifest"
)

// block is the unit of a tar, in bytes.
const block = 512

// reading is an archive that is being listed.
type reading struct {
	opt  Options
	hash hash.Hash
	buf  []byte
	head []byte
	out  *Listing
	tree *tree
}

func newReading(format Format, size int64, opt Options) *reading {
	return &reading{opt: opt, hash: sha256.New(), buf: make([]byte, HeadSize), out: &Listing{Format: format, Size: size},
		tree: newTree()}
}

// file reads a file to its end, and notes what it holds.
func (r *reading) file(ctx context.Context, e *Entry, in io.Reader) error {
	r.hash.Reset()
	r.head = r.head[:0]
	var size int64
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := in.Read(r.buf)
		size += int64(n)
		r.hash.Write(r.buf[:n])
		if r.opt.Mark != nil && len(r.head) < HeadSize {
			r.head = append(r.head, r.buf[:min(n, HeadSize-len(r.head))]...)
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	if size != e.Size {
		return fmt.Errorf("%w: it has %d bytes, and %d are said", ErrTorn, size, e.Size)
	}
	r.hash.Sum(e.Digest[:0])
	if r.opt.Mark != nil && size > 0 {
		e.Mark = r.opt.Mark(r.head)
	}
	return nil
}

// told is a reader that tells how much is read.
type told struct {
	in   io.Reader
	read func(int64)
}

func (t told) Read(p []byte) (int, error) {
	n, err := t.in.Read(p)
	if t.read != nil && n > 0 {
		t.read(int64(n))
	}
	return n, err
}

// blocks is a tar as it is read, with what is known of its end.
type blocks struct {
	in    io.Reader
	total int64
	ended bool // what is packed came to its end, well
}

func (b *blocks) Read(p []byte) (int, error) {
	n, err := b.in.Read(p)
	b.total += int64(n)
	b.ended = err == io.EOF
	return n, err
}

// listTar lists a tar, packed or not.
func listTar(ctx context.Context, file io.ReaderAt, size int64, format Format, opt Options) (*Listing, error) {
	r := newReading(format, size, opt)
	if format == TarXZ {
		if err := checkEnd(file, size); err != nil {
			return nil, &Error{Offset: -1, Err: torn(err)}
		}
	}
	unpacked, err := format.unpack(told{io.NewSectionReader(file, 0, size), opt.Read})
	if err != nil {
		return nil, &Error{Offset: -1, Err: torn(err)}
	}
	defer unpacked.Close()
	m := newMeter(size, opt.MostUnpacked, opt.Trusted)
	m.in = unpacked
	b := &blocks{in: m}
	t := tar.NewReader(b)
	for number := 0; ; number++ {
		end := (b.total + block - 1) / block * block // of what is read; what follows is the next header
		header, err := t.Next()
		if err == io.EOF {
			if err := endOfTar(b, end); err != nil {
				return nil, err
			}
			break
		}
		if err == nil && number == mostEntries {
			err = fmt.Errorf("%w: more than %d entries", ErrTooMuch, mostEntries)
		}
		if err != nil && end == 0 && b.total < block && b.ended {
			return nil, &Error{Offset: -1, Err: ErrFormat} // something else is packed
		}
		if err != nil {
			return nil, &Error{Offset: end, Err: torn(err)}
		}
		if isSparse(header) { // it unpacks to more than is read
			err = m.add(header.Size)
		}
		if err == nil {
			err = r.tarEntry(ctx, t, header, b.total, number)
		}
		if err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			var known *Error
			if !errors.As(err, &known) {
				if !errors.Is(err, ErrName) && !errors.Is(err, ErrTooMuch) {
					err = torn(err)
				}
				err = &Error{header.Name, end, err}
			}
			return nil, err
		}
	}
	r.out.Unpacked = m.total
	return r.out, r.tree.check()
}

// endOfTar checks that a tar was read to its end: zeros, to the end of what is packed. Without it the archive may have been
// cut between two entries.
func endOfTar(b *blocks, end int64) error {
	if b.total < end+block {
		return &Error{Offset: b.total, Err: fmt.Errorf("%w: the mark of its end is missing", ErrTorn)}
	}
	rest := make([]byte, 64<<10)
	for {
		at := b.total
		n, err := b.Read(rest)
		if !isZero(rest[:n]) {
			return &Error{Offset: at, Err: fmt.Errorf("%w: more follows its end", ErrTorn)}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return &Error{Offset: b.total, Err: torn(err)}
		}
	}
}

// tarEntry notes one entry. Its bytes begin at an offset.
func (r *reading) tarEntry(ctx context.Context, t *tar.Reader, h *tar.Header, offset int64, number int) error {
	e := Entry{Mode: h.FileInfo().Mode(), ModTime: h.ModTime, Offset: offset, Number: number}
	var err error
	if e.Path, err = cleanName(h.Name); err != nil {
		return err
	}
	switch h.Typeflag {
	case tar.TypeXGlobalHeader, 'V': // what holds for all, and a label
		if comment := h.PAXRecords["comment"]; comment != "" {
			r.out.Comment = comment
		}
		return nil
	case tar.TypeReg, tar.TypeCont, tar.TypeGNUSparse:
		e.Size, e.Mode = h.Size, e.Mode.Perm()
		if isSparse(h) {
			e.Offset = -1
		}
		if err := r.file(ctx, &e, t); err != nil {
			return err
		}
	case tar.TypeLink:
		target, err := cleanName(h.Linkname)
		if err != nil {
			return fmt.Errorf("the hard link names %q: %w", h.Linkname, err)
		}
		at, known := r.tree.at[target]
		if !known || r.out.Entries[at].Mode.IsDir() {
			return fmt.Errorf("%w: it is a hard link to %q, which is not before it", ErrTorn, h.Linkname)
		}
		path := e.Path
		e = r.out.Entries[at]
		e.Path = path
	case tar.TypeSymlink:
		e.Link, e.Mode = h.Linkname, fs.ModeSymlink|0o777
		if err := checkLink(h.Linkname); err != nil {
			return err
		}
	case tar.TypeDir, tar.TypeChar, tar.TypeBlock, tar.TypeFifo:
	default:
		return fmt.Errorf("%w: it is of the type %q, which is not known", ErrTorn, h.Typeflag)
	}
	return r.add(e)
}

func isSparse(h *tar.Header) bool {
	if h.Typeflag == tar.TypeGNUSparse {
		return true
	}
	for key := range h.PAXRecords {
		if strings.HasPrefix(key, "GNU.sparse.") {
			return true
		}
	}
	return false
}

func checkLink(target string) error {
	if target == "" || len(target) > mostLink || strings.ContainsRune(target, 0) {
		return fmt.Errorf("%w: it is a link that says nothing useful", ErrName)
	}
	return nil
}

func (r *reading) add(e Entry) error {
	if e.Path == "." { // the top itself
		return nil
	}
	if err := r.tree.add(e.Path, e.Mode, len(r.out.Entries)); err != nil {
		return err
	}
	r.out.Entries = append(r.out.Entries, e)
	return nil
}

// tree is the paths of an archive.
type tree struct {
	at    map[string]int // the entry of each path
	modes map[string]fs.FileMode
	above map[string]string // folders that follow from a path, with the first such path
}

func newTree() *tree {
	return &tree{map[string]int{}, map[string]fs.FileMode{}, map[string]string{}}
}

func (t *tree) add(path string, mode fs.FileMode, at int) error {
	if before, twice := t.modes[path]; twice && (!before.IsDir() || !mode.IsDir()) {
		return fmt.Errorf("%w: the path is in it twice", ErrName)
	}
	t.modes[path], t.at[path] = mode, at
	for end := strings.LastIndexByte(path, '/'); end > 0; end = strings.LastIndexByte(path[:end], '/') {
		if _, known := t.above[path[:end]]; known {
			break
		}
		t.above[path[:end]] = path
	}
	return nil
}

// check finds entries that are below a file or a link.
func (t *tree) check() error {
	for above, path := range t.above {
		switch mode, known := t.modes[above]; {
		case !known || mode.IsDir():
		case mode&fs.ModeSymlink != 0:
			return &Error{path, -1, fmt.Errorf("%w: it leads through the link %q", ErrName, above)}
		default:
			return &Error{path, -1, fmt.Errorf("%w: it is below %q, which is not a folder", ErrName, above)}
		}
	}
	return nil
}

// cleanName gives a name of an archive as a path; "." is the top.
func cleanName(name string) (string, error) {
	refuse := func(why string) (string, error) { return "", fmt.Errorf("%w: it %s", ErrName, why) }
	switch {
	case name == "":
		return refuse("is empty")
	case strings.ContainsRune(name, 0):
		return refuse("holds a zero byte")
	case len(name) > mostName:
		return refuse(fmt.Sprintf("is longer than %d bytes", mostName))
	case name[0] == '/':
		return refuse("begins at the root")
	case len(name) > 2 && name[1] == ':' && (name[2] == '/' || name[2] == '\\') && isLetter(name[0]):
		return refuse("begins with a drive letter")
	}
	elements := strings.Split(name, "/")
	kept := elements[:0]
	for _, element := range elements {
		switch element {
		case "..":
			return refuse(`leads out of it by ".."`)
		case "", ".":
		default:
			kept = append(kept, element)
		}
	}
	if len(kept) == 0 {
		return ".", nil
	}
	path := strings.Join(kept, "/")
	if err := manifest.CheckBytes(path); err != nil {
		return refuse("cannot be a path: " + err.Error())
	}
	return path, nil
}

func isLetter(b byte) bool { return 'a' <= b|0x20 && b|0x20 <= 'z' }
