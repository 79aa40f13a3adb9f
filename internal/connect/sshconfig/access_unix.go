//go:build unix

package sshconfig

import (
	"fmt"
	"os"
	"syscall"
)

// OthersWrite tells why somebody else than the user and the system's administrator can write a file; empty: nobody can.
func OthersWrite(_ string, info os.FileInfo) string {
	owner, ok := info.Sys().(*syscall.Stat_t)
	if ok && owner.Uid != 0 && int(owner.Uid) != os.Getuid() {
		return fmt.Sprintf("belongs to the user number %d", owner.Uid)
	}
	if info.Mode().Perm()&0o022 != 0 {
		return fmt.Sprintf("can be written by others (mode %04o)", info.Mode().Perm())
	}
	return ""
}

// OthersRead tells why a private key is not private: others have rights to its file; empty: nobody has.
func OthersRead(_ string, info os.FileInfo) string {
	if info.Mode().Perm()&0o077 != 0 {
		return fmt.Sprintf("can be read by others (mode %04o)", info.Mode().Perm())
	}
	return ""
}
