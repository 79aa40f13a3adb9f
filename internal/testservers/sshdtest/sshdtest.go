// Package sshdtest starts OpenSSH's server for tests, on a free loopback port with keys and settings of its own.
package sshdtest

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"tartine/internal/testservers/porttest"
)

// Server is an OpenSSH server that runs until the test ends.
type Server struct {
	Port        int
	Fingerprint string // of the host key
	Identity    string // a private key file that every user may log in with
	KnownHosts  string // a file that knows the host key
	process     *os.Process
}

// OrdinaryUser is the account that is made, by root, for logins without special rights.
const OrdinaryUser = "tartine-test"

// Start starts a server. Extra lines are put before the others of its settings, so that they win. Where there is no
// OpenSSH server the test is skipped, but fails in continuous integration.
func Start(t testing.TB, extra ...string) *Server {
	t.Helper()
	program, err := exec.LookPath("sshd")
	if err != nil {
		program = "/usr/sbin/sshd"
	}
	if _, err := os.Stat(program); err != nil {
		missing(t, "OpenSSH's server is not installed (Debian: openssh-server)")
	}
	dir, err := os.MkdirTemp("", "sshdtest")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755)) // the server reads it as the user who logs in
	s := &Server{Identity: filepath.Join(dir, "identity"), KnownHosts: filepath.Join(dir, "known_hosts")}
	hostKey := writeKey(t, filepath.Join(dir, "hostkey"))
	key := writeKey(t, s.Identity)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authorized"), ssh.MarshalAuthorizedKey(key), 0o644))
	s.Fingerprint = ssh.FingerprintSHA256(hostKey)
	s.Port = freePort(t)
	known := fmt.Sprintf("[127.0.0.1]:%d %s", s.Port, ssh.MarshalAuthorizedKey(hostKey))
	require.NoError(t, os.WriteFile(s.KnownHosts, []byte(known), 0o644))
	if os.Getuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
		makeOrdinaryUser(t)
	}
	lines := append(extra,
		fmt.Sprintf("Port %d", s.Port), "ListenAddress 127.0.0.1", "HostKey "+filepath.Join(dir, "hostkey"),
		"AuthorizedKeysFile "+filepath.Join(dir, "authorized"), "PidFile none", "UsePAM no", "StrictModes no",
		"PermitRootLogin prohibit-password", "PasswordAuthentication no", "KbdInteractiveAuthentication no",
		"MaxStartups 100", "UseDNS no", "PrintMotd no")
	has := func(keyword string) bool {
		return slices.ContainsFunc(extra, func(line string) bool { return strings.HasPrefix(line, keyword+" ") })
	}
	if !has("Subsystem") {
		lines = append(lines, "Subsystem sftp internal-sftp")
	}
	if !has("SetEnv") {
		// A shell below another one reads no .bashrc: whatever this machine's users do there neither holds tests up nor
		// is broken off by them.
		lines = append(lines, "SetEnv SHLVL=1")
	}
	config := filepath.Join(dir, "config")
	require.NoError(t, os.WriteFile(config, []byte(strings.Join(lines, "\n")+"\n"), 0o644))
	s.run(t, program, config)
	return s
}

// Process gives the id of the server's process. Each connection is served by a child of it.
func (s *Server) Process() int { return s.process.Pid }

func missing(t testing.TB, what string) {
	t.Helper()
	if os.Getenv("CI") != "" {
		t.Fatal(what)
	}
	t.Skip(what)
}

// run starts the program and waits until it says that it listens.
func (s *Server) run(t testing.TB, program, config string) {
	t.Helper()
	cmd := exec.Command(program, "-D", "-e", "-f", config)
	said, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	s.process = cmd.Process
	ready, ended := make(chan bool, 1), make(chan struct{})
	var log bytes.Buffer
	go func() {
		defer close(ended)
		lines := bufio.NewScanner(said)
		for lines.Scan() {
			fmt.Fprintln(&log, lines.Text())
			if strings.HasPrefix(lines.Text(), "Server listening on 127.0.0.1") {
				ready <- true
			}
		}
		ready <- false
	}()
	t.Cleanup(func() {
		_ = cmd.Process.Kill() // it may have ended already
		_ = cmd.Wait()
		<-ended
		if t.Failed() {
			lines := strings.Split(log.String(), "\n")
			t.Logf("sshd said last:\n%s", strings.Join(lines[max(len(lines)-20, 0):], "\n"))
		}
	})
	require.True(t, <-ready, "sshd did not start:\n%s", &log)
}

func writeKey(t testing.TB, file string) ssh.PublicKey {
	t.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "test")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(block), 0o600))
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	return key
}

func freePort(t testing.TB) int {
	t.Helper()
	port, release, err := porttest.Free()
	require.NoError(t, err)
	t.Cleanup(release)
	return port
}

// makeOrdinaryUser makes the account once for this machine. The star lets keys in and no password.
func makeOrdinaryUser(t testing.TB) {
	t.Helper()
	if _, err := user.Lookup(OrdinaryUser); err == nil {
		return
	}
	out, err := exec.Command("useradd", "--create-home", "--shell", "/bin/sh", "--password", "*",
		OrdinaryUser).CombinedOutput()
	if _, there := user.Lookup(OrdinaryUser); there != nil { // another test may have been quicker
		require.NoError(t, err, "%s", out)
	}
}

// Users gives who can log in: the user who runs the test, and, when that is root, an ordinary one.
func Users(t testing.TB) []string {
	t.Helper()
	me, err := user.Current()
	require.NoError(t, err)
	if me.Uid == "0" {
		return []string{me.Username, OrdinaryUser}
	}
	return []string{me.Username}
}

// Folder makes a folder that a user owns and can reach.
func Folder(t testing.TB, name string) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "sshdtest-site")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	if os.Getuid() == 0 {
		owner, err := user.Lookup(name)
		require.NoError(t, err)
		out, err := exec.Command("chown", owner.Uid+":"+owner.Gid, dir).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	return dir
}

// Account makes an account with a password for as long as the test runs, which needs root; without, the test is
// skipped.
func Account(t testing.TB) (name, password string) { return AccountWith(t, "/bin/sh") }

// AccountWith is Account with another login shell.
func AccountWith(t testing.TB, shell string) (name, password string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("only root can make an account")
	}
	name, password = "tartine-"+strings.ToLower(rand.Text()[:8]), rand.Text()
	out, err := exec.Command("useradd", "--create-home", "--shell", shell, name).CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { _ = exec.Command("userdel", "--remove", name).Run() }) // its processes may not have ended yet
	set := exec.Command("chpasswd")
	set.Stdin = strings.NewReader(name + ":" + password + "\n")
	out, err = set.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return name, password
}
