package osfs

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// IsMount tells whether another file system, or another part of one, begins at a folder: nothing can be renamed from
// beside it into it.
func IsMount(name string) bool { return !sameMount(name, filepath.Dir(name)) }

// sameMount tells whether two paths lie in one mount, as far as is known.
func sameMount(a, b string) bool {
	x, y := mountOf(a), mountOf(b)
	return x == y || x == 0 || y == 0
}

// mountOf gives the number of the mount in which a path lies; 0: unknown, as before Linux 5.8.
func mountOf(name string) uint64 {
	var found unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, name, 0, unix.STATX_MNT_ID, &found); err != nil ||
		found.Mask&unix.STATX_MNT_ID == 0 {
		return 0
	}
	return found.Mnt_id
}

// Mounts implements fsys.Mounter.
func (f *FS) Mounts(context.Context) ([]string, error) {
	base, err := filepath.Abs(f.root.Name())
	if err == nil {
		base, err = filepath.EvalSymlinks(base)
	}
	if err != nil {
		return nil, err
	}
	table, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil, nil // it is not told here
	}
	var out []string
	for line := range strings.Lines(string(table)) {
		fields := strings.Fields(line)
		if len(fields) < 5 {
			continue
		}
		at := unescape(fields[4])
		if below, err := filepath.Rel(base, at); err == nil && below != ".." && !strings.HasPrefix(below, "../") {
			out = append(out, below)
		}
	}
	return out, nil
}

// unescape reads a name of the table of mounts, in which blanks are octal numbers (proc_pid_mountinfo(5)).
func unescape(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+3 < len(text) {
			if c, err := strconv.ParseUint(text[i+1:i+4], 8, 8); err == nil {
				out.WriteByte(byte(c))
				i += 3
				continue
			}
		}
		out.WriteByte(text[i])
	}
	return out.String()
}
