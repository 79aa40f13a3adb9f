//go:build unix

package content

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// TestARememberedTreeIsWhatItWouldBe changes random sources from scan to scan: the tree digest is that of all that is there, whatever is
// remembered of it, and of the folders of which it is not said that an earlier tree may be another one there it is the same.
func TestARememberedTreeIsWhatItWouldBe(t *testing.T) {
	t.Parallel()
	gone, since := 0, 0
	rapid.Check(t, func(r *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(r, err)
		sources := []Source{source(filepath.Join(dir, "site")), source(filepath.Join(dir, "more"))}
		sources[1].Dest = "a"
		opt := Options{Links: KeepLinks, Fold: 1, Cache: laterCache(filepath.Join(dir, "cache"))}
		opt.Cache.inMemory = rapid.SampledFrom([]int{0, 1}).Draw(r, "in memory")
		name := rapid.SampledFrom([]string{"a", "a-b", "b"})
		write := func() {
			full := sources[rapid.IntRange(0, 1).Draw(r, "source")].Path
			for range rapid.IntRange(0, 3).Draw(r, "depth") {
				full = filepath.Join(full, name.Draw(r, "folder"))
			}
			require.NoError(r, os.MkdirAll(full, 0o755))
			file := filepath.Join(full, rapid.SampledFrom([]string{"1.svg", "2.svg", "z"}).Draw(r, "name"))
			if rapid.IntRange(0, 5).Draw(r, "goes") == 0 {
				_ = os.RemoveAll(file)
				return
			}
			require.NoError(r, os.WriteFile(file, []byte(rapid.StringN(0, 9, 9).Draw(r, "text")), 0o644))
		}
		for _, s := range sources {
			require.NoError(r, os.MkdirAll(s.Path, 0o755))
		}
		for range 12 {
			write()
		}
		outside := func(in map[string]bool, entries []manifest.Entry) (out []string) {
			for i := range entries {
				if dir, _ := fsys.Split(entries[i].Path); !in[dir] {
					out = append(out, fmt.Sprint(entries[i].Path, entries[i].Kind, entries[i].Digest))
				}
			}
			return out
		}
		earlier := map[manifest.Digest][]manifest.Entry{}
		var trees []manifest.Digest
		for range 4 {
			all, err := Scan(t.Context(), sources, Options{Links: KeepLinks})
			require.NoError(r, err)
			want := manifest.TreeOf(all.Content().Each)
			got, err := Scan(t.Context(), sources, opt)
			require.NoError(r, err)
			if f := got.folds; f != nil {
				of, known := f.prints(), readTrees(opt.Cache.treesOf(sources))
				k := f.goOn(of, known, func(*manifest.Entry) {})
				require.Equal(r, want, k.Tree)
				require.Equal(r, want, f.goOn(of, known, nil).Tree, "by a walk of what is behind the mark alone")
				if len(known) > 0 && len(known[0].Marks) > 0 && len(k.Marks) > 0 && k.Marks[0].Of == known[0].Marks[0].Of {
					gone++
				}
			}
			from := rapid.SampledFrom(append(trees, manifest.Digest{1})).Draw(r, "earlier")
			tree, in := got.Content().TreeSince(from, func(each manifest.Walk) { each(func(*manifest.Entry) bool { return true }) })
			require.Equal(r, want, tree)
			if in != nil {
				require.Equal(r, outside(in, earlier[from]), outside(in, all.Entries()))
				since++
			}
			require.Equal(r, want, got.Content().Tree(), "it is remembered")
			if _, again := got.Content().TreeSince(from, nil); tree != from {
				require.Equal(r, in, again)
			}
			trees, earlier[tree] = append(trees, tree), all.Entries()
			for range rapid.IntRange(0, 2).Draw(r, "changes") {
				write()
			}
		}
	})
	require.Positive(t, gone, "a digest was gone on with")
	require.Positive(t, since, "folders in which something changed were known")
}

// TestAFolderThatIsEmptiedMayChangeTheOneAbove takes away the last file of a folder, which has an entry of its own from then on.
func TestAFolderThatIsEmptiedMayChangeTheOneAbove(t *testing.T) {
	dir := tree(t, map[string]string{"index.html": "", "log/may/01.html": "1", "log/june/01.html": "1"})
	opt := Options{Links: KeepLinks, Fold: 1, Cache: laterCache(t.TempDir())}
	scanned := func(earlier manifest.Digest) (manifest.Digest, map[string]bool) {
		got, err := Scan(t.Context(), []Source{source(dir)}, opt)
		require.NoError(t, err)
		return got.Content().TreeSince(earlier, func(each manifest.Walk) { each(func(*manifest.Entry) bool { return true }) })
	}
	was, _ := scanned(manifest.Digest{})
	require.NoError(t, os.Remove(filepath.Join(dir, "log", "may", "01.html")))
	is, in := scanned(was)
	require.NotEqual(t, was, is)
	require.Equal(t, map[string]bool{".": true, "log": true, "log/may": true}, in)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "log", "may", "01.html"), []byte("1"), 0o644))
	again, in := scanned(is)
	require.Equal(t, was, again)
	require.Equal(t, map[string]bool{".": true, "log": true, "log/may": true}, in)
}

// TestATreeWithDigestsThatWereOpenIsNotRemembered has a file become another one that looks the same.
func TestATreeWithDigestsThatWereOpenIsNotRemembered(t *testing.T) {
	dir := tree(t, map[string]string{"plates/gannet.tif": "1", "index.html": ""})
	opt := Options{Links: KeepLinks, Fold: 1, Later: 1, Cache: laterCache(t.TempDir())}
	var before manifest.Digest
	for _, text := range []string{"1", "2"} {
		name := filepath.Join(dir, "plates", "gannet.tif")
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
		require.NoError(t, os.Chtimes(name, time.Unix(1777617015, 0), time.Unix(1777617015, 0)))
		got, err := Scan(t.Context(), []Source{source(dir)}, opt)
		require.NoError(t, err)
		c := got.Content()
		require.Equal(t, []string{"plates/gannet.tif"}, c.Later)
		require.NoError(t, c.Resolve(t.Context(), c.Later))
		require.True(t, c.Folded())
		require.NotEqual(t, before, c.Tree())
		before = c.Tree()
		require.Equal(t, manifest.TreeOf(c.Each), before)
	}
}

func TestATreeIsRememberedUnlessItsFileIsDamaged(t *testing.T) {
	dir := t.TempDir()
	files := map[string]string{}
	for i := range 40 {
		files[fmt.Sprintf("species/%02d/index.html", i)] = fmt.Sprint(i)
	}
	opt := Options{Links: KeepLinks, Fold: 1, Cache: laterCache(filepath.Join(dir, "cache"))}
	sources := []Source{source(tree(t, files))}
	scanned := func() *Content {
		got, err := Scan(t.Context(), sources, opt)
		require.NoError(t, err)
		return got.Content()
	}
	want := scanned().Tree()
	file := opt.Cache.treesOf(sources)
	known := readTrees(file)
	require.Len(t, known, 1)
	require.NotEmpty(t, known[0].Marks)
	known[0].Tree[0] ^= 1
	require.NoError(t, writeTrees(file, known))
	require.NotEqual(t, want, scanned().Tree(), "it is believed")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	text[len(text)/2] ^= 1
	require.NoError(t, os.WriteFile(file, text, 0o600))
	require.Equal(t, want, scanned().Tree(), "damage is noticed")

	known = readTrees(file) // marks that are none
	require.Len(t, known, 1)
	for i := range known[0].Marks {
		known[0].Marks[i].State = []byte("none")
	}
	known[0].Of[0] ^= 1
	require.NoError(t, writeTrees(file, known))
	require.Equal(t, want, scanned().Tree())

	for i := range 2 * mostTrees {
		require.NoError(t, os.WriteFile(filepath.Join(sources[0].Path, "index.html"), fmt.Append(nil, i), 0o644))
		scanned().Tree()
	}
	require.Len(t, readTrees(file), mostTrees)
}
