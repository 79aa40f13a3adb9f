// Package archive reads and writes site files in archives: tar, as it is or packed with gzip (RFC 1952), bzip2, xz or
// zstd (RFC 8878), and zip. Nothing is unpacked to a disk: an archive is listed, and its entries are opened one by one.
//
// Listing reads every byte of an archive. An archive is listed whole, or not at all; it is refused when
//
//   - it ends early, or a checksum in it is wrong;
//   - it or an entry is encrypted, or packed in a way that is not known;
//   - a name leads out of it: with "..", from the root, by a drive letter, or through a link of the archive;
//   - two entries that are not both folders have one path, or an entry is below a file or a link;
//   - a hard link names nothing that came before it;
//   - it unpacks to more than a limit, or to more than 1,000 times its own size.
//
// Devices, pipes and names that are no UTF-8 are listed as they are: what becomes of them is for others to say.
//
// "./" before a name, doubled slashes and a slash at its end mean nothing. Hard links are listed as files of their own.
// Of a zip archive the table at its end counts, as in the format's description (APPNOTE.TXT 6.3).
package archive

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"tartine/internal/manifest"
)

// Entry is a file, folder or link of an archive.
type Entry struct {
	Path    string      // slash-separated and relative
	Mode    fs.FileMode // type and permissions
	Size    int64       // of a file, in bytes
	ModTime time.Time
	Link    string          // what a link says
	Digest  manifest.Digest // of a file
	Mark    byte            // what the caller made of a file's first bytes, see Options.Mark

	// Offset is where the bytes of a file begin: in the unpacked tar, or in the zip archive. What is in pieces in a tar
	// (a sparse file) is found by its number instead; then it is -1.
	Offset int64
	Number int // its number among the entries of the archive, or that of the file that a hard link leads to
}

// Listing is what an archive holds.
type Listing struct {
	Format   Format
	Entries  []Entry // in the order of the archive
	Size     int64   // of the archive, in bytes
	Unpacked int64   // how many bytes it unpacks to
	Comment  string  // what its writer says of it: a pax comment for all that follows, or a zip archive's
}

// Options says how an archive is listed.
type Options struct {
	// MostUnpacked is how many bytes it may unpack to; 0: DefaultMostUnpacked.
	MostUnpacked int64
	// Trusted tells that it may unpack to any number of times its own size.
	Trusted bool
	// Mark is given up to the first HeadSize bytes of each file, and gives what is noted of them; nil: nothing is noted.
	Mark func(head []byte) byte
	// Read is told of bytes of the archive as they are read; nil: nobody is.
	Read func(n int64)
}

// Limits.
const (
	DefaultMostUnpacked = 20 << 30
	HeadSize            = 128 << 10
	mostTimes           = 1000    // how many times its own size an archive may unpack to,
	mostAnyway          = 1 << 20 // once that is more than this, in bytes
	mostEntries         = 4 << 20
	mostLink            = 4096 // bytes of what a link says,
	mostName            = 4096 // and of a name: no system that is known takes more
)

// Reasons to refuse an archive.
var (
	ErrTorn      = errors.New("the archive ends early or is damaged")
	ErrEncrypted = errors.New("it is encrypted")
	ErrFormat    = errors.New("it is not an archive that is known: tar (plain, or in gzip, bzip2, xz or zstd) or zip")
	ErrTooMuch   = errors.New("it unpacks to too much")
	ErrTimes     = fmt.Errorf("%w: more than %d times its own size", ErrTooMuch, mostTimes)
	ErrName      = errors.New("a name in the archive is not safe")
)

// Error tells what is wrong with an archive, and where.
type Error struct {
	Entry  string // its name in the archive as it is written; empty: it is none
	Offset int64  // bytes into the unpacked archive, or the zip archive; -1: unknown
	Err    error
}

func (e *Error) Error() string {
	var where []string
	if e.Entry != "" {
		where = append(where, fmt.Sprintf("entry %q", e.Entry))
	}
	if e.Offset >= 0 {
		where = append(where, fmt.Sprintf("at byte %d", e.Offset))
	}
	if len(where) == 0 {
		return e.Err.Error()
	}
	return strings.Join(where, " ") + ": " + e.Err.Error()
}

func (e *Error) Unwrap() error { return e.Err }

// meter counts what is unpacked, and stops where it is too much.
type meter struct {
	in    io.Reader
	total int64
	most  int64
	why   error
}

func newMeter(size, mostUnpacked int64, trusted bool) *meter {
	if mostUnpacked <= 0 {
		mostUnpacked = DefaultMostUnpacked
	}
	m := &meter{most: mostUnpacked, why: fmt.Errorf("%w: more than %d bytes", ErrTooMuch, mostUnpacked)}
	if times := max(size*mostTimes, mostAnyway); times < m.most && !trusted {
		m.most, m.why = times, ErrTimes
	}
	return m
}

func (m *meter) add(n int64) error {
	if m.total += n; m.total > m.most {
		return m.why
	}
	return nil
}

func (m *meter) Read(p []byte) (int, error) {
	n, err := m.in.Read(p)
	if over := m.add(int64(n)); over != nil {
		return n, over
	}
	return n, err
}

// Check tells whether a listing that is known keeps a limit.
func (l *Listing) Check(mostUnpacked int64) error {
	if err := newMeter(l.Size, mostUnpacked, false).add(l.Unpacked); err != nil {
		return &Error{Offset: -1, Err: err}
	}
	return nil
}
