package site

import (
	"os"
	"strings"
)

// world names the start of the system that this process runs on, and in which world of processes (PID namespace) its
// number counts. Only of processes that share both can be told by their number whether they live.
func world() (boot, space string) {
	text, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "", ""
	}
	space, err = os.Readlink("/proc/self/ns/pid")
	if err != nil {
		return "", ""
	}
	return strings.TrimSpace(string(text)), space
}
