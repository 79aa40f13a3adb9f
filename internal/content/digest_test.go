//go:build unix

package content

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestManyFilesAreRead has more files than are read before what was found out is put away.
func TestManyFilesAreRead(t *testing.T) {
	dir := t.TempDir()
	for i := range stretchFiles + 100 {
		if i%1000 == 0 {
			require.NoError(t, os.Mkdir(filepath.Join(dir, fmt.Sprint(i/1000)), 0o755))
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprint(i/1000), fmt.Sprint(i)), fmt.Append(nil, i), 0o644))
	}
	cache := laterCache(t.TempDir())
	first := scan(t, Options{Cache: cache}, source(dir))
	require.Len(t, first.Entries(), stretchFiles+100)
	for i := range first.Entries() {
		require.False(t, first.Entries()[i].Digest.IsZero(), first.Entries()[i].Path)
	}
	second := scan(t, Options{Cache: cache}, source(dir))
	require.Equal(t, stretchFiles+100, second.CacheHits)
	require.Equal(t, first.Entries(), second.Entries())
}
