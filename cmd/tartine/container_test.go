//go:build linux

package main

import (
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// containers runs containers of the machine's engine, from an image that holds nothing but a few programs.
type containers struct {
	t     *testing.T
	image string
}

func startContainers(t *testing.T) *containers {
	t.Helper()
	if exec.Command("docker", "info").Run() != nil {
		t.Skip("no container engine answers")
	}
	busybox, err := exec.LookPath("busybox")
	require.NoError(t, err)
	dir := t.TempDir()
	c := &containers{t, "tartine-" + strings.ToLower(filepath.Base(filepath.Dir(dir)))}
	shell(t, "cd %s && mkdir -p bin tmp srv usr/share/www && cp %s bin/busybox && for p in sleep cat sh stat; do ln bin/busybox bin/$p; done && chmod 1777 tmp && tar -c . | docker import - %s", dir, busybox, c.image)
	t.Cleanup(func() { _ = exec.Command("docker", "rmi", "-f", c.image).Run() })
	return c
}

// run starts a container and gives its name. Options and command are those of the engine's client.
func (c *containers) run(options string, command ...string) string {
	c.t.Helper()
	if len(command) == 0 {
		command = []string{"/bin/sleep", "600"}
	}
	name := "rock-" + strings.ToLower(rand.Text())
	args := append([]string{"run", "-d", "--network", "none", "--name", name}, strings.Fields(options)...)
	out, err := exec.Command("docker", append(append(args, c.image), command...)...).CombinedOutput()
	require.NoError(c.t, err, "%s", out)
	c.t.Cleanup(func() { _ = exec.Command("docker", "rm", "-f", "-v", name).Run() })
	return name
}

// in runs a program in a container.
func (c *containers) in(name string, command ...string) string {
	c.t.Helper()
	out, err := exec.Command("docker", append([]string{"exec", name}, command...)...).CombinedOutput()
	require.NoError(c.t, err, "%s", out)
	return string(out)
}

func TestContainers(t *testing.T) {
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	all := startContainers(t)
	program := static(t)
	place := func(t *testing.T, target string) *place {
		p := newPlace(t, target)
		p.program = program
		return p
	}
	with := func(t *testing.T) *containers { return &containers{t, all.image} }

	t.Run("one that runs", func(t *testing.T) {
		c := with(t)
		name := c.run("")
		p := place(t, "url: \"container://"+name+"/usr/share/site\"")
		require.Contains(t, p.deploys(), throughAgent)
		require.Contains(t, c.in(name, "cat", "/usr/share/site/index.html"), "again")
		require.Equal(t, "1\n", c.in(name, "sh", "-c", "busybox ls /tmp/.tartine | busybox wc -l"), "one copy of the program")
		p.fetches()
		require.Contains(t, p.tartine("doctor"), "nothing to mend")
		require.Contains(t, p.tartine("rollback"), "deployment 3")
	})
	t.Run("neither a shell nor a folder for temporary files", func(t *testing.T) {
		c := with(t)
		name := c.run("--entrypoint /bin/sleep", "600")
		c.in(name, "sh", "-c", "busybox rm -r /tmp; busybox rm /bin/sh")
		require.Contains(t, place(t, "url: \"container://"+name+"/srv/site\"").deploys(), throughAgent)
		require.Equal(t, "gone\n", c.in(name, "busybox", "sh", "-c", "test -e /.tartine || echo gone"))
	})
	t.Run("a root that cannot be written, and a volume", func(t *testing.T) {
		c := with(t)
		name := c.run("--read-only --volume /srv")
		require.Contains(t, place(t, "url: \"container://"+name+"/srv/site\"").deploys(), throughAgent)
		require.Equal(t, "gone\n", c.in(name, "sh", "-c", "test -e /srv/.tartine || echo gone"))
		_, err := c.fails(place(t, "url: \"container://"+name+"/usr/share/site\""), 3)
		require.Contains(t, err, "a volume")
	})
	t.Run("a volume that is the root", func(t *testing.T) {
		c := with(t)
		name := c.run("--volume /usr/share/www --tmpfs /tmp:noexec")
		require.Contains(t, place(t, "url: \"container://"+name+"/usr/share/www\"").deploys(), throughAgent)
		require.Equal(t, ".tartine\ncss\nindex.html\n", c.in(name, "busybox", "ls", "-A", "/usr/share/www"))
	})
	t.Run("an ordinary user, and an owner", func(t *testing.T) {
		c := with(t)
		name := c.run("--user 101:101")
		p := place(t, "owner: \"33:34\", url: \"container://"+name+"/srv/site\"")
		require.Contains(t, p.deploys(), throughAgent)
		require.Equal(t, "33:34 644\n33:34 644\n33:34 755\n", c.in(name, "stat", "-c", "%u:%g %a", "/srv/site/index.html", "/srv/site/css/rock.css", "/srv/site/css"))
	})
	t.Run("told of what was published", func(t *testing.T) {
		c := with(t)
		name := c.run("", "/bin/sh", "-c", `trap "echo told >>/tmp/told" HUP; while :; do busybox sleep 0.1; done`)
		p := place(t, "restart: \"signal:HUP\", url: \"container://"+name+"/srv/site\"")
		require.Contains(t, p.tartine("deploy"), "was sent HUP")
		require.NotContains(t, p.tartine("deploy"), "HUP", "nothing changed")
		require.Eventually(t, func() bool { return c.in(name, "sh", "-c", "cat /tmp/told || true") == "told\n" }, 30*time.Second, 50*time.Millisecond)
		p = place(t, "restart: true, url: \"container://"+name+"/srv/other\"")
		began := shell(t, "docker inspect -f '{{.State.StartedAt}}' %s", name)
		require.Contains(t, p.tartine("deploy"), "was restarted")
		require.NotEqual(t, began, shell(t, "docker inspect -f '{{.State.StartedAt}}' %s", name))
	})
	t.Run("none that can be used", func(t *testing.T) {
		c := with(t)
		name := c.run("")
		said, next := c.fails(place(t, "url: \"container://"+name[:len(name)-1]+"/srv/site\""), 3)
		require.Contains(t, said, "there is no container")
		require.Contains(t, next, "did you mean "+name)
		_, next = c.fails(place(t, "url: \"container://"+name+"/srv/deep/site\""), 2)
		require.Contains(t, next, "--make-root")
		said, next = c.fails(place(t, "engine: \"unix:///nowhere/engine.sock\", url: \"container://"+name+"/srv/site\""), 3)
		require.Contains(t, said, "no container engine answers at unix:///nowhere/engine.sock: no such file")
		require.Contains(t, next, "start the engine")
		shell(t, "docker pause %s", name)
		require.Contains(t, place(t, "url: \"container://"+name+"/srv/site\"").tartine("deploy"), "over archives: container "+name+" does not run")
		shell(t, "docker unpause %s", name)
	})
}

// fails deploys, which must end with a status, and gives the message and what to do next.
func (c *containers) fails(p *place, status int) (said, next string) {
	c.t.Helper()
	cmd := exec.Command(p.program, "deploy", "--quiet")
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(p.dir, ".cache"))
	out, err := cmd.CombinedOutput()
	require.Error(c.t, err, "%s", out)
	require.Equal(c.t, status, cmd.ProcessState.ExitCode(), "%s", out)
	said, next, _ = strings.Cut(string(out), "\nnext")
	return said, next
}

func TestContainersInWhichNothingRuns(t *testing.T) {
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	c, program := startContainers(t), static(t)
	stopped := func(t *testing.T, options string) (string, *containers) {
		c := &containers{t, c.image}
		name := c.run(options)
		shell(t, "docker stop -t 0 %s", name)
		return name, c
	}
	for name, options := range map[string]string{"a stopped one": "", "a stopped one with a volume": "--volume /srv"} {
		t.Run(name, func(t *testing.T) {
			name, c := stopped(t, options)
			p := newPlace(t, "owner: \"33:34\", url: \"container://"+name+"/srv/site\"")
			p.program = program
			p.write("public/old.txt", "old")
			require.Contains(t, p.tartine("deploy"), "read back from the container")
			require.Contains(t, p.tartine("deploy"), "unchanged")
			require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "old.txt")))
			p.write("public/index.html", "<h1>again")
			require.NoError(t, os.Symlink("index.html", filepath.Join(p.dir, "public", "home")))
			require.Contains(t, p.tartine("deploy"), "1 removed")
			require.Contains(t, p.tartine("verify"), "match")
			require.Contains(t, p.tartine("rollback"), "deployment 3")
			require.Contains(t, p.tartine("rollback", "2"), "deployment 4")
			shell(t, "docker start %s", name)
			require.Equal(t, "css\nhome\nindex.html\n", c.in(name, "busybox", "ls", "-A", "/srv/site"))
			require.Equal(t, "33:34 644\n33:34 755\n", c.in(name, "stat", "-c", "%u:%g %a", "/srv/site/index.html", "/srv/site/css"))
			require.Contains(t, p.tartine("deploy"), "unchanged", "an agent finds it as it was left")
			require.Contains(t, p.tartine("verify"), "match")
			require.Equal(t, ".site.tartine\nsite\n", c.in(name, "busybox", "ls", "-A", "/srv"))
		})
	}
	t.Run("one that is stopped meanwhile", func(t *testing.T) {
		c := &containers{t, c.image}
		name := c.run("--stop-signal KILL")
		p := newPlace(t, "while: stopped, url: \"container://"+name+"/srv/site\"")
		began := shell(t, "docker inspect -f '{{.State.StartedAt}}' %s", name)
		require.Contains(t, p.tartine("deploy"), "was stopped for")
		require.NotEqual(t, began, shell(t, "docker inspect -f '{{.State.StartedAt}}' %s", name))
		require.Equal(t, "<h1>", c.in(name, "cat", "/srv/site/index.html"))
		began = shell(t, "docker inspect -f '{{.State.StartedAt}}' %s", name)
		require.Contains(t, p.tartine("deploy"), "unchanged")
		require.Equal(t, began, shell(t, "docker inspect -f '{{.State.StartedAt}}' %s", name), "for nothing it is not stopped")
	})
	t.Run("one that is started again although it failed", func(t *testing.T) {
		c := &containers{t, c.image}
		name := c.run("--stop-signal KILL --volume /srv/site")
		p := newPlace(t, "while: stopped, url: \"container://"+name+"/srv/site\"")
		p.write("public/old.txt", "old")
		p.tartine("deploy")
		require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "old.txt")))
		status, said := p.try("deploy") // the root is a mount, which cannot be taken away and made anew
		require.NotZero(t, status, said)
		require.Equal(t, "true\n", shell(t, "docker inspect -f '{{.State.Running}}' %s", name))
	})
}

// TestAServiceIsDeployedToAsAWhole deploys to all containers of a service, or to none.
func TestAServiceIsDeployedToAsAWhole(t *testing.T) {
	if testing.Short() {
		t.Skip("the program goes into many containers")
	}
	c := startContainers(t)
	project := "rock" + strings.ToLower(rand.Text())
	var names []string
	for _, number := range []string{"1", "2", "3"} {
		service := "web"
		if number == "3" {
			service = "other"
		}
		names = append(names, c.run("--label com.docker.compose.project="+project+" --label com.docker.compose.service="+service+" --label com.docker.compose.container-number="+number))
	}
	p := newPlace(t, "url: \"container://web@"+project+"/srv/site\"")
	p.program = static(t)
	said := p.tartine("deploy")
	require.Equal(t, 2, strings.Count(said, "deployment 1"), said)
	stands := func(name string) string {
		return c.in(name, "sh", "-c", "cat /srv/site/index.html 2>/dev/null || echo nothing")
	}
	require.Equal(t, []string{"<h1>", "<h1>", "nothing\n"}, []string{stands(names[0]), stands(names[1]), stands(names[2])})
	require.Equal(t, 2, strings.Count(p.tartine("verify"), "match"))
	require.Equal(t, 2, strings.Count(p.tartine("deploy", "--format", "json"), `"result": "unchanged"`))

	// The second cannot take what the first could: then neither has it.
	p.write("public/index.html", "<h1>again")
	p.write("public/in-the-way", "a file")
	c.in(names[1], "busybox", "mkdir", "/srv/site/in-the-way")
	c.in(names[1], "busybox", "touch", "/srv/site/in-the-way/of-it")
	status, said := p.try("deploy")
	require.Equal(t, 5, status, said)
	require.Contains(t, said, "taken back  container "+names[0]+" has deployment 1 again")
	require.Equal(t, []string{"<h1>", "<h1>"}, []string{stands(names[0]), stands(names[1])})
	c.in(names[1], "busybox", "rm", "-r", "/srv/site/in-the-way")
	p.tartine("deploy")
	require.Equal(t, []string{"<h1>again", "<h1>again"}, []string{stands(names[0]), stands(names[1])})
	require.Equal(t, 2, strings.Count(p.tartine("rollback"), "deployed"))
	require.Equal(t, []string{"<h1>", "<h1>"}, []string{stands(names[0]), stands(names[1])})

	p = newPlace(t, "url: \"container://wep@"+project+"/srv/site\"")
	status, said = p.try("deploy")
	require.Equal(t, 3, status, said)
	require.Contains(t, said, "web@"+project)
}
