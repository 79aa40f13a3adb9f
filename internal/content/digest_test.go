//go:build unix

package content

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestManyFilesAreRead has more files than are read before what was found out is put away.
func TestManyFilesAreRead(t *testing.T) {
	dir := t.TempDir()
	for i := range stretchFiles + 1200 {
		if i%1000 == 0 {
			require.NoError(t, os.Mkdir(filepath.Join(dir, fmt.Sprint(i/1000)), 0o755))
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprint(i/1000), fmt.Sprint(i)), fmt.Append(nil, i), 0o644))
	}
	cache := laterCache(t.TempDir())
	first := scan(t, Options{Cache: cache}, source(dir))
	require.Len(t, first.Entries(), stretchFiles+1200)
	for i := range first.Entries() {
		require.False(t, first.Entries()[i].Digest.IsZero(), first.Entries()[i].Path)
	}
	second := scan(t, Options{Cache: cache}, source(dir))
	require.Equal(t, stretchFiles+1200, second.CacheHits)
	require.Equal(t, first.Entries(), second.Entries())
}

// TestDigestsOfManyFoldersAreWrittenMeanwhile keeps few of them in memory: what is kept is the same, and nothing else stays.
func TestDigestsOfManyFoldersAreWrittenMeanwhile(t *testing.T) {
	files := map[string]string{}
	for i := range 400 {
		files[fmt.Sprintf("d%02d/e%d/f%03d", i%40, i%3, i)] = fmt.Sprint(i)
	}
	dir := tree(t, files)
	cache := laterCache(t.TempDir())
	cache.hold = 1000
	left := func() int {
		all, err := os.ReadDir(cache.dir)
		require.NoError(t, err)
		return len(all)
	}
	want := scan(t, Options{}, source(dir)).Entries()
	require.Equal(t, want, scan(t, Options{Cache: cache}, source(dir)).Entries())
	require.Equal(t, 1, left())
	again := scan(t, Options{Cache: cache}, source(dir))
	require.Equal(t, 400, again.CacheHits)
	require.Equal(t, want, again.Entries())
	for i := range 100 { // in some folders all, in others some
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("d%02d/e%d/f%03d", i%40, i%3, i)), []byte("other"), 0o644))
	}
	want = scan(t, Options{}, source(dir)).Entries()
	again = scan(t, Options{Cache: cache}, source(dir))
	require.Equal(t, 300, again.CacheHits)
	require.Equal(t, want, again.Entries())
	require.Equal(t, 400, scan(t, Options{Cache: cache}, source(dir)).CacheHits)

	require.NoError(t, os.WriteFile(filepath.Join(dir, "d00", "new"), nil, 0o644))
	ended, stop := context.WithCancel(t.Context())
	tomorrow := laterCache(cache.dir)
	tomorrow.hold, tomorrow.clock = 1000, func() time.Time { return time.Now().Add(25 * time.Hour) }
	_, err := Scan(ended, []Source{source(dir)}, Options{Links: KeepLinks, Cache: tomorrow, Read: func(int64) {
		require.Equal(t, 2, left(), "what was asked for on another day is written anew")
		stop()
	}})
	require.ErrorIs(t, err, context.Canceled)
	require.Equal(t, 1, left(), "a scan that was given up leaves nothing")

	old := filepath.Join(cache.dir, newPrefix+"of-a-run-that-was-killed")
	require.NoError(t, os.WriteFile(old, []byte("part"), 0o600))
	require.NoError(t, os.Chtimes(old, time.Time{}, time.Now().Add(-25*time.Hour)))
	scan(t, Options{Cache: cache}, source(dir))
	require.NoFileExists(t, old)
}
