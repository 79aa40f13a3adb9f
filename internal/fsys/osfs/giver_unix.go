//go:build unix

package osfs

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"slices"
	"strconv"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Numbers implements fsys.Giver.
func (f *FS) Numbers(owner manifest.Owner) (uid, gid int, err error) {
	if known, is := f.numbers.Load(owner); is {
		n := known.(Owner)
		return n.User, n.Group, nil
	}
	uid, gid = -1, -1
	if owner.User != "" {
		if uid, err = strconv.Atoi(owner.User); err != nil {
			found, failed := user.Lookup(owner.User)
			if failed != nil {
				return -1, -1, fmt.Errorf("there is no user %q", owner.User)
			}
			uid, err = strconv.Atoi(found.Uid)
		}
	}
	if owner.Group != "" && err == nil {
		if gid, err = strconv.Atoi(owner.Group); err != nil {
			found, failed := user.LookupGroup(owner.Group)
			if failed != nil {
				return -1, -1, fmt.Errorf("there is no group %q", owner.Group)
			}
			gid, err = strconv.Atoi(found.Gid)
		}
	}
	if err == nil && (uid < -1 || gid < -1 || uid > mostID || gid > mostID) {
		err = fs.ErrInvalid
	}
	if err == nil {
		f.numbers.Store(owner, Owner{uid, gid})
	}
	return uid, gid, err
}

// mostID is the largest number of a user or a group.
const mostID = 1<<32 - 2

// MayGive implements fsys.Giver. Only the administrator may give to another user; whoever owns a file may give it to
// the groups that they are in.
func (f *FS) MayGive(uid, gid int) error {
	self := os.Geteuid()
	if self == 0 {
		return nil
	}
	if uid >= 0 && uid != self {
		return errors.New("only the system's administrator may give files to another user")
	}
	groups, err := os.Getgroups()
	if err == nil && gid >= 0 && gid != os.Getegid() && !slices.Contains(groups, gid) {
		return errors.New("whoever writes there is not in that group")
	}
	return err
}

// give gives something to the owner that attributes name.
func (f *FS) give(attr fsys.Attributes, chown func(uid, gid int) error) error {
	if attr.Owner == nil {
		return nil
	}
	uid, gid, err := f.Numbers(*attr.Owner)
	if err != nil {
		return err
	}
	return chown(uid, gid)
}
