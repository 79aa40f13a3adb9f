//go:build linux

package main

import (
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
	"tartine/internal/testservers/porttest"
)

// TestAnImageServesWhatWasPacked packs the example into an image on top of one of busybox, has the engine load and run it, and fetches every file.
func TestAnImageServesWhatWasPacked(t *testing.T) {
	t.Parallel()
	busybox, err := exec.LookPath("busybox")
	if err != nil || exec.Command("docker", "version").Run() != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("busybox or a container engine is missing")
		}
		t.Skip("busybox or a container engine is missing")
	}
	dir := t.TempDir()
	run := func(name string, args ...string) string {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(dir, ".cache"))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
		return strings.TrimSpace(string(out))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "root", "bin"), 0o755))
	run("cp", busybox, "root/bin/busybox")
	run("tar", "-cf", "root.tar", "-C", "root", ".")
	tag := fmt.Sprintf("tartine-test-%d", os.Getpid())
	run("docker", "import", "root.tar", tag+":base")
	port, release, err := porttest.Free()
	require.NoError(t, err)
	t.Cleanup(release)
	public, err := filepath.Abs("../../internal/demo/data/site")
	require.NoError(t, err)
	t.Cleanup(func() {
		_ = exec.Command("docker", "rm", "-f", tag).Run()
		_ = exec.Command("docker", "image", "rm", "-f", tag+":1.4", tag+":base").Run()
	})
	pack := func(base, output string) string {
		return run("tartine", "pack", "--source", public, "--output", output, "--image", tag+":1.4", "--base", base, "--at", "/srv/www", "--port", strconv.Itoa(port),
			"--entrypoint", "/bin/busybox", "--entrypoint", "httpd", "--entrypoint", "-f", "--entrypoint", "-p", "--entrypoint", "127.0.0.1:"+strconv.Itoa(port),
			"--entrypoint", "-h", "--entrypoint", "/srv/www")
	}
	pack(tag+":base", "site.oci.tar")
	require.Contains(t, pack(tag+":base", "site.oci.tar"), "unchanged")
	run("docker", "save", "-o", "base.tar", tag+":base")
	require.Contains(t, pack("base.tar", "site.oci.tar"), "unchanged", "it is the same from the file of the base")
	require.Contains(t, run("tartine", "verify", "site.oci.tar"), "match")
	run("tartine", "manifest", "--source", public, "--output", "gannet.json")
	require.Contains(t, run("tartine", "verify", "site.oci.tar", "--manifest", "gannet.json"), "match")

	run("docker", "load", "-i", "site.oci.tar")
	run("docker", "run", "-d", "--network", "host", "--name", tag, tag+":1.4")
	m, err := manifest.ReadFile(filepath.Join(dir, "gannet.json"))
	require.NoError(t, err)
	get := func(path string) (*http.Response, error) {
		return http.Get(fmt.Sprintf("http://127.0.0.1:%d/%s", port, path))
	}
	require.Eventually(t, func() bool {
		answer, err := get("index.html")
		if err == nil {
			answer.Body.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	for _, e := range m.Entries {
		if strings.HasPrefix(e.Path, "cgi/") { // which that server does not hand out
			continue
		}
		answer, err := get(e.Path)
		require.NoError(t, err)
		hash := sha256.New()
		_, err = io.Copy(hash, answer.Body)
		answer.Body.Close()
		require.NoError(t, err)
		require.Equal(t, e.Digest, manifest.Digest(hash.Sum(nil)), e.Path)
	}

	// And out of it again, from the engine and from the file.
	for i, image := range []string{tag + ":1.4", "site.oci.tar"} {
		settings := fmt.Sprintf("content: [{source: {image: %q, path: /srv/www}}]\n", image)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "image.yaml"), []byte(settings), 0o644))
		out := fmt.Sprintf("out%d", i)
		run("tartine", "deploy", "--config", "image.yaml", "./"+out, "--yes")
		run("diff", "-r", public, out)
		require.Contains(t, run("tartine", "deploy", "--config", "image.yaml", "./"+out), "unchanged")
	}
}
