package main

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestSourcesOnTheWeb deploys files and archives that a server gives over https.
func TestSourcesOnTheWeb(t *testing.T) {
	t.Parallel()
	var plates bytes.Buffer
	w := zip.NewWriter(&plates)
	for _, name := range []string{"plates/gannet.svg", "plates/puffin.svg", "notes.txt"} {
		out, err := w.Create(name)
		require.NoError(t, err)
		_, err = fmt.Fprint(out, name)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	asked := 0
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		switch r.URL.Path {
		case "/v3/plates.zip":
			w.Header().Set("Etag", `"three"`)
			http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(plates.Bytes()))
		case "/latest/plates.zip":
			http.Redirect(w, r, "/v3/plates.zip", http.StatusFound)
		case "/clear":
			http.Redirect(w, r, "http://"+r.Host+"/v3/plates.zip", http.StatusFound)
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(server.Close)
	dir := t.TempDir()
	trusted := filepath.Join(dir, "ca.pem")
	require.NoError(t, os.WriteFile(trusted, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o644))
	digest := fmt.Sprintf("sha256:%x", sha256.Sum256(plates.Bytes()))
	run := func(status int, args ...string) string {
		t.Helper()
		cmd := exec.Command("tartine", args...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(dir, ".cache"), "SSL_CERT_FILE="+trusted, "NO_PROXY=")
		out, err := cmd.CombinedOutput()
		require.Equal(t, status, cmd.ProcessState.ExitCode(), "%s %v", out, err)
		return string(out)
	}
	settings := func(content string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "tartine.yaml"), []byte("content: ["+content+"]\ntargets: {here: {url: site}}\n"), 0o644))
	}
	address := server.URL + "/v3/plates.zip"

	// Without a digest it says which one came, and what to add.
	settings("{source: " + address + ", unpack: true, inside: plates, dest: img}")
	out := run(5, "deploy", "--yes")
	require.Contains(t, out, digest)
	require.Contains(t, out, "add beside the source")
	require.NoFileExists(t, filepath.Join(dir, "site"))
	settings("{source: " + address + ", unpack: true, inside: plates, dest: img, digest: \"" + digest + "\"}")
	before := asked
	require.Contains(t, run(0, "deploy", "--yes"), "from the cache")
	require.Equal(t, before, asked, "what is pinned and known is not asked for")
	require.FileExists(t, filepath.Join(dir, "site", "img", "gannet.svg"))
	require.Contains(t, run(0, "explain", "img/gannet.svg"), address+": plates/gannet.svg")

	// As one file, under another name; through a redirect, which is shown.
	settings("{source: " + server.URL + "/latest/plates.zip, name: all.zip, dest: downloads, digest: any}")
	out = run(0, "deploy", "--yes")
	require.Contains(t, out, "leads on to "+address)
	require.Contains(t, out, "anew")
	text, err := os.ReadFile(filepath.Join(dir, "site", "downloads", "all.zip"))
	require.NoError(t, err)
	require.Equal(t, plates.Bytes(), text)
	require.Contains(t, run(0, "deploy"), "from the cache")
	require.Contains(t, run(0, "manifest", "--source", address, "--digest", digest), `"path":"plates.zip"`)

	// What is not right is told, and nothing is sent.
	require.Contains(t, run(5, "diff", "--source", address, "--digest", "sha256:"+strings.Repeat("0", 64)), "and must be sha256:")
	require.Contains(t, run(2, "diff", "--source", server.URL+"/none.zip", "--digest", "any"), "the server answers 404")
	require.Contains(t, run(5, "diff", "--source", server.URL+"/clear", "--digest", "any"), "it is not https")
	require.Contains(t, run(5, "diff", "--source", strings.Replace(address, "https", "http", 1), "--digest", "any"), "--insecure")
	out = run(2, "diff", "--source", strings.Replace(address, "https://", "https://warden:secret@", 1), "--digest", "any")
	require.NotContains(t, out, "secret")
	require.Contains(t, run(2, "diff", "--source", server.URL, "--digest", "any"), "names no file")
	server.Close()
	require.Contains(t, run(0, "manifest", "--source", address, "--digest", digest), digest)
}
