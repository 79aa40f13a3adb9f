package site

import "golang.org/x/sys/unix"

// world names the start of the system that this process runs on. There is one world of processes.
func world() (boot, space string) {
	boot, err := unix.Sysctl("kern.bootsessionuuid")
	if err != nil {
		return "", ""
	}
	return boot, ""
}
