package containerfs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/demo/engineserver"
	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
)

// shelf is a folder of this machine that takes and gives archives as an engine does.
type shelf struct {
	root *os.Root
	took int64 // bytes of archives
	gave int   // archives
	lazy bool  // see Options
	cut  int64 // after so many bytes no more is taken; 0: all is
}

func newShelf(t require.TestingT, dir string) *shelf {
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	return &shelf{root: root}
}

func (s *shelf) Get(_ context.Context, name string) (io.ReadCloser, error) {
	name = path.Join(".", name[1:])
	if _, err := s.root.Lstat(name); err != nil {
		return nil, err
	}
	s.gave++
	out, in := io.Pipe()
	go func() { in.CloseWithError(engineserver.Pack(s.root, name, in)) }()
	return out, nil
}

type counter struct {
	io.Reader
	bytes int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.bytes += int64(n)
	return n, err
}

var errCut = errors.New("the line was cut")

func (s *shelf) Put(_ context.Context, folder string, archive io.Reader) error {
	if s.cut > 0 {
		archive = io.MultiReader(io.LimitReader(archive, s.cut), iotest.ErrReader(errCut))
	}
	counted := &counter{Reader: archive}
	defer func() { s.took += counted.bytes }()
	return engineserver.Unpack(s.root, path.Join(".", folder[1:]), counted)
}

func TestWhatIsBroughtHereIsAFolderLikeAnyOther(t *testing.T) {
	for name, opt := range map[string]Options{"as any": {}, "as of Windows": {Windows: true}} {
		t.Run(name, func(t *testing.T) {
			fsystest.Run(t, func(t *testing.T) fsys.FS {
				f, err := Open(t.Context(), newShelf(t, t.TempDir()), "/", nil, opt)
				require.NoError(t, err)
				return f
			})
		})
	}
}

// tree gives what is below a folder, by name.
func tree(t require.TestingT, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(file string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		name, _ := filepath.Rel(dir, file)
		out[name] = info.Mode().String()
		if info.Mode().IsRegular() {
			text, err := os.ReadFile(file)
			out[name] += " " + string(text)
			return err
		}
		if link, err := os.Readlink(file); err == nil {
			out[name] += " " + link
		}
		return nil
	}))
	return out
}

// someSite makes what exists before a property is tried.
func someSite(t require.TestingT, dir string) {
	for name, text := range map[string]string{"site/css/rock.css": strings.Repeat("h1 {}", largeFile/4), "site/css/small.css": "h1 {}", "site/css/mine": strings.Repeat("not ours", largeFile/8), "site/css/deep/x": "x", "beside": "not ours", ".site.tartine/current": "1", ".site.tartine/kept/aa/aa": strings.Repeat("old", largeFile/2)} {
		name = filepath.Join(dir, "srv", filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	require.NoError(t, os.Symlink("rock.css", filepath.Join(dir, "srv", "site", "css", "link")))
}

func openSite(t require.TestingT, on *shelf) *FS {
	f, err := Open(context.Background(), on, "/srv", []string{"site", ".site.tartine"},
		Options{Owner: &osfs.Owner{User: os.Getuid(), Group: os.Getgid()}, Aside: ".site.tartine/carried", Last: ".site.tartine/current", Lazy: on.lazy})
	require.NoError(t, err)
	return f
}

// anything does something with a folder. What cannot be done is not done; then nothing must come of it. As a site does, it
// writes no file that may have a second name.
func anything(rt *rapid.T, f *FS) {
	names := rapid.SampledFrom([]string{"site/a", "site/b", "site/css", "site/css/rock.css", "site/css/small.css", "site/css/deep", "site/css/deep/x", ".site.tartine/y", ".site.tartine/kept/aa", ".site.tartine/kept/aa/aa"})
	ctx, name := context.Background(), names.Draw(rt, "name")
	switch rapid.IntRange(0, 7).Draw(rt, "what") {
	case 0:
		_ = f.Remove(ctx, name)
		_, _ = f.Put(ctx, name, strings.NewReader(fmt.Sprint(rapid.Int().Draw(rt, "text"))), fsys.Attributes{Mode: rapid.SampledFrom([]fs.FileMode{0o644, 0o755}).Draw(rt, "mode")})
	case 1:
		_ = f.Mkdir(ctx, name, 0o755)
	case 2:
		_ = f.Remove(ctx, name)
	case 3:
		_ = f.Rename(ctx, name, names.Draw(rt, "to"))
	case 4:
		_ = f.Symlink(ctx, "no/where", name)
	case 5:
		_ = f.Link(ctx, name, names.Draw(rt, "to"))
	case 6:
		if info, err := f.Lstat(ctx, name); err == nil && info.Mode.IsDir() {
			_ = f.SetAttr(ctx, name, fsys.Attributes{Mode: 0o700})
		}
	case 7:
		_, _ = f.Put(ctx, ".site.tartine/current", strings.NewReader(fmt.Sprint(rapid.Int().Draw(rt, "number"))), fsys.Attributes{Mode: 0o644})
	}
}

// standingIn gives what is in a shelf, without what is beside the site, and without what is put aside.
func standingIn(t require.TestingT, dir string) map[string]string {
	got := tree(t, filepath.Join(dir, "srv"))
	require.Equal(t, "-rw-r--r-- not ours", got["beside"])
	maps.DeleteFunc(got, func(name, _ string) bool {
		return name == "." || name == "beside" || strings.HasPrefix(name, ".site.tartine/carried")
	})
	return got
}

// broughtIn gives what a folder that was brought here says that it holds.
func broughtIn(t require.TestingT, f *FS) map[string]string {
	out, ctx := map[string]string{}, context.Background()
	var walk func(dir string)
	walk = func(dir string) {
		list, err := f.List(ctx, dir)
		require.NoError(t, err)
		for _, info := range list {
			name := fsys.Join(dir, info.Name)
			out[name] = info.Mode.String()
			switch {
			case info.Mode.IsDir():
				walk(name)
			case info.Mode.IsRegular():
				file, err := f.Open(ctx, name)
				require.NoError(t, err)
				text, err := io.ReadAll(file)
				require.NoError(t, err)
				require.NoError(t, file.Close())
				require.Len(t, text, int(info.Size))
				out[name] += " " + string(text)
				require.NoError(t, f.Digests(ctx, []string{name}, func(_ int, digest manifest.Digest) {
					require.Equal(t, manifest.Digest(sha256.Sum256(text)), digest)
				}))
			default:
				out[name] += " " + info.Link
			}
		}
	}
	walk(".")
	return out
}

// TestPushCarriesEverything does anything, pushes now and then, and finds the same at both places.
func TestPushCarriesEverything(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		someSite(rt, dir)
		on := newShelf(rt, dir)
		on.lazy = rapid.Bool().Draw(rt, "lazy")
		f := openSite(rt, on)
		defer f.Close()
		for range rapid.IntRange(1, 25).Draw(rt, "steps") {
			anything(rt, f)
			if rapid.IntRange(0, 5).Draw(rt, "push") == 0 {
				err = f.Push(t.Context())
			}
			if err != nil { // the top of what was brought cannot be removed
				require.ErrorContains(rt, err, "cannot be removed")
				return
			}
		}
		if err := f.Push(t.Context()); err != nil {
			require.ErrorContains(rt, err, "cannot be removed")
			return
		}
		require.Equal(rt, broughtIn(rt, f), standingIn(rt, dir))
	})
}

// TestAPushThatIsCutLosesNothing does anything, has the archive end anywhere, and looks anew.
func TestAPushThatIsCutLosesNothing(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		someSite(rt, dir)
		on := newShelf(rt, dir)
		on.lazy = rapid.Bool().Draw(rt, "lazy")
		f := openSite(rt, on)
		defer f.Close()
		for range rapid.IntRange(1, 12).Draw(rt, "steps") {
			anything(rt, f)
		}
		before, want := standingIn(rt, dir), broughtIn(rt, f)
		on.cut = rapid.Int64Range(1, 30_000).Draw(rt, "cut")
		err = f.Push(t.Context())
		if err == nil {
			require.Equal(rt, want, standingIn(rt, dir))
			return
		}
		if !errors.Is(err, errCut) {
			require.ErrorContains(rt, err, "cannot be removed")
			return
		}
		on.cut = 0
		again := openSite(rt, on)
		defer again.Close()
		stands := broughtIn(rt, again)
		touched, interrupted := again.Interrupted()
		if !interrupted { // all had come, or nothing was touched yet
			require.Contains(rt, []map[string]string{want, before}, stands)
			return
		}
		for name := range stands {
			_, stood := before[name]
			require.True(rt, stood || touched(name), "%s came from nowhere", name)
		}
		for name, was := range before {
			if want[name] == was && !f.changed[name] {
				require.Equal(rt, was, stands[name], "%s was to stay", name)
			}
			if !touched(name) {
				require.Equal(rt, was, stands[name], "%s was not to be touched", name)
			}
			if stands[".site.tartine/current"] != before[".site.tartine/current"] {
				require.Equal(rt, want[name], stands[name], "%s came before what says so", name)
			}
		}
		require.NoError(rt, again.Push(t.Context()))
		require.Equal(rt, stands, standingIn(rt, dir))
		last := openSite(rt, on)
		defer last.Close()
		_, interrupted = last.Interrupted()
		require.False(rt, interrupted)
	})
}

func TestLargeFilesStayWhereTheyAre(t *testing.T) {
	dir := t.TempDir()
	someSite(t, dir)
	on := newShelf(t, dir)
	f := openSite(t, on)
	defer f.Close()
	require.Less(t, onDisk(t, f.dir), int64(50_000), "no large file is here")
	ctx := t.Context()
	rock := strings.Repeat("h1 {}", largeFile/4)
	// Replaced and kept, as in a deployment; and put back, as in a rollback. A neighbour goes, so that the folder comes anew.
	require.NoError(t, f.Mkdir(ctx, ".site.tartine/kept/bb", 0o700))
	require.NoError(t, f.Rename(ctx, "site/css/rock.css", ".site.tartine/kept/bb/bb"))
	_, err := f.Put(ctx, "site/css/rock.css", strings.NewReader("h2 {}"), fsys.Attributes{Mode: 0o644})
	require.NoError(t, err)
	require.NoError(t, f.Remove(ctx, "site/css/small.css"))
	require.NoError(t, f.Push(ctx))
	stands := standingIn(t, dir)
	require.Equal(t, "-rw-r--r-- "+rock, stands[".site.tartine/kept/bb/bb"])
	require.Equal(t, "-rw-r--r-- h2 {}", stands["site/css/rock.css"])
	require.Equal(t, "-rw-r--r-- "+strings.Repeat("not ours", largeFile/8), stands["site/css/mine"])
	require.NoError(t, f.Rename(ctx, ".site.tartine/kept/bb/bb", "site/css/rock.css"))
	require.NoError(t, f.Push(ctx))
	require.Equal(t, "-rw-r--r-- "+rock, standingIn(t, dir)["site/css/rock.css"])
	require.Less(t, on.took, int64(50_000))
	// Another mode is more than a link can give it.
	require.NoError(t, f.SetAttr(ctx, "site/css/rock.css", fsys.Attributes{Mode: 0o755}))
	require.NoError(t, f.Push(ctx))
	require.Equal(t, "-rwxr-xr-x "+rock, standingIn(t, dir)["site/css/rock.css"])

	// Nor can one be made out of a mount.
	f.opt.Mounts = []string{"site/css"}
	before := on.took
	require.NoError(t, f.Rename(ctx, "site/css/rock.css", ".site.tartine/kept/bb/bb"))
	_, err = f.Put(ctx, "site/css/rock.css", strings.NewReader("h3 {}"), fsys.Attributes{Mode: 0o644})
	require.NoError(t, err)
	require.NoError(t, f.Push(ctx))
	require.Equal(t, "-rwxr-xr-x "+rock, standingIn(t, dir)[".site.tartine/kept/bb/bb"])
	require.Greater(t, on.took-before, int64(len(rock)))
}

// TestDigestsAreComputedOfTheBytesThatAreThere asks for those of one large file and of many.
func TestDigestsAreComputedOfTheBytesThatAreThere(t *testing.T) {
	dir := t.TempDir()
	someSite(t, dir)
	var names []string
	for i := range 2 * fewFiles {
		names = append(names, fmt.Sprintf("site/plate-%d.webp", i))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "srv", names[i]), bytes.Repeat([]byte{byte(i)}, largeFile), 0o644))
	}
	on := newShelf(t, dir)
	on.lazy = true
	f := openSite(t, on)
	defer f.Close()
	for _, asked := range [][]string{names[:1], names, names} {
		gave, told := on.gave, 0
		require.NoError(t, f.Digests(t.Context(), asked, func(i int, digest manifest.Digest) {
			require.Equal(t, manifest.Digest(sha256.Sum256(bytes.Repeat([]byte{byte(i)}, largeFile))), digest)
			told++
		}))
		require.Len(t, asked, told)
		require.LessOrEqual(t, on.gave, gave+2, "not one by one")
	}
	require.Equal(t, 2+1+2, on.gave, "each is read once")
	require.NoError(t, os.Remove(filepath.Join(dir, "srv", "site", "css", "rock.css")))
	require.ErrorIs(t, f.Digests(t.Context(), []string{"site/css/rock.css"}, nil), fs.ErrNotExist, "it went meanwhile")
}

func TestWhatCannotBeCarriedKeepsItsFolder(t *testing.T) {
	dir := t.TempDir()
	f := &FS{base: "/srv", there: map[string]standing{"site/old": {}}, changed: map[string]bool{"site/old": true}, odd: []string{"site/pipe"}}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "site"), 0o755))
	var err error
	f.local, err = osfs.Open(dir)
	require.NoError(t, err)
	_, err = f.pack(t.Context())
	require.ErrorContains(t, err, "holds site/pipe")
}
