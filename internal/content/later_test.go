//go:build unix

package content

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys"
)

// scanLater scans a folder, whose files of ten bytes and more keep their digests open.
func scanLater(t *testing.T, dir string, cache *Cache) *Tree {
	t.Helper()
	cache.clock = func() time.Time { return time.Now().Add(time.Minute) } // the files are old enough to be remembered
	out, err := Scan(t.Context(), []Source{{Path: dir, Dest: ".", Rules: rules(t, nil, nil)}}, Options{Links: KeepLinks, Cache: cache, Later: 10})
	require.NoError(t, err)
	return out
}

func TestALargeFileIsLookedAtAndDigestedWhenItIsSent(t *testing.T) {
	dir := tree(t, map[string]string{"index.html": "short", "plate.tif": "a plate of a gannet", "b/birds.dat": "SQLite format 3\x00 and more"})
	cache := NewCache(t.TempDir())
	scanned := scanLater(t, dir, cache)
	require.Equal(t, 0, scanned.CacheHits)
	require.Len(t, scanned.Findings, 1)
	require.Equal(t, "b/birds.dat", scanned.Findings[0].Path)
	c := scanned.Content()
	require.Equal(t, []string{"b/birds.dat", "plate.tif"}, c.Later)
	at, _ := scanned.Find("plate.tif")
	require.True(t, c.Entries()[at].Digest.IsZero())

	file, err := c.Open("plate.tif")
	require.NoError(t, err)
	_, known := file.(fsys.Digested).Digest()
	require.False(t, known, "it was not read")
	_, err = io.Copy(io.Discard, struct{ io.Reader }{file})
	require.NoError(t, err)
	digest, known := file.(fsys.Digested).Digest()
	require.True(t, known)
	_, err = file.(io.Seeker).Seek(7, io.SeekStart) // a connection was lost, and its far end has the beginning
	require.NoError(t, err)
	rest, err := io.ReadAll(file)
	require.NoError(t, err)
	require.Equal(t, " of a gannet", string(rest))
	again, known := file.(fsys.Digested).Digest()
	require.True(t, known)
	require.Equal(t, digest, again, "it is that of all of it")
	require.NoError(t, file.Close())

	c.Entries()[at].Digest = digest
	c.Learned()
	scanned = scanLater(t, dir, cache)
	require.Equal(t, 2, scanned.CacheHits, "those that were sent, or read, are known from now on")
	c = scanned.Content()
	require.Equal(t, []string{"b/birds.dat"}, c.Later)
	require.NoError(t, c.Resolve(t.Context(), c.Later))
	require.Empty(t, c.Later)
	at, _ = scanned.Find("b/birds.dat")
	require.False(t, c.Entries()[at].Digest.IsZero())
	require.Empty(t, scanLater(t, dir, cache).Content().Later)
	require.Len(t, scanLater(t, dir, cache).Findings, 1, "what was found out is remembered with it")
}

func TestAFileThatChangesWhileItIsSentTellsNoDigest(t *testing.T) {
	dir := tree(t, map[string]string{"plate.tif": strings.Repeat("gannet ", 100)})
	c := scanLater(t, dir, NewCache(t.TempDir())).Content()
	file, err := c.Open("plate.tif")
	require.NoError(t, err)
	defer file.Close()
	_, err = io.ReadFull(file, make([]byte, 100))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "plate.tif"), []byte(strings.Repeat("puffin ", 100)), 0o644))
	_, err = io.Copy(io.Discard, struct{ io.Reader }{file})
	require.NoError(t, err)
	_, known := file.(fsys.Digested).Digest()
	require.False(t, known)
}

func TestAFileThatIsGoneWhenItsDigestIsWantedIsNamed(t *testing.T) {
	dir := tree(t, map[string]string{"plate.tif": strings.Repeat("gannet ", 100), "z.html": "z"})
	c := scanLater(t, dir, NewCache(t.TempDir())).Content()
	require.NoError(t, os.Remove(filepath.Join(dir, "plate.tif")))
	require.NoError(t, c.Resolve(t.Context(), c.Later))
	require.Len(t, c.Failed, 1)
	require.Equal(t, "plate.tif", c.Failed[0].Path)
	require.Len(t, c.Entries(), 1)
	require.Equal(t, "z.html", c.Entries()[0].Path)
}

// TestInALargeTreeOnlyWhatIsWorthAListKeepsItsDigestOpen has a tree that could stay folded up, and such in which a list is made in any case.
func TestInALargeTreeOnlyWhatIsWorthAListKeepsItsDigestOpen(t *testing.T) {
	files := map[string]string{"small.tif": strings.Repeat("x", 100), "large.tif": strings.Repeat("gannet", 20_000)}
	for i := range 18 {
		files[fmt.Sprintf("page-%d.html", i)] = "h1"
	}
	dir := tree(t, files)
	for _, c := range []struct {
		fold int
		open []string
	}{{0, []string{"large.tif", "small.tif"}}, {1, []string{"large.tif"}}, {100, []string{"large.tif", "small.tif"}}} {
		out, err := Scan(t.Context(), []Source{{Path: dir, Dest: ".", Rules: rules(t, nil, nil)}}, Options{Links: KeepLinks, Later: 100, Fold: c.fold})
		require.NoError(t, err)
		require.Equal(t, c.open, out.Content().Later, c.fold)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "large.tif"), []byte(strings.Repeat("x", 1000)), 0o644))
	out, err := Scan(t.Context(), []Source{{Path: dir, Dest: ".", Rules: rules(t, nil, nil)}}, Options{Links: KeepLinks, Later: 100, Fold: 1})
	require.NoError(t, err)
	require.True(t, out.Content().Folded(), "nothing is worth a list")
	require.Empty(t, out.Content().Later)
}
