//go:build unix

package containerfs

import (
	"io/fs"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// onDisk gives how many bytes the files below a folder take, holes left out.
func onDisk(t *testing.T, dir string) (bytes int64) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(name string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() {
			return err
		}
		var stat syscall.Stat_t
		if err := syscall.Lstat(name, &stat); err != nil {
			return err
		}
		bytes += stat.Blocks * 512
		return nil
	}))
	return bytes
}
