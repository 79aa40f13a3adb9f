//go:build unix

package content

import (
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
func scanLater(t *testing.T, dir string, cache *Cache, fold int) *Tree {
	t.Helper()
	cache.clock = func() time.Time { return time.Now().Add(time.Minute) } // the files are old enough to be remembered
	out, err := Scan(t.Context(), []Source{{Path: dir, Dest: ".", Rules: rules(t, nil, nil)}}, Options{Links: KeepLinks, Cache: cache, Later: 10, Fold: fold})
	require.NoError(t, err)
	require.Equal(t, fold > 0, out.isFolded())
	return out
}

func TestALargeFileIsLookedAtAndDigestedWhenItIsSent(t *testing.T) {
	inAListAndFoldedUp(t, testALargeFileIsDigestedWhenItIsSent)
}

func testALargeFileIsDigestedWhenItIsSent(t *testing.T, fold int) {
	dir := tree(t, map[string]string{"index.html": "short", "plate.tif": "a plate of a gannet", "b/birds.dat": "SQLite format 3\x00 and more"})
	cache := NewCache(t.TempDir())
	scanned := scanLater(t, dir, cache, fold)
	require.Equal(t, 0, scanned.CacheHits)
	require.Len(t, scanned.Findings, 1)
	require.Equal(t, "b/birds.dat", scanned.Findings[0].Path)
	c := scanned.Content()
	require.Equal(t, []string{"b/birds.dat", "plate.tif"}, c.Later)
	require.True(t, entryOf(c, "plate.tif").Digest.IsZero())

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

	c.Learned()
	require.Equal(t, digest, entryOf(c, "plate.tif").Digest)
	require.Equal(t, int64(len("a plate of a gannet")), entryOf(c, "plate.tif").Size)
	scanned = scanLater(t, dir, cache, fold)
	require.Equal(t, 2, scanned.CacheHits, "those that were sent, or read, are known from now on")
	c = scanned.Content()
	require.Equal(t, []string{"b/birds.dat"}, c.Later)
	require.NoError(t, c.Resolve(t.Context(), c.Later))
	require.Empty(t, c.Later)
	require.False(t, entryOf(c, "b/birds.dat").Digest.IsZero())
	require.Equal(t, fold > 0, c.Folded())
	require.Empty(t, scanLater(t, dir, cache, fold).Content().Later)
	require.Len(t, scanLater(t, dir, cache, fold).Findings, 1, "what was found out is remembered with it")
}

func TestAFileThatChangesWhileItIsSentTellsNoDigest(t *testing.T) {
	fold := 0
	dir := tree(t, map[string]string{"plate.tif": strings.Repeat("gannet ", 100)})
	c := scanLater(t, dir, NewCache(t.TempDir()), fold).Content()
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
	inAListAndFoldedUp(t, testAFileThatIsGoneIsNamed)
}

func testAFileThatIsGoneIsNamed(t *testing.T, fold int) {
	dir := tree(t, map[string]string{"plate.tif": strings.Repeat("gannet ", 100), "z.html": "z"})
	c := scanLater(t, dir, NewCache(t.TempDir()), fold).Content()
	require.NoError(t, os.Remove(filepath.Join(dir, "plate.tif")))
	require.NoError(t, c.Resolve(t.Context(), c.Later))
	require.Len(t, c.Failed, 1)
	require.Equal(t, "plate.tif", c.Failed[0].Path)
	require.Equal(t, 1, c.Len())
	require.Len(t, c.Entries(), 1)
	require.Equal(t, "z.html", c.Entries()[0].Path)
}
