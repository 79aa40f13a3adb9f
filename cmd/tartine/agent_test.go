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
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/enginetest"
	"tartine/internal/testservers/sshdtest"
)

// place is a folder with content and settings for one target.
type place struct {
	t       *testing.T
	dir     string
	program string
}

func newPlace(t *testing.T, target string) *place {
	t.Helper()
	p := &place{t, t.TempDir(), "tartine"}
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "public", "css"), 0o755))
	p.write("public/index.html", "<h1>")
	p.write("public/css/rock.css", "h1 {}")
	p.write("tartine.yaml", "content: [{source: public}]\ntargets: {rock: {"+target+"}}\n")
	return p
}

func (p *place) write(name, text string) {
	require.NoError(p.t, os.WriteFile(filepath.Join(p.dir, name), []byte(text), 0o644))
}

func (p *place) tartine(args ...string) string {
	p.t.Helper()
	cmd := exec.Command(p.program, args...)
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), "SSH_AUTH_SOCK=", "XDG_CACHE_HOME="+filepath.Join(p.dir, ".cache"))
	out, err := cmd.CombinedOutput()
	require.NoError(p.t, err, "%s", out)
	return p.words(out)
}

// words gives what the program said, which has nothing in it that only a programmer could read.
func (p *place) words(out []byte) string {
	p.t.Helper()
	require.NotContains(p.t, string(out), "<nil>")
	require.NotContains(p.t, string(out), "%!")
	require.NotContains(p.t, string(out), "goroutine ")
	return string(out)
}

// deploys deploys twice and verifies, and gives what the first deployment said.
func (p *place) deploys() string {
	p.t.Helper()
	said := p.tartine("deploy")
	require.Contains(p.t, said, "deployment 1")
	p.write("public/index.html", "<h1>again")
	require.Contains(p.t, p.tartine("deploy"), "1 file, 9 B sent")
	require.Contains(p.t, p.tartine("verify"), "match")
	return said
}

// fetches brings what was deployed back, and some of it under another name.
func (p *place) fetches() {
	p.t.Helper()
	require.Contains(p.t, p.tartine("fetch", "--into", "back"), "fetched     2 files")
	require.Contains(p.t, p.tartine("fetch", "--into", "back"), "unchanged")
	p.tartine("fetch", "css", "--into", "back", "--as", "styles")
	for there, here := range map[string]string{"index.html": "index.html", "css/rock.css": "styles/rock.css"} {
		want, err := os.ReadFile(filepath.Join(p.dir, "public", there))
		require.NoError(p.t, err)
		got, err := os.ReadFile(filepath.Join(p.dir, "back", here))
		require.NoError(p.t, err)
		require.Equal(p.t, string(want), string(got))
	}
}

const throughAgent = "computed at the far end while writing"

func login(server *sshdtest.Server, user, root string) string {
	return fmt.Sprintf("url: \"ssh://%s@127.0.0.1:%d%s\", identity: %q, host_key: %q", user, server.Port, root, server.Identity, server.Fingerprint)
}

func homeOf(t *testing.T, name string) string {
	t.Helper()
	out, err := exec.Command("getent", "passwd", name).Output()
	require.NoError(t, err)
	return strings.Split(string(out), ":")[5]
}

func shell(t *testing.T, script string, args ...any) string {
	t.Helper()
	out, err := exec.Command("sh", "-c", fmt.Sprintf(script, args...)).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

func TestTheAgentBehindManyLoginShells(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("a copy of the program goes to each of many accounts")
	}
	server := sshdtest.Start(t, "SetEnv SHLVL=0") // as a login is: .bashrc is read
	for _, program := range []string{"dash", "bash", "zsh", "fish", "rbash", "busybox"} {
		t.Run(program, func(t *testing.T) {
			file, err := exec.LookPath(program)
			if err != nil && os.Getenv("CI") == "" {
				t.Skip(program + " is not installed")
			}
			require.NoError(t, err)
			if program == "busybox" {
				link := filepath.Join(sshdtest.Folder(t, "root"), "sh")
				require.NoError(t, os.Symlink(file, link))
				require.NoError(t, os.Chmod(filepath.Dir(link), 0o755))
				file = link
			}
			name, _ := sshdtest.AccountWith(t, file)
			home := homeOf(t, name)
			shell(t, "echo 'echo Welcome to the rock' >%[1]s/.bashrc; cp %[1]s/.bashrc %[1]s/.zshenv; chown %[2]s %[1]s/.bashrc %[1]s/.zshenv", home, name)
			require.Contains(t, newPlace(t, login(server, name, home+"/site")).deploys(), throughAgent)
			require.Equal(t, "1\n", shell(t, "ls -A %s/.cache/tartine | wc -l", home), "one copy, and nothing beside it")
		})
	}
}

func TestWhereTheAgentCannotLiveOrRun(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("a copy of the program goes to each of many accounts")
	}
	server := sshdtest.Start(t)
	account := func(t *testing.T, program string) (name, home string) {
		name, _ = sshdtest.AccountWith(t, program)
		return name, homeOf(t, name)
	}
	temporary := func() string { return shell(t, "ls -d /tmp/tmp.* 2>/dev/null | wc -l") }
	t.Run("a home that may not be written", func(t *testing.T) {
		name, home := account(t, "/bin/sh")
		shell(t, "mkdir %[1]s/www; chown %[2]s %[1]s/www; chown root %[1]s; chmod 755 %[1]s", home, name)
		before := temporary()
		require.Contains(t, newPlace(t, login(server, name, home+"/www/site")).deploys(), throughAgent)
		require.Equal(t, before, temporary(), "nothing is left")
	})
	t.Run("a home where nothing runs", func(t *testing.T) {
		name, home := account(t, "/bin/sh")
		require.NoError(t, syscall.Mount("tmpfs", home, "tmpfs", syscall.MS_NOEXEC, "mode=777"))
		t.Cleanup(func() { _ = syscall.Unmount(home, syscall.MNT_DETACH) })
		require.Contains(t, newPlace(t, login(server, name, home+"/site")).deploys(), throughAgent)
	})
	t.Run("no shell", func(t *testing.T) {
		name, home := account(t, "/usr/sbin/nologin")
		said := newPlace(t, login(server, name, home+"/site")).deploys()
		require.Contains(t, said, "note      over SFTP: no agent runs at the far end")
		require.NotContains(t, said, throughAgent)
	})
	for script, why := range map[string]string{"cat >/dev/null": "no answer within 3s", "read line": "what the login runs reads what is meant for the shell"} {
		t.Run("a login that runs "+script, func(t *testing.T) {
			as := sshdtest.Start(t, "SetEnv SHLVL=0")
			name, home := account(t, "/bin/bash")
			shell(t, "echo '%s' >%s/.bashrc", script, home)
			require.Contains(t, newPlace(t, login(as, name, home+"/site")).deploys(), why)
		})
	}
	t.Run("a chroot that lacks the path", func(t *testing.T) {
		top, err := os.MkdirTemp("/srv", "tartine-chroot-") // nobody but root may write above it
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, os.RemoveAll(top)) })
		require.NoError(t, os.Chmod(top, 0o755))
		as := sshdtest.Start(t, "ChrootDirectory "+top, "ForceCommand internal-sftp")
		name, _ := account(t, "/bin/sh")
		said, next := fails(newPlace(t, login(as, name, "/home/nobody/site")), 2)
		require.Contains(t, said, "root /home/nobody/site: the folder above it does not exist")
		require.Contains(t, next, "--make-root")
		shell(t, "mkdir %[1]s/www; chown %[2]s %[1]s/www", top, name)
		require.Contains(t, newPlace(t, login(as, name, "/www/site")).deploys(), "no agent runs at the far end: no shell answers")
	})
	t.Run("none is wanted", func(t *testing.T) {
		name, home := account(t, "/bin/sh")
		said := newPlace(t, login(server, name, home+"/site")+", agent: off").deploys()
		require.Contains(t, said, "sha256sum at the far end")
		require.NotContains(t, said, "note")
		require.NoDirExists(t, home+"/.cache")
	})
	t.Run("one that is installed", func(t *testing.T) {
		name, home := account(t, "/bin/sh")
		program, err := exec.LookPath("tartine")
		require.NoError(t, err)
		shell(t, "cp %s %[2]s/own; chmod 755 %[2]s/own", program, home)
		require.Contains(t, newPlace(t, login(server, name, home+"/site")+", agent: "+home+"/own").deploys(), throughAgent)
		require.NoDirExists(t, home+"/.cache")
		require.Contains(t, newPlace(t, login(server, name, home+"/other")+", agent: "+home+"/none").deploys(), "there is no program "+home+"/none")
	})
	t.Run("another processor", func(t *testing.T) {
		fake := sshdtest.Folder(t, "root")
		require.NoError(t, os.Chmod(fake, 0o755))
		require.NoError(t, os.WriteFile(fake+"/uname", []byte("#!/bin/sh\n[ \"$1\" = -s ] && echo Linux || echo aarch64\n"), 0o755))
		other := sshdtest.Start(t, "SetEnv PATH="+fake+":/usr/bin:/bin")
		name, home := account(t, "/bin/sh")
		require.Contains(t, newPlace(t, login(other, name, home+"/site")).deploys(), "it runs linux/arm64, and this program is for linux/")
		program, err := exec.LookPath("tartine")
		require.NoError(t, err)
		p := newPlace(t, login(other, name, home+"/second")+", agents: builds")
		require.NoError(t, os.Mkdir(filepath.Join(p.dir, "builds"), 0o755))
		shell(t, "cp %s %s/builds/tartine-linux-arm64", program, p.dir) // what would run there, if it were
		require.Contains(t, p.deploys(), throughAgent)
	})
	t.Run("a copy that is cut off", func(t *testing.T) {
		name, home := account(t, "/bin/sh")
		port, stop := cutAfter(t, server.Port, 1_000_000)
		defer stop()
		p := newPlace(t, strings.Replace(login(server, name, home+"/site"), fmt.Sprint(":", server.Port), fmt.Sprint(":", port), 1))
		cmd := exec.Command("tartine", "deploy", "--reconnect", "0")
		cmd.Dir = p.dir
		cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+p.dir+"/.cache", "SSH_AUTH_SOCK=")
		out, err := cmd.CombinedOutput()
		require.Error(t, err, "%s", out)
		require.Equal(t, 3, cmd.ProcessState.ExitCode(), "%s", out)
		cached := func() string { return shell(t, "ls -A %s/.cache/tartine", home) }
		require.Eventually(t, func() bool { return regexp.MustCompile(`^\.agent-[0-9a-f]{24}\.gzip\n$`).MatchString(cached()) }, 5*time.Second, 20*time.Millisecond,
			"what arrived stays: %s", cached())
		// The next one goes on from there, however often it is cut.
		require.Contains(t, p.deploys(), throughAgent)
		require.Regexp(t, `^agent-[0-9a-f]{24}\n$`, cached())
	})
	t.Run("a copy that somebody else put there", func(t *testing.T) {
		name, home := account(t, "/bin/sh")
		p := newPlace(t, login(server, name, home+"/site"))
		p.deploys()
		copies, err := filepath.Glob(home + "/.cache/tartine/agent-*")
		require.NoError(t, err)
		require.Len(t, copies, 1)
		planted := "#!/bin/sh\ntouch " + home + "/planted\n"
		for what, plant := range map[string]string{
			"other bytes":                       "cp %[2]s %[1]s; chown %[3]s %[1]s",
			"a file of another user":            "cp %[2]s %[1]s; chown 4711 %[1]s",
			"a link":                            "rm %[1]s; cp %[2]s %[1]s.other; chown %[3]s %[1]s.other; ln -s %[1]s.other %[1]s; chown -h %[3]s %[1]s",
			"a folder of another user":          "cp %[2]s %[1]s; chown 4711 %[4]s; chmod 755 %[4]s",
			"a folder that all may write":       "cp %[2]s %[1]s; chown %[3]s %[1]s; chmod 777 %[4]s",
			"a folder above that all may write": "cp %[2]s %[1]s; chmod 777 %[4]s/..",
		} {
			t.Run(what, func(t *testing.T) {
				script := filepath.Join(t.TempDir(), "planted")
				require.NoError(t, os.WriteFile(script, []byte(planted), 0o755))
				shell(t, "chown %[3]s %[4]s %[4]s/..; chmod 700 %[4]s %[4]s/..; rm -f %[4]s/agent*; "+plant, copies[0], script, name, filepath.Dir(copies[0]))
				require.Contains(t, p.tartine("verify"), "match")
				require.NoFileExists(t, home+"/planted")
			})
		}
	})
}

// TestThroughAnythingThatLeadsToAShell reaches sites through programs that give a stream.
func TestThroughAnythingThatLeadsToAShell(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("a copy of the program goes to each of many accounts")
	}
	server := sshdtest.Start(t)
	name, _ := sshdtest.Account(t)
	home := homeOf(t, name)
	list := func(words ...string) string {
		for i := range words {
			words[i] = fmt.Sprintf("%q", words[i])
		}
		return "command: [" + strings.Join(words, ", ") + "]"
	}
	t.Run("a change of user", func(t *testing.T) {
		require.Contains(t, newPlace(t, "url: "+home+"/site, "+list("setpriv", "--reuid", name, "--regid", name, "--clear-groups", "--reset-env", "sh")).deploys(), throughAgent)
		info, err := os.Stat(home + "/site/index.html")
		require.NoError(t, err)
		require.NotZero(t, info.Sys().(*syscall.Stat_t).Uid, "written as that user")
	})
	t.Run("a second ssh", func(t *testing.T) {
		require.Contains(t, newPlace(t, "url: "+home+"/second, "+list("ssh", "-q", "-i", server.Identity, "-p", fmt.Sprint(server.Port), "-o", "UserKnownHostsFile="+server.KnownHosts, name+"@127.0.0.1", "sh")).deploys(), throughAgent)
	})
	t.Run("what takes its time", func(t *testing.T) {
		t.Parallel()
		require.Contains(t, newPlace(t, "url: "+t.TempDir()+"/site, "+list("sh", "-c", "sleep 3.2; exec sh")).deploys(), throughAgent)
	})
	t.Run("another root", func(t *testing.T) {
		jail := sshdtest.Folder(t, "root")
		busybox, err := exec.LookPath("busybox")
		require.NoError(t, err)
		shell(t, "mkdir -p %[1]s/bin %[1]s/tmp %[1]s/srv %[1]s/proc; cp %[2]s %[1]s/bin/busybox; for p in sh head gzip mkdir mv rm chmod mktemp touch uname find cp id; do ln -s busybox %[1]s/bin/$p; done", jail, busybox)
		shell(t, "mkdir %[1]s/dev; mknod -m 666 %[1]s/dev/null c 1 3", jail)
		p := newPlace(t, "url: /srv/site, "+list("unshare", "--mount", "--pid", "--fork", "chroot", jail, "/bin/sh"))
		p.program = static(t)
		require.Contains(t, p.deploys(), throughAgent)
		require.FileExists(t, jail+"/srv/site/index.html")
	})
	t.Run("a program that leads nowhere", func(t *testing.T) {
		p := newPlace(t, "url: /srv/site, "+list("sh", "-c", "echo it is closed >&2; exit 1"))
		cmd := exec.Command("tartine", "deploy")
		cmd.Dir = p.dir
		out, err := cmd.CombinedOutput()
		require.Error(t, err)
		require.Equal(t, 3, cmd.ProcessState.ExitCode(), "%s", out)
		require.Contains(t, string(out), "it says: it is closed")
	})
	t.Run("a container", func(t *testing.T) {
		if _, err := exec.LookPath("docker"); err != nil {
			t.Skip("no client of a container engine leads there")
		}
		e := enginetest.Own(t)
		id := e.Run(enginetest.Wanted{})
		e.In(id, "/bin/busybox", "--install", "-s", "/bin")
		p := newPlace(t, "url: /srv/site, "+list("docker", "exec", "-i", id, "sh"))
		p.program = static(t)
		require.Contains(t, p.deploys(), throughAgent)
		require.Contains(t, e.In(id, "cat", "/srv/site/index.html"), "again")
	})
}

// static builds the program as it is released, which runs where there are no libraries.
func static(t *testing.T) string {
	t.Helper()
	dir, err := builtOnce()
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "tartine")
	require.NoError(t, os.Link(filepath.Join(dir, "tartine"), file))
	return file
}

// builtOnce builds it for all tests, in a folder that goes when they have ended.
var builtOnce = sync.OnceValues(func() (dir string, err error) {
	if dir, err = os.MkdirTemp("", "tartine-static-"); err != nil {
		return "", err
	}
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", filepath.Join(dir, "tartine"), ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return dir, fmt.Errorf("%w: %s", err, out)
	}
	built.Store(&dir)
	return dir, nil
})

// built is the folder, once there is one.
var built atomic.Pointer[string]

// tidied is the tests, behind which it goes, and so does what they cached.
type tidied struct {
	*testing.M
	cache string
}

func (m tidied) Run() int {
	status := m.M.Run()
	if dir := built.Load(); dir != nil {
		_ = os.RemoveAll(*dir) // the tests have ended as they have
	}
	_ = os.RemoveAll(m.cache) // likewise
	return status
}

// slowly leads to a port of this machine; whatever comes from there comes so much later.
func slowly(t *testing.T, to int, later time.Duration) (port int) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", to))
			if err != nil {
				near.Close()
				return
			}
			go func() {
				_, _ = io.Copy(far, near)
				far.Close()
			}()
			go func() {
				defer near.Close()
				for {
					piece := make([]byte, 256<<10)
					n, err := far.Read(piece)
					if err != nil {
						return
					}
					<-time.After(later)
					if _, err := near.Write(piece[:n]); err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

func TestALongLineIsWidened(t *testing.T) {
	if testing.Short() {
		t.Skip("copies much")
	}
	sessions := filepath.Join(t.TempDir(), "sessions")
	server := sshdtest.Start(t, fmt.Sprintf("ForceCommand echo one >>%s; exec $SSH_ORIGINAL_COMMAND", sessions))
	root := filepath.Join(t.TempDir(), "www")
	straight := login(server, sshdtest.Users(t)[0], root)
	slow := *server
	slow.Port = slowly(t, server.Port, 50*time.Millisecond)
	p := newPlace(t, straight+"}, slow: {"+login(&slow, sshdtest.Users(t)[0], root))
	p.tartine("deploy", "rock")
	before := len(shell(t, "cat %s", sessions))
	plate := make([]byte, 20<<20)
	_, _ = rand.NewChaCha8([32]byte{}).Read(plate)
	p.write("public/plate.tif", string(plate))
	require.Contains(t, p.tartine("deploy", "slow"), "21.0 MB sent")
	require.Greater(t, len(shell(t, "cat %s", sessions)), before+2*len("one\n"), "the agent and several lanes")
	require.Contains(t, p.tartine("verify", "rock"), "match")
}
