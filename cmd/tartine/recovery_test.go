//go:build linux

package main

import (
	"bytes"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys/fsystest"
	"tartine/internal/testservers/sshdtest"
)

// mortal is a place whose program, or whose agent, is killed at an operation of the far end's file system.
type mortal struct {
	t        *testing.T
	dir, far string
	scheme   string
}

func newMortal(t *testing.T, server *sshdtest.Server, scheme string, switched bool) *mortal {
	m := &mortal{t: t, dir: t.TempDir(), far: sshdtest.Folder(t, "root"), scheme: scheme}
	settings := fmt.Sprintf("content: [{source: content}]\nguard: {allow: [\"**\"]}\ntargets: {rock: {url: \"%s://root@127.0.0.1:%d%s/site\", identity: %s, host_key: %q", scheme, server.Port, m.far, server.Identity, server.Fingerprint)
	if switched {
		settings += ", publish: switch"
	}
	if scheme == "ssh" {
		victim, err := exec.LookPath("tartine-victim")
		require.NoError(t, err)
		script := fmt.Sprintf("#!/bin/sh\nread KILL_AT <%s/at; export KILL_AT\nexec %s \"$@\"\n", m.dir, victim)
		require.NoError(t, os.WriteFile(m.dir+"/agent", []byte(script), 0o755))
		settings += ", agent: " + m.dir + "/agent"
	}
	require.NoError(t, os.WriteFile(m.dir+"/tartine.yaml", []byte(settings+"}}\n"), 0o644))
	return m
}

// run runs the program; at an operation (-1: none) it, or its agent, is killed.
func (m *mortal) run(at int, args ...string) (killed bool, said string) {
	program, env := "tartine-victim", "KILL_AT="+strconv.Itoa(at)
	if m.scheme == "ssh" {
		program, env = "tartine", ""
		require.NoError(m.t, os.WriteFile(m.dir+"/at", []byte(strconv.Itoa(at)+"\n"), 0o644))
	}
	cmd := exec.Command(program, append(args, "--reconnect", "0")...)
	cmd.Dir = m.dir
	cmd.Env = append(os.Environ(), "SSH_AUTH_SOCK=", "XDG_CACHE_HOME="+m.dir+"/.cache", env)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	return cmd.Run() != nil, out.String()
}

// content makes a tree the content.
func (m *mortal) content(tree fsystest.Tree) error {
	root := m.dir + "/content"
	if err := os.RemoveAll(root); err != nil {
		return err
	}
	if err := os.Mkdir(root, 0o755); err != nil {
		return err
	}
	for path, text := range tree {
		full := filepath.Join(root, path)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		target, isLink := strings.CutPrefix(text, "->")
		var err error
		switch {
		case isLink:
			err = os.Symlink(target, full)
		case strings.HasSuffix(path, "/"):
			err = os.Mkdir(full, 0o755)
		default:
			err = os.WriteFile(full, []byte(text), 0o644)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// stands reads the tree of the site.
func (m *mortal) stands() (fsystest.Tree, error) {
	out := fsystest.Tree{}
	root, err := filepath.EvalSymlinks(m.far + "/site")
	if err != nil {
		return out, err
	}
	return out, filepath.WalkDir(root, func(name string, entry fs.DirEntry, err error) error {
		path, _ := filepath.Rel(root, name)
		if err != nil || path == "." {
			return err
		}
		switch {
		case entry.IsDir():
			if list, err := os.ReadDir(name); err != nil || len(list) == 0 {
				out[path+"/"] = ""
				return err
			}
			return nil
		case entry.Type()&fs.ModeSymlink != 0:
			target, err := os.Readlink(name)
			out[path] = "->" + target
			return err
		}
		text, err := os.ReadFile(name)
		out[path] = string(text)
		return err
	})
}

// recoveryCase deploys, is killed in the next deployment, perhaps in its recovery, too, and says what is wrong with what comes of it.
func (m *mortal) recoveryCase(random *rand.Rand) (killed bool, err error) {
	for _, name := range []string{"site", ".site.tartine", ".site.trees"} {
		if err := os.RemoveAll(filepath.Join(m.far, name)); err != nil {
			return false, err
		}
	}
	one, two := fsystest.SwappingTree(random), fsystest.SwappingTree(random)
	if err := m.content(one); err != nil {
		return false, err
	}
	if failed, said := m.run(-1, "deploy", "--yes"); failed {
		return false, fmt.Errorf("first deployment of %v: %s", one, said)
	}
	if err := m.content(two); err != nil {
		return false, err
	}
	killed, _ = m.run(20+random.IntN(90), "deploy", "--yes")
	for range random.IntN(3) {
		m.run(1+random.IntN(60), "verify")
	}
	if failed, said := m.run(-1, "deploy", "--yes"); failed {
		return killed, fmt.Errorf("%v after %v: %s", two, one, said)
	}
	stands, err := m.stands()
	if err == nil && !maps.Equal(stands, two) {
		err = fmt.Errorf("%v after %v: %v stands", two, one, stands)
	}
	if failed, said := m.run(-1, "verify"); failed && err == nil {
		err = fmt.Errorf("%v after %v: %s", two, one, said)
	}
	return killed, err
}

// many gives how often something is tried: as often as a variable of the environment says, else as usual.
func many(t *testing.T, variable string, usual int64) int64 {
	t.Helper()
	text := os.Getenv(variable)
	if text == "" {
		return usual
	}
	count, err := strconv.ParseInt(text, 10, 64)
	require.NoError(t, err)
	return count
}

// TestRecoveryOfAnythingOverSSH kills the program over SFTP, and the agent over SSH. RECOVERY_CASES says how often.
func TestRecoveryOfAnythingOverSSH(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("many processes")
	}
	cases := many(t, "RECOVERY_CASES", 24)
	server := sshdtest.Start(t)
	var (
		next, killed atomic.Int64
		working      sync.WaitGroup
	)
	for _, scheme := range []string{"ssh", "sftp"} {
		for _, switched := range []bool{false, true} {
			m := newMortal(t, server, scheme, switched)
			working.Go(func() {
				for seed := next.Add(1); seed <= cases && !t.Failed(); seed = next.Add(1) {
					died, err := m.recoveryCase(rand.New(rand.NewPCG(uint64(seed), 2)))
					if died {
						killed.Add(1)
					}
					if err != nil {
						t.Errorf("seed %d, %s, switched %v: %v", seed, scheme, switched, err)
					}
				}
			})
		}
	}
	working.Wait()
	t.Logf("%d cases, killed in %d", cases, killed.Load())
	require.Greater(t, killed.Load(), cases/3)
}
