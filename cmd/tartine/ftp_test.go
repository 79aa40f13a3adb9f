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

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/ftptest"
)

func ftpTarget(scheme string, server *ftptest.Server, more string) string {
	return fmt.Sprintf("url: \"%s://%s@127.0.0.1:%d/htdocs\", password: {env: ROCK_PASSWORD}%s", scheme, ftptest.User, server.Port, more)
}

func pinned(server *ftptest.Server) string {
	return fmt.Sprintf(", certificate: %q", server.Certificate)
}

// try runs the program and gives its status and what it said.
func (p *place) try(args ...string) (int, string) {
	p.t.Helper()
	cmd := exec.Command(p.program, args...)
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(p.dir, ".cache"))
	out, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		require.NoError(p.t, err)
	}
	return cmd.ProcessState.ExitCode(), p.words(out)
}

func TestRentedHosts(t *testing.T) {
	t.Setenv("ROCK_PASSWORD", ftptest.Password)
	for name, lines := range map[string][]string{"digests": append(ftptest.TLS(t), ftptest.Digests...), "neither digests nor times": append(ftptest.TLS(t), "FactsAdvertise off")} {
		if testing.Short() && name != "digests" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			server := ftptest.Start(t, lines...)
			p := newPlace(t, ftpTarget("ftps", server, pinned(server)))
			said := p.deploys()
			if name == "digests" {
				require.Contains(t, said, "HASH at the far end")
			} else {
				require.Contains(t, said, "read back")
			}
			p.fetches()
			status, said := p.try("deploy", "--compare", "time")
			require.Zero(t, status, said)
			require.Contains(t, said, "unchanged")
			require.Contains(t, p.tartine("rollback"), "deployment 3")
			text, err := os.ReadFile(filepath.Join(server.Dir, "htdocs", "index.html"))
			require.NoError(t, err)
			require.Equal(t, "<h1>", string(text))
			_, said = p.try("doctor")
			require.Contains(t, said, "private (TLS)")
			require.NoError(t, os.WriteFile(filepath.Join(server.Dir, "htdocs", "css", "rock.css"), []byte("edited there, and longer"), 0o644))
			status, said = p.try("verify")
			require.Equal(t, 1, status, said)
			require.Contains(t, said, "css/rock.css")
			status, said = p.try("deploy")
			require.Equal(t, 5, status, said)
		})
	}
	if testing.Short() {
		return
	}
	t.Run("a certificate that nobody vouches for", func(t *testing.T) {
		server := ftptest.Start(t, ftptest.TLS(t)...)
		status, said := newPlace(t, ftpTarget("ftps", server, "")).try("deploy")
		require.Equal(t, 5, status, said)
		require.Contains(t, said, "certificate: "+server.Certificate)
		status, said = newPlace(t, ftpTarget("ftps", server, "")).try("deploy", "--fingerprint", server.Certificate)
		require.Zero(t, status, said)
		other := *server
		other.Certificate = "SHA256:" + strings.Repeat("0", 64)
		status, said = newPlace(t, ftpTarget("ftps", server, pinned(&other))).try("deploy")
		require.Equal(t, 5, status, said)
		require.Contains(t, said, "somebody else answers")
	})
	t.Run("in the clear", func(t *testing.T) {
		server := ftptest.Start(t)
		status, said := newPlace(t, ftpTarget("ftp", server, "")).try("deploy")
		require.Equal(t, 5, status, said)
		require.Contains(t, said, "insecure: true")
		status, said = newPlace(t, ftpTarget("ftp", server, "")).try("deploy", "--insecure", "--dry-run")
		require.Zero(t, status, said)
		p := newPlace(t, ftpTarget("ftp", server, ", insecure: true"))
		require.Equal(t, 1, strings.Count(p.deploys(), "cross the connection"))
		require.NoError(t, os.Symlink("index.html", filepath.Join(p.dir, "public", "link")))
		status, said = p.try("deploy")
		require.Equal(t, 5, status, said)
		require.Contains(t, said, "link  (a link)")
		t.Setenv("ROCK_PASSWORD", "puffin")
		status, said = p.try("deploy")
		require.Equal(t, 3, status, said)
		require.Contains(t, said, "does not accept the login of user warden")
	})
	t.Run("a record that can only lie inside", func(t *testing.T) {
		server := ftptest.Start(t)
		require.NoError(t, os.Mkdir(filepath.Join(server.Dir, "htdocs"), 0o755))
		require.NoError(t, os.Chown(filepath.Join(server.Dir, "htdocs"), ftptest.UserID, ftptest.UserID))
		require.NoError(t, os.Chown(server.Dir, 0, 0))
		p := newPlace(t, ftpTarget("ftp", server, ", insecure: true"))
		p.deploys()
		require.FileExists(t, filepath.Join(server.Dir, "htdocs", ".tartine", ".htaccess"))
	})
	t.Run("a quota", func(t *testing.T) {
		server := ftptest.Start(t, ftptest.Quota(t, 40<<10)...)
		p := newPlace(t, ftpTarget("ftp", server, ", insecure: true"))
		p.write("public/plate.svg", string(bytes.Repeat([]byte("x"), 100<<10)))
		status, said := p.try("deploy")
		require.Equal(t, 4, status, said)
		require.Contains(t, said, "plate.svg")
		require.Contains(t, said, "no room left")
		require.NoDirExists(t, filepath.Join(server.Dir, "htdocs"), "nothing was published")
		require.NoError(t, os.Remove(filepath.Join(p.dir, "public", "plate.svg")))
		require.Contains(t, p.tartine("deploy"), "sent earlier")
	})
}
