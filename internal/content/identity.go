package content

import (
	"fmt"
	"io/fs"
	"math"
	"time"
)

// identity is the facts by which a file is known to be the same as it was: if all are equal, so are its bytes.
type identity struct {
	size, mtime, ctime int64 // bytes; nanoseconds since 1970
	inode              uint64
}

// facts is what a look-up tells of a name.
type facts struct {
	mode fs.FileMode
	id   identity
}

func factsOf(info fs.FileInfo) facts { return facts{info.Mode(), identify(info)} }

func identify(info fs.FileInfo) identity {
	id := identity{size: info.Size(), mtime: info.ModTime().UnixNano()}
	if info.ModTime().IsZero() {
		id.mtime = noTime
	}
	id.ctime, id.inode = changeTime(info)
	return id
}

// modTime gives the time of a file; zero: it has none, as what comes from some places.
func (id identity) modTime() time.Time {
	if id.mtime == noTime {
		return time.Time{}
	}
	return time.Unix(0, id.mtime).UTC()
}

// noTime is in the place of a time that is not known.
const noTime = math.MinInt64

// Identity gives facts by which a file is known to be the same as it was, as a text; empty where it changed too shortly
// before now to tell.
func Identity(info fs.FileInfo) string {
	id := identify(info)
	if !id.settled(time.Now().UnixNano()) {
		return ""
	}
	return fmt.Sprintf("%d %d %d %d", id.size, id.mtime, id.ctime, id.inode)
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
	return changed != noTime && readAt-changed > step
}
