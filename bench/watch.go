package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"
)

// quiet is for how long nothing must change before a watch deploys.
const quiet = 100 * time.Millisecond

// watch measures a watch of 10,000 files over SSH: from the end of a save to the new bytes at the far end, and what it takes
// while nothing happens.
func (b *bench) watch() (rows []row, err error) {
	tree := b.in("watched")
	if err := writePages(tree, b.scaled(10_000), 12<<10); err != nil {
		return nil, err
	}
	if err := b.clear(); err != nil {
		return nil, err
	}
	if _, err := b.deploy("watched", b.server.port, "ssh"); err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(b.ctx, b.program, "watch", fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", b.server.user,
		b.server.port, b.in("site")), "--source", tree, "--identity", b.in("identity"), "--fingerprint",
		b.server.fingerprint, "--ssh-config", "none", "--quiet")
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+b.in("cache"), "SSH_AUTH_SOCK=")
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	defer func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	}()
	round := 0
	save := func(files int) (time.Duration, error) {
		round++
		text := fmt.Appendf(nil, "<p>saved for the %d. time", round)
		for i := range files {
			if err := os.WriteFile(pageName(tree, i), text, 0o644); err != nil {
				return 0, err
			}
		}
		began := time.Now()
		return b.arrives(files, string(text), began)
	}
	if _, err := save(1); err != nil { // the watch has begun
		return nil, err
	}
	time.Sleep(3 * time.Second)
	var one []time.Duration
	for range b.runs {
		took, err := save(1)
		if err != nil {
			return nil, err
		}
		one = append(one, took-quiet)
	}
	slices.Sort(one)
	median := one[len(one)/2]
	rows = append(rows, row{"watch, 10,000 files: from the end of a save to the new bytes there, beyond the quiet time",
		fmt.Sprintf("%d ms", median.Milliseconds()), "60 ms", median.Seconds() / 0.060, 1})
	thousand, err := save(b.scaled(1000))
	if err != nil {
		return nil, err
	}
	before, err := processorTime(cmd.Process.Pid)
	if err != nil {
		return nil, err
	}
	const idle = 5 * time.Second
	time.Sleep(idle)
	after, err := processorTime(cmd.Process.Pid)
	if err != nil {
		return nil, err
	}
	share := (after - before).Seconds() / idle.Seconds()
	_ = cmd.Process.Signal(os.Interrupt)
	_ = cmd.Wait()
	for i := range b.scaled(1000) {
		if err := os.WriteFile(pageName(tree, i), []byte("<p>and once more"), 0o644); err != nil {
			return nil, err
		}
	}
	deploy, err := b.deploy("watched", b.server.port, "ssh")
	if err != nil {
		return nil, err
	}
	return append(rows, row{"watch: 1,000 files saved at once, beyond the quiet time", seconds(thousand - quiet),
		"deploy of the same, " + seconds(deploy.took), (thousand - quiet).Seconds() / deploy.took.Seconds(), 1},
		row{"watch: processor time while nothing changes", fmt.Sprintf("%.2f %%", 100*share), "1 % of a core", share / 0.01, 1}), nil
}

// arrives waits until the site has the text in as many files.
func (b *bench) arrives(files int, text string, began time.Time) (time.Duration, error) {
	for i := files - 1; i >= 0; i-- {
		for {
			there, err := os.ReadFile(pageName(b.in("site"), i))
			if err == nil && string(there) == text {
				break
			}
			if time.Since(began) > time.Minute {
				return 0, errors.New("what was saved does not arrive")
			}
			time.Sleep(time.Millisecond)
		}
	}
	return time.Since(began), nil
}

// processorTime gives how much a process has used.
func processorTime(pid int) (time.Duration, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	user, err := strconv.Atoi(fields[11])
	if err != nil {
		return 0, err
	}
	system, err := strconv.Atoi(fields[12])
	return time.Duration(user+system) * time.Second / 100, err // in hundredths, as the system counts
}
