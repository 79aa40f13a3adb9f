//go:build linux

package main

import (
	"archive/tar"
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/sshdtest"
)

// bare makes an image of nothing but busybox and the program, and gives its name.
func bare(t *testing.T) string {
	t.Helper()
	for _, program := range []string{"docker", "busybox"} {
		if _, err := exec.LookPath(program); err != nil && os.Getenv("CI") == "" {
			t.Skip(program + " is not installed")
		}
	}
	if err := exec.Command("docker", "info").Run(); err != nil && os.Getenv("CI") == "" {
		t.Skip("no container engine answers")
	}
	busybox, err := exec.LookPath("busybox")
	require.NoError(t, err)
	var archive bytes.Buffer
	out := tar.NewWriter(&archive)
	for name, from := range map[string]string{"bin/busybox": busybox, "bin/tartine": static(t)} {
		text, err := os.ReadFile(from)
		require.NoError(t, err)
		require.NoError(t, out.WriteHeader(&tar.Header{Name: name, Mode: 0o755, Size: int64(len(text))}))
		_, err = out.Write(text)
		require.NoError(t, err)
	}
	for _, name := range []string{"sh", "sed", "head", "cat"} {
		require.NoError(t, out.WriteHeader(&tar.Header{Name: "bin/" + name, Typeflag: tar.TypeSymlink, Linkname: "busybox"}))
	}
	require.NoError(t, out.WriteHeader(&tar.Header{Name: "tmp/", Typeflag: tar.TypeDir, Mode: 0o1777}))
	require.NoError(t, out.Close())
	image := strings.ToLower("tartine-recipes-" + filepath.Base(t.TempDir()) + fmt.Sprint(os.Getpid()))
	load := exec.Command("docker", "import", "-", image)
	load.Stdin = &archive
	said, err := load.CombinedOutput()
	require.NoError(t, err, "%s", said)
	t.Cleanup(func() { _ = exec.Command("docker", "rmi", "-f", image).Run() }) // what is left of it is named after tests
	return image
}

// TestRecipesRunAsTheyArePrinted runs the scripts of docs/ci.md in a container without a home folder, a terminal, or accounts.
func TestRecipesRunAsTheyArePrinted(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("the program goes into an image")
	}
	image := bare(t)
	server := sshdtest.Start(t)
	page, err := os.ReadFile("../../docs/ci.md")
	require.NoError(t, err)
	work, user := sshdtest.Folder(t, "root"), sshdtest.Users(t)[0]
	far := sshdtest.Folder(t, user)
	require.NoError(t, os.Chmod(work, 0o777))
	write := func(name, text string, mode os.FileMode) {
		name = filepath.Join(work, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o777))
		require.NoError(t, os.WriteFile(name, []byte(text), mode))
		require.NoError(t, os.Chmod(name, mode))
	}
	var scripts []string
	for _, found := range regexp.MustCompile("(?s)```(?:sh|yaml)\n# (\\S+)\n(.*?)```").FindAllStringSubmatch(string(page), -1) {
		text := strings.ReplaceAll(found[2], "/srv/www/gannet", ":"+fmt.Sprint(server.Port)+far+"/site")
		if write(found[1], text, 0o644); strings.HasSuffix(found[1], ".sh") {
			scripts = append(scripts, found[1])
		}
	}
	require.Equal(t, []string{"deploy.sh", "review.sh", "careful.sh", "nightly.sh"}, scripts)
	key, err := os.ReadFile(server.Identity)
	require.NoError(t, err)
	run := func(script string) (status int, said string) {
		cmd := exec.Command("docker", "run", "--rm", "--network", "host", "--user", "4321:4321", "--workdir", "/work", "--volume", work+":/work", "--env", "GANNET_USER="+user,
			"--env", "GANNET_HOST=127.0.0.1", "--env", "GANNET_HOST_KEY="+server.Fingerprint, "--env", "GANNET_KEY="+strings.ReplaceAll(string(key), "\n", `\n`),
			image, "/bin/sh", "-c", "unset HOME; exec sh "+script)
		out, _ := cmd.CombinedOutput()
		return cmd.ProcessState.ExitCode(), string(out)
	}
	write("public/index.html", "<h1>", 0o644)
	status, said := run("deploy.sh")
	require.Zero(t, status, said)
	require.Contains(t, said, "deployed    deployment 1")
	require.DirExists(t, filepath.Join(work, ".cache", "tartine"))
	require.FileExists(t, filepath.Join(work, "deploy.log"))
	require.NoDirExists(t, filepath.Join(work, ".ssh"))

	comment := func() string {
		status, said := run("review.sh")
		require.Zero(t, status, said)
		text, err := os.ReadFile(filepath.Join(work, "comment.md"))
		require.NoError(t, err)
		return string(text)
	}
	require.Equal(t, "Nothing would change.\n", comment())
	write("public/index.html", "<h1>again", 0o644)
	require.Contains(t, comment(), "changed   index.html")

	write("smoke-test", "#!/bin/sh\nexit 1\n", 0o755)
	status, said = run("careful.sh")
	require.Equal(t, 1, status, said)
	require.Equal(t, "<h1>", readTree(t, far+"/site")["index.html"], "it was rolled back")
	write("smoke-test", "#!/bin/sh\nexit 0\n", 0o755)
	status, said = run("careful.sh")
	require.Zero(t, status, said)
	status, said = run("nightly.sh")
	require.Zero(t, status, said)
	require.Empty(t, said, "no mail when all is well")
	require.NoError(t, os.WriteFile(far+"/site/index.html", []byte("<h1>graffiti"), 0o644))
	status, said = run("nightly.sh")
	require.Equal(t, 1, status)
	require.Contains(t, said, "altered   index.html")
}
