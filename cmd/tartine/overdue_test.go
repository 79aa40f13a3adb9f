//go:build linux

package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// longest is how long a program may run in a test.
const longest = 5 * time.Minute

// endOverdue ends each program below this one that runs for too long. It writes the stacks of its goroutines to where a
// test reads what it said, so that the test that waits for it fails and tells why.
func endOverdue() {
	seen := map[int]time.Time{}
	for range time.Tick(10 * time.Second) {
		running := descendants(os.Getpid())
		for pid := range seen {
			if !running[pid] {
				delete(seen, pid)
			}
		}
		for pid := range running {
			since, known := seen[pid]
			switch {
			case !known:
				seen[pid] = time.Now()
			case time.Since(since) > longest+time.Minute:
				_ = syscall.Kill(pid, syscall.SIGKILL)
			case time.Since(since) > longest:
				words, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
				fmt.Fprintf(os.Stderr, "process %d runs for more than %v: %s\n", pid, longest, bytes.ReplaceAll(words, []byte{0}, []byte{' '}))
				_ = syscall.Kill(pid, syscall.SIGCONT)
				_ = syscall.Kill(pid, syscall.SIGQUIT)
			}
		}
	}
}

// descendants gives the processes of this program that a process began, and that those began.
func descendants(of int) map[int]bool {
	parents, out := map[int]int{}, map[int]bool{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, name := range stats {
		text, err := os.ReadFile(name)
		if err != nil { // it has ended meanwhile
			continue
		}
		_, after, _ := strings.Cut(string(text), ") ") // the name before it may hold anything
		fields := strings.Fields(after)
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(name)))
		if len(fields) > 1 {
			parents[pid], _ = strconv.Atoi(fields[1])
		}
	}
	for pid := range parents {
		for above := parents[pid]; above > 1; above = parents[above] {
			if above != of {
				continue
			}
			if program, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid)); err == nil && strings.HasPrefix(filepath.Base(program), "tartine") {
				out[pid] = true
			}
			break
		}
	}
	return out
}
