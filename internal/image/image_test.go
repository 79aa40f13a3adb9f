package image

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/types"
	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/require"

	"tartine/internal/archive"
	"tartine/internal/manifest"
)

// tarOf writes a layer: "NAME=TEXT" is a file, "NAME/" a folder, "NAME->TARGET" a link, "NAME=>TARGET" a hard link.
func tarOf(t *testing.T, entries ...string) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, e := range entries {
		h, text := &tar.Header{Typeflag: tar.TypeReg, Mode: 0o644}, ""
		if name, target, is := strings.Cut(e, "->"); is {
			h.Typeflag, h.Name, h.Linkname = tar.TypeSymlink, name, target
		} else if name, target, is := strings.Cut(e, "=>"); is {
			h.Typeflag, h.Name, h.Linkname = tar.TypeLink, name, target
		} else if name, content, is := strings.Cut(e, "="); is {
			h.Name, h.Size, text = name, int64(len(content)), content
		} else {
			h.Typeflag, h.Name, h.Mode = tar.TypeDir, e, 0o755
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func packed(t *testing.T, text []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := w.Write(text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

// layout writes an image of layers into a folder, as an OCI layout and as engines save it, or as one of both.
func layout(t *testing.T, oci, saved bool, layers ...[]byte) string {
	dir := t.TempDir()
	put := func(name string, text []byte) {
		full := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, text, 0o644))
	}
	encode := func(v any) []byte {
		text, err := json.Marshal(v)
		require.NoError(t, err)
		return text
	}
	config := v1.ConfigFile{OS: "linux", Architecture: "amd64", RootFS: v1.RootFS{Type: "layers"}}
	m := v1.Manifest{SchemaVersion: 2, MediaType: types.OCIManifestSchema1}
	names := []string{}
	for _, l := range layers {
		blob := packed(t, l)
		config.RootFS.DiffIDs = append(config.RootFS.DiffIDs, hashOf(l))
		m.Layers = append(m.Layers, v1.Descriptor{MediaType: types.OCILayer, Size: int64(len(blob)), Digest: hashOf(blob)})
		names = append(names, "blobs/sha256/"+hashOf(blob).Hex)
		put(names[len(names)-1], blob)
	}
	text := encode(config)
	put("blobs/sha256/"+hashOf(text).Hex, text)
	m.Config = v1.Descriptor{MediaType: types.OCIConfigJSON, Size: int64(len(text)), Digest: hashOf(text)}
	described := encode(m)
	put("blobs/sha256/"+hashOf(described).Hex, described)
	if oci {
		put("oci-layout", []byte(`{"imageLayoutVersion":"1.0.0"}`))
		put("index.json", encode(v1.IndexManifest{SchemaVersion: 2, Manifests: []v1.Descriptor{{MediaType: types.OCIManifestSchema1, Size: int64(len(described)), Digest: hashOf(described)}}}))
	}
	if saved {
		put("manifest.json", encode([]map[string]any{{"Config": "blobs/sha256/" + hashOf(text).Hex, "RepoTags": []string{"tartine-test:layers"}, "Layers": names}}))
	}
	return dir
}

// asTar packs a layout into a tar.
func asTar(t *testing.T, dir string) string {
	name := filepath.Join(t.TempDir(), "image.tar")
	out, err := exec.Command("tar", "-cf", name, "-C", dir, ".").CombinedOutput()
	require.NoError(t, err, "%s", out)
	return name
}

// flat gives what is in a folder of an image, as "NAME=TEXT" and the like.
func flat(t *testing.T, i *Image, folder string) []string {
	var out bytes.Buffer
	require.NoError(t, i.Flatten(t.Context(), folder, &out, nil))
	return listed(t, &out)
}

func listed(t *testing.T, in io.Reader) []string {
	list := []string{}
	for r := tar.NewReader(in); ; {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		switch h.Typeflag {
		case tar.TypeDir:
			list = append(list, strings.TrimSuffix(h.Name, "/")+"/")
		case tar.TypeSymlink:
			list = append(list, h.Name+"->"+h.Linkname)
		default:
			list = append(list, h.Name+"="+string(text))
		}
	}
	slices.Sort(list)
	return list
}

// the layers that are tried: kinds that change, whiteouts of all sorts, hard links.
func tried(t *testing.T) [][]byte {
	return [][]byte{
		tarOf(t, "site/", "site/index.html=old", "site/gone.html=g", "site/old/", "site/old/a=a", "site/old/b=b", "site/swap/", "site/swap/x=x", "site/file=f",
			"site/twin=twin", "site/other=>site/twin", "elsewhere=e", "site/deep/", "site/deep/er/", "site/deep/er/x=x", "site/link->index.html"),
		tarOf(t, "site/", "site/index.html=new", "site/.wh.gone.html=", "site/old/", "site/old/.wh..wh..opq=", "site/old/c=c", "site/swap=now a file",
			"site/file/", "site/file/y=y", "site/deep/", "site/deep/er/", "site/deep/er/z=z"),
		tarOf(t, "site/", "site/twin=alone", "site/.wh.link=", "site/new=n", "site/hard=>site/new"),
	}
}

var outcome = []string{"deep/", "deep/er/", "deep/er/x=x", "deep/er/z=z", "file/", "file/y=y", "hard=n", "index.html=new", "new=n", "old/", "old/c=c", "other=twin",
	"swap=now a file", "twin=alone"}

func TestLayersAreAppliedAsTheSpecificationSays(t *testing.T) {
	for _, form := range []struct{ oci, saved, tar bool }{{true, false, false}, {true, false, true}, {false, true, true}, {true, true, true}} {
		name := layout(t, form.oci, form.saved, tried(t)...)
		if form.tar {
			name = asTar(t, name)
		}
		i, err := Open(name, "")
		require.NoError(t, err)
		require.Equal(t, outcome, flat(t, i, "/site"))
		require.Contains(t, flat(t, i, "/"), "elsewhere=e")
		require.Error(t, i.Flatten(t.Context(), "none", io.Discard, nil))
		require.NoError(t, i.Close())
	}
}

// TestTheEngineAgreesAboutLayers has the machine's engine load the same image, and compares what is in a container of it.
func TestTheEngineAgreesAboutLayers(t *testing.T) {
	if exec.Command("docker", "version").Run() != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("no container engine answers")
		}
		t.Skip("no container engine answers")
	}
	docker := func(args ...string) string {
		out, err := exec.Command("docker", args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	docker("load", "-i", asTar(t, layout(t, true, true, tried(t)...)))
	t.Cleanup(func() { _ = exec.Command("docker", "image", "rm", "-f", "tartine-test:layers").Run() })
	id := docker("create", "--network", "none", "tartine-test:layers", "nothing")
	defer docker("rm", id)
	exported, err := exec.Command("docker", "cp", id+":/site/.", "-").Output()
	require.NoError(t, err)
	var theirs []string
	twins := map[string]string{}
	for r := tar.NewReader(bytes.NewReader(exported)); ; {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		name := strings.TrimPrefix(strings.TrimPrefix(h.Name, "./"), "site/")
		switch {
		case h.Typeflag == tar.TypeDir && strings.Trim(name, "./") == "":
		case h.Typeflag == tar.TypeDir:
			theirs = append(theirs, strings.TrimSuffix(name, "/")+"/")
		case h.Typeflag == tar.TypeLink:
			theirs = append(theirs, name+"="+twins[strings.TrimPrefix(strings.TrimPrefix(h.Linkname, "./"), "site/")])
		default:
			twins[name] = string(text)
			theirs = append(theirs, name+"="+string(text))
		}
	}
	slices.Sort(theirs)
	require.Equal(t, outcome, theirs)
	saved := filepath.Join(t.TempDir(), "saved.tar")
	docker("save", "-o", saved, "tartine-test:layers")
	i, err := Open(saved, "")
	require.NoError(t, err)
	defer i.Close()
	require.Equal(t, outcome, flat(t, i, "site"), "and what it saves is read")
}

// TestWhiteoutsAreForTheLayersBelow only: what is beside one in its own layer stays.
func TestWhiteoutsAreForTheLayersBelow(t *testing.T) {
	i, err := Open(layout(t, true, false, tarOf(t, "site/a=old", "site/b/", "site/b/x=x"), tarOf(t, "site/.wh.a=", "site/a=new", "site/b/y=y", "site/b/.wh..wh..opq=")), "")
	require.NoError(t, err)
	require.Equal(t, []string{"a=new", "b/", "b/y=y"}, flat(t, i, "site"))
}

func TestAnImageThatIsDamagedOrLeadsOutIsRefused(t *testing.T) {
	i, err := Open(layout(t, true, false, tarOf(t, "site/../../x=x")), "")
	require.NoError(t, err)
	var out *LeadsOutError
	require.ErrorAs(t, i.Flatten(t.Context(), "", io.Discard, nil), &out)
	i, err = Open(layout(t, true, false, tarOf(t, "site/x=>none")), "")
	require.NoError(t, err)
	require.ErrorIs(t, i.Flatten(t.Context(), "", io.Discard, nil), ErrDamaged)
	for _, saved := range []bool{false, true} {
		dir := layout(t, !saved, saved, tarOf(t, "site/x=x"))
		blobs, err := filepath.Glob(filepath.Join(dir, "blobs/sha256/*"))
		require.NoError(t, err)
		broken := 0
		for _, blob := range blobs {
			text, err := os.ReadFile(blob)
			require.NoError(t, err)
			other := bytes.Replace(text, []byte("linux"), []byte("minix"), 1)
			if bytes.HasPrefix(text, []byte("\x1f\x8b")) {
				other = packed(t, tarOf(t, "site/x=y"))
			}
			if bytes.Equal(other, text) {
				other = append(text, ' ')
			}
			require.NoError(t, os.WriteFile(blob, other, 0o644))
			i, err := Open(dir, "")
			if err == nil {
				err = i.Flatten(t.Context(), "", io.Discard, nil)
			}
			if err != nil {
				require.ErrorIs(t, err, ErrDamaged)
				broken++
			}
			require.NoError(t, os.WriteFile(blob, text, 0o644))
		}
		want := len(blobs)
		if saved { // of the old form only layers have digests
			want = 1
		}
		require.Equal(t, want, broken)
	}
	dir := layout(t, true, false, tarOf(t, "base=b"), tarOf(t, "site/x=x"))
	blobs, err := filepath.Glob(filepath.Join(dir, "blobs/sha256", hashOf(packed(t, tarOf(t, "base=b"))).Hex))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(blobs[0], packed(t, tarOf(t, "base=c")), 0o644))
	i, err = Open(dir, "")
	require.NoError(t, err)
	require.ErrorIs(t, i.Flatten(t.Context(), "site", io.Discard, func(layer int) bool { return layer == 1 }), ErrDamaged, "also where a layer does not count")
	page := filepath.Join(t.TempDir(), "page.html")
	require.NoError(t, os.WriteFile(page, []byte("<p>"), 0o644))
	_, err = Open(page, "")
	require.ErrorIs(t, err, ErrNoImage)
	_, err = Open(t.TempDir(), "")
	require.ErrorIs(t, err, ErrNoImage)
}

// content is files in memory.
func content(files map[string]string) *Content {
	c := &Content{Add: func(_ context.Context, w *tar.Writer, e *manifest.Entry, h *tar.Header) error {
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		_, err := io.WriteString(w, files[e.Path])
		return err
	}}
	for path, text := range files {
		c.Entries = append(c.Entries, manifest.Entry{Path: path, Size: int64(len(text)), Attributes: manifest.Attributes{Mode: 0o644}})
	}
	slices.SortFunc(c.Entries, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return c
}

func written(t *testing.T, s *Spec, files map[string]string) (*Image, []byte) {
	s.When, s.Scratch = archive.Earliest, t.TempDir()
	name := filepath.Join(t.TempDir(), "out.oci.tar")
	file, err := os.Create(name)
	require.NoError(t, err)
	require.NoError(t, s.Write(t.Context(), file, content(files)))
	require.NoError(t, file.Close())
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	i, err := Open(name, "")
	require.NoError(t, err)
	t.Cleanup(func() { i.Close() })
	return i, text
}

// TestAPageThatChangesLeavesOtherLayersAsTheyAre whatever is put under it.
func TestAPageThatChangesLeavesOtherLayersAsTheyAre(t *testing.T) {
	base, err := Open(layout(t, true, true, tried(t)...), "")
	require.NoError(t, err)
	for _, spec := range []Spec{{Name: "gannet:1", At: "/srv/www", Platform: "linux/arm64"}, {Name: "gannet:1", At: "/site", Base: base, User: "www", Ports: []string{"80", "53/udp"}, Entrypoint: []string{"httpd", "-f"}}} {
		files := map[string]string{"index.html": "<h1>", "plates/gannet.webp": "plate", "plates/about.html": "<p>", "css/site.css": "a {}", "cgi/tide": "#!"}
		i, text := written(t, &spec, files)
		_, again := written(t, &spec, files)
		require.Equal(t, text, again, "the same content gives the same image")
		have := flat(t, i, spec.At)
		require.Contains(t, have, "plates/gannet.webp=plate")
		require.Contains(t, have, "index.html=<h1>")
		if spec.Base != nil {
			require.Contains(t, have, "swap=now a file")
			require.Equal(t, "www", i.Config.Config.User)
			require.Equal(t, []string{"httpd", "-f"}, i.Config.Config.Entrypoint)
			require.Len(t, i.Config.Config.ExposedPorts, 2)
		}
		require.Equal(t, spec.At, i.Config.Config.Labels[LabelAt])
		var own bytes.Buffer
		require.NoError(t, i.Flatten(t.Context(), spec.At, &own, i.Own()))
		require.Len(t, listed(t, &own), len(files))

		files["plates/about.html"] = "<h2>"
		changed, _ := written(t, &spec, files)
		differ := 0
		for at := range i.Layers {
			if i.Layers[at].Digest != changed.Layers[at].Digest {
				differ++
				var layer bytes.Buffer
				require.NoError(t, i.Flatten(t.Context(), spec.At, &layer, func(of int) bool { return of == at }))
				require.Equal(t, []string{"index.html=<h1>", "plates/about.html=<p>"}, listed(t, &layer), "the pages, and not the plate beside one")
			}
		}
		require.Equal(t, 1, differ)
		require.Len(t, changed.Layers, len(i.Layers))
	}
	many := map[string]string{}
	for i := range 100 {
		many[fmt.Sprintf("%d/x.webp", i)] = "x"
	}
	i, _ := written(t, &Spec{Name: "many:1", At: "/"}, many)
	require.LessOrEqual(t, len(i.Layers), mostLayers)
	require.Len(t, flat(t, i, "/"), 100)
	bad := &Spec{Name: "bad:1", At: "/", Scratch: t.TempDir()}
	var name *NameError
	require.ErrorAs(t, bad.Write(t.Context(), io.Discard, content(map[string]string{"a/.wh.b": "x"})), &name)
}
