package osfs_test

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys/osfs"
	"tartine/internal/lanehash"
	"tartine/internal/manifest"
)

// TestEachFileIsDigestedInOnePass has files of all sizes digested, of which none is left to be read by itself.
func TestEachFileIsDigestedInOnePass(t *testing.T) {
	dir := t.TempDir()
	f, err := osfs.Open(dir)
	require.NoError(t, err)
	var names []string
	want := map[string]manifest.Digest{}
	for i := range 300 {
		size := i * 131
		if i%50 == 7 {
			size = lanehash.Longest + i - 57
		}
		content := make([]byte, size)
		for k := range content {
			content[k] = byte(k*i + k>>8)
		}
		name := fmt.Sprintf("d%d/f%03d", i/40, i)
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), content, 0o644))
		names, want[name] = append(names, name), sha256.Sum256(content)
	}
	var mu sync.Mutex
	got := map[string]manifest.Digest{}
	require.NoError(t, f.Hash(t.Context(), append(names, "missing", "d0"), func(i int, digest manifest.Digest) {
		mu.Lock()
		defer mu.Unlock()
		got[names[i]] = digest
	}))
	require.Equal(t, want, got)
}
