package content

import (
	"io/fs"
	"syscall"
)

func changeTime(info fs.FileInfo) (ctime int64, inode uint64) {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		return stat.Ctim.Nano(), stat.Ino
	}
	return 0, 0
}
