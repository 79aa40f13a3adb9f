package site_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys/osfs"
	"tartine/internal/site"
)

func TestABeaconTakesNobodysName(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "www"), 0o755))
	f, err := osfs.Open(dir)
	require.NoError(t, err)
	s, err := site.Open(t.Context(), f, "www", filepath.Join(dir, "www"), site.Options{})
	require.NoError(t, err)
	name := "tartine-" + strings.Repeat("a", 26) + ".txt"
	for range 2 { // the connection may be lost before the answer is here
		require.NoError(t, s.PutBeacon(t.Context(), name, "here"))
	}
	require.ErrorIs(t, s.PutBeacon(t.Context(), name, "there"), fs.ErrExist)
	for _, wrong := range []string{"index.html", "../" + name, "tartine-x.txt", "a/" + name, ""} {
		require.ErrorIs(t, s.PutBeacon(t.Context(), wrong, "x"), fs.ErrInvalid)
		require.ErrorIs(t, s.RemoveBeacon(t.Context(), wrong), fs.ErrInvalid)
	}
	require.ErrorIs(t, s.PutBeacon(t.Context(), name, strings.Repeat("x", 300)), fs.ErrInvalid)
	for range 2 {
		require.NoError(t, s.RemoveBeacon(t.Context(), name))
	}
	require.NoFileExists(t, filepath.Join(dir, "www", name))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "www", name)))
	require.Error(t, s.PutBeacon(t.Context(), name, "here"), "a link is in its place")
}
