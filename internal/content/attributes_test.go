package content_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/content"
	"tartine/internal/filter"
	"tartine/internal/manifest"
)

// TestAFolderHasItsOwnModeAndAnOwner: what is said of a folder does not take the mode from it that its source gives it.
func TestAFolderHasItsOwnModeAndAnOwner(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "log"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "log", "2026.txt"), []byte("gannets"), 0o644))
	require.NoError(t, os.Chmod(filepath.Join(dir, "log"), 0o700))
	rule, err := filter.NewRule("log/", "test")
	require.NoError(t, err)
	tree, err := content.Scan(t.Context(), []content.Source{{Path: dir, Dest: ".", Rules: &filter.Set{}}}, content.Options{Links: content.KeepLinks, KeepModes: true,
		Attributes: []content.Attribute{{Rule: rule, Folders: true, User: "web"}}})
	require.NoError(t, err)
	require.Equal(t, manifest.Attributes{Mode: 0o700, Owner: &manifest.Owner{User: "web"}}, tree.Entries()[0].Attributes)
	require.Empty(t, tree.Collisions)
}

// TestAttributesOfPaths: the later one wins for each of owner, group and mode; modes of files and of folders are apart.
func TestAttributesOfPaths(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"index.html", "cgi/tide.sh", "cgi/lib/a.sh", "log/2026.txt"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o644))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "empty"), 0o755))
	require.NoError(t, os.Symlink("index.html", filepath.Join(dir, "home.html")))
	rule := func(pattern string) *filter.Rule {
		r, err := filter.NewRule(pattern, "test")
		require.NoError(t, err)
		return r
	}
	mode := func(m fs.FileMode) *fs.FileMode { return &m }
	tree, err := content.Scan(t.Context(), []content.Source{{Path: dir, Dest: "www", Rules: &filter.Set{}}}, content.Options{Links: content.KeepLinks, Attributes: []content.Attribute{
		{Rule: rule("*.html"), User: "web"},
		{Rule: rule("www/cgi/"), Folders: true, Mode: mode(0o750), User: "cgi", Group: "cgi"},
		{Rule: rule("www/cgi/**"), Mode: mode(0o700)},
		{Rule: rule("www/cgi/lib/"), Folders: true, Group: "lib"},
	}})
	require.NoError(t, err)
	got := map[string]string{}
	for _, e := range tree.Entries() {
		owner := ""
		if e.Owner != nil {
			owner = " " + e.Owner.String()
		}
		got[e.Path] = e.Kind.String() + " " + e.Mode.String() + owner
	}
	require.Equal(t, map[string]string{
		"www/cgi": "folder -rwxr-x--- cgi:cgi", "www/cgi/lib": "folder -rwxr-xr-x cgi:lib", "www/cgi/lib/a.sh": "file -rwx------ cgi:lib",
		"www/cgi/tide.sh": "file -rwx------ cgi:cgi", "www/empty": "folder -rwxr-xr-x", "www/home.html": "link ----------",
		"www/index.html": "file -rw-r--r-- web:", "www/log/2026.txt": "file -rw-r--r--",
	}, got)
	require.NoError(t, manifest.Check(tree.Entries()))
	at, found := tree.Find("www/cgi/lib/a.sh")
	require.True(t, found)
	file, err := tree.Open(at)
	require.NoError(t, err)
	file.Close()
}
