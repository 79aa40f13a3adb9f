package osfs

import (
	"syscall"
	"time"

	"tartine/internal/fsys"
)

// fromStat gives what package os leaves to the system: when something changed, and whom it belongs to.
func fromStat(sys any) (changed time.Time, owner fsys.User, group uint32) {
	stat, ok := sys.(*syscall.Stat_t)
	if !ok {
		return changed, owner, 0
	}
	return time.Unix(stat.Ctim.Unix()), fsys.User{ID: stat.Uid, Known: true}, stat.Gid
}
