// Package packed puts a content into one file, an archive or an image, and is the engine of a site that is such a file.
//
// What is written is the same, byte for byte, wherever the same content is packed: everything has one time, nobody owns
// it, and it is in the order of its paths. A file is written beside its place and renamed into it once it is whole, and
// was read again and compared with what it should hold.
package packed

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"time"

	"tartine/internal/archive"
	"tartine/internal/image"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Form is what is written.
type Form struct {
	Format archive.Format
	When   time.Time   // of everything in it; zero: archive.Earliest
	Image  *image.Spec // the image that it is; nil: it is an archive
}

func (f *Form) when() time.Time {
	if f.When.Before(archive.Earliest) {
		return archive.Earliest
	}
	return f.When.UTC().Truncate(time.Second)
}

// Opener opens the content of a path.
type Opener func(path string) (io.ReadCloser, error)

// FileError tells that a file of the content could not be packed.
type FileError struct {
	Path string
	Err  error
}

func (e *FileError) Error() string { return e.Path + ": " + e.Err.Error() }

func (e *FileError) Unwrap() error { return e.Err }

// ErrChanged tells that a file is no longer what was scanned.
var ErrChanged = errors.New("the file changed after it was scanned")

// Write writes a content. The tree digest, where it is not zero, is noted in what is written. Its error is a *FileError
// where a file of the content is the cause.
func (f *Form) Write(ctx context.Context, out io.Writer, entries []manifest.Entry, open Opener, tree manifest.Digest,
	watch *site.Watch) error {
	return f.write(ctx, out, entries, &adding{open, watch, true}, tree)
}

// adding is how files are added.
type adding struct {
	open  Opener
	watch *site.Watch
	prove bool // by their digests; else what is written is read again
}

func (f *Form) write(ctx context.Context, out io.Writer, entries []manifest.Entry, a *adding, tree manifest.Digest) error {
	if f.Image != nil {
		return f.writeImage(ctx, out, entries, a, tree)
	}
	comment := ""
	if !tree.IsZero() {
		comment = treeComment + tree.String()
	}
	w, err := archive.NewWriter(out, f.Format, f.When, comment)
	if err != nil {
		return err
	}
	for i := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		e := &entries[i]
		if e.Kind != manifest.File {
			if err := w.Add(e, nil); err != nil {
				return err
			}
			continue
		}
		if err := a.file(ctx, e, func(content io.Reader) error { return w.Add(e, content) }); err != nil {
			return err
		}
	}
	return w.Close()
}

// treeComment begins the comment of what was written here.
const treeComment = "tree "

// treeOf gives the tree digest that a comment tells; zero: none.
func treeOf(comment string) manifest.Digest {
	if len(comment) <= len(treeComment) || comment[:len(treeComment)] != treeComment {
		return manifest.Digest{}
	}
	tree, _ := manifest.ParseDigest(comment[len(treeComment):]) // what is no digest tells of none
	return tree
}

// file adds a file, which is read beside, and fails where it is not what its entry says.
func (a *adding) file(ctx context.Context, e *manifest.Entry, add func(content io.Reader) error) error {
	in, err := a.open(e.Path)
	if err != nil {
		return &FileError{e.Path, err}
	}
	defer in.Close()
	out, to := io.Pipe()
	read := make(chan error, 1)
	go func() {
		err := a.copy(ctx, to, in, e)
		_ = to.CloseWithError(err) // of a pipe it does not fail
		read <- err
	}()
	err = add(out)
	_ = out.CloseWithError(errNoMore) // nothing is read any more
	if wrong := <-read; wrong != nil && !errors.Is(wrong, errNoMore) && ctx.Err() == nil {
		return &FileError{e.Path, wrong}
	}
	if err == nil && a.watch.File != nil {
		a.watch.File(e.Path, e.Size)
	}
	return errors.Join(err, ctx.Err())
}

var errNoMore = errors.New("no more is wanted")

// copy copies a file that must be what an entry says.
func (a *adding) copy(ctx context.Context, to io.Writer, in io.Reader, e *manifest.Entry) error {
	var (
		hash   = sha256.New()
		size   int64
		buffer = make([]byte, min(e.Size+1, 1<<20))
	)
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := in.Read(buffer)
		if size += int64(n); size > e.Size {
			return ErrChanged
		}
		if a.prove {
			hash.Write(buffer[:n])
		}
		if a.watch.Bytes != nil {
			a.watch.Bytes(int64(n))
		}
		if _, wrong := to.Write(buffer[:n]); wrong != nil {
			return wrong
		}
		switch {
		case err == io.EOF && (size != e.Size || a.prove && manifest.Digest(hash.Sum(nil)) != e.Digest):
			return ErrChanged
		case err == io.EOF:
			return nil
		case err != nil:
			return err
		}
	}
}

// differs tells how what is in an archive is not what it should be; nil: it is.
func differs(entries []manifest.Entry, listing *archive.Listing) error {
	found := Entries(listing)
	if len(found) != len(entries) {
		return fmt.Errorf("%d entries were written, and %d are read again", len(entries), len(found))
	}
	for i := range entries {
		if !found[i].Equal(entries[i]) {
			return &FileError{entries[i].Path, ErrChanged}
		}
	}
	return nil
}
