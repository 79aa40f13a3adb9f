package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"
)

// bench is a running measurement.
type bench struct {
	options
	ctx    context.Context
	dir    string
	server *server

	measured []ofSize // see bySize
}

func newBench(ctx context.Context, opt options) (*bench, error) {
	parent := "/dev/shm"
	if info, err := os.Stat(parent); err != nil || !info.IsDir() {
		parent = ""
	}
	dir, err := os.MkdirTemp(parent, "bench")
	if err != nil {
		return nil, err
	}
	s, err := startServer(dir)
	if err != nil {
		return nil, err
	}
	b := &bench{options: opt, ctx: ctx, dir: dir, server: s}
	if err := writePages(b.in("one"), 1, 1); err != nil {
		return nil, err
	}
	_, err = b.first("one", s.port, "ssh")() // which puts the program there
	return b, err
}

func (b *bench) close() {
	b.server.stop()
	os.RemoveAll(b.dir)
}

func (b *bench) in(name string) string { return filepath.Join(b.dir, name) }

func (b *bench) scaled(n int) int { return max(int(float64(n)*b.scale), 10) }

// sample is one run of a whole program.
type sample struct {
	took   time.Duration
	memory int64 // the most that was in memory, in bytes
	out    []byte
}

func (b *bench) exec(name string, args ...string) (sample, error) {
	cmd := exec.CommandContext(b.ctx, name, args...)
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+b.in("cache"), "SSH_AUTH_SOCK=")
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	began := time.Now()
	var (
		memory int64
		took   time.Duration
	)
	err := cmd.Start()
	if err == nil {
		ended, watched := make(chan struct{}), make(chan struct{})
		go func() {
			defer close(watched)
			memory = watchMemory(cmd.Process.Pid, ended)
		}()
		err = cmd.Wait()
		took = time.Since(began)
		close(ended)
		<-watched
	}
	if err != nil {
		return sample{}, fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, errs.String())
	}
	return sample{took, memory, out.Bytes()}, nil
}

func (b *bench) sh(script string, args ...any) (sample, error) {
	return b.exec("sh", "-c", fmt.Sprintf(script, args...))
}

// clear removes what earlier runs left.
func (b *bench) clear() error {
	return exec.Command("rm", "-rf", b.in("hand"), b.in("site"), b.in(".site.tartine")).Run()
}

// pipe is the pipeline that an engineer writes by hand: tar through ssh.
func (b *bench) pipe(tree string, port int) func() (sample, error) {
	return func() (sample, error) {
		if err := b.clear(); err != nil {
			return sample{}, err
		}
		if err := os.Mkdir(b.in("hand"), 0o755); err != nil {
			return sample{}, err
		}
		return b.sh("tar -C %s -cf - . | %s tar -C %s -xf -", b.in(tree), b.server.ssh(port), b.in("hand"))
	}
}

// deploy runs the program. Flags come behind.
func (b *bench) deploy(tree string, port int, scheme string, flags ...string) (sample, error) {
	args := []string{"deploy", fmt.Sprintf("%s://%s@127.0.0.1:%d%s", scheme, b.server.user, port, b.in("site")),
		"--source", b.in(tree),
		"--identity", b.in("identity"), "--fingerprint", b.server.fingerprint, "--ssh-config", "none", "--format",
		"json", "--yes"}
	return b.exec(b.program, append(args, flags...)...)
}

// first is a first deployment, of which nothing is remembered.
func (b *bench) first(tree string, port int, scheme string) func() (sample, error) {
	return func() (sample, error) {
		if err := b.clear(); err != nil {
			return sample{}, err
		}
		return b.deploy(tree, port, scheme, "--no-cache")
	}
}

// pipeBack is the pipeline the other way: what is at the site comes here.
func (b *bench) pipeBack(port int) func() (sample, error) {
	return func() (sample, error) {
		if _, err := b.sh("rm -rf %[1]s && mkdir %[1]s", b.in("back")); err != nil {
			return sample{}, err
		}
		return b.sh("%s tar -C %s -cf - . | tar -C %s -xf -", b.server.ssh(port), b.in("site"), b.in("back"))
	}
}

// address gives that of the site.
func (b *bench) address(port int) string {
	return fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", b.server.user, port, b.in("site"))
}

// ask runs a command for the site. Flags come behind.
func (b *bench) ask(command string, flags ...string) (sample, error) {
	args := []string{command, b.address(b.server.port), "--identity", b.in("identity"), "--fingerprint", b.server.fingerprint, "--ssh-config", "none"}
	return b.exec(b.program, append(args, flags...)...)
}

// fetch brings what is at the site here.
func (b *bench) fetch(port int) func() (sample, error) {
	return func() (sample, error) {
		if _, err := b.sh("rm -rf %s", b.in("back")); err != nil {
			return sample{}, err
		}
		return b.exec(b.program, "fetch", b.address(port),
			"--into", b.in("back"),
			"--identity", b.in("identity"), "--fingerprint", b.server.fingerprint, "--ssh-config", "none", "--format",
			"json", "--yes")
	}
}

// again is a deployment onto what is there.
func (b *bench) again(tree string) func() (sample, error) {
	return func() (sample, error) { return b.deploy(tree, b.server.port, "ssh") }
}

// settled measures a no-op that does not follow right after a deployment: for some seconds what was deployed is looked at once more, by
// the first one after that, too.
func (b *bench) settled(tree string) func() (sample, error) {
	return func() (sample, error) {
		time.Sleep(settleTime)
		if first, err := b.again(tree)(); err != nil {
			return first, err
		}
		return b.again(tree)()
	}
}

// settleTime is longer than that.
const settleTime = 2500 * time.Millisecond

// sentBytes reads what a deployment says that it sent.
func sentBytes(s sample) int64 {
	var out struct {
		Sent int64 `json:"sent_bytes"`
	}
	_ = json.Unmarshal(s.out, &out) // then it is 0
	return out.Sent
}

// medians runs things one after the other, as often as asked, and gives the median of each. Before the first pair each
// is run once, so that the program is copied and the trees are in memory.
func (b *bench) medians(runs int, things ...func() (sample, error)) ([]sample, error) {
	all := make([][]sample, len(things))
	for i := range runs + 1 {
		for at, thing := range things {
			s, err := thing()
			if err != nil {
				return nil, err
			}
			if i > 0 {
				all[at] = append(all[at], s)
			}
		}
	}
	out := make([]sample, len(things))
	for at, samples := range all {
		slices.SortFunc(samples, func(a, b sample) int { return int(a.took - b.took) })
		out[at] = samples[len(samples)/2]
	}
	return out, nil
}

// machine names the machine.
func (b *bench) machine() string {
	name := "unknown processor"
	if text, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		for line := range strings.Lines(string(text)) {
			if key, value, ok := strings.Cut(line, ":"); ok && strings.TrimSpace(key) == "model name" {
				name = strings.TrimSpace(value)
				break
			}
		}
		if strings.Contains(string(text), "sha_ni") {
			name += " with SHA instructions"
		} else {
			name += " without SHA instructions"
		}
	}
	return fmt.Sprintf("%s, %d of its cores, %s/%s, files in %s", name, runtime.NumCPU(), runtime.GOOS, runtime.GOARCH,
		filepath.Dir(b.dir))
}
