package agent

import (
	"os"
	"runtime/debug"
	"strconv"
	"strings"
)

// limitFiles tell how much memory the control group allows in which a program runs, in bytes, in the second and in the
// first version of those (Linux, cgroups(7)).
var limitFiles = []string{"/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"}

// KeepBudget has the collector of memory that is no longer used keep this program below half of what its control group
// allows: the other half is for what the program maps and the system keeps of files.
func KeepBudget() {
	for _, name := range limitFiles {
		text, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		if limit, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil && limit > 0 &&
			limit < debug.SetMemoryLimit(-1) {
			debug.SetMemoryLimit(limit / 2)
		}
		return
	}
}
