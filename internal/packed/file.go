package packed

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime"

	"tartine/internal/archive"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// WriteFile writes a content to a new file, makes it durable, reads it again, and gives its digest. Where that fails there
// is none.
func (f *Form) WriteFile(ctx context.Context, name string, entries []manifest.Entry, open Opener, tree manifest.Digest,
	watch *site.Watch) (digest manifest.Digest, err error) {
	file, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return digest, err
	}
	beside := beginHash()
	err = f.write(ctx, io.MultiWriter(file, beside), entries, &adding{open: open, watch: watch}, tree)
	digest = beside.end()
	if err == nil {
		err = file.Sync()
	}
	if err == nil {
		err = f.readAgain(ctx, file, entries, watch)
	}
	if err = errors.Join(err, file.Close()); err != nil {
		_ = os.Remove(name) // it is in nobody's way
	}
	return digest, err
}

// besideHash hashes what is written to it while more is made.
type besideHash struct {
	*io.PipeWriter
	sum chan manifest.Digest
}

func beginHash() *besideHash {
	out, in := io.Pipe()
	b := &besideHash{in, make(chan manifest.Digest, 1)}
	go func() {
		hash := sha256.New()
		_, _ = io.Copy(hash, out) // neither of them fails
		b.sum <- manifest.Digest(hash.Sum(nil))
	}()
	return b
}

// end gives the digest of all that was written.
func (b *besideHash) end() manifest.Digest {
	_ = b.Close() // of a pipe it does not fail
	return <-b.sum
}

// readAgain compares what was written with what should be in it.
func (f *Form) readAgain(ctx context.Context, file *os.File, entries []manifest.Entry, watch *site.Watch) error {
	info, err := file.Stat()
	if err != nil {
		return err
	}
	if watch.Phase != nil {
		files, _ := sizes(entries)
		watch.Phase("check", files, info.Size())
	}
	var listing *archive.Listing
	if f.Image != nil {
		listing, err = readImage(ctx, file, f.Image.Scratch)
	} else {
		listing, err = archive.List(ctx, file, info.Size(), archive.Options{Read: watch.Bytes, MostUnpacked: 1 << 62, Trusted: true})
	}
	if err != nil {
		return err
	}
	return differs(entries, listing)
}

// place gives a file its name in one step, durably.
func place(from, to string) error {
	if err := os.Rename(from, to); err != nil {
		return err
	}
	if runtime.GOOS == "windows" { // a folder cannot be synced there
		return nil
	}
	dir, err := os.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
