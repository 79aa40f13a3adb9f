//go:build unix

package sshconfig

import (
	"fmt"
	"os"
	"syscall"
)

// othersWrite tells why somebody else than the user and root can write a file.
func othersWrite(info os.FileInfo) string {
	owner, ok := info.Sys().(*syscall.Stat_t)
	if ok && owner.Uid != 0 && int(owner.Uid) != os.Getuid() {
		return fmt.Sprintf("belongs to the user number %d", owner.Uid)
	}
	if info.Mode().Perm()&0o022 != 0 {
		return fmt.Sprintf("can be written by others (mode %04o)", info.Mode().Perm())
	}
	return ""
}
