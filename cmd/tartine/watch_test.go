//go:build linux

package main

import (
	"bufio"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/sshdtest"
)

// watch is the program that watches.
type watch struct {
	t     *testing.T
	dir   string
	cmd   *exec.Cmd
	lines chan string
	ended chan struct{}
	mu    sync.Mutex
	said  strings.Builder // on both of its outputs
}

func startWatch(t *testing.T, dir string, args ...string) *watch {
	w := &watch{t: t, dir: dir, lines: make(chan string, 100), ended: make(chan struct{})}
	w.cmd = exec.Command("tartine", append([]string{"watch"}, args...)...)
	w.cmd.Dir = dir
	w.cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(dir, ".cache"), "SSH_AUTH_SOCK=")
	r, out, err := os.Pipe()
	require.NoError(t, err)
	w.cmd.Stdout, w.cmd.Stderr = out, out
	require.NoError(t, w.cmd.Start())
	out.Close()
	go func() {
		for scan := bufio.NewScanner(r); scan.Scan(); {
			w.mu.Lock()
			w.said.WriteString(scan.Text() + "\n")
			w.mu.Unlock()
			w.lines <- scan.Text()
		}
		close(w.ended)
	}()
	t.Cleanup(func() { _ = w.cmd.Process.Kill() })
	return w
}

// waitFor waits for a line that holds a text.
func (w *watch) waitFor(text string) string {
	w.t.Helper()
	limit := time.After(20 * time.Second)
	for {
		select {
		case line := <-w.lines:
			if strings.Contains(line, text) {
				return line
			}
		case <-limit:
			w.mu.Lock()
			defer w.mu.Unlock()
			require.Failf(w.t, "it never says "+text, "%s", w.said.String())
		}
	}
}

// stop interrupts it, and gives its exit status.
func (w *watch) stop() int {
	w.t.Helper()
	require.NoError(w.t, w.cmd.Process.Signal(os.Interrupt))
	for ended := false; !ended; {
		select {
		case <-w.lines: // what nobody waited for
		case <-w.ended:
			ended = true
		case <-time.After(time.Minute):
			_ = w.cmd.Process.Signal(syscall.SIGQUIT)
		}
	}
	_ = w.cmd.Wait()
	return w.cmd.ProcessState.ExitCode()
}

func (w *watch) write(name, text string) {
	w.t.Helper()
	full := filepath.Join(w.dir, name)
	require.NoError(w.t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(w.t, os.WriteFile(full, []byte(text), 0o644))
}

func (w *watch) tartine(args ...string) string {
	w.t.Helper()
	cmd := exec.Command("tartine", args...)
	cmd.Dir, cmd.Env = w.dir, w.cmd.Env
	out, err := cmd.CombinedOutput()
	require.NoError(w.t, err, "%s", out)
	return string(out)
}

// TestWatchOverSSH saves, moves, removes, breaks and cuts while a watch goes on, with an agent and over SFTP.
func TestWatchOverSSH(t *testing.T) {
	t.Parallel()
	server := sshdtest.Start(t)
	user := sshdtest.Users(t)[0]
	for _, scheme := range []string{"ssh", "sftp"} {
		t.Run(scheme, func(t *testing.T) {
			dir, root := t.TempDir(), sshdtest.Folder(t, user)+"/"+scheme
			settings := fmt.Sprintf("content: [{source: public}]\ntargets: {rock: {url: \"%s://%s@127.0.0.1:%d%s\", host_key: %q, identity: %s}}\n",
				scheme, user, server.Port, root, server.Fingerprint, server.Identity)
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "public"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "public", "index.html"), []byte("<h1>"), 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "tartine.yaml"), []byte(settings), 0o644))
			before := exec.Command("tartine", "deploy")
			before.Dir, before.Env = dir, append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(dir, ".cache"), "SSH_AUTH_SOCK=")
			out, err := before.CombinedOutput()
			require.NoError(t, err, "%s", out)

			w := startWatch(t, dir, "--yes")
			w.waitFor("watching")
			w.write("public/css/site.css", "h1 {}")
			require.Contains(t, w.waitFor("css/site.css"), " ms")
			for i := range 300 {
				w.write(fmt.Sprintf("log/%03d.html", i), "<p>")
			}
			require.NoError(t, os.Rename(filepath.Join(dir, "log"), filepath.Join(dir, "public", "log")))
			w.waitFor("log/000.html, log/001.html, log/002.html and 297 more")
			require.NoError(t, os.Rename(filepath.Join(dir, "public", "log"), filepath.Join(dir, "public", "2026")))
			require.Contains(t, w.waitFor("and 297 more"), "removed log/000.html")
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "public", "2026")))
			w.waitFor("removed 2026/000.html")

			w.write("tartine.yaml", settings+"exclude: 7x: [\n")
			w.waitFor("tartine.yaml:3")
			w.write("public/draft.txt", "still sent: the settings from before hold")
			w.waitFor("draft.txt")
			w.write("tartine.yaml", settings+"exclude: [\"draft.txt\"]\n")
			w.waitFor("settings changed")
			w.waitFor("removed draft.txt")

			// The server ends every connection of its own.
			require.NoError(t, exec.Command("pkill", "-P", strconv.Itoa(server.Process())).Run())
			w.write("public/after.html", "sent when the connection is open again")
			w.waitFor("after.html")
			require.Zero(t, w.stop(), "a clean stop")

			history := w.tartine("history")
			require.Contains(t, history, "watched, ")
			require.Equal(t, 2, strings.Count(history, "\n")-3, "the watch is one deployment: %s", history)
			w.tartine("verify")
			require.Contains(t, w.tartine("rollback", "--yes"), "deployment 1")
			require.Contains(t, w.tartine("diff"), "new")
		})
	}
}

// TestWatchIsInterruptedWhileItSends ends with the status of a deployment that was cut, and the next one finishes.
func TestWatchIsInterruptedWhileItSends(t *testing.T) {
	t.Parallel()
	server := sshdtest.Start(t)
	user := sshdtest.Users(t)[0]
	dir, far := t.TempDir(), sshdtest.Folder(t, user)
	w := &watch{t: t, dir: dir}
	w.write("tartine.yaml", fmt.Sprintf("content: [{source: public}]\ntargets: {rock: {url: \"ssh://%s@127.0.0.1:%d%s/www\", host_key: %q, identity: %s}}\n",
		user, server.Port, far, server.Fingerprint, server.Identity))
	w.write("public/index.html", "<h1>")
	w = startWatch(t, dir, "--format", "json", "--limit-rate", "100kB/s")
	line := w.waitFor(`"paths":["index.html"]`)
	var round struct {
		Deployment int
		Verified   bool
		Paths      []string
	}
	require.NoError(t, json.Unmarshal([]byte(line), &round))
	require.Equal(t, 1, round.Deployment)
	require.True(t, round.Verified)

	require.NoError(t, w.cmd.Process.Signal(syscall.SIGSTOP)) // what is saved meanwhile is sent when it wakes up
	w.write("fresh/a.css", "a")
	w.write("fresh/index.html", "<h2>")
	require.NoError(t, os.Rename(filepath.Join(dir, "fresh"), filepath.Join(dir, "public", "fresh"))) // in one step
	require.NoError(t, w.cmd.Process.Signal(syscall.SIGCONT))
	w.waitFor(`"paths":["fresh/a.css","fresh/index.html"]`)

	plates := make([]byte, 3<<20)
	_, _ = rand.Read(plates)
	w.write("public/plates.bin", string(plates))
	staged := filepath.Join(far, ".www.tartine", "incoming", "*", "*")
	require.Eventually(t, func() bool {
		found, _ := filepath.Glob(staged)
		return len(found) > 0
	}, 10*time.Second, 5*time.Millisecond)
	require.Equal(t, 130, w.stop(), "a deployment was cut")
	require.NoFileExists(t, filepath.Join(far, "www", "plates.bin"))
	require.Contains(t, w.tartine("deploy"), "deployed")
	w.tartine("verify")
}
