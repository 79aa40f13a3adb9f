//go:build linux

package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/cli"
	"tartine/internal/demo"
	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/fsys/redial"
	"tartine/internal/testservers/ftptest"
	"tartine/internal/testservers/sshdtest"
)

// victim is the program, with something between it and the site that, at the n-th operation, kills it or the server
// that it talks to. An operation is anything that is asked of the file system there, and the middle of each file.
func victim() {
	at, err := strconv.ParseInt(os.Getenv("KILL_AT"), 10, 64)
	if err != nil {
		panic(err)
	}
	server, _ := strconv.Atoi(os.Getenv("KILL_SERVER")) // 0: the program itself
	var count, since atomic.Int64
	once := os.Getenv("KILL_ONCE_THERE") // a file: it is killed at the second operation after that has come
	tick := func() {
		there := false
		if once != "" {
			_, err := os.Stat(once)
			there = err == nil && since.Add(1) == 2
		}
		if count.Add(1) != at && !there {
			return
		}
		if server == 0 {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
		killChildren(server)
	}
	between := func(f fsys.FS) fsys.FS {
		return &fsystest.Between{FS: f,
			Before: func(string, ...string) error { tick(); return nil },
			Cut: func(_ string, content io.Reader) io.Reader {
				return &inTheMiddle{in: content, tick: tick}
			}}
	}
	status := cli.Run(context.Background(), cli.Build{Version: "victim", Between: between}, os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
	if report := os.Getenv("COUNT_TO"); report != "" {
		if err := os.WriteFile(report, []byte(strconv.FormatInt(count.Load(), 10)), 0o644); err != nil {
			panic(err)
		}
	}
	os.Exit(status)
}

// inTheMiddle hands content on in two halves, so to speak: a few bytes first, then an operation, then the rest.
type inTheMiddle struct {
	in   io.Reader
	tick func()
	half bool
}

// Resume goes on from an offset, as an operation does whose line was lost.
func (r *inTheMiddle) Resume(from int64) error {
	r.half = false
	if resumer, ok := r.in.(redial.Resumer); ok {
		return resumer.Resume(from)
	}
	seeker, ok := r.in.(io.Seeker)
	if !ok {
		return fs.ErrInvalid
	}
	_, err := seeker.Seek(from, io.SeekStart)
	return err
}

func (r *inTheMiddle) Read(p []byte) (int, error) {
	if !r.half {
		r.half = true
		return r.in.Read(p[:min(len(p), 100)])
	}
	r.tick()
	return r.in.Read(p)
}

// killChildren kills what a process has started, and what that has.
func killChildren(parent int) {
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", parent))
	for _, task := range tasks {
		text, _ := os.ReadFile(task)
		for child := range strings.FieldsSeq(string(text)) {
			if id, err := strconv.Atoi(child); err == nil {
				killChildren(id)
				_ = syscall.Kill(id, syscall.SIGKILL)
			}
		}
	}
}

// editions is a site in two editions that share hardly a page: in the second the style sheet has another name.
type editions struct {
	dir    string               // holds one and two, as folders of content
	states [2]map[string]string // path to content, as deployed
}

func makeEditions(t *testing.T) *editions {
	e := &editions{dir: t.TempDir()}
	for i, name := range []string{"one", "two"} {
		root := filepath.Join(e.dir, name, "site") // of one name: the same sources, at two times
		require.NoError(t, os.Mkdir(filepath.Dir(root), 0o755))
		unpacked := t.TempDir()
		require.NoError(t, demo.Unpack(unpacked))
		require.NoError(t, os.Rename(filepath.Join(unpacked, "site"), root))
		require.NoError(t, os.MkdirAll(filepath.Join(root, "img"), 0o755))
		require.NoError(t, os.Rename(filepath.Join(unpacked, "plates"), filepath.Join(root, "img", "plates")))
		if i == 1 {
			e.makeSecond(t, root)
		}
		e.states[i] = readTree(t, root)
	}
	return e
}

func (e *editions) makeSecond(t *testing.T, root string) {
	require.NoError(t, os.Rename(filepath.Join(root, "css", "rock.css"), filepath.Join(root, "css", "rock-2.css")))
	require.NoError(t, os.WriteFile(filepath.Join(root, "img", "plates", "puffin.svg"), []byte("<svg>another puffin</svg>"), 0o644))
	require.NoError(t, os.RemoveAll(filepath.Join(root, "tides", "2026-01.json")))
	require.NoError(t, os.WriteFile(filepath.Join(root, "tides", "large.bin"), bytes.Repeat([]byte("tide"), 100_000), 0o644))
	for name := range readTree(t, root) {
		if strings.HasSuffix(name, ".html") {
			full := filepath.Join(root, name)
			page, err := os.ReadFile(full)
			require.NoError(t, err)
			text := strings.ReplaceAll(string(page), "css/rock.css", "css/rock-2.css")
			text = strings.ReplaceAll(text, `<a href="tides/2026-01.json">JSON</a>`, `<a href="tides/large.bin">all</a>`)
			require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
		}
	}
}

func readTree(t *testing.T, root string) map[string]string {
	out := map[string]string{}
	if real, err := filepath.EvalSymlinks(root); err == nil {
		root = real // the root of a switched site is a link
	}
	require.NoError(t, filepath.WalkDir(root, func(name string, entry os.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() { // the editions have no links; a link that waits to be put in place is none of theirs
			return err
		}
		content, err := os.ReadFile(name)
		relative, _ := filepath.Rel(root, name)
		out[filepath.ToSlash(relative)] = string(content)
		return err
	}))
	return out
}

var reference = regexp.MustCompile(`(?:href|src)="([^"]+)"`)

// checkVisible fails when a visitor could meet anything but whole files of one of the editions, or a page whose
// pictures or styles are not there.
func (e *editions) checkVisible(t *testing.T, root string, what string) {
	stands := readTree(t, root)
	for name, content := range stands {
		if content != e.states[0][name] && content != e.states[1][name] {
			t.Fatalf("%s: %s is neither old nor new", what, name)
		}
		if !strings.HasSuffix(name, ".html") {
			continue
		}
		for _, match := range reference.FindAllStringSubmatch(content, -1) {
			if to := path.Join(path.Dir(name), match[1]); stands[to] == "" {
				t.Fatalf("%s: %s refers to %s, which is not there", what, name, to)
			}
		}
	}
}

// attack is one way to deploy the second edition over the first and be killed on the way.
type attack struct {
	*editions
	folder string // where the site is, on this machine
	target string
	flags  []string
	server int  // the process whose children are killed; 0: the program is
	lasts  bool // the run that is attacked goes on by itself
}

func (a *attack) root() string { return filepath.Join(a.folder, "gannet") }

func (a *attack) run(t *testing.T, program string, env []string, args ...string) (stdout string, err error) {
	cmd := exec.Command(program, append(args, a.flags...)...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Dir = a.dir
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err = cmd.Run()
	if err != nil {
		err = fmt.Errorf("%w: %s%s", err, out.String(), errs.String())
	}
	return out.String(), err
}

// reset puts the first edition in place, as deployed.
func (a *attack) reset(t *testing.T, pristine string) {
	for _, name := range siteNames {
		require.NoError(t, os.RemoveAll(filepath.Join(a.folder, name)))
	}
	copyAll(t, pristine, a.folder)
}

// siteNames is what a site and its record are in.
var siteNames = []string{"gannet", ".gannet.tartine", ".gannet.trees"}

func copyAll(t *testing.T, from, to string) {
	for _, name := range siteNames {
		if _, err := os.Lstat(filepath.Join(from, name)); err == nil {
			out, err := exec.Command("cp", "-a", filepath.Join(from, name), to).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	}
}

// at kills at one operation, or after some time, and tells whether anything was killed. Then it looks at the ruins and
// has the next run complete them.
func (a *attack) at(t *testing.T, pristine string, n int64, after time.Duration) bool {
	a.reset(t, pristine)
	what := fmt.Sprintf("killed at operation %d", n)
	var (
		err   error
		early bool // before a connection was open
	)
	if n > 0 {
		env := []string{fmt.Sprint("KILL_AT=", n), fmt.Sprint("KILL_SERVER=", a.server)}
		_, err = a.run(t, "tartine-victim", env, "deploy", "--source", "two/site", a.target)
	} else {
		what = fmt.Sprint("killed after ", after)
		cmd := exec.Command("tartine", append([]string{"deploy", "--source", "two/site", a.target}, a.flags...)...)
		cmd.Dir = a.dir
		var said bytes.Buffer
		cmd.Stderr = &said
		require.NoError(t, cmd.Start())
		timer := time.AfterFunc(after, func() {
			if a.server != 0 {
				killChildren(a.server)
			} else {
				_ = cmd.Process.Kill()
			}
		})
		err = cmd.Wait()
		timer.Stop()
		if a.lasts && err != nil { // only what had begun goes on
			require.NotContains(t, said.String(), "the connection was lost", what)
			require.Equal(t, 3, cmd.ProcessState.ExitCode(), "%s: %s", what, &said)
			early = true
		}
	}
	killed := err != nil
	a.checkVisible(t, a.root(), what)
	if a.lasts && !early {
		require.NoError(t, err, what)
		require.Equal(t, a.states[1], readTree(t, a.root()), what)
		killed = true
	}
	whole := a.staged(t)
	if a.target == "rock" {
		whole = 0 // what was staged may be in a tree that is not finished
	}

	out, err := a.run(t, "tartine", nil, "deploy", "--source", "two/site", "--format", "json", a.target)
	require.NoError(t, err, what)
	var result struct {
		Sent         int `json:"sent_files"`
		New, Changed int
	}
	require.NoError(t, json.Unmarshal([]byte(out), &result), what)
	require.LessOrEqual(t, result.Sent, max(result.New+result.Changed-whole, 0), "%s: %d files were staged, and some of them sent again", what, whole)
	require.Equal(t, a.states[1], readTree(t, a.root()), what)
	_, err = a.run(t, "tartine", nil, "verify", a.target)
	require.NoError(t, err, what)
	return killed
}

// staged counts the files that are staged whole.
func (a *attack) staged(t *testing.T) (whole int) {
	for name, content := range readTree(t, filepath.Join(a.folder, ".gannet.tartine", "incoming")) {
		if base := path.Base(name); digestOf(content) == base {
			whole++
		}
	}
	return whole
}

func digestOf(content string) string {
	sum := sha256.Sum256([]byte(content))
	return hex.EncodeToString(sum[:])
}

// prepare deploys the first edition, keeps a copy of it, and counts the operations of deploying the second.
func (a *attack) prepare(t *testing.T) (pristine string, operations int64) {
	_, err := a.run(t, "tartine", nil, "deploy", "--source", "one/site", a.target)
	require.NoError(t, err)
	pristine = t.TempDir()
	copyAll(t, a.folder, pristine)
	counted := filepath.Join(t.TempDir(), "count")
	_, err = a.run(t, "tartine-victim", []string{"KILL_AT=-1", "COUNT_TO=" + counted}, "deploy", "--source", "two/site", a.target)
	require.NoError(t, err)
	text, err := os.ReadFile(counted)
	require.NoError(t, err)
	operations, err = strconv.ParseInt(string(text), 10, 64)
	require.NoError(t, err)
	return pristine, operations
}

// storm attacks at as many operations as asked, evenly spread, and at as many random times.
func (a *attack) storm(t *testing.T, points, random int) (killed int) {
	pristine, operations := a.prepare(t)
	step := (operations + int64(points) - 1) / int64(points)
	for n := int64(1); n <= operations; n += step {
		if a.at(t, pristine, n, 0) {
			killed++
		}
	}
	for range random {
		if a.at(t, pristine, 0, time.Duration(rand.Int64N(int64(60*time.Millisecond)))) {
			killed++
		}
	}
	return killed
}

// TestKilledAnywhere is the proof of the promise that the site is whole whatever happens.
func TestKilledAnywhere(t *testing.T) {
	local, switched, remote, random := 96, 32, 12, 12
	if testing.Short() {
		local, switched, remote, random = 6, 4, 1, 1
	}
	t.Parallel()
	e := makeEditions(t)
	var total atomic.Int64
	t.Run("points", func(t *testing.T) {
		points := func(where string, storm func(t *testing.T) int) {
			t.Run(where, func(t *testing.T) {
				t.Parallel()
				killed := storm(t)
				t.Logf("%d points", killed)
				total.Add(int64(killed))
			})
		}
		points("in a folder, the program", func(t *testing.T) int {
			folder := t.TempDir()
			a := &attack{editions: e, folder: folder, target: filepath.Join(folder, "gannet")}
			return a.storm(t, local, random)
		})
		points("in a folder, by a switch, the program", func(t *testing.T) int {
			folder := t.TempDir()
			settings := filepath.Join(folder, "switch.yaml")
			require.NoError(t, os.WriteFile(settings, []byte("targets: {rock: {url: gannet, publish: switch}}\n"), 0o644))
			a := &attack{editions: e, folder: folder, target: "rock", flags: []string{"--config", settings}}
			return a.storm(t, switched, 0)
		})
		user := sshdtest.Users(t)[0]
		for _, who := range []string{"program", "server's process", "server's process, with a line that is opened again"} {
			points("over SSH, the "+who, func(t *testing.T) int {
				a := overSSH(t, e, user)
				if who == "program" {
					a.server = 0
				}
				if a.lasts = strings.Contains(who, "again"); who == "server's process" {
					a.flags = append(a.flags, "--reconnect", "0")
				}
				return a.storm(t, remote, 0)
			})
		}
		for _, who := range []string{"program", "agent, with a line that is opened again"} {
			points("with an agent at the far end, the "+who, func(t *testing.T) int {
				a := overSSH(t, e, user)
				if a.lasts = who != "program"; !a.lasts {
					a.server = 0
				}
				_, err := a.run(t, "tartine", nil, "deploy", "--source", "one/site", a.target)
				require.NoError(t, err)
				pristine := t.TempDir()
				copyAll(t, a.folder, pristine)
				for range random {
					a.at(t, pristine, 0, time.Duration(rand.Int64N(int64(400*time.Millisecond))))
				}
				return random
			})
		}
		if testing.Short() {
			return
		}
		hosts := map[string]func(t *testing.T) *ftptest.Server{
			"ProFTPD": func(t *testing.T) *ftptest.Server {
				return ftptest.Start(t, append(ftptest.TLS(t), ftptest.Digests...)...)
			},
			"vsftpd":    func(t *testing.T) *ftptest.Server { return ftptest.StartVsftpd(t, ftptest.VsftpdTLS...) },
			"pure-ftpd": func(t *testing.T) *ftptest.Server { return ftptest.StartPure(t, ftptest.PureTLS...) },
		}
		kills := int(many(t, "KILLS", 3))
		for name, start := range hosts {
			for _, who := range []string{"program", "server's processes, with lines that are opened again"} {
				points("at "+name+", the "+who, func(t *testing.T) int { return killedOverFTP(t, e, start(t), who != "program", kills) })
			}
		}
	})
	t.Logf("%d points in all, and the site was whole at each of them", total.Load())
	if !testing.Short() {
		require.GreaterOrEqual(t, total.Load(), int64(200))
	}
}

// overSSH is an attack on a site at a server of its own, whose processes are killed.
func overSSH(t *testing.T, e *editions, user string) *attack {
	server, folder := sshdtest.Start(t), sshdtest.Folder(t, user)
	return &attack{editions: e, folder: folder, target: fmt.Sprintf("ssh://%s@127.0.0.1:%d%s/gannet", user, server.Port, folder),
		flags: []string{"--identity", server.Identity, "--known-hosts", server.KnownHosts}, server: server.Process()}
}

// killedOverFTP kills the program, or the server's processes, which the program bears.
func killedOverFTP(t *testing.T, e *editions, server *ftptest.Server, lasts bool, points int) int {
	settings := filepath.Join(t.TempDir(), "rented.yaml")
	text := fmt.Sprintf("targets: {rented: {url: \"ftps://%s@127.0.0.1:%d/gannet\", password: {env: ROCK_PASSWORD}, certificate: %q, jobs: 4}}\n", ftptest.User, server.Port, server.Certificate)
	require.NoError(t, os.WriteFile(settings, []byte(text), 0o644))
	a := &attack{editions: e, folder: server.Dir, target: "rented", flags: []string{"--config", settings}, lasts: lasts}
	if lasts {
		a.server = server.Process
	}
	return a.storm(t, points, 0)
}

// TestCutAfterSoManyBytes has the line to the server cut after n bytes, for many n.
func TestCutAfterSoManyBytes(t *testing.T) {
	points := 12
	if testing.Short() {
		points = 2
	}
	t.Parallel()
	e := makeEditions(t)
	server := sshdtest.Start(t)
	user := sshdtest.Users(t)[0]
	folder := sshdtest.Folder(t, user)
	target := func(port int) string { return fmt.Sprintf("ssh://%s@127.0.0.1:%d%s/gannet", user, port, folder) }
	a := &attack{editions: e, folder: folder, target: target(server.Port), flags: []string{"--identity", server.Identity, "--fingerprint", server.Fingerprint}}
	pristine, _ := a.prepare(t)
	const all = 520_000 // bytes of the second edition and what carries them, about
	cut := 0
	for i := range points {
		after := int64(all) * int64(i+1) / int64(points)
		what := fmt.Sprintf("cut after %d bytes", after)
		a.reset(t, pristine)
		port, stop := cutAfter(t, server.Port, after)
		lasts := i%2 == 0 && after > 440_000 // enough for the largest file to pass
		args := []string{"deploy", "--source", "two/site", target(port)}
		if !lasts {
			args = append(args, "--reconnect", "0")
		}
		_, err := a.run(t, "tartine", nil, args...)
		stop()
		if lasts {
			require.NoError(t, err, what)
			require.Equal(t, a.states[1], readTree(t, a.root()), what)
		}
		if err != nil {
			cut++
			require.Contains(t, err.Error(), "exit status 3", what)
		}
		a.checkVisible(t, a.root(), what)
		_, err = a.run(t, "tartine", nil, "deploy", "--source", "two/site", a.target)
		require.NoError(t, err, what)
		require.Equal(t, a.states[1], readTree(t, a.root()), what)
	}
	t.Logf("%d of %d runs were cut", cut, points)
	require.GreaterOrEqual(t, cut, points/3)
}

// cutAfter leads to a port and cuts each connection once so many bytes have gone there.
func cutAfter(t *testing.T, to int, limit int64) (port int, stop func()) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go lead(l, strconv.Itoa(to), limit)
	return l.Addr().(*net.TCPAddr).Port, func() { l.Close() }
}
