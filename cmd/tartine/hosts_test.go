//go:build linux

package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/ftptest"
)

// host is a place at a server with a script among its content.
func host(t *testing.T, server *ftptest.Server, scheme, more string) *place {
	if scheme == "ftps" {
		more += pinned(server)
	} else {
		more += ", insecure: true"
	}
	p := newPlace(t, ftpTarget(scheme, server, more))
	p.write("public/run.sh", "#!/bin/sh\n")
	require.NoError(t, os.Chmod(filepath.Join(p.dir, "public", "run.sh"), 0o755))
	long := time.Date(2025, 5, 1, 6, 30, 15, 0, time.UTC)
	for _, name := range []string{"run.sh", "index.html", "css/rock.css"} {
		require.NoError(t, os.Chtimes(filepath.Join(p.dir, "public", name), long, long))
	}
	p.write("tartine.yaml", strings.Replace(p.read("tartine.yaml"), "content:", "modes: keep\ncontent:", 1))
	return p
}

func (p *place) read(name string) string {
	p.t.Helper()
	text, err := os.ReadFile(filepath.Join(p.dir, name))
	require.NoError(p.t, err)
	return string(text)
}

// leftovers gives the locks in a record at a server.
func leftovers(t *testing.T, server *ftptest.Server) (left []string) {
	t.Helper()
	left, err := filepath.Glob(filepath.Join(server.Dir, "*htdocs*tartine", "lock*"))
	require.NoError(t, err)
	hidden, err := filepath.Glob(filepath.Join(server.Dir, ".*htdocs*tartine", "lock*"))
	require.NoError(t, err)
	return append(left, hidden...)
}

// TestHostsOfThreeMakes deploys, changes, fetches, verifies and rolls back at servers as hosts set them up.
func TestHostsOfThreeMakes(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("many servers")
	}
	no := func(what string) string { return "the server did not set the " + what }
	for name, h := range map[string]struct {
		start  func(t *testing.T) *ftptest.Server
		scheme string
		says   []string // in the first deployment
		doctor string
		mode   os.FileMode // of the script
		dated  bool        // times are set
	}{
		"vsftpd":                    {func(t *testing.T) *ftptest.Server { return ftptest.StartVsftpd(t, ftptest.VsftpdTLS...) }, "ftps", nil, "can be set", 0o755, true},
		"vsftpd without modes":      {func(t *testing.T) *ftptest.Server { return ftptest.StartVsftpd(t, "chmod_enable=NO") }, "ftp", []string{no("mode of 1 file")}, "cannot be set", 0o644, true},
		"vsftpd without times":      {func(t *testing.T) *ftptest.Server { return ftptest.StartVsftpd(t, "mdtm_write=NO") }, "ftp", []string{no("time of 3 files")}, "can be set", 0o755, false},
		"pure-ftpd":                 {func(t *testing.T) *ftptest.Server { return ftptest.StartPure(t, ftptest.PureTLS...) }, "ftps", nil, "can be set", 0o755, true},
		"pure-ftpd, modes refused":  {func(t *testing.T) *ftptest.Server { return ftptest.StartPure(t, "--nochmod") }, "ftp", []string{no("mode of 1 file")}, "cannot be set", 0o644, true},
		"pure-ftpd, no dots":        {func(t *testing.T) *ftptest.Server { return ftptest.StartPure(t, "--prohibitdotfileswrite") }, "ftp", nil, "under a name without a dot", 0o755, true},
		"ProFTPD, encoding refused": {func(t *testing.T) *ftptest.Server { return ftptest.Start(t, "UseEncoding off") }, "ftp", nil, "can be set", 0o755, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := h.start(t)
			p := host(t, server, h.scheme, "")
			said := p.tartine("deploy")
			for _, what := range h.says {
				require.Equal(t, 1, strings.Count(said, what), said)
			}
			if h.says == nil {
				require.NotContains(t, said, "did not set")
			}
			info, err := os.Stat(filepath.Join(server.Dir, "htdocs", "run.sh"))
			require.NoError(t, err)
			require.Equal(t, h.mode, info.Mode().Perm())
			require.Equal(t, h.dated, info.ModTime().Year() == 2025, info.ModTime())
			for range 2 {
				require.Contains(t, p.tartine("deploy"), "unchanged")
			}
			require.Contains(t, p.tartine("verify"), "match")
			p.write("public/index.html", "<h1>again")
			require.Contains(t, p.tartine("deploy"), "1 file, 9 B sent")
			require.Contains(t, p.tartine("fetch", "--into", "back"), "fetched     3 files")
			require.Equal(t, "<h1>again", p.read("back/index.html"))
			require.Contains(t, p.tartine("rollback"), "deployment 3")
			text, err := os.ReadFile(filepath.Join(server.Dir, "htdocs", "index.html"))
			require.NoError(t, err)
			require.Equal(t, "<h1>", string(text))
			require.Empty(t, leftovers(t, server))
			status, said := p.try("doctor")
			require.Contains(t, said, h.doctor)
			require.LessOrEqual(t, status, 1, said)
		})
	}
}

// TestWhatAHostForbidsIsNamedAtOnce has servers that refuse what cannot be done without.
func TestWhatAHostForbidsIsNamedAtOnce(t *testing.T) {
	t.Parallel()
	for line, names := range map[string]string{"dirlist_enable=NO": "to be listed", "pasv_enable=NO": "allows no transfers"} {
		t.Run(line, func(t *testing.T) {
			server := ftptest.StartVsftpd(t, line)
			p := host(t, server, "ftp", "")
			began := time.Now()
			status, said := p.try("deploy")
			require.Equal(t, 3, status, said)
			require.Contains(t, said, names)
			require.Contains(t, said, "550")
			require.Less(t, time.Since(began), 5*time.Second)
		})
	}
}

// TestNamesThatAHostAlters are found before anything is sent.
func TestNamesThatAHostAlters(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{"a\tb.html": `"\t"`, "back\\slash.html": `"\\"`} {
		server := ftptest.StartPure(t)
		p := host(t, server, "ftp", "")
		p.write("public/"+name, "odd")
		status, said := p.try("deploy")
		require.Equal(t, 4, status, said)
		require.Contains(t, said, "does not hold "+want)
		require.NoFileExists(t, filepath.Join(server.Dir, "htdocs", "index.html"))
		require.NoError(t, os.Remove(filepath.Join(p.dir, "public", name)))
		p.tartine("deploy")
	}
	server := ftptest.StartPure(t, "--prohibitdotfileswrite")
	p := host(t, server, "ftp", "")
	p.write("public/.htaccess", "deny")
	status, said := p.try("deploy")
	require.Equal(t, 4, status, said)
	require.Contains(t, said, "'.' at the beginning")
}

// TestAlterationsThatKeepTheirSizeAreSeen edits files at a host whose listings have times to the minute, or to the day.
func TestAlterationsThatKeepTheirSizeAreSeen(t *testing.T) {
	t.Parallel()
	server := ftptest.StartVsftpd(t, "mdtm_write=NO")
	p := host(t, server, "ftp", "")
	p.tartine("deploy")
	require.Contains(t, p.tartine("deploy"), "unchanged")
	edited := filepath.Join(server.Dir, "htdocs", "css", "rock.css")
	for _, when := range []time.Duration{0, time.Hour, 40 * 24 * time.Hour, 300 * 24 * time.Hour} {
		require.NoError(t, os.WriteFile(edited, fmt.Appendf(nil, "h%d {}", when%7+2), 0o644))
		require.NoError(t, os.Chtimes(edited, time.Now().Add(when), time.Now().Add(when)))
		require.Contains(t, p.tartine("diff"), "drifted: altered at the site", when)
	}
}

// TestAFirstLookReadsNothing counts what a look sends that follows a deployment at once, by the log of the server.
func TestAFirstLookReadsNothing(t *testing.T) {
	t.Parallel()
	server := ftptest.StartVsftpd(t)
	p := host(t, server, "ftp", "")
	for i := range 40 {
		name := fmt.Sprintf("public/page-%d.html", i)
		p.write(name, "<h1>")
		lately := time.Now().Add(-10 * time.Second) // too young for listings that tell the minute
		require.NoError(t, os.Chtimes(filepath.Join(p.dir, name), lately, lately))
	}
	p.tartine("deploy")
	before := server.Log(t)
	require.Contains(t, p.tartine("deploy"), "unchanged")
	asked := strings.TrimPrefix(server.Log(t), before)
	for _, line := range strings.Split(asked, "\n") {
		require.False(t, strings.Contains(line, `"RETR`) && strings.Contains(line, "/htdocs/"), line)
	}
	require.Equal(t, 40, strings.Count(asked, "/htdocs/page-"), "each is named once")
}

// TestAFolderThatMayNotBeReadIsPassedOver has a stray one, and one where something is to go.
func TestAFolderThatMayNotBeReadIsPassedOver(t *testing.T) {
	t.Parallel()
	server := ftptest.Start(t)
	p := host(t, server, "ftp", "")
	p.tartine("deploy")
	shut := filepath.Join(server.Dir, "htdocs", "stats")
	require.NoError(t, os.Mkdir(shut, 0o700)) // of root
	p.write("public/index.html", "<h1>again")
	said := p.tartine("deploy")
	require.Contains(t, said, "the folder stats may not be read and is left alone")
	require.Contains(t, said, "1 file, 9 B sent")
	require.Contains(t, p.tartine("verify", "--strays", "ignore"), "match")
	require.NoError(t, os.Mkdir(filepath.Join(p.dir, "public", "stats"), 0o755))
	p.write("public/stats/index.html", "<h1>")
	status, said := p.try("deploy")
	require.NotZero(t, status)
	require.Contains(t, said, "its folder stats may not be read, and stats/index.html belongs into it")
	require.DirExists(t, shut)
}

// TestAQuotaLeavesNoLock fills what a user may store to the last byte, so that even a lock is cut short.
func TestAQuotaLeavesNoLock(t *testing.T) {
	t.Parallel()
	server := ftptest.StartPure(t, "--quota=1000:1")
	p := host(t, server, "ftp", "")
	p.tartine("deploy")
	used := func(bytes int) { // as the server notes it
		require.NoError(t, os.WriteFile(filepath.Join(server.Dir, ".ftpquota"), fmt.Appendf(nil, "20 %d\n", bytes), 0o644))
		require.NoError(t, os.Chown(filepath.Join(server.Dir, ".ftpquota"), ftptest.UserID, ftptest.UserID))
	}
	refused := 0
	for left := 0; left < 2000; left += 100 {
		used(1<<20 - left)
		p.write("public/index.html", strings.Repeat("again ", 1000+left))
		status, said := p.try("deploy")
		if status == 0 {
			continue
		}
		refused++
		require.Contains(t, said, "no room left", left)
		require.Empty(t, leftovers(t, server), "%d bytes were left: %s", left, said)
	}
	require.Greater(t, refused, 10)
	used(0)
	p.tartine("deploy")
	require.Contains(t, p.tartine("verify"), "match")
}

// makes are the three servers, each with settings of its own.
func makes(proftpd, vsftpd, pure []string) map[string]func(t *testing.T) *ftptest.Server {
	return map[string]func(t *testing.T) *ftptest.Server{
		"ProFTPD": func(t *testing.T) *ftptest.Server { return ftptest.Start(t, append(ftptest.TLS(t), proftpd...)...) },
		"vsftpd": func(t *testing.T) *ftptest.Server {
			return ftptest.StartVsftpd(t, append(ftptest.VsftpdTLS, vsftpd...)...)
		},
		"pure-ftpd": func(t *testing.T) *ftptest.Server { return ftptest.StartPure(t, append(ftptest.PureTLS, pure...)...) },
	}
}

// TestAHostThatEndsIdleConnections has a run go on for longer than they may be idle: one file takes its time. (Of pure-ftpd the least is
// a minute.)
func TestAHostThatEndsIdleConnections(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("it waits")
	}
	for name, start := range makes([]string{"TimeoutIdle 2", "TimeoutNoTransfer 2"}, []string{"idle_session_timeout=2", "data_connection_timeout=30"}, nil) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := host(t, start(t), "ftps", "")
			p.write("public/plate.webp", strings.Repeat("Gannet Rock ", 10_000))
			require.Contains(t, p.tartine("deploy", "--limit-rate", "30kB/s"), "deployment 1")
			require.Contains(t, p.tartine("verify"), "match")
		})
	}
}

// TestInterruptedAtAHost stops the program while it sends.
func TestInterruptedAtAHost(t *testing.T) {
	t.Parallel()
	for name, start := range makes(nil, nil, nil) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := start(t)
			p := host(t, server, "ftps", "")
			p.tartine("deploy")
			p.write("public/plate.webp", strings.Repeat("Gannet Rock ", 40_000))
			p.write("public/index.html", "<h1>again")
			cmd := exec.Command(p.program, "deploy", "--limit-rate", "100kB/s")
			cmd.Dir, cmd.Env = p.dir, append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(p.dir, ".cache"))
			var said bytes.Buffer
			cmd.Stderr = &said
			require.NoError(t, cmd.Start())
			require.Eventually(t, func() bool {
				begun, err := filepath.Glob(filepath.Join(server.Dir, ".htdocs.tartine", "incoming", "*", "*"))
				return err == nil && len(begun) > 0
			}, 10*time.Second, 10*time.Millisecond)
			require.NoError(t, cmd.Process.Signal(os.Interrupt))
			require.Error(t, cmd.Wait())
			require.Equal(t, 130, cmd.ProcessState.ExitCode(), said.String())
			require.Empty(t, leftovers(t, server), said.String())
			text, err := os.ReadFile(filepath.Join(server.Dir, "htdocs", "index.html"))
			require.NoError(t, err)
			require.Equal(t, "<h1>", string(text))
			require.Contains(t, p.tartine("deploy"), "deployment 2")
			require.Contains(t, p.tartine("verify"), "match")
		})
	}
}

// TestARollbackWithoutAllThatWasKept names what somebody removed, and publishes the rest when that is wanted.
func TestARollbackWithoutAllThatWasKept(t *testing.T) {
	t.Parallel()
	for name, start := range makes(nil, nil, nil) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := start(t)
			p := host(t, server, "ftps", "")
			p.tartine("deploy")
			p.write("public/index.html", "<h1>again")
			p.write("public/css/rock.css", "h1 {color: navy}")
			p.tartine("deploy")
			sum := digestOf("<h1>")
			require.NoError(t, os.Remove(filepath.Join(server.Dir, ".htdocs.tartine", "kept", sum[:2], sum)))
			status, said := p.try("rollback")
			require.Equal(t, 5, status, said)
			require.Contains(t, said, "index.html")
			require.NotContains(t, said, "css/rock.css")
			status, said = p.try("rollback", "--publish-partial")
			require.Equal(t, 4, status, said)
			require.Contains(t, said, "its content is no longer kept")
			for file, want := range map[string]string{"index.html": "<h1>again", "css/rock.css": "h1 {}"} {
				text, err := os.ReadFile(filepath.Join(server.Dir, "htdocs", file))
				require.NoError(t, err)
				require.Equal(t, want, string(text))
			}
		})
	}
}
