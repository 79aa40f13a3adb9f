//go:build unix

package osfs

import (
	"errors"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
)

// Who implements fsys.Onlooker.
func (f *FS) Who() string {
	own, err := user.Current()
	if err != nil {
		return strconv.Itoa(os.Geteuid())
	}
	if group, err := user.LookupGroupId(own.Gid); err == nil {
		return own.Username + ", group " + group.Name
	}
	return own.Username
}

// The permission to read, and to enter a folder, for others.
const mayRead, mayEnter = 4, 1

// Shut implements fsys.Onlooker. Access lists beside the permission bits are not looked at.
func (f *FS) Shut(name, at string) (path string, known bool) {
	who, err := user.Lookup(name)
	if err != nil {
		return "", false
	}
	groups, err := who.GroupIds()
	if err != nil {
		groups = []string{who.Gid}
	}
	may := func(path string, what uint32) bool {
		info, err := os.Stat(path)
		if err != nil {
			return errors.Is(err, fs.ErrNotExist) // it is made like those that exist
		}
		stat, ok := info.Sys().(*syscall.Stat_t)
		bits := uint32(info.Mode().Perm())
		switch {
		case !ok || who.Uid == "0":
			return true
		case strconv.Itoa(int(stat.Uid)) == who.Uid:
			bits >>= 6
		case slices.Contains(groups, strconv.Itoa(int(stat.Gid))):
			bits >>= 3
		}
		return bits&what == what
	}
	full, err := filepath.Abs(filepath.Join(f.root.Name(), at))
	if err != nil {
		return "", true
	}
	if real, err := filepath.EvalSymlinks(full); err == nil {
		full = real
	}
	if !may(full, mayRead|mayEnter) {
		path = full
	}
	for dir := filepath.Dir(full); ; dir = filepath.Dir(dir) {
		if !may(dir, mayEnter) {
			path = dir
		}
		if dir == filepath.Dir(dir) {
			return path, true
		}
	}
}
