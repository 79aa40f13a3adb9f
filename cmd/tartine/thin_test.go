//go:build linux

package main

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/sshdtest"
)

// thinLine leads connections to a server and cuts each after so many bytes as it is told, both ways together.
type thinLine struct {
	listener net.Listener
	to       string
	budget   func() int64
	cuts     atomic.Int64
	working  sync.WaitGroup
}

func newThinLine(t *testing.T, to int, budget func() int64) *thinLine {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	line := &thinLine{listener: l, to: net.JoinHostPort("127.0.0.1", strconv.Itoa(to)), budget: budget}
	line.working.Go(line.serve)
	t.Cleanup(func() {
		l.Close()
		line.working.Wait()
	})
	return line
}

func (l *thinLine) port() int { return l.listener.Addr().(*net.TCPAddr).Port }

func (l *thinLine) serve() {
	for {
		near, err := l.listener.Accept()
		if err != nil {
			return
		}
		l.working.Go(func() { l.lead(near) })
	}
}

func (l *thinLine) lead(near net.Conn) {
	defer near.Close()
	far, err := net.Dial("tcp", l.to)
	if err != nil {
		return
	}
	defer far.Close()
	var left atomic.Int64
	left.Store(l.budget())
	var both sync.WaitGroup
	pass := func(to, from net.Conn) {
		defer to.Close()
		defer from.Close()
		buffer := make([]byte, 16<<10)
		for {
			n, err := from.Read(buffer)
			if over := -left.Add(int64(-n)); over > 0 {
				if over <= int64(n) {
					l.cuts.Add(1)
				}
				n = max(n-int(over), 0)
				_, _ = to.Write(buffer[:n])
				_ = to.(*net.TCPConn).SetLinger(-1)
				return
			}
			if _, failed := to.Write(buffer[:n]); failed != nil || err != nil {
				return
			}
		}
	}
	both.Go(func() { pass(far, near) })
	both.Go(func() { pass(near, far) })
	both.Wait()
}

// thinPlace is a content of pages, pictures and one large file, and a target behind a line.
func thinPlace(t *testing.T, random *rand.Rand, scheme, root string, server *sshdtest.Server, line *thinLine) *place {
	p := newPlace(t, fmt.Sprintf("url: \"%s://root@127.0.0.1:%d%s\", identity: %s, host_key: %q", scheme, line.port(), root, server.Identity, server.Fingerprint))
	chance := rand.NewChaCha8([32]byte{byte(random.IntN(256))})
	for i, size := range []int64{6 << 20, 900 << 10, 70 << 10, 30 << 10, 2000, 1000, 500, 0} {
		file, err := os.Create(filepath.Join(p.dir, "public", fmt.Sprintf("plate-%d.webp", i)))
		require.NoError(t, err)
		_, err = io.CopyN(file, chance, size)
		require.NoError(t, err)
		require.NoError(t, file.Close())
	}
	return p
}

// ends runs the program and gives its exit status and what it said.
func (p *place) ends(args ...string) (status int, said string) {
	cmd := exec.Command(p.program, args...)
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), "SSH_AUTH_SOCK=", "XDG_CACHE_HOME="+filepath.Join(p.dir, ".cache"))
	out, _ := cmd.CombinedOutput() // the status tells
	return cmd.ProcessState.ExitCode(), p.words(out)
}

// TestALineThatCarriesAnythingGetsEverythingThere has every connection cut after as many bytes, far fewer than one file has.
func TestALineThatCarriesAnythingGetsEverythingThere(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("a copy of the program goes over thin lines")
	}
	server := sshdtest.Start(t)
	for _, scheme := range []string{"ssh", "sftp"} {
		t.Run(scheme, func(t *testing.T) {
			t.Parallel()
			line := newThinLine(t, server.Port, func() int64 { return 4_000_000 })
			p := thinPlace(t, rand.New(rand.NewPCG(7, 7)), scheme, sshdtest.Folder(t, "root")+"/site", server, line)
			status, said := p.ends("deploy")
			require.Zero(t, status, "%s", said)
			require.Positive(t, line.cuts.Load())
			status, said = p.ends("verify")
			require.Zero(t, status, "%s", said)
			p.write("public/index.html", "<h1>again")
			status, said = p.ends("deploy")
			require.Zero(t, status, "%s", said)
			status, said = p.ends("rollback")
			require.Zero(t, status, "%s", said)
			require.Contains(t, said, "deployment 3")
		})
	}
}

// TestCutsAtRandom deploys, changes and rolls back over lines that are cut after any number of bytes, from what a login takes to more
// than all there is. CUTS says how often. It always ends well, or, where nothing gets through for as long as is tried, with exit status 3; then the next
// run goes on.
func TestCutsAtRandom(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("hundreds of connections")
	}
	wanted := many(t, "CUTS", 80)
	server := sshdtest.Start(t)
	var cuts, gaveUp, seeds atomic.Int64
	var working sync.WaitGroup
	for range 8 {
		working.Go(func() {
			for cuts.Load() < wanted && !t.Failed() {
				seed := seeds.Add(1)
				scheme := []string{"ssh", "sftp"}[seed%2]
				random, mu := rand.New(rand.NewPCG(uint64(seed), 1)), &sync.Mutex{}
				line := newThinLine(t, server.Port, func() int64 {
					mu.Lock()
					defer mu.Unlock()
					// Evenly over the orders of magnitude, 4 kB to 20 MB.
					low, high := 4e3, 20e6
					steps := random.Float64() * 12.3 // log2(high/low)
					return min(int64(low*float64(uint64(1)<<uint(steps))*(1+random.Float64())), int64(high))
				})
				p := thinPlace(t, random, scheme, sshdtest.Folder(t, "root")+"/site", server, line)
				ends := func(args ...string) {
					for tries := 0; !t.Failed(); tries++ {
						status, said := p.ends(append(args, "--reconnect", "3s")...)
						if status == 0 {
							return
						}
						if gaveUp.Add(1); status != 3 || tries > 40 {
							t.Errorf("seed %d, %s, %v: status %d: %s", seed, scheme, args, status, said)
						}
					}
				}
				ends("deploy")
				p.write("public/index.html", "<h1>again")
				p.write("public/css/rock.css", strings.Repeat("h2 {}", 40_000))
				ends("deploy")
				ends("verify")
				cuts.Add(line.cuts.Load())
			}
		})
	}
	working.Wait()
	t.Logf("%d cuts, %d runs that nothing got through for", cuts.Load(), gaveUp.Load())
	require.GreaterOrEqual(t, cuts.Load(), wanted)
}
