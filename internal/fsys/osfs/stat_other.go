//go:build !linux && !darwin

package osfs

import (
	"time"

	"tartine/internal/fsys"
)

func fromStat(any) (changed time.Time, owner fsys.User, group uint32) { return changed, owner, 0 }
