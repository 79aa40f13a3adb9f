//go:build unix

package containerfs

import (
	"io"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// lockName is the file of a folder that is locked for as long as its program lives.
const lockName = "lock"

// claim says that a folder is in use, until what it returns is closed or the program ends in any way.
func claim(dir string) (io.Closer, error) {
	file, err := os.OpenFile(filepath.Join(dir, lockName), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// leftFor is how long a folder without a lock must have existed: a program may be just about to lock its own.
const leftFor = time.Minute

// sweep removes the folders that programs left which were killed, of the same user.
func sweep() {
	left, err := filepath.Glob(filepath.Join(os.TempDir(), folderPrefix+"*"))
	if err != nil {
		return
	}
	for _, dir := range left {
		info, err := os.Lstat(dir)
		if err != nil || !info.IsDir() || info.Mode().Perm() != 0o700 {
			continue
		}
		if stat, ok := info.Sys().(*syscall.Stat_t); !ok || int(stat.Uid) != os.Geteuid() {
			continue
		}
		file, err := os.OpenFile(filepath.Join(dir, lockName), os.O_RDWR|syscall.O_NOFOLLOW, 0)
		switch {
		case err != nil && time.Since(info.ModTime()) < leftFor:
			continue
		case err == nil:
			locked := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
			file.Close()
			if locked != nil {
				continue // its program lives
			}
		}
		_ = os.RemoveAll(dir) // the next run tries it again
	}
}
