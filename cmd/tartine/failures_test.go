//go:build linux

package main

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/sshdtest"
)

var update = flag.Bool("update", false, "write testdata/failures.golden anew")

// failure is one way not to get in, or not to get far.
type failure struct {
	name     string
	args     []string // after tartine
	env      []string
	settings string // of tartine.yaml
	client   string // of OpenSSH's client settings
}

// TestEachFailureSaysWhatToDo produces each failure for real and compares what is said with testdata/failures.golden,
// which is to be read as its user would.
func TestEachFailureSaysWhatToDo(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("accounts and small disks can be made by root alone")
	}
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "public"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "public", "index.html"), bytes.Repeat([]byte("gannet\n"), 100_000), 0o644))
	var said strings.Builder
	for _, f := range failures(t, dir) {
		out, status := f.run(t, dir)
		fmt.Fprintf(&said, "== %s: exit status %d\n%s\n", f.name, status, out)
	}
	got := regexp.MustCompile(`(127\.0\.0\.1|server\.invalid):\d{4,5}`).ReplaceAllString(said.String(), "$1:PORT")
	got = strings.ReplaceAll(got, dir, "DIR")
	got = regexp.MustCompile(`(tartine)-[a-z0-9]{8}`).ReplaceAllString(got, "warden")
	got = regexp.MustCompile(`SHA256:[A-Za-z0-9+/]{43}`).ReplaceAllString(got, "SHA256:…")
	got = regexp.MustCompile(`/\S*/sshdtest[a-z-]*\d+`).ReplaceAllString(got, "FAR")
	got = regexp.MustCompile(`\(\d+(\.\d+)? (ms|s)\)|\d+(\.\d+)? GB|\d+ more files`).ReplaceAllString(got, "N")
	if *update {
		require.NoError(t, os.WriteFile("testdata/failures.golden", []byte(got), 0o644))
	}
	want, err := os.ReadFile("testdata/failures.golden")
	require.NoError(t, err)
	require.Equal(t, string(want), got, "when this is what it should say: go test ./cmd/tartine -run EachFailure -update")
}

func (f *failure) run(t *testing.T, dir string) (said string, status int) {
	t.Helper()
	args := f.args
	for name, text := range map[string]string{"tartine.yaml": f.settings, "client": f.client} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	if f.client != "" {
		args = append(args, "--ssh-config", "client")
	}
	cmd := exec.Command("tartine", args...)
	cmd.Dir = dir
	cmd.Env = append(append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(dir, ".cache"), "SSH_AUTH_SOCK=", "HOME="+dir), f.env...)
	out, err := cmd.CombinedOutput()
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		status = ended.ExitCode()
	} else {
		require.NoError(t, err)
	}
	return string(out), status
}

func failures(t *testing.T, dir string) []failure {
	server := sshdtest.Start(t)
	name, _ := sshdtest.Account(t)
	far := sshdtest.Folder(t, sshdtest.OrdinaryUser)
	at := func(s *sshdtest.Server, user, path string) string {
		return fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", user, s.Port, path)
	}
	with := func(s *sshdtest.Server, args ...string) []string {
		return append(args, "--identity", s.Identity, "--fingerprint", s.Fingerprint)
	}
	user, root := sshdtest.OrdinaryUser, far+"/site"
	open := filepath.Join(dir, "open.key")
	key, err := os.ReadFile(server.Identity)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(open, key, 0o644))

	passwords := sshdtest.Start(t, "PasswordAuthentication yes", "PubkeyAuthentication no")
	strict := sshdtest.Start(t, "MaxAuthTries 2")
	plain := sshdtest.Start(t, "Subsystem other internal-sftp")
	chatty := sshdtest.Start(t, "ForceCommand echo Welcome to the rock; exec /usr/lib/openssh/sftp-server", "Subsystem sftp /usr/lib/openssh/sftp-server")
	noShell := sshdtest.Start(t, "ForceCommand internal-sftp")
	small := filepath.Join(dir, "small")
	require.NoError(t, os.MkdirAll(small, 0o755))
	require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", 0, "size=400k"))
	t.Cleanup(func() { _ = syscall.Unmount(small, syscall.MNT_DETACH) })
	quick := "Host *\n  ConnectTimeout 1\n"
	return []failure{
		{name: "a name that does not resolve", args: []string{"diff", "ssh://warden@server.invalid/srv/www", "--source", "public"}},
		{name: "a closed port", args: []string{"diff", fmt.Sprintf("ssh://warden@127.0.0.1:%d/srv/www", closed(t)), "--source", "public"}},
		{name: "a port that swallows everything", args: []string{"diff", fmt.Sprintf("ssh://warden@127.0.0.1:%d/srv/www", full(t)), "--source", "public"}, client: quick},
		{name: "a server that says nothing", args: []string{"diff", fmt.Sprintf("ssh://warden@127.0.0.1:%d/srv/www", saying(t, "", false)), "--source", "public"}, client: quick},
		{name: "a server that stops in its first line", args: []string{"diff", fmt.Sprintf("ssh://warden@127.0.0.1:%d/srv/www", saying(t, "SSH-2.0", false)), "--source", "public"}, client: quick},
		{name: "a server that hangs up", args: []string{"diff", fmt.Sprintf("ssh://warden@127.0.0.1:%d/srv/www", saying(t, "", true)), "--source", "public"}},
		{name: "a server that speaks something else", args: []string{"diff", fmt.Sprintf("ssh://warden@127.0.0.1:%d/srv/www", saying(t, "220 mail.example ready\r\n", true)), "--source", "public"}},
		{name: "an unknown host key", args: []string{"diff", at(server, user, root), "--source", "public", "--identity", server.Identity}},
		{name: "a wrong host key", args: []string{"diff", at(server, user, root), "--source", "public", "--identity", server.Identity, "--fingerprint", "SHA256:0000000000000000000000000000000000000000000"}},
		{name: "a key that others can read", args: []string{"diff", at(server, user, root), "--source", "public", "--identity", open, "--fingerprint", server.Fingerprint}},
		{name: "a wrong user", args: with(server, "diff", at(server, "nobody-here", root), "--source", "public")},
		{name: "a wrong password", args: []string{"diff", "rock"}, env: []string{"ROCK_PASSWORD=mistaken"},
			settings: fmt.Sprintf("content: [{source: public}]\ntargets: {rock: {url: %q, host_key: %q, password: {env: ROCK_PASSWORD}}}\n", at(passwords, name, root), passwords.Fingerprint)},
		{name: "no password where one is wanted", args: []string{"diff", at(passwords, name, root), "--source", "public", "--fingerprint", passwords.Fingerprint}},
		{name: "too many keys", args: []string{"diff", at(strict, user, root), "--source", "public", "--fingerprint", strict.Fingerprint}, env: []string{"SSH_AUTH_SOCK=" + sshdtest.Agent(t, 5)}},
		{name: "no file transfer", args: with(plain, "diff", at(plain, user, root), "--source", "public", "--agent", "off")},
		{name: "a login shell that prints", args: with(chatty, "diff", at(chatty, user, root), "--source", "public")},
		{name: "no shell", args: with(noShell, "doctor", at(noShell, user, root))},
		{name: "another user where there is no shell", args: with(noShell, "deploy", at(noShell, "root", root), "--source", "public", "--as", user)},
		{name: "the folder above the root missing", args: with(server, "deploy", at(server, user, far+"/no/such/site"), "--source", "public")},
		{name: "a root that is a file", args: with(server, "deploy", at(server, user, "/etc/hostname"), "--source", "public")},
		{name: "a root that may not be written", args: with(server, "deploy", at(server, user, "/usr/share/gannet"), "--source", "public")},
		{name: "a full disk", args: with(server, "deploy", at(server, "root", small+"/site"), "--source", "public")},
	}
}

func closed(t *testing.T) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// full gives a port whose queue of connections is full, so that it answers no more.
func full(t *testing.T) int {
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = syscall.Close(fd) })
	require.NoError(t, syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}))
	require.NoError(t, syscall.Listen(fd, 0))
	address, err := syscall.Getsockname(fd)
	require.NoError(t, err)
	port := address.(*syscall.SockaddrInet4).Port
	conn, err := net.Dial("tcp", "127.0.0.1:"+strconv.Itoa(port))
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	return port
}

// saying gives a port at which something says a few words, and then hangs up or stays silent.
func saying(t *testing.T, words string, hangUp bool) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(conn, words)
			if hangUp {
				conn.Close()
			} else {
				t.Cleanup(func() { conn.Close() })
			}
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}
