package site_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys/fsystest"
	"tartine/internal/site"
)

// TestAMountIsEmptied is about other file systems below the root, which cannot be renamed, nor removed.
func TestAMountIsEmptied(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can make such a file")
	}
	anyPlace(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(gannet)
		mount := filepath.Join(w.dir, "www", "log", "shared")
		require.NoError(t, os.Mkdir(mount, 0o755))
		if err := syscall.Mount("tmpfs", mount, "tmpfs", 0, ""); err != nil {
			t.Skip("nothing can be mounted: ", err)
		}
		mount, err := filepath.EvalSymlinks(mount)
		require.NoError(t, err)
		defer func() { _ = syscall.Unmount(mount, syscall.MNT_DETACH) }()
		require.NoError(t, os.WriteFile(filepath.Join(mount, "counter"), []byte("1"), 0o644))
		there, err := w.wipe(site.Wiping{Trial: true})
		require.NoError(t, err)
		_, plain := w.between.FS.(fsystest.Plain)
		if plain { // which knows nothing of mounts
			return
		}
		require.Equal(t, []string{"log/shared"}, there.Mounts)
		gone, err := w.wipe(site.Wiping{})
		require.NoError(t, err)
		list, err := os.ReadDir(mount)
		require.NoError(t, err)
		require.Empty(t, list, "a mount is emptied, and stays")
		require.Empty(t, gone.Left)
		require.Equal(t, !w.switched, gone.RootStays)
		require.NoDirExists(t, filepath.Join(w.dir, ".www.tartine"))
	})
}
