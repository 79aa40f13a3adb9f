//go:build linux

package main

import (
	"crypto/rand"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"tartine/internal/demo/engineserver"
	"tartine/internal/testservers/enginetest"
	"tartine/internal/testservers/sshdtest"

	"github.com/moby/moby/client"
	"github.com/stretchr/testify/require"
)

// inEngine is a place to deploy from to a container of an engine.
func inEngine(t *testing.T, e *enginetest.Engine, program, target string) *place {
	p := newPlace(t, fmt.Sprintf("engine: %q, %s", e.Address, target))
	p.program = program
	return p
}

func TestContainers(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	program := static(t)
	enginetest.Each(t, func(t *testing.T, e *enginetest.Engine) { containersThatRun(t, e, program) })
}

func containersThatRun(t *testing.T, all *enginetest.Engine, program string) {
	place := func(t *testing.T, target string) *place { return inEngine(t, all, program, target) }
	t.Run("one that runs", func(t *testing.T) {
		c := all.For(t)
		name := c.Run(enginetest.Wanted{})
		p := place(t, "url: \"container://"+name+"/usr/share/site\"")
		require.Contains(t, p.deploys(), throughAgent)
		require.Contains(t, c.In(name, "cat", "/usr/share/site/index.html"), "again")
		require.Equal(t, "0\n", c.In(name, "sh", "-c", "busybox ls -A /tmp | busybox wc -l"), "no copy of the program stays")
		p.fetches()
		require.Contains(t, p.tartine("doctor"), "nothing to fix")
		require.Contains(t, p.tartine("rollback"), "deployment 3")
	})
	t.Run("neither a shell nor a folder for temporary files", func(t *testing.T) {
		c := all.For(t)
		name := c.Run(enginetest.Wanted{})
		c.In(name, "sh", "-c", "busybox rm -r /tmp; busybox rm /bin/sh")
		require.Contains(t, place(t, "url: \"container://"+name+"/srv/site\"").deploys(), throughAgent)
		require.Equal(t, "gone\n", c.In(name, "busybox", "sh", "-c", "ls -A / | busybox grep tartine || echo gone"))
	})
	t.Run("a root that cannot be written, and a volume", func(t *testing.T) {
		c := all.For(t)
		name := c.Run(enginetest.Wanted{ReadOnly: true, Volume: "/srv"})
		require.Contains(t, place(t, "url: \"container://"+name+"/srv/site\"").deploys(), throughAgent)
		require.Equal(t, "gone\n", c.In(name, "sh", "-c", "test -e /srv/.tartine || echo gone"))
		_, err := fails(place(t, "url: \"container://"+name+"/usr/share/site\""), 3)
		require.Contains(t, err, "a volume")
	})
	t.Run("a volume that is the root", func(t *testing.T) {
		c := all.For(t)
		name := c.Run(enginetest.Wanted{Volume: "/usr/share/www", Memory: map[string]string{"/tmp": "noexec"}})
		require.Contains(t, place(t, "url: \"container://"+name+"/usr/share/www\"").deploys(), throughAgent)
		require.Equal(t, ".tartine\ncss\nindex.html\n", c.In(name, "busybox", "ls", "-A", "/usr/share/www"))
	})
	t.Run("an ordinary user, and an owner", func(t *testing.T) {
		c := all.For(t)
		name := c.Run(enginetest.Wanted{User: "101:101"})
		p := place(t, "owner: \"33:34\", url: \"container://"+name+"/srv/site\"")
		require.Contains(t, p.deploys(), throughAgent)
		require.Equal(t, "33:34 644\n33:34 644\n33:34 755\n", c.In(name, "stat", "-c", "%u:%g %a", "/srv/site/index.html", "/srv/site/css/rock.css", "/srv/site/css"))
	})
	t.Run("told of what was published", func(t *testing.T) {
		c := all.For(t)
		name := c.Run(enginetest.Wanted{Command: []string{"/bin/sh", "-c", `trap "echo told >>/tmp/told" HUP; echo >/tmp/waits; while :; do busybox sleep 0.1; done`}})
		require.Eventually(t, func() bool { return c.In(name, "sh", "-c", "cat /tmp/waits || true") == "\n" }, 30*time.Second, 50*time.Millisecond,
			"whoever is told too early ends")
		p := place(t, "restart: \"signal:HUP\", url: \"container://"+name+"/srv/site\"")
		require.Contains(t, p.tartine("deploy"), "was sent HUP")
		require.NotContains(t, p.tartine("deploy"), "HUP", "nothing changed")
		require.Eventually(t, func() bool { return c.In(name, "sh", "-c", "cat /tmp/told || true") == "told\n" }, 30*time.Second, 50*time.Millisecond)
		p = place(t, "restart: true, url: \"container://"+name+"/srv/other\"")
		_, began := c.State(name)
		require.Contains(t, p.tartine("deploy"), "was restarted")
		_, again := c.State(name)
		require.NotEqual(t, began, again)
	})
	t.Run("none that can be used", func(t *testing.T) {
		c := all.For(t)
		name := c.Run(enginetest.Wanted{})
		said, next := fails(place(t, "url: \"container://"+name[:len(name)-1]+"/srv/site\""), 3)
		require.Contains(t, said, "there is no container")
		require.Contains(t, next, "did you mean "+name)
		_, next = fails(place(t, "url: \"container://"+name+"/srv/deep/site\""), 2)
		require.Contains(t, next, "--make-root")
		elsewhere := newPlace(t, "engine: \"unix:///nowhere/engine.sock\", url: \"container://"+name+"/srv/site\"")
		elsewhere.program = program
		said, next = fails(elsewhere, 3)
		require.Contains(t, said, "no container engine answers at unix:///nowhere/engine.sock: no such file")
		require.Contains(t, next, "start the engine")
		c.Pause(name)
		require.Contains(t, place(t, "url: \"container://"+name+"/srv/site\"").tartine("deploy"), "over archives: container "+name+" is paused")
		c.Unpause(name)
	})
}

// fails deploys, which must end with a status, and gives the message and what to do next.
func fails(p *place, status int) (said, next string) {
	p.t.Helper()
	cmd := exec.Command(p.program, "deploy", "--quiet")
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(p.dir, ".cache"))
	out, err := cmd.CombinedOutput()
	require.Error(p.t, err, "%s", out)
	require.Equal(p.t, status, cmd.ProcessState.ExitCode(), "%s", out)
	said, next, _ = strings.Cut(string(out), "\nnext")
	return said, next
}

func TestContainersInWhichNothingRuns(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	program := static(t)
	enginetest.Each(t, func(t *testing.T, e *enginetest.Engine) { containersThatStandStill(t, e, program) })
	t.Run("the stand-in with other users outside", func(t *testing.T) {
		containersThatStandStill(t, enginetest.StandIn(t, engineserver.Options{Users: 200_000}), program)
	})
}

func containersThatStandStill(t *testing.T, all *enginetest.Engine, program string) {
	for name, volume := range map[string]string{"a stopped one": "", "a stopped one with a volume": "/srv"} {
		t.Run(name, func(t *testing.T) {
			c := all.For(t)
			name := c.Run(enginetest.Wanted{Volume: volume})
			c.Stop(name)
			p := inEngine(t, c, program, "owner: \"33:34\", url: \"container://"+name+"/srv/site\"")
			p.write("public/old.txt", "old")
			require.Contains(t, p.tartine("deploy"), "read back from the container")
			require.Contains(t, p.tartine("doctor"), "it does not run: nobody sees files while they are replaced")
			require.Contains(t, p.tartine("deploy"), "unchanged")
			require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "old.txt")))
			p.write("public/index.html", "<h1>again")
			require.NoError(t, os.Symlink("index.html", filepath.Join(p.dir, "public", "home")))
			require.Contains(t, p.tartine("deploy"), "1 removed")
			require.Contains(t, p.tartine("verify"), "match")
			require.Contains(t, p.tartine("rollback"), "deployment 3")
			require.Contains(t, p.tartine("rollback", "2"), "deployment 4")
			c.Start(name)
			require.Equal(t, "css\nhome\nindex.html\n", c.In(name, "busybox", "ls", "-A", "/srv/site"))
			require.Equal(t, "33:34 644\n33:34 755\n", c.In(name, "stat", "-c", "%u:%g %a", "/srv/site/index.html", "/srv/site/css"))
			require.Contains(t, p.tartine("deploy"), "unchanged", "an agent finds it as it was left")
			require.Contains(t, p.tartine("verify"), "match")
			require.Equal(t, ".site.tartine\nsite\n", c.In(name, "busybox", "ls", "-A", "/srv"))
		})
	}
	t.Run("one that is stopped meanwhile", func(t *testing.T) {
		c := all.For(t)
		name := c.Run(enginetest.Wanted{StopSignal: "KILL"})
		p := inEngine(t, c, program, "while: stopped, url: \"container://"+name+"/srv/site\"")
		_, began := c.State(name)
		require.Contains(t, p.tartine("deploy"), "was stopped for")
		_, again := c.State(name)
		require.NotEqual(t, began, again)
		require.Equal(t, "<h1>", c.In(name, "cat", "/srv/site/index.html"))
		require.Contains(t, p.tartine("doctor"), "it runs, and is stopped while files are replaced")
		require.Contains(t, p.tartine("deploy"), "unchanged")
		_, still := c.State(name)
		require.Equal(t, again, still, "for nothing it is not stopped")
	})
	t.Run("one that is started again although it failed", func(t *testing.T) {
		c := all.For(t)
		name := c.Run(enginetest.Wanted{StopSignal: "KILL", Volume: "/srv/site"})
		p := inEngine(t, c, program, "while: stopped, url: \"container://"+name+"/srv/site\"")
		p.write("public/old.txt", "old")
		p.tartine("deploy")
		require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "old.txt")))
		status, said := p.try("deploy") // the root is a mount, which cannot be taken away and made anew
		require.NotZero(t, status, said)
		running, _ := c.State(name)
		require.True(t, running)
	})
}

// TestTheExampleInAContainer walks through the example on the machine's engine, and finds nothing of it there afterwards.
func TestTheExampleInAContainer(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	e := enginetest.Own(t)
	cmd := exec.Command(static(t), "demo", "--target", "container")
	cmd.Env = append(os.Environ(), "DOCKER_HOST="+e.Address)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "match       rock: 64 paths checked")
	name := regexp.MustCompile("gannet-rock-[a-z0-9]{6}").FindString(string(out))
	require.NotEmpty(t, name)
	_, err = e.API.ContainerInspect(t.Context(), name, client.ContainerInspectOptions{})
	require.Error(t, err)
	_, err = e.API.ImageInspect(t.Context(), name)
	require.Error(t, err)
}

// TestAnEngineOfAnotherMachine deploys through the socket of an engine that is reached over SSH.
func TestAnEngineOfAnotherMachine(t *testing.T) {
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	program, server := static(t), sshdtest.Start(t)
	enginetest.Each(t, func(t *testing.T, e *enginetest.Engine) {
		name := e.Run(enginetest.Wanted{})
		far := fmt.Sprintf("ssh://root@127.0.0.1:%d%s", server.Port, strings.TrimPrefix(e.Address, "unix://"))
		login := fmt.Sprintf("identity: %q, host_key: %q, url: \"container://%s/srv/site\"", server.Identity, server.Fingerprint, name)
		p := newPlace(t, fmt.Sprintf("engine: %q, %s", far, login))
		p.program = program
		require.Contains(t, p.deploys(), throughAgent)
		require.Equal(t, "<h1>again", e.In(name, "cat", "/srv/site/index.html"))
		e.Stop(name)
		p.write("public/index.html", "<h1>and again")
		require.Contains(t, p.tartine("deploy"), "over archives")
		require.Equal(t, "<h1>and again", e.Read(name, "/srv/site/index.html"))

		p = newPlace(t, fmt.Sprintf("engine: %q, %s", fmt.Sprintf("ssh://root@127.0.0.1:%d/nowhere.sock", server.Port), login))
		p.program = program
		said, _ := fails(p, 3)
		require.Contains(t, said, "/nowhere.sock")
	})
}

// TestAnEngineThatThisUserMayNotUse says so, and what to do.
func TestAnEngineThatThisUserMayNotUse(t *testing.T) {
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	dir, err := os.MkdirTemp("/tmp", "tartine-") // others can reach it
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755))
	shell(t, "cp %s %s/tartine && mkdir %[2]s/public", static(t), dir)
	enginetest.Each(t, func(t *testing.T, e *enginetest.Engine) {
		cmd := exec.Command(filepath.Join(dir, "tartine"), "diff", "--source", "public", "container://rock/srv/site")
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "DOCKER_HOST="+e.Address, "XDG_CACHE_HOME=/nowhere")
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		out, err := cmd.CombinedOutput()
		require.Error(t, err)
		require.Equal(t, 3, cmd.ProcessState.ExitCode(), "%s", out)
		require.Contains(t, string(out), "this user may not use the container engine at "+e.Address)
		if info, err := os.Stat(strings.TrimPrefix(e.Address, "unix://")); err == nil && info.Mode().Perm() == 0o660 {
			group, err := user.LookupGroupId(fmt.Sprint(info.Sys().(*syscall.Stat_t).Gid))
			require.NoError(t, err)
			require.Contains(t, string(out), "add you to the group "+group.Name)
		}
	})
}

// TestContainersOfWindows deploys to containers that behave as those of Windows do.
func TestContainersOfWindows(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	program := static(t)
	t.Run("one that can be written while it runs", func(t *testing.T) {
		c := enginetest.StandIn(t, engineserver.Options{System: "windows/amd64"})
		name := c.Run(enginetest.Wanted{})
		p := inEngine(t, c, program, `url: "container://`+name+`/C:\\srv\\site"`)
		p.write("public/old.txt", "old")
		said := p.tartine("deploy")
		require.Contains(t, said, "over archives: container "+name+": in one of Windows no program is started")
		require.Contains(t, said, "C:/srv/site")
		require.Equal(t, "<h1>", c.Read(name, "/srv/site/index.html"))
		require.Contains(t, p.tartine("deploy"), "unchanged")
		require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "old.txt")))
		require.Contains(t, p.tartine("deploy"), "1 removed")
		require.Contains(t, p.tartine("verify"), "match")
		p.fetches()
		require.Contains(t, p.tartine("rollback"), "deployment 3")

		p.write("public/aux.html", "a name that means a device")
		p.write("public/Index.html", "one that is there already")
		said, _ = fails(p, 5)
		require.Contains(t, said, `"aux.html"  (AUX means a device there)`)
		require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "aux.html")))
		said, _ = fails(p, 5)
		require.Contains(t, said, "Index.html  and  index.html")
	})
	t.Run("one that cannot be reached while it runs", func(t *testing.T) {
		c := enginetest.StandIn(t, engineserver.Options{System: "windows/amd64", Isolated: true})
		name := c.Run(enginetest.Wanted{})
		url := `url: "container://` + name + `/C:/srv/site"`
		said, next := fails(inEngine(t, c, program, url), 3)
		require.Contains(t, said, "container "+name+" runs, and its engine does not reach its files meanwhile")
		require.Contains(t, next, "while: stopped")

		p := inEngine(t, c, program, "while: stopped, "+url)
		_, began := c.State(name)
		require.Contains(t, p.tartine("deploy"), "was stopped for")
		running, again := c.State(name)
		require.True(t, running)
		require.NotEqual(t, began, again)
		status, said := p.try("verify") // what only looks stops nothing
		require.Equal(t, 3, status, said)
		status, said = p.try("deploy", "--dry-run")
		require.Equal(t, 3, status, said)
		_, still := c.State(name)
		require.Equal(t, again, still)
		require.Contains(t, p.tartine("deploy"), "unchanged")
		running, _ = c.State(name)
		require.True(t, running)
		c.Stop(name)
		require.Contains(t, p.tartine("verify"), "match")
		require.Equal(t, "<h1>", c.Read(name, "C:/srv/site/index.html"))
		running, _ = c.State(name)
		require.False(t, running, "one that stood still stays so")
	})
	t.Run("a drive where there is none", func(t *testing.T) {
		c := enginetest.StandIn(t, engineserver.Options{})
		name := c.Run(enginetest.Wanted{})
		said, _ := fails(inEngine(t, c, program, `url: "container://`+name+`/C:/srv/site"`), 2)
		require.Contains(t, said, "has no drives")
	})
}

// TestEnginesThatFail deploys over engines that end a request or refuse it, and then over the same ones when they do not.
func TestEnginesThatFail(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	program := static(t)
	var spoil atomic.Pointer[func(r *http.Request) *engineserver.Fault]
	fault := func(method, path string, f engineserver.Fault) {
		once := func(r *http.Request) *engineserver.Fault {
			if r.Method != method || !strings.HasSuffix(r.URL.Path, path) {
				return nil
			}
			return &f
		}
		spoil.Store(&once)
	}
	c := enginetest.StandIn(t, engineserver.Options{Fault: func(r *http.Request) *engineserver.Fault {
		if f := spoil.Load(); f != nil {
			return (*f)(r)
		}
		return nil
	}})
	for name, test := range map[string]struct {
		method, path string
		fault        engineserver.Fault
		status       int
		says         string
		runs         bool // afterwards
	}{
		"while something is read":              {http.MethodGet, "/archive", engineserver.Fault{After: 700}, 3, "archive of", true},
		"while something is carried there":     {http.MethodPut, "/archive", engineserver.Fault{After: 2000, Status: 500, Message: "no space left on device"}, 4, "no space left on device", true},
		"with the line, as it begins":          {http.MethodPut, "/archive", engineserver.Fault{After: 2000}, 4, "", true},
		"with the line, later":                 {http.MethodPut, "/archive", engineserver.Fault{After: 8000}, 4, "", true},
		"with the line, later still":           {http.MethodPut, "/archive", engineserver.Fault{After: 16000}, 4, "", true},
		"with the line, at the end":            {http.MethodPut, "/archive", engineserver.Fault{After: 24000}, 4, "", true},
		"when the container is to be stopped":  {http.MethodPost, "/stop", engineserver.Fault{Status: 500, Message: "cannot stop"}, 3, "cannot stop", true},
		"when the container is to start again": {http.MethodPost, "/start", engineserver.Fault{Status: 500, Message: "no more processes"}, 3, "does not run again", false},
	} {
		t.Run(name, func(t *testing.T) {
			defer spoil.Store(nil)
			c := c.For(t)
			name := c.Run(enginetest.Wanted{StopSignal: "KILL"})
			p := inEngine(t, c, program, "while: stopped, url: \"container://"+name+"/srv/site\"")
			p.write("public/css/old.css", "old")
			p.tartine("deploy")
			c.In(name, "sh", "-c", "echo mine >/srv/site/css/mine")
			p.write("public/index.html", strings.Repeat("<h1>again", 1000))
			require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "css", "old.css")))
			fault(test.method, test.path, test.fault)
			said, _ := fails(p, test.status)
			require.Contains(t, said, test.says)
			spoil.Store(nil)
			running, _ := c.State(name)
			require.Equal(t, test.runs, running, said)
			p.tartine("deploy")
			require.Contains(t, p.tartine("deploy"), "unchanged")
			require.Contains(t, p.tartine("verify", "--strays", "ignore"), "match")
			require.Equal(t, "mine\n", c.Read(name, "/srv/site/css/mine"))
			require.Equal(t, strings.Repeat("<h1>again", 1000), c.Read(name, "/srv/site/index.html"))
			running, _ = c.State(name)
			require.True(t, running, "it runs again, now at the latest")
		})
	}
}

// TestWhatAnArchiveLeftHalfDoneIsFinishedInAContainerThatRunsSince first, and then an agent goes on.
func TestWhatAnArchiveLeftHalfDoneIsFinishedInAContainerThatRunsSince(t *testing.T) {
	if testing.Short() {
		t.Skip("the program goes into a container")
	}
	var cut atomic.Bool
	c := enginetest.StandIn(t, engineserver.Options{Fault: func(r *http.Request) *engineserver.Fault {
		if cut.Load() && r.Method == http.MethodPut {
			return &engineserver.Fault{After: 9000}
		}
		return nil
	}})
	name := c.Run(enginetest.Wanted{})
	p := inEngine(t, c, static(t), "url: \"container://"+name+"/srv/site\"")
	p.write("public/css/old.css", "old")
	p.tartine("deploy")
	c.In(name, "sh", "-c", "echo mine >/srv/site/css/mine")
	c.Stop(name)
	require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "css", "old.css")))
	p.write("public/index.html", strings.Repeat("<h1>again", 1000))
	cut.Store(true)
	fails(p, 4)
	cut.Store(false)
	c.Start(name)
	require.Contains(t, p.tartine("deploy"), "did not all arrive")
	require.Equal(t, "mine\n", c.In(name, "cat", "/srv/site/css/mine"))
	require.Equal(t, strings.Repeat("<h1>again", 1000), c.In(name, "cat", "/srv/site/index.html"))
	p.write("public/index.html", "<h1>and again")
	require.Contains(t, p.tartine("deploy"), throughAgent)
	require.Contains(t, p.tartine("verify", "--strays", "ignore"), "match")
}

// TestAContainerThatAKilledDeploymentHadStopped is started by the next one, and by none that was not told to stop it.
func TestAContainerThatAKilledDeploymentHadStopped(t *testing.T) {
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	program := static(t)
	came, over := make(chan struct{}, 1), make(chan struct{})
	var hold atomic.Bool
	c := enginetest.StandIn(t, engineserver.Options{Fault: func(r *http.Request) *engineserver.Fault {
		if hold.Load() && r.Method == http.MethodPut {
			came <- struct{}{}
			<-over
			return &engineserver.Fault{}
		}
		return nil
	}})
	name := c.Run(enginetest.Wanted{StopSignal: "KILL"})
	p := inEngine(t, c, program, "while: stopped, url: \"container://"+name+"/srv/site\"")
	p.tartine("deploy")
	p.write("public/index.html", "<h1>again")
	hold.Store(true)
	cmd := exec.Command(program, "deploy")
	cmd.Dir, cmd.Env = p.dir, append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(p.dir, ".cache"))
	require.NoError(t, cmd.Start())
	<-came
	require.NoError(t, cmd.Process.Kill())
	require.Error(t, cmd.Wait())
	hold.Store(false)
	close(over)
	running, _ := c.State(name)
	require.False(t, running)

	other := newPlace(t, fmt.Sprintf("engine: %q, url: \"container://%s/srv/site\"", c.Address, name))
	other.program = program
	other.tartine("diff")
	running, _ = c.State(name)
	require.False(t, running, "whoever only looks starts nothing")
	require.Contains(t, p.tartine("deploy"), "and runs again")
	running, _ = c.State(name)
	require.True(t, running)
	require.Equal(t, "<h1>again", c.Read(name, "/srv/site/index.html"))
	c.Stop(name)
	p.write("public/index.html", "<h1>and again")
	require.NotContains(t, p.tartine("deploy"), "runs again", "this time somebody else stopped it")
}

// TestAServiceIsDeployedToAsAWhole deploys to all containers of a service, or to none.
func TestAServiceIsDeployedToAsAWhole(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	program := static(t)
	enginetest.Each(t, func(t *testing.T, e *enginetest.Engine) { aService(t, e, program) })
}

func aService(t *testing.T, c *enginetest.Engine, program string) {
	project := "rock" + strings.ToLower(rand.Text())
	var names []string
	for _, number := range []string{"1", "2", "3"} {
		service := "web"
		if number == "3" {
			service = "other"
		}
		names = append(names, c.Run(enginetest.Wanted{Labels: map[string]string{
			"com.docker.compose.project": project, "com.docker.compose.service": service, "com.docker.compose.container-number": number}}))
	}
	p := inEngine(t, c, program, "url: \"container://web@"+project+"/srv/site\"")
	said := p.tartine("deploy")
	require.Equal(t, 2, strings.Count(said, "deployment 1"), said)
	stands := func(name string) string {
		return c.In(name, "sh", "-c", "cat /srv/site/index.html 2>/dev/null || echo nothing")
	}
	require.Equal(t, []string{"<h1>", "<h1>", "nothing\n"}, []string{stands(names[0]), stands(names[1]), stands(names[2])})
	require.Equal(t, 2, strings.Count(p.tartine("verify"), "match"))
	require.Equal(t, 2, strings.Count(p.tartine("deploy", "--format", "json"), `"result": "unchanged"`))

	// The second cannot take what the first could: then neither has it.
	p.write("public/index.html", "<h1>again")
	p.write("public/in-the-way", "a file")
	c.In(names[1], "busybox", "mkdir", "/srv/site/in-the-way")
	c.In(names[1], "busybox", "touch", "/srv/site/in-the-way/of-it")
	status, said := p.try("deploy")
	require.Equal(t, 5, status, said)
	require.Contains(t, said, "restored    container "+names[0]+" has deployment 1 again")
	require.Equal(t, []string{"<h1>", "<h1>"}, []string{stands(names[0]), stands(names[1])})
	c.In(names[1], "busybox", "rm", "-r", "/srv/site/in-the-way")
	p.tartine("deploy")
	require.Equal(t, []string{"<h1>again", "<h1>again"}, []string{stands(names[0]), stands(names[1])})
	require.Equal(t, 2, strings.Count(p.tartine("rollback"), "deployed"))
	require.Equal(t, []string{"<h1>", "<h1>"}, []string{stands(names[0]), stands(names[1])})

	// Nor is one rolled back without the other.
	p.write("public/index.html", "<h1>and again")
	require.Contains(t, p.tartine("deploy"), "to container "+names[1]+" of rock")
	c.In(names[1], "sh", "-c", "echo edited >/srv/site/index.html")
	status, said = p.try("rollback")
	require.Equal(t, 5, status, said)
	require.Equal(t, []string{"<h1>and again", "edited\n"}, []string{stands(names[0]), stands(names[1])})

	p = inEngine(t, c, program, "url: \"container://wep@"+project+"/srv/site\"")
	status, said = p.try("deploy")
	require.Equal(t, 3, status, said)
	require.Contains(t, said, "web@"+project)
}

// TestContainersWithLimits has ones that are read-only, have memory disks, or may have little memory or few processes.
func TestContainersWithLimits(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("many containers")
	}
	e := enginetest.Own(t)
	at := func(name, root string) *place {
		p := newPlace(t, "url: \"container://"+name+root+"\"")
		p.program = static(t)
		return p
	}
	t.Run("the only place to write is the root", func(t *testing.T) {
		name := e.For(t).Run(enginetest.Wanted{ReadOnly: true, Volume: "/srv"})
		p := at(name, "/srv")
		said := p.tartine("deploy")
		require.Contains(t, said, "over archives")
		require.Contains(t, p.tartine("deploy"), "unchanged")
		require.Contains(t, p.tartine("history"), "1")
		p.try("doctor")
		require.Contains(t, p.tartine("verify"), "were read there first")
		require.Contains(t, p.tartine("verify"), "match", "the record is there")
		require.Equal(t, ".tartine\ncss\nindex.html\n", e.In(name, "busybox", "ls", "-A", "/srv"))
	})
	t.Run("a memory disk is the root", func(t *testing.T) {
		name := e.For(t).Run(enginetest.Wanted{ReadOnly: true, Memory: map[string]string{"/srv": ""}})
		status, said := at(name, "/srv/site").try("deploy")
		require.Equal(t, 3, status, said)
		require.Contains(t, said, "is on a memory disk")
		require.Contains(t, said, "tmpfs with exec")
		require.NotContains(t, said, "stage")
	})
	t.Run("a memory disk is the root, and on another one programs run", func(t *testing.T) {
		name := e.For(t).Run(enginetest.Wanted{ReadOnly: true, Memory: map[string]string{"/srv": "", "/tmp": "exec,mode=1777"}})
		p := at(name, "/srv/site")
		require.Contains(t, p.deploys(), throughAgent)
		require.Empty(t, e.In(name, "busybox", "ls", "-A", "/tmp"))
	})
	t.Run("little memory", func(t *testing.T) {
		name := e.For(t).Run(enginetest.Wanted{Limit: 32 << 20})
		p := at(name, "/srv/site")
		p.write("public/plate.webp", strings.Repeat("Gannet Rock ", 8<<20))
		require.Contains(t, p.deploys(), throughAgent)
	})
	t.Run("hardly any memory", func(t *testing.T) {
		name := e.For(t).Run(enginetest.Wanted{Limit: 12 << 20})
		require.Contains(t, at(name, "/srv/site").deploys(), "memory limit of 12 MB is too small")
	})
	t.Run("few processes", func(t *testing.T) {
		name := e.For(t).Run(enginetest.Wanted{Programs: 8})
		require.Contains(t, at(name, "/srv/site").deploys(), "limit of 8 processes is too small")
	})
	t.Run("paused", func(t *testing.T) {
		c := e.For(t)
		name := c.Run(enginetest.Wanted{})
		c.Pause(name)
		require.Contains(t, at(name, "/srv/site").tartine("deploy"), "is paused")
		c.Unpause(name)
	})
	t.Run("nothing can go from a root that is a mount", func(t *testing.T) {
		name := e.For(t).Make(enginetest.Wanted{Volume: "/srv"})
		p := at(name, "/srv")
		p.write("public/old.html", "<h1>")
		p.tartine("deploy")
		require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "old.html")))
		p.write("public/index.html", "<h1>again")
		status, said := p.try("deploy")
		require.Equal(t, 4, status, said)
		require.Contains(t, said, "old.html  ")
		require.Contains(t, said, "Nothing was published")
		require.NotContains(t, said, "publish  ")
	})
}

// TestNothingStaysHereOfARunThatWasKilled kills one that carries archives.
func TestNothingStaysHereOfARunThatWasKilled(t *testing.T) {
	t.Parallel()
	e := enginetest.StandIn(t, engineserver.Options{})
	name := e.Make(enginetest.Wanted{})
	p := newPlace(t, "url: \"container://"+name+"/srv/site\", engine: \""+e.Address+"\"")
	temporary := t.TempDir()
	left := func() []string {
		found, err := filepath.Glob(filepath.Join(temporary, "tartine-container-*"))
		require.NoError(t, err)
		return found
	}
	p.write("public/plate.webp", strings.Repeat("Gannet Rock ", 4<<20))
	run := func() *exec.Cmd {
		cmd := exec.Command(p.program, "deploy")
		cmd.Dir, cmd.Env = p.dir, append(os.Environ(), "TMPDIR="+temporary)
		return cmd
	}
	cmd := run()
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return len(left()) == 1 }, 10*time.Second, time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	require.Error(t, cmd.Wait())
	require.Len(t, left(), 1)
	out, err := run().CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Empty(t, left())
}
