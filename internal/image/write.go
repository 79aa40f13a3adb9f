package image

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/types"
	"github.com/klauspost/compress/gzip"

	"tartine/internal/archive"
	"tartine/internal/manifest"
)

// Spec is an image that is to be written: a content at a folder, on top of a base or alone.
type Spec struct {
	Name       string // NAME:TAG
	At         string // the folder of the image that is the top of the content, from the root
	Base       *Image // nil: none; the image is of data alone
	Platform   string // OS/PROCESSOR, without a base
	When       time.Time
	Tree       manifest.Digest // of the content
	Revision   string          // of what it was built from; may be empty
	Version    string          // may be empty
	Entrypoint []string        // nil: that of the base
	User       string          // empty: that of the base
	Ports      []string        // as in 8080 or 53/udp, beside those of the base
	Scratch    string          // a folder for layers until all are written
}

// What an image says of itself beside the annotations of the specification.
const (
	LabelTree = "tartine.tree" // the tree digest of the content
	LabelAt   = "tartine.at"   // where it is
	createdBy = "tartine pack" // begins what the history says of its layers
)

// The annotations of the specification (annotations.md) that an image has as labels, too.
const (
	created     = "org.opencontainers.image.created"
	revision    = "org.opencontainers.image.revision"
	versionName = "org.opencontainers.image.version"
	refName     = "org.opencontainers.image.ref.name"
)

// mostLayers is how many layers a content is put into.
const mostLayers = 24

// Content is what is to be written.
type Content struct {
	Entries []manifest.Entry // sorted by path
	// Add writes the content of a file, and checks it.
	Add func(ctx context.Context, w *tar.Writer, e *manifest.Entry, h *tar.Header) error
}

// layerFile is a layer that is written.
type layerFile struct {
	name           string // for the history
	file           *os.File
	digest, diffID v1.Hash
	size           int64
}

// Write writes an image as a tar that is an OCI layout and has what engines of before load, too. The same content gives
// the same bytes. It fails with an error that names the entry where a name cannot be in a layer.
func (s *Spec) Write(ctx context.Context, out io.Writer, c *Content) error {
	var layers []*layerFile
	defer func() {
		for _, l := range layers {
			l.file.Close()
		}
	}()
	for _, group := range grouped(c.Entries) {
		l, err := s.layer(ctx, group, c)
		if err != nil {
			return err
		}
		layers = append(layers, l)
	}
	config, err := json.Marshal(s.config(layers))
	if err != nil {
		return err
	}
	m := v1.Manifest{SchemaVersion: 2, MediaType: types.OCIManifestSchema1, Annotations: s.annotations(),
		Config: v1.Descriptor{MediaType: types.OCIConfigJSON, Size: int64(len(config)), Digest: hashOf(config)}}
	if s.Base != nil {
		for i := range s.Base.Layers {
			l, err := s.baseLayer(ctx, &s.Base.Layers[i])
			if err != nil {
				return err
			}
			layers = slices.Insert(layers, i, l)
		}
	}
	for _, l := range layers {
		m.Layers = append(m.Layers, v1.Descriptor{MediaType: types.OCILayer, Size: l.size, Digest: l.digest})
	}
	described, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return s.writeTar(ctx, out, layers, config, described)
}

func hashOf(text []byte) v1.Hash {
	sum := sha256.Sum256(text)
	return v1.Hash{Algorithm: "sha256", Hex: hex.EncodeToString(sum[:])}
}

// group is the entries of a layer.
type group struct {
	name    string
	entries []*manifest.Entry
}

// grouped parts a content into layers: assets by the folder that they are in, pages in one on top. A page that changes
// leaves all other layers as they are.
func grouped(entries []manifest.Entry) []group {
	depth := 1
	if tops := topFolders(entries, 1); len(tops) == 1 {
		depth = 2
	}
	by := map[string][]*manifest.Entry{}
	for i := range entries {
		e := &entries[i]
		by[layerOf(e, depth)] = append(by[layerOf(e, depth)], e)
	}
	names := slices.Sorted(maps.Keys(by))
	if len(names) > mostLayers { // by their names, not their sizes: those change
		rest := by[pages]
		by = map[string][]*manifest.Entry{pages: rest}
		for i := range entries {
			if e := &entries[i]; layerOf(e, depth) != pages {
				sum := sha256.Sum256([]byte(layerOf(e, depth)))
				name := fmt.Sprintf("part %02d", sum[0]%(mostLayers-1))
				by[name] = append(by[name], e)
			}
		}
		names = slices.Sorted(maps.Keys(by))
	}
	var out []group
	for _, name := range names {
		if name != pages && len(by[name]) > 0 {
			out = append(out, group{name, by[name]})
		}
	}
	if len(by[pages]) > 0 || len(out) == 0 {
		out = append(out, group{pages, by[pages]})
	}
	return out
}

// pages is the name of the layer of what changes most often.
const pages = "pages"

// pageEndings are the endings of pages.
var pageEndings = []string{".html", ".htm", ".xhtml", ".php", ".xml", ".txt", ".json"}

func layerOf(e *manifest.Entry, depth int) string {
	for _, ending := range pageEndings {
		if strings.HasSuffix(strings.ToLower(e.Path), ending) {
			return pages
		}
	}
	elements := strings.Split(e.Path, "/")
	if e.Kind != manifest.Dir {
		elements = elements[:len(elements)-1]
	}
	if len(elements) == 0 {
		return "files"
	}
	return "folder " + strings.Join(elements[:min(depth, len(elements))], "/")
}

func topFolders(entries []manifest.Entry, depth int) map[string]bool {
	out := map[string]bool{}
	for i := range entries {
		if name := layerOf(&entries[i], depth); name != pages {
			out[name] = true
		}
	}
	return out
}

// layer writes a layer into a file, packed.
func (s *Spec) layer(ctx context.Context, g group, c *Content) (*layerFile, error) {
	file, err := archive.Scratch(s.Scratch)
	if err != nil {
		return nil, err
	}
	l := &layerFile{name: g.name, file: file}
	if err := s.fill(ctx, l, g, c); err != nil {
		file.Close()
		return nil, err
	}
	return l, nil
}

func (s *Spec) fill(ctx context.Context, l *layerFile, g group, c *Content) error {
	packed, plain := sha256.New(), sha256.New()
	pack := gzip.NewWriter(io.MultiWriter(l.file, packed))
	w := tar.NewWriter(io.MultiWriter(pack, plain))
	for _, e := range g.entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		if strings.HasPrefix(path.Base(e.Path), whiteout) {
			return &NameError{e.Path}
		}
		h := archive.TarHeader(e, s.When)
		h.Name = strings.TrimPrefix(path.Join(s.At, e.Path), "/")
		if e.Kind == manifest.Dir {
			h.Name += "/"
		}
		if err := c.Add(ctx, w, e, h); err != nil {
			return err
		}
	}
	if err := errors.Join(w.Close(), pack.Close()); err != nil {
		return err
	}
	return l.seal(hex.EncodeToString(packed.Sum(nil)), hex.EncodeToString(plain.Sum(nil)))
}

// NameError tells that a name means something else in a layer.
type NameError struct{ Path string }

func (e *NameError) Error() string {
	return fmt.Sprintf("%s: in the layer of an image a name that begins with %q removes a file", e.Path, whiteout)
}

func (l *layerFile) seal(digest, diffID string) error {
	size, err := l.file.Seek(0, io.SeekEnd)
	l.size, l.digest, l.diffID = size, v1.Hash{Algorithm: "sha256", Hex: digest}, v1.Hash{Algorithm: "sha256", Hex: diffID}
	return err
}

// baseLayer brings a layer of the base into a file: as it is where it is packed, so that it stays the same blob.
func (s *Spec) baseLayer(ctx context.Context, from *Layer) (*layerFile, error) {
	file, err := archive.Scratch(s.Scratch)
	if err != nil {
		return nil, err
	}
	l := &layerFile{file: file}
	digest, err := s.copyBlob(ctx, from, file)
	if err == nil {
		err = l.seal(digest, strings.TrimPrefix(from.DiffID, "sha256:"))
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return l, nil
}

func (s *Spec) copyBlob(ctx context.Context, from *Layer, to io.Writer) (digest string, err error) {
	in, err := s.Base.Blob(from)
	if err != nil {
		return "", err
	}
	head := make([]byte, 2)
	n, err := io.ReadFull(in, head)
	in.Close()
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return "", err
	}
	sum := sha256.New()
	if bytes.Equal(head[:n], []byte("\x1f\x8b")) {
		if in, err = s.Base.Blob(from); err != nil {
			return "", err
		}
		defer in.Close()
		if _, err := io.Copy(io.MultiWriter(to, sum), in); err != nil {
			return "", err
		}
		return hex.EncodeToString(sum.Sum(nil)), ctx.Err()
	}
	plain, err := s.Base.Tar(from)
	if err != nil {
		return "", err
	}
	defer plain.Close()
	pack := gzip.NewWriter(io.MultiWriter(to, sum))
	_, err = io.Copy(pack, plain)
	err = errors.Join(err, pack.Close(), ctx.Err())
	return hex.EncodeToString(sum.Sum(nil)), err // of all of it
}

func (s *Spec) annotations() map[string]string {
	out := map[string]string{created: s.When.UTC().Format(time.RFC3339), LabelTree: s.Tree.String(), LabelAt: s.At}
	if s.Revision != "" {
		out[revision] = s.Revision
	}
	if s.Version != "" {
		out[versionName] = s.Version
	}
	return out
}

// config gives the configuration: that of the base, with the layers on top.
func (s *Spec) config(layers []*layerFile) *v1.ConfigFile {
	system, processor, _ := strings.Cut(s.Platform, "/")
	out := &v1.ConfigFile{OS: system, Architecture: processor, RootFS: v1.RootFS{Type: "layers"}}
	if s.Base != nil {
		out = s.Base.Config.DeepCopy()
		out.Container = ""
	}
	when := v1.Time{Time: s.When.UTC()}
	out.Created = when
	out.Config.Labels = maps.Clone(out.Config.Labels)
	if out.Config.Labels == nil {
		out.Config.Labels = map[string]string{}
	}
	maps.Copy(out.Config.Labels, s.annotations())
	if s.Entrypoint != nil {
		out.Config.Entrypoint, out.Config.Cmd = s.Entrypoint, nil
	}
	if s.User != "" {
		out.Config.User = s.User
	}
	for _, port := range s.Ports {
		if out.Config.ExposedPorts == nil {
			out.Config.ExposedPorts = map[string]struct{}{}
		}
		if !strings.Contains(port, "/") {
			port += "/tcp"
		}
		out.Config.ExposedPorts[port] = struct{}{}
	}
	for _, l := range layers {
		out.RootFS.DiffIDs = append(out.RootFS.DiffIDs, l.diffID)
		out.History = append(out.History, v1.History{Created: when, CreatedBy: createdBy + " " + s.At + ": " + l.name})
	}
	return out
}

// writeTar writes the layout: descriptions first, then blobs by their digests.
func (s *Spec) writeTar(ctx context.Context, out io.Writer, layers []*layerFile, config, described []byte) error {
	w := tar.NewWriter(out)
	blobs := map[string]any{hashOf(config).Hex: config, hashOf(described).Hex: described}
	var names []string
	for _, l := range layers {
		blobs[l.digest.Hex] = l
		names = append(names, "blobs/sha256/"+l.digest.Hex)
	}
	repository, tag := split(s.Name)
	index, err := json.Marshal(v1.IndexManifest{SchemaVersion: 2, MediaType: types.OCIImageIndex, Manifests: []v1.Descriptor{{MediaType: types.OCIManifestSchema1,
		Size: int64(len(described)), Digest: hashOf(described), Annotations: map[string]string{refName: tag, "io.containerd.image.name": repository + ":" + tag}}}})
	if err != nil {
		return err
	}
	saved, err := json.Marshal([]map[string]any{{"Config": "blobs/sha256/" + hashOf(config).Hex, "RepoTags": []string{repository + ":" + tag}, "Layers": names}})
	if err != nil {
		return err
	}
	texts := []struct {
		name string
		text []byte
	}{{"index.json", index}, {"manifest.json", saved}, {"oci-layout", []byte(`{"imageLayoutVersion":"1.0.0"}`)}}
	for _, dir := range []string{"blobs/", "blobs/sha256/"} {
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: dir, Mode: 0o755, ModTime: s.When}); err != nil {
			return err
		}
	}
	for _, hex := range slices.Sorted(maps.Keys(blobs)) {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := s.writeBlob(w, "blobs/sha256/"+hex, blobs[hex]); err != nil {
			return err
		}
	}
	for _, t := range texts {
		if err := s.writeBlob(w, t.name, t.text); err != nil {
			return err
		}
	}
	return w.Close()
}

func (s *Spec) writeBlob(w *tar.Writer, name string, blob any) error {
	var (
		size int64
		from io.Reader
	)
	switch b := blob.(type) {
	case []byte:
		size, from = int64(len(b)), bytes.NewReader(b)
	case *layerFile:
		size, from = b.size, io.NewSectionReader(b.file, 0, b.size)
	}
	if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o644, Size: size, ModTime: s.When}); err != nil {
		return err
	}
	_, err := io.Copy(w, from)
	return err
}

// split parts a name into the repository and the tag.
func split(name string) (repository, tag string) {
	slash := strings.LastIndexByte(name, '/')
	if colon := strings.LastIndexByte(name, ':'); colon > slash {
		return name[:colon], name[colon+1:]
	}
	return name, "latest"
}

// Own tells which layers of an image were written here.
func (i *Image) Own() func(layer int) bool {
	first := len(i.Layers)
	for _, h := range slices.Backward(i.Config.History) { // those of the base may be told in part, or not at all
		if !strings.HasPrefix(h.CreatedBy, createdBy+" ") {
			break
		}
		first--
	}
	return func(layer int) bool { return layer >= first }
}
