package content

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fxamacker/cbor/v2"

	"tartine/internal/archive"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Packed is an archive as a source. What it holds is kept in the cache by the digest of the archive, and that digest as
// those of other files are: an archive that was listed before is not even opened.
type Packed struct {
	// Name is the archive on this machine.
	Name string
	// Opened gives the archive where it has no name here, open, with its digest; nil: it has one.
	Opened func(ctx context.Context) (*os.File, manifest.Digest, error)
	// Identify gives that digest without opening it; nil: that cannot be.
	Identify func(ctx context.Context) (manifest.Digest, error)

	Digest *manifest.Digest // what the archive must have; nil: whatever it is
	Inside string           // the folder of it that is the top; "." is its own top
	Most   int64            // how many bytes it may unpack to; 0: the usual
	Cache  *Cache           // nil: it is read in any case
	Dir    string           // the folder for what is unpacked and does not fit into memory
	Read   func(n int64)

	mu     sync.Mutex
	file   *os.File
	listed manifest.Digest // of the archive that was listed last
	reader *archive.Reader
}

// InsideError tells that what should be the top is not a folder of an archive.
type InsideError struct{ Reason string }

func (e *InsideError) Error() string { return e.Reason }

// DigestError tells that something does not have the digest that it must have.
type DigestError struct{ Want, Have manifest.Digest }

func (e *DigestError) Error() string {
	return fmt.Sprintf("its digest is %s, and must be %s", e.Have, e.Want)
}

// Files lists the archive, for Source.Files. Its error is an *archive.Error where the archive is to be refused.
func (p *Packed) Files(ctx context.Context) ([]File, error) {
	listing, reader, err := p.List(ctx)
	if err != nil {
		return nil, err
	}
	return p.below(listing, reader)
}

// List lists the archive, and gives what opens its entries until it is listed again.
func (p *Packed) List(ctx context.Context) (*archive.Listing, *archive.Reader, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.close() // what was listed before
	listing, err := p.list(ctx)
	if err != nil {
		var inner *fs.PathError
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return nil, nil, err
	}
	if err := listing.Check(p.Most); err != nil {
		return nil, nil, err
	}
	if p.Digest != nil && *p.Digest != p.listed {
		return nil, nil, &DigestError{*p.Digest, p.listed}
	}
	p.reader = archive.NewReader(lazily{p}, listing, p.Dir)
	return listing, p.reader, nil
}

// Close closes the archive.
func (p *Packed) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.close()
}

// below gives what is below the folder that is the top.
func (p *Packed) below(listing *archive.Listing, reader *archive.Reader) ([]File, error) {
	var (
		out    []File
		prefix = p.Inside + "/"
		tops   []string
		found  = p.Inside == "." || len(listing.Entries) == 0
	)
	for i := range listing.Entries {
		e := &listing.Entries[i]
		relative := e.Path
		if p.Inside != "." {
			top, _, _ := strings.Cut(e.Path, "/")
			tops = append(tops, top)
			if e.Path == p.Inside {
				if !e.Mode.IsDir() {
					return nil, &InsideError{fmt.Sprintf("%q is a file in it, not a folder", p.Inside)}
				}
				found = true
				continue
			}
			var below bool
			if relative, below = strings.CutPrefix(e.Path, prefix); !below {
				continue
			}
			found = true
		}
		out = append(out, &packedFile{relative, e, reader})
	}
	if !found {
		slices.Sort(tops)
		tops = slices.Compact(tops)
		if len(tops) > 10 {
			tops = append(tops[:10], "…")
		}
		return nil, &InsideError{fmt.Sprintf("the folder %q", p.Inside) + " is not in it; at its top are: " + strings.Join(tops, ", ")}
	}
	return out, nil
}

// Want says what will be opened.
func (p *Packed) Want(files []File) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var entries []*archive.Entry
	for _, f := range files {
		if f, ours := f.(*packedFile); ours {
			entries = append(entries, f.entry)
		}
	}
	if p.reader != nil {
		p.reader.Want(entries)
	}
}

func (p *Packed) close() {
	if p.reader != nil {
		_ = p.reader.Close() // nothing depends on it
	}
	if p.file != nil && (p.Opened == nil || p.Identify != nil) { // else whoever opened it keeps it
		_ = p.file.Close() // it was read
		p.file = nil
	}
	p.reader = nil
}

// list gives what is in the archive, from the cache where that is known.
func (p *Packed) list(ctx context.Context) (*archive.Listing, error) {
	if p.Identify != nil {
		digest, err := p.Identify(ctx)
		if err != nil {
			return nil, err
		}
		if listing := p.Cache.listing(digest); listing != nil {
			p.listed = digest
			return listing, nil
		}
	}
	if p.Opened != nil {
		file, digest, err := p.Opened(ctx)
		if err != nil {
			return nil, err
		}
		p.file = file
		return p.listAs(ctx, digest)
	}
	info, err := os.Stat(p.Name)
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, errors.New("it is not a file, and only a file can be an archive")
	}
	known := p.Cache.load(p.Name)
	defer known.close()
	if hit, ok := known.lookup(archiveItself, identify(info)); ok {
		if listing := p.Cache.listing(hit.digest); listing != nil {
			p.listed = hit.digest
			return listing, nil
		}
	}
	return p.listAnew(ctx, known)
}

// archiveItself is the name under which the cache keeps the digest of an archive.
const archiveItself = "."

// listAnew reads the archive, for its digest and, unless one of the same bytes is known, for what is in it.
func (p *Packed) listAnew(ctx context.Context, known *digests) (*archive.Listing, error) {
	for range readTries {
		readAt := time.Now().UnixNano()
		if p.Cache != nil {
			readAt = p.Cache.clock().UnixNano()
		}
		file, err := os.Open(p.Name)
		if err != nil {
			return nil, err
		}
		before, err := file.Stat()
		if err != nil {
			file.Close()
			return nil, err
		}
		p.file = file
		listing, digest, err := p.hashAndList(ctx, before.Size())
		after, wrong := file.Stat()
		switch {
		case wrong != nil:
			return nil, wrong
		case identify(before) != identify(after):
			p.close()
			continue
		case err != nil:
			return nil, err
		}
		if id := identify(after); id.settled(readAt) {
			known.store(archiveItself, cached{id: id, digest: digest})
			_ = known.save() // see there
		}
		return listing, nil
	}
	return nil, ErrChanging
}

// hashAndList lists the open archive while its digest is computed; where what has that digest is known, no further.
func (p *Packed) hashAndList(ctx context.Context, size int64) (listing *archive.Listing, digest manifest.Digest, err error) {
	var (
		known  *archive.Listing
		failed error
		hashed = make(chan struct{})
	)
	listed, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		defer close(hashed)
		hash := sha256.New()
		if _, failed = fsys.Copy(listed, hash, io.NewSectionReader(p.file, 0, size)); failed != nil {
			return
		}
		digest = manifest.Digest(hash.Sum(nil))
		if known = p.Cache.listing(digest); known != nil {
			stop()
		}
	}()
	listing, err = p.listOpen(listed, size)
	if err != nil {
		stop() // what is refused needs no digest
	}
	<-hashed
	p.listed = digest
	switch {
	case known != nil:
		return known, digest, nil
	case err != nil:
		return nil, digest, err
	case failed != nil:
		return nil, digest, failed
	}
	p.Cache.keepListing(digest, listing)
	return listing, digest, nil
}

func (p *Packed) listOpen(ctx context.Context, size int64) (*archive.Listing, error) {
	return archive.List(ctx, p.file, size, archive.Options{MostUnpacked: p.Most, Read: p.Read,
		Mark: func(head []byte) byte { return byte(sniff(head)) }})
}

// listAs lists the open archive, of which the digest is known.
func (p *Packed) listAs(ctx context.Context, digest manifest.Digest) (*archive.Listing, error) {
	p.listed = digest
	if listing := p.Cache.listing(digest); listing != nil {
		return listing, nil
	}
	info, err := p.file.Stat()
	if err != nil {
		return nil, err
	}
	listing, err := p.listOpen(ctx, info.Size())
	if err == nil {
		p.Cache.keepListing(digest, listing)
	}
	return listing, err
}

// lazily opens the archive when its content is asked for.
type lazily struct{ *Packed }

func (l lazily) ReadAt(b []byte, at int64) (int, error) {
	l.mu.Lock()
	if l.file == nil {
		if err := l.open(); err != nil {
			l.mu.Unlock()
			return 0, err
		}
	}
	file := l.file
	l.mu.Unlock()
	return file.ReadAt(b, at)
}

func (l lazily) open() (err error) {
	if l.Opened != nil {
		l.file, _, err = l.Opened(context.Background()) // whoever reads from it is told of errors
		return err
	}
	l.file, err = os.Open(l.Name)
	return err
}

// packedFile is an entry of an archive.
type packedFile struct {
	path   string
	entry  *archive.Entry
	reader *archive.Reader
}

func (f *packedFile) Path() string                   { return f.path }
func (f *packedFile) Lstat() (fs.FileInfo, error)    { return packedInfo{f.entry}, nil }
func (f *packedFile) Open() (io.ReadCloser, error)   { return f.reader.Open(f.entry) }
func (f *packedFile) Readlink() (string, error)      { return f.entry.Link, nil }
func (f *packedFile) Known() (manifest.Digest, byte) { return f.entry.Digest, f.entry.Mark }

type packedInfo struct{ entry *archive.Entry }

func (i packedInfo) Name() string       { return path.Base(i.entry.Path) }
func (i packedInfo) Size() int64        { return i.entry.Size }
func (i packedInfo) Mode() fs.FileMode  { return i.entry.Mode }
func (i packedInfo) ModTime() time.Time { return i.entry.ModTime }
func (i packedInfo) IsDir() bool        { return i.entry.Mode.IsDir() }
func (i packedInfo) Sys() any           { return nil }

// What archives hold is kept in files of their own, named by the digest of the archive: CBOR (RFC 8949), and the SHA-256
// of that. The form is part of the name, so that another version of the program reads none that it does not know.
const (
	listingForm = "archive-1-"
	// listingDays is how long one is kept that no scan asks for.
	listingDays = 30
)

func (c *Cache) listingFile(digest manifest.Digest) string {
	return filepath.Join(c.dir, listingForm+digest.Hex())
}

// listing gives what is known of an archive; nil: nothing is.
func (c *Cache) listing(digest manifest.Digest) *archive.Listing {
	if c == nil || digest.IsZero() {
		return nil
	}
	name := c.listingFile(digest)
	text, err := os.ReadFile(name)
	if err != nil || len(text) < sha256.Size {
		return nil
	}
	body, sum := text[:len(text)-sha256.Size], text[len(text)-sha256.Size:]
	if actual := sha256.Sum256(body); !bytes.Equal(actual[:], sum) {
		return nil
	}
	var out archive.Listing
	if cbor.Unmarshal(body, &out) != nil {
		return nil
	}
	if info, err := os.Stat(name); err == nil && c.clock().Sub(info.ModTime()) > 24*time.Hour {
		_ = os.Chtimes(name, time.Time{}, c.clock()) // it is still of use
	}
	return &out
}

// keepListing keeps what is in an archive, and removes what no scan asked for in a long time. Where it cannot be kept, the
// archive is read again.
func (c *Cache) keepListing(digest manifest.Digest, listing *archive.Listing) {
	if c == nil || digest.IsZero() {
		return
	}
	body, err := cbor.Marshal(listing)
	if err != nil {
		return
	}
	sum := sha256.Sum256(body)
	_ = ReplaceFile(c.listingFile(digest), append(body, sum[:]...))
	c.sweep()
}

// sweep removes listings that are old, and what was unpacked by a program that ended where files keep their names.
func (c *Cache) sweep() {
	names, err := os.ReadDir(c.dir)
	if err != nil {
		return
	}
	for _, name := range names {
		if !strings.HasPrefix(name.Name(), listingForm) && !strings.HasPrefix(name.Name(), "unpacked-") {
			continue
		}
		if info, err := name.Info(); err == nil && c.clock().Sub(info.ModTime()) > listingDays*24*time.Hour {
			_ = os.Remove(filepath.Join(c.dir, name.Name())) // the next sweep tries it again
		}
	}
}
