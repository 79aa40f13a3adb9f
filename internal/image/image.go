// Package image reads container images and writes them: those of the OCI image layout (image-spec 1.1), as a folder or in
// a tar, and those that an engine saves, with a manifest.json, perhaps beside a layout.
//
// Every blob is compared with its digest as it is read. What an image holds is the outcome of its layers, the upper ones
// before the lower, with what they white out (layer.md of the specification) left out.
package image

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/types"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"tartine/internal/manifest"
)

// Image is an image that can be read.
type Image struct {
	Config *v1.ConfigFile
	Layers []Layer // from the lowest up
	Digest manifest.Digest
	blobs  blobs
}

// Layer is a layer of an image.
type Layer struct {
	Name   string // of its blob
	Digest string // sha256:…, of the blob; empty: it is not known
	DiffID string // of what is in it, unpacked
	Size   int64  // of the blob
	Type   types.MediaType
}

// Errors.
var (
	ErrNoImage = errors.New("it is no image: neither an OCI layout nor what an engine saves")
	ErrDamaged = errors.New("the image is damaged")
)

// mostText is how long a manifest or a configuration may be, in bytes.
const mostText = 8 << 20

// blobs gives what is in a layout by its name there.
type blobs interface {
	open(name string) (io.ReadCloser, int64, error)
	io.Closer
}

// Open opens the image in a folder or a file. Of images for several platforms it is that for a platform, OS/PROCESSOR, or
// the first where that is empty. It must be closed.
func Open(name, platform string) (*Image, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		root, err := os.OpenRoot(name)
		if err != nil {
			return nil, err
		}
		return open(folder{root}, platform)
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	return OpenTar(file, platform)
}

// OpenTar opens the image in a tar that is not packed. Closing it closes the file.
func OpenTar(file *os.File, platform string) (*Image, error) {
	in, err := indexed(file)
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("%w: %w", ErrNoImage, err)
	}
	return open(in, platform)
}

func open(in blobs, platform string) (*Image, error) {
	i, err := read(in, platform)
	if err != nil {
		in.Close()
		return nil, err
	}
	return i, nil
}

// Close closes the image.
func (i *Image) Close() error { return i.blobs.Close() }

func read(in blobs, platform string) (*Image, error) {
	i := &Image{blobs: in}
	index, err := text(in, "index.json", "")
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return i, i.readSaved()
	case err != nil:
		return nil, err
	}
	return i, i.readIndex(index, platform, 0)
}

// readIndex finds the manifest in an index, or in one that it names.
func (i *Image) readIndex(text []byte, platform string, depth int) error {
	index, err := v1.ParseIndexManifest(bytes.NewReader(text))
	if err != nil || depth > 4 {
		return fmt.Errorf("%w: index: %w", ErrDamaged, err)
	}
	var chosen *v1.Descriptor
	for at := range index.Manifests {
		d := &index.Manifests[at]
		if d.Platform != nil && d.Platform.OS == "unknown" { // what is said about another one
			continue
		}
		fits := d.Platform == nil || d.Platform.OS+"/"+d.Platform.Architecture == platform
		if chosen == nil || fits && platform != "" {
			chosen = d
		}
		if fits {
			break
		}
	}
	if chosen == nil {
		return fmt.Errorf("%w: its index names no image", ErrDamaged)
	}
	below, err := i.text(chosen.Digest)
	if err != nil {
		return err
	}
	if chosen.MediaType.IsIndex() {
		return i.readIndex(below, platform, depth+1)
	}
	return i.readManifest(below)
}

func (i *Image) readManifest(text []byte) error {
	m, err := v1.ParseManifest(bytes.NewReader(text))
	if err != nil {
		return fmt.Errorf("%w: manifest: %w", ErrDamaged, err)
	}
	config, err := i.text(m.Config.Digest)
	if err != nil {
		return err
	}
	if i.Config, err = v1.ParseConfigFile(bytes.NewReader(config)); err != nil {
		return fmt.Errorf("%w: configuration: %w", ErrDamaged, err)
	}
	if len(m.Layers) != len(i.Config.RootFS.DiffIDs) {
		return fmt.Errorf("%w: it has %d layers and the digests of %d", ErrDamaged, len(m.Layers), len(i.Config.RootFS.DiffIDs))
	}
	for at, l := range m.Layers {
		name, err := blobName(l.Digest)
		if err != nil {
			return err
		}
		i.Layers = append(i.Layers, Layer{name, l.Digest.String(), i.Config.RootFS.DiffIDs[at].String(), l.Size, l.MediaType})
	}
	i.Digest = sha256.Sum256(text)
	return nil
}

// readSaved reads what engines saved before they wrote layouts.
func (i *Image) readSaved() error {
	list, err := text(i.blobs, "manifest.json", "")
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoImage, err)
	}
	var saved []struct {
		Config string
		Layers []string
	}
	if err := json.Unmarshal(list, &saved); err != nil || len(saved) == 0 {
		return fmt.Errorf("%w: manifest.json: %w", ErrNoImage, err)
	}
	config, err := text(i.blobs, saved[0].Config, "")
	if err != nil {
		return err
	}
	if i.Config, err = v1.ParseConfigFile(bytes.NewReader(config)); err != nil {
		return fmt.Errorf("%w: configuration: %w", ErrDamaged, err)
	}
	if len(saved[0].Layers) != len(i.Config.RootFS.DiffIDs) {
		return fmt.Errorf("%w: it has %d layers and the digests of %d", ErrDamaged, len(saved[0].Layers), len(i.Config.RootFS.DiffIDs))
	}
	for at, name := range saved[0].Layers {
		i.Layers = append(i.Layers, Layer{Name: name, DiffID: i.Config.RootFS.DiffIDs[at].String(), Type: types.OCIUncompressedLayer})
	}
	i.Digest = sha256.Sum256(config) // which names what is in each layer
	return nil
}

func blobName(h v1.Hash) (string, error) {
	if h.Algorithm != "sha256" || len(h.Hex) != 64 || strings.ContainsAny(h.Hex, "/.") {
		return "", fmt.Errorf("%w: the digest %q is none that is known", ErrDamaged, h)
	}
	return "blobs/sha256/" + h.Hex, nil
}

func (i *Image) text(h v1.Hash) ([]byte, error) {
	name, err := blobName(h)
	if err != nil {
		return nil, err
	}
	return text(i.blobs, name, h.String())
}

// text reads a short blob whole, and compares it with its digest where that is given.
func text(in blobs, name, digest string) ([]byte, error) {
	file, size, err := in.open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if size > mostText {
		return nil, fmt.Errorf("%w: %s has %d bytes", ErrDamaged, name, size)
	}
	out, err := io.ReadAll(file)
	if err == nil && digest != "" {
		if sum := sha256.Sum256(out); digest != "sha256:"+hex.EncodeToString(sum[:]) {
			err = fmt.Errorf("%w: %s does not have its digest", ErrDamaged, name)
		}
	}
	return out, err
}

// Blob opens the blob of a layer as it is.
func (i *Image) Blob(l *Layer) (io.ReadCloser, error) {
	in, _, err := i.blobs.open(l.Name)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return &proven{in, in, sha256.New(), l.Digest, l.Name}, nil
}

// Tar opens the tar of a layer. It fails at its end where the layer is not what it should be.
func (i *Image) Tar(l *Layer) (io.ReadCloser, error) {
	blob, err := i.Blob(l)
	if err != nil {
		return nil, err
	}
	unpacked, err := unpack(blob)
	if err != nil {
		blob.Close()
		return nil, fmt.Errorf("%w: %s: %w", ErrDamaged, l.Name, err)
	}
	return &proven{unpacked, blob, sha256.New(), l.DiffID, l.Name}, nil
}

// unpack gives what is in a blob, which may be packed in one of the ways of the specification.
func unpack(blob io.Reader) (io.Reader, error) {
	head := make([]byte, 4)
	n, err := io.ReadFull(blob, head)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return nil, err
	}
	in := io.MultiReader(bytes.NewReader(head[:n]), blob)
	switch {
	case bytes.HasPrefix(head, []byte("\x1f\x8b")):
		return gzip.NewReader(in)
	case bytes.Equal(head, []byte("\x28\xb5\x2f\xfd")):
		return zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20))
	}
	return in, nil
}

// proven is a blob that is compared with its digest at its end.
type proven struct {
	io.Reader
	closer io.Closer
	hash   hash.Hash
	digest string // empty: none is known
	name   string
}

func (p *proven) Read(b []byte) (int, error) {
	n, err := p.Reader.Read(b)
	p.hash.Write(b[:n])
	if err == io.EOF && p.digest != "" && p.digest != "sha256:"+hex.EncodeToString(p.hash.Sum(nil)) {
		err = fmt.Errorf("%w: %s does not have its digest", ErrDamaged, p.name)
	}
	return n, err
}

func (p *proven) Close() error { return p.closer.Close() }

// folder is a layout in a folder.
type folder struct{ root *os.Root }

func (f folder) open(name string) (io.ReadCloser, int64, error) {
	if !filepath.IsLocal(filepath.FromSlash(name)) {
		return nil, 0, fmt.Errorf("%w: it names %q", ErrDamaged, name)
	}
	file, err := f.root.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, 0, err
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%w: %s is not a file", ErrDamaged, name)
	}
	if err != nil {
		file.Close()
		return nil, 0, err
	}
	return file, info.Size(), nil
}

func (f folder) Close() error { return f.root.Close() }

// inTar is a layout in a tar, by where each file begins.
type inTar struct {
	file  *os.File
	files map[string][2]int64 // offset and size
	links map[string]string
}

func indexed(file *os.File) (*inTar, error) {
	t := &inTar{file, map[string][2]int64{}, map[string]string{}}
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	in := &counted{in: io.NewSectionReader(file, 0, info.Size())}
	for reader := tar.NewReader(in); ; {
		h, err := reader.Next()
		if err == io.EOF {
			return t, nil
		}
		if err != nil {
			return nil, err
		}
		name := path.Clean(h.Name)
		switch h.Typeflag {
		case tar.TypeReg:
			t.files[name] = [2]int64{in.n, h.Size}
		case tar.TypeSymlink: // engines write one layer once
			t.links[name] = path.Join(path.Dir(name), h.Linkname)
		case tar.TypeLink:
			t.links[name] = path.Clean(h.Linkname)
		}
	}
}

func (t *inTar) open(name string) (io.ReadCloser, int64, error) {
	name = path.Clean(name)
	if target, link := t.links[name]; link {
		name = target
	}
	at, there := t.files[name]
	if !there {
		return nil, 0, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return io.NopCloser(io.NewSectionReader(t.file, at[0], at[1])), at[1], nil
}

func (t *inTar) Close() error { return t.file.Close() }

// counted counts what is read of a tar, and goes on behind the bytes of a file without reading them.
type counted struct {
	in *io.SectionReader
	n  int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.n += int64(n)
	return n, err
}

// Seek lets the reader of a tar leave out what it does not need.
func (c *counted) Seek(offset int64, whence int) (int64, error) {
	at, err := c.in.Seek(offset, whence)
	if err == nil {
		c.n = at
	}
	return at, err
}
