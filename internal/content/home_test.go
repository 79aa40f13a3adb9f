package content

import (
	"crypto/sha256"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/filter"
	"tartine/internal/manifest"
)

// TestWhatComesHomeIsChecked writes into a source, and leaves it as it was where the bytes are not those that were meant.
func TestWhatComesHomeIsChecked(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.html"), []byte("here"), 0o644))
	one := filepath.Join(t.TempDir(), "guide.txt")
	require.NoError(t, os.WriteFile(one, []byte("guide"), 0o644))
	tree, err := Scan(t.Context(), []Source{{Path: dir, Dest: "www", Rules: &filter.Set{}}, {Path: one, Dest: ".", Rules: &filter.Set{}}}, Options{})
	require.NoError(t, err)
	take := func(path, meant, brought string) error {
		home, err := tree.Home(path, false, Options{})
		require.NoError(t, err)
		e := &manifest.Entry{Path: path, Size: int64(len(meant)), Digest: sha256.Sum256([]byte(meant)), Attributes: manifest.Attributes{Mode: 0o640}}
		return home.Take(t.Context(), e, func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(brought)), nil })
	}
	require.ErrorContains(t, take("www/index.html", "there", "else"), "changed at the site")
	text, err := os.ReadFile(filepath.Join(dir, "index.html"))
	require.NoError(t, err)
	require.Equal(t, "here", string(text))
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, list, 1, "nothing is left of it")

	require.NoError(t, take("www/index.html", "there", "there"))
	require.NoError(t, take("www/log/may.html", "new", "new"))
	require.NoError(t, take("guide.txt", "other", "other"))
	for name, want := range map[string]string{filepath.Join(dir, "index.html"): "there", filepath.Join(dir, "log", "may.html"): "new", one: "other"} {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		require.Equal(t, want, string(text))
		info, err := os.Stat(name)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o644), info.Mode().Perm(), "as a scan takes it")
	}
	for path, why := range map[string]string{"other.txt": "no source", "../x": "not a path of this machine"} {
		_, err := tree.Home(path, false, Options{})
		var none *NoHomeError
		require.ErrorAs(t, err, &none)
		require.Contains(t, none.Reason, why)
	}
	home, err := tree.Home("www/log/may.html", false, Options{})
	require.NoError(t, err)
	require.NoError(t, home.Drop("www/log/may.html", func(string) bool { return false }))
	require.NoDirExists(t, filepath.Join(dir, "log"), "a folder that is empty then goes, too")
	require.DirExists(t, dir)
}
