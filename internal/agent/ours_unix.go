//go:build unix

package agent

import (
	"io/fs"
	"os"
	"syscall"
)

// isOurs tells whether a file belongs to the user as whom this program runs.
func isOurs(info fs.FileInfo) bool {
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Uid) == os.Geteuid()
}
