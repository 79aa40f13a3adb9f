// Command mutants breaks promises on purpose: it makes one small wrong change after the other, each in a copy, and
// expects a named test to fail. A change that no test notices is a promise that no test keeps.
//
//	go run ./mutants             all of them
//	go run ./mutants -since REV  those in files that changed since a commit, or whose list did
//	go run ./mutants -only WORD  those whose promise has a word in it
//	go run ./mutants -within 2m  as many as can be tried in that time, in any order
//
// The list is mutants/list.txt. A change is made with go's -overlay, so the work tree stays as it is.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
)

// mutant is one wrong change.
type mutant struct {
	line    int
	promise string // that it breaks
	file    string
	old     string // stands once in the file
	new     string
	pack    string // the package whose tests notice
	test    string // the name of the test, or a pattern of several
}

// limit is how long one test may take to notice, once it is built. One that does not end has noticed nothing.
const limit = 100 * time.Second

func main() {
	since := flag.String("since", "", "only those in files that changed since this commit")
	only := flag.String("only", "", "only those whose promise has this in it")
	within := flag.Duration("within", 0, "begin no more of them after this time, and try them in any order; 0: try all")
	flag.Parse()
	if err := run(*since, *only, *within); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

func run(since, only string, within time.Duration) error {
	text, err := os.ReadFile("mutants/list.txt")
	if err != nil {
		return err
	}
	all, err := parse(string(text))
	if err != nil {
		return err
	}
	tests := map[string][]string{}
	for _, m := range all { // all of them, so that a list that is behind the code is seen at once
		if _, err := m.wrong(); err != nil {
			return fmt.Errorf("list.txt:%d: %w", m.line, err)
		}
		if err := m.isTested(tests); err != nil {
			return fmt.Errorf("list.txt:%d: %w", m.line, err)
		}
	}
	if since != "" {
		changed, err := changedSince(since)
		if err != nil {
			return err
		}
		all = slices.DeleteFunc(all, func(m mutant) bool { return !changed[m.file] && !changed["mutants/list.txt"] })
	}
	all = slices.DeleteFunc(all, func(m mutant) bool { return !strings.Contains(m.promise, only) })
	began, end := time.Now(), time.Time{}
	if within > 0 {
		end = began.Add(within)
		rand.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	}
	tried, survivors, err := tryAll(all, end)
	if err != nil {
		return err
	}
	fmt.Printf("%d of %d mutants tried, %d survived, in %s\n", tried, len(all), survivors,
		time.Since(began).Round(time.Second))
	if survivors > 0 {
		return errors.New("some promises are kept by no test")
	}
	return nil
}

// parse reads the list: blocks with an empty line between them, each
//
//	# the promise
//	FILE
//	- what stands there, which may have several lines
//	+ what is put in its place; none: it is taken out
//	! PACKAGE TEST
func parse(text string) (all []mutant, err error) {
	var m mutant
	var old, fresh []string
	for i, line := range strings.Split(text+"\n", "\n") {
		mark, rest, _ := strings.Cut(line, " ")
		switch mark {
		case "":
			continue
		case "#":
			m, old, fresh = mutant{line: i + 1, promise: rest}, nil, nil
		case "-":
			old = append(old, rest)
		case "+":
			fresh = append(fresh, rest)
		case "!":
			m.old, m.new = strings.Join(old, "\n"), strings.Join(fresh, "\n")
			var ok bool
			if m.pack, m.test, ok = strings.Cut(rest, " "); !ok || m.file == "" || m.old == "" {
				return nil, fmt.Errorf("list.txt:%d: the block of %q is not whole", i+1, m.promise)
			}
			all = append(all, m)
		default:
			m.file = line
		}
	}
	return all, nil
}

func changedSince(commit string) (map[string]bool, error) {
	out, err := exec.Command("git", "diff", "--name-only", commit).Output()
	if err != nil {
		return nil, fmt.Errorf("git diff --name-only %s: %w", commit, err)
	}
	changed := map[string]bool{}
	for name := range strings.FieldsSeq(string(out)) {
		changed[name] = true
	}
	return changed, nil
}

// tryAll tries mutants, two at once: each needs a processor to be built, and waits while its test does. After end,
// unless that is zero, it begins no more.
func tryAll(all []mutant, end time.Time) (tried, survivors int, err error) {
	dir, err := os.MkdirTemp("", "mutants")
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	var (
		mu      sync.Mutex
		working sync.WaitGroup
		queue   = make(chan mutant)
	)
	for range 2 {
		working.Go(func() {
			for m := range queue {
				began := time.Now()
				noticed, failed := try(dir, m)
				took := time.Since(began).Seconds()
				mu.Lock()
				switch {
				case failed != nil:
					err = errors.Join(err, fmt.Errorf("list.txt:%d: %w", m.line, failed))
				case !noticed:
					survivors++
					fmt.Printf("SURVIVED  %4.0f s  %s  (%s, %s %s)\n", took, m.promise, m.file, m.pack, m.test)
				default:
					fmt.Printf("noticed   %4.0f s  %s\n", took, m.promise)
				}
				mu.Unlock()
			}
		})
	}
	for _, m := range all {
		if !end.IsZero() && time.Now().After(end) {
			break
		}
		queue <- m
		tried++
	}
	close(queue)
	working.Wait()
	return tried, survivors, err
}

// wrong gives the file with the wrong change in it.
func (m *mutant) wrong() ([]byte, error) {
	source, err := os.ReadFile(m.file)
	if err != nil {
		return nil, err
	}
	if n := strings.Count(string(source), m.old); n != 1 {
		return nil, fmt.Errorf("what is to be changed is found %d times in %s", n, m.file)
	}
	return []byte(strings.Replace(string(source), m.old, m.new, 1)), nil
}

var testName = regexp.MustCompile(`(?m)^func (Test\w+)\(`)

// isTested fails where no test has a name that is expected to notice. Tests has those of each package that was read.
func (m *mutant) isTested(tests map[string][]string) (err error) {
	if tests[m.pack] == nil {
		if tests[m.pack], err = testsOf(m.pack); err != nil {
			return err
		}
	}
	top, _, _ := strings.Cut(m.test, "/") // the rest is about the tests within
	pattern, err := regexp.Compile(top)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(tests[m.pack], pattern.MatchString) {
		return fmt.Errorf("there is no test %s in %s", m.test, m.pack)
	}
	return nil
}

// testsOf gives the names of the tests of a package.
func testsOf(pack string) (out []string, err error) {
	files, err := filepath.Glob(filepath.Join(pack, "*_test.go"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		for _, found := range testName.FindAllStringSubmatch(string(text), -1) {
			out = append(out, found[1])
		}
	}
	return out, nil
}

// try makes one wrong change and tells whether its test fails. A change that does not build is an error of the list.
func try(dir string, m mutant) (noticed bool, err error) {
	text, err := m.wrong()
	if err != nil {
		return false, err
	}
	changed := filepath.Join(dir, fmt.Sprintf("%d.go", m.line))
	if err := os.WriteFile(changed, text, 0o600); err != nil {
		return false, err
	}
	here, err := filepath.Abs(m.file)
	if err != nil {
		return false, err
	}
	overlay := filepath.Join(dir, fmt.Sprintf("%d.json", m.line))
	text, err = json.Marshal(map[string]any{"Replace": map[string]string{here: changed}})
	if err != nil {
		return false, err
	}
	if err := os.WriteFile(overlay, text, 0o600); err != nil {
		return false, err
	}
	binary := filepath.Join(dir, fmt.Sprintf("%d.test", m.line))
	if out, err := exec.Command("go", "test", "-c", "-vet=off", "-overlay", overlay, "-o", binary,
		m.pack).CombinedOutput(); err != nil {
		return false, fmt.Errorf("the change in %s does not build: %s", m.file, out)
	}
	defer os.Remove(binary)
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, "-test.failfast", "-test.run", m.test)
	cmd.Dir = m.pack
	cmd.Env = append(os.Environ(), "GOFLAGS="+os.Getenv("GOFLAGS")+" -overlay="+overlay) // for what tests build
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	switch {
	case ctx.Err() != nil:
		return false, nil
	case strings.Contains(string(out), "no tests to run"):
		return false, fmt.Errorf("there is no test %s in %s", m.test, m.pack)
	}
	return err != nil, nil
}
