//go:build unix

package engine

import (
	"os"
	"os/user"
	"strconv"
	"syscall"
)

// groupOf gives the group that may use a socket; empty: it cannot be found out, or none may.
func groupOf(file string) string {
	info, err := os.Stat(file)
	if err != nil || info.Mode()&0o060 != 0o060 {
		return ""
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	id := strconv.FormatUint(uint64(stat.Gid), 10)
	if group, err := user.LookupGroupId(id); err == nil {
		return group.Name
	}
	return id
}
