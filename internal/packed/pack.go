package packed

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"io"
	"os"
	"path/filepath"

	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Done is what was packed.
type Done struct {
	Tree      manifest.Digest // of the content
	Digest    manifest.Digest // of the file
	Files     int
	Bytes     int64 // of the files in it
	Size      int64 // of the file
	Verified  bool  // it was read again, and is what it should be
	Unchanged bool  // it was there already, byte for byte, and was left as it is
}

// Pack packs a content into a file, in one step: whole and new, or as it was. It fails with a *deploy.Refusal where the
// content is not to be deployed, and with a *FileError where part of it could not be read.
func (f *Form) Pack(ctx context.Context, c *content.Content, name string, watch *site.Watch) (*Done, error) {
	done, err := f.begin(c, watch)
	if err != nil {
		return nil, err
	}
	fresh := filepath.Join(filepath.Dir(name), ".tartine-"+rand.Text())
	if done.Digest, err = f.WriteFile(ctx, fresh, c.Entries(), c.Open, done.Tree, watch); err != nil {
		return nil, err
	}
	done.Verified = true
	info, err := os.Stat(fresh)
	if err == nil {
		done.Size = info.Size()
		if same(ctx, name, done) {
			done.Unchanged = true
			return done, os.Remove(fresh)
		}
		err = place(fresh, name)
	}
	if err != nil {
		_ = os.Remove(fresh) // it is in nobody's way
		return nil, err
	}
	return done, nil
}

// PackTo packs a content into a stream. What was written before an error is not whole.
func (f *Form) PackTo(ctx context.Context, c *content.Content, out io.Writer, watch *site.Watch) (*Done, error) {
	done, err := f.begin(c, watch)
	if err != nil {
		return nil, err
	}
	hash := sha256.New()
	counted := &counter{out: io.MultiWriter(out, hash)}
	err = f.Write(ctx, counted, c.Entries(), c.Open, done.Tree, watch)
	done.Size, done.Digest = counted.n, manifest.Digest(hash.Sum(nil))
	return done, err
}

func (f *Form) begin(c *content.Content, watch *site.Watch) (*Done, error) {
	for _, o := range c.Objections {
		return nil, &deploy.Refusal{Reason: o.Reason, Paths: o.Paths}
	}
	for _, failed := range c.Failed {
		return nil, &FileError{failed.Path, failed.Err}
	}
	done, entries := &Done{Tree: c.Tree()}, c.Entries()
	done.Files, done.Bytes = sizes(entries)
	var paths []string
	for i := range entries {
		if entries[i].Kind == manifest.File {
			paths = append(paths, entries[i].Path)
		}
	}
	if c.Want != nil {
		c.Want(paths)
	}
	if watch.Phase != nil {
		watch.Phase("pack", done.Files, done.Bytes)
	}
	return done, nil
}

type counter struct {
	out io.Writer
	n   int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.out.Write(p)
	c.n += int64(n)
	return n, err
}

// same tells whether what was packed is in a file already.
func same(ctx context.Context, name string, done *Done) bool {
	file, err := os.Open(name)
	if err != nil {
		return false
	}
	defer file.Close()
	if info, err := file.Stat(); err != nil || info.Size() != done.Size || !info.Mode().IsRegular() {
		return false
	}
	hash := sha256.New()
	_, err = fsys.Copy(ctx, hash, file)
	return err == nil && manifest.Digest(hash.Sum(nil)) == done.Digest
}
