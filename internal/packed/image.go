package packed

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"io"
	"os"

	"tartine/internal/archive"
	"tartine/internal/image"
	"tartine/internal/manifest"
)

// FromImage is a folder of an image as what content.Packed opens.
type FromImage struct {
	// ID gives what the image is known by.
	ID func(ctx context.Context) (string, error)
	// Open opens it.
	Open   func(ctx context.Context) (*image.Image, error)
	Folder string
	Dir    string                            // for what is unpacked
	Layers func(*image.Image) func(int) bool // which layers count; nil: all
}

// Identify gives a digest by which what is in the folder is known.
func (f *FromImage) Identify(ctx context.Context) (manifest.Digest, error) {
	id, err := f.ID(ctx)
	return sha256.Sum256([]byte("image " + id + " folder " + f.Folder)), err
}

// Unpack gives what is in the folder as a tar in a file without a name.
func (f *FromImage) Unpack(ctx context.Context) (*os.File, manifest.Digest, error) {
	digest, err := f.Identify(ctx)
	if err != nil {
		return nil, digest, err
	}
	i, err := f.Open(ctx)
	if err != nil {
		return nil, digest, err
	}
	defer i.Close()
	file, err := archive.Scratch(f.Dir)
	if err != nil {
		return nil, digest, err
	}
	var wanted func(int) bool
	if f.Layers != nil {
		wanted = f.Layers(i)
	}
	if err := i.Flatten(ctx, f.Folder, file, wanted); err != nil {
		file.Close()
		return nil, digest, err
	}
	return file, digest, nil
}

// writeImage writes a content as an image.
func (f *Form) writeImage(ctx context.Context, out io.Writer, entries []manifest.Entry, a *adding, tree manifest.Digest) error {
	spec := *f.Image
	spec.Tree, spec.When = tree, f.when()
	return spec.Write(ctx, out, &image.Content{Entries: entries,
		Add: func(ctx context.Context, w *tar.Writer, e *manifest.Entry, h *tar.Header) error {
			if e.Kind != manifest.File {
				return w.WriteHeader(h)
			}
			return a.file(ctx, e, func(content io.Reader) error {
				if err := w.WriteHeader(h); err != nil {
					return err
				}
				_, err := io.Copy(w, content)
				return err
			})
		}})
}

// readImage lists what was written here into an image.
func readImage(ctx context.Context, file *os.File, dir string) (*archive.Listing, error) {
	again, err := os.Open(file.Name())
	if err != nil {
		return nil, err
	}
	i, err := image.OpenTar(again, "")
	if err != nil {
		return nil, err
	}
	defer i.Close()
	scratch, err := archive.Scratch(dir)
	if err != nil {
		return nil, err
	}
	defer scratch.Close()
	if err := i.Flatten(ctx, i.Config.Config.Labels[image.LabelAt], scratch, i.Own()); err != nil {
		return nil, err
	}
	info, err := scratch.Stat()
	if err != nil {
		return nil, err
	}
	return archive.List(ctx, scratch, info.Size(), archive.Options{MostUnpacked: 1 << 62, Trusted: true})
}

// ofImage gives what was packed into an image as the content of an archive that says which tree it holds; nil: it is none.
func ofImage(name, dir string) (*FromImage, string) {
	i, err := image.Open(name, "")
	if err != nil {
		return nil, ""
	}
	defer i.Close()
	at, tree, id := i.Config.Config.Labels[image.LabelAt], i.Config.Config.Labels[image.LabelTree], i.Digest.String()
	if at == "" {
		return nil, ""
	}
	return &FromImage{ID: func(context.Context) (string, error) { return "own " + id, nil }, Folder: at, Dir: dir,
		Open:   func(context.Context) (*image.Image, error) { return image.Open(name, "") },
		Layers: (*image.Image).Own}, treeComment + tree
}
