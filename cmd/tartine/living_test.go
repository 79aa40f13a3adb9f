//go:build linux

package main

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/enginetest"
	"tartine/internal/testservers/ftptest"
	"tartine/internal/testservers/sshdtest"
)

// TestLivingWithASite does what people do at the far end between two deployments, over every kind of target.
func TestLivingWithASite(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("many kinds of target")
	}
	server := sshdtest.Start(t)
	name, _ := sshdtest.AccountWith(t, "/usr/bin/fish") // whose words are not those of sh
	home := homeOf(t, name)
	over := func(scheme string) string {
		return strings.Replace(login(server, name, home+"/"+scheme), "ssh://", scheme+"://", 1)
	}
	t.Run("ssh", func(t *testing.T) { t.Parallel(); livesThere(newPlace(t, over("ssh")+saysWhatChanged), true) })
	t.Run("sftp", func(t *testing.T) { t.Parallel(); livesThere(newPlace(t, over("sftp")), false) })
	t.Run("a folder", func(t *testing.T) { t.Parallel(); livesThere(newPlace(t, "url: ./site"+saysWhatChanged), true) })
	t.Run("a folder that is switched", func(t *testing.T) {
		t.Parallel()
		livesThere(newPlace(t, "url: ./switched, publish: switch"+saysWhatChanged), true)
	})
	t.Run("ftps", func(t *testing.T) {
		t.Parallel()
		host := ftptest.Start(t, ftptest.TLS(t)...)
		livesThere(newPlace(t, ftpTarget("ftps", host, pinned(host))), false)
	})
	t.Run("a program that leads to a shell", func(t *testing.T) {
		t.Parallel()
		livesThere(newPlace(t, "url: "+home+"/through, command: [setpriv, --reuid, "+name+", --regid, "+name+", --clear-groups, --reset-env, sh]"+saysWhatChanged), true)
	})
	t.Run("a container", func(t *testing.T) {
		t.Parallel()
		enginetest.Each(t, func(t *testing.T, e *enginetest.Engine) {
			container := e.Run(enginetest.Wanted{})
			livesThere(inEngine(t, e, static(t), "url: \"container://"+container+"/srv/site\""+saysWhatChanged), true)
		})
	})
	t.Run("a container that does not run", func(t *testing.T) {
		t.Parallel()
		enginetest.Each(t, func(t *testing.T, e *enginetest.Engine) {
			container := e.Make(enginetest.Wanted{})
			livesThere(inEngine(t, e, static(t), "url: \"container://"+container+"/srv/site\""), false)
		})
	})
}

// saysWhatChanged has a command at the far end say what it knows.
const saysWhatChanged = `, after_publish: [{there: 'echo $TARTINE_WHEN $TARTINE_DEPLOYMENT in $TARTINE_ROOT; tail -n 1 "$TARTINE_CHANGED"'}]`

// livesThere uses a site. Runs tells that programs can be run there.
func livesThere(p *place, runs bool) {
	t := p.t
	t.Helper()
	fails := func(want int, words string, args ...string) {
		t.Helper()
		status, said := p.try(args...)
		require.Equal(t, want, status, "%v: %s", args, said)
		require.Contains(t, said, words, "%v", args)
	}
	p.write("public/draft.html", "<h1>draft")
	status, said := p.try("deploy")
	require.Zero(t, status, said)
	if runs {
		require.Contains(t, said, "| after_publish 1 in /")
		require.Contains(t, said, "| new index.html")
		require.Contains(t, p.tartine("history", "1"), "| new index.html")
	}
	require.Contains(t, p.tartine("ls", "--long"), "index.html")
	require.Contains(t, p.tartine("find", "--name", "*.css"), "css/rock.css\n")
	require.Contains(t, p.tartine("cat", "index.html"), "<h1>")
	require.Contains(t, p.tartine("usage"), "the record")

	p.write("guide.txt", "one guide")
	p.tartine("send", "guide.txt", "--to", "downloads")
	require.Contains(t, p.tartine("ls", "downloads", "--long"), "sent by hand")
	p.tartine("mkdir", "tides")
	p.tartine("mv", "draft.html", "tides/2027.html")
	require.Contains(t, p.tartine("cat", "tides/2027.html"), "<h1>draft")
	p.tartine("edit", "index.html")
	require.Contains(t, p.tartine("cat", "index.html"), "<h1><p>edited")
	p.tartine("rm", "css/rock.css")
	fails(2, "css/rock.css does not exist", "cat", "css/rock.css")

	// What was done there goes home.
	require.Contains(t, p.tartine("adopt", "--yes"), "3 paths written here, 2 removed here")
	require.Equal(t, "<h1><p>edited", p.read("public/index.html"))
	require.Equal(t, "one guide", p.read("public/downloads/guide.txt"))
	require.NoFileExists(t, filepath.Join(p.dir, "public", "draft.html"))
	p.tartine("diff", "--exit-code")
	p.tartine("deploy", "--yes")
	p.tartine("verify")

	if runs {
		require.Equal(t, "it's <h1>\n", p.tartine("run", "--", "sh", "-c", `echo "$1 $(head -c 4 index.html)"`, "sh", "it's"))
		status, _ := p.try("run", "--", "sh", "-c", "exit 7")
		require.Equal(t, 7, status)
		p.interruptsThere()
	} else {
		status, said := p.try("run", "--", "ls")
		require.Contains(t, []int{2, 3}, status, said)
	}

	fails(5, "no terminal to ask", "wipe")
	require.Contains(t, p.tartine("cat", "index.html"), "<h1><p>edited")
	require.Contains(t, p.tartine("wipe", "--yes-remove", "rock"), "wiped")
	fails(2, "no deployment is recorded", "wipe", "--yes-remove", "rock")
	require.Contains(t, p.tartine("deploy"), "deployment 1")
}

// interruptsThere interrupts a program that runs at the target.
func (p *place) interruptsThere() {
	t := p.t
	t.Helper()
	cmd := exec.Command(p.program, "run", "--", "sh", "-c", "echo ready; exec sleep 600")
	cmd.Dir, cmd.Env = p.dir, append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(p.dir, ".cache"))
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "ready\n", line)
	began := time.Now()
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.Error(t, cmd.Wait())
	require.Equal(t, 128+2, cmd.ProcessState.ExitCode())
	require.Less(t, time.Since(began), 8*time.Second, "it need not be ended by force")
}
