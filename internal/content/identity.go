package content

import (
	"io/fs"
)

// identity is the facts by which a file is known to be the same as it was: if all are equal, so are its bytes.
type identity struct {
	size, mtime, ctime int64 // bytes; nanoseconds since 1970
	inode              uint64
}

func identify(info fs.FileInfo) identity {
	id := identity{size: info.Size(), mtime: info.ModTime().UnixNano()}
	id.ctime, id.inode = changeTime(info)
	return id
}

// settled tells whether any later change of the file must show in its identity. A file that was changed just before
// its bytes were read could be changed again within the same step of the file system's clock, which goes by as much
// as two seconds.
func (id identity) settled(readAt int64) bool {
	const step = 2e9
	changed := id.ctime
	if changed == 0 {
		changed = id.mtime
	}
	return readAt-changed > step
}
