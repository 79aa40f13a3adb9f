package main

import (
	"os"
	"syscall"
)

// most gives how much memory a program took, in bytes.
func most(ended *os.ProcessState) int64 {
	return ended.SysUsage().(*syscall.Rusage).Maxrss << 10
}
