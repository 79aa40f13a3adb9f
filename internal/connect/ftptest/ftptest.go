// Package ftptest starts ProFTPD on loopback for tests, with a user of its own who sees one folder.
package ftptest

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/demo/ftpserver"
)

// The one user of a server.
const (
	User     = "warden"
	Password = "kittiwake"
)

// Server is a running server.
type Server struct {
	Port        int
	Dir         string // of this machine, which the user sees as the top
	Certificate string // its fingerprint, SHA256:…
	Process     int    // its number; each connection is served by a child of it
}

// TLS is the lines that have a server ask for TLS, with the session of the login in each transfer.
func TLS(t testing.TB) []string {
	t.Helper()
	return []string{"LoadModule mod_tls.c", "TLSEngine on", "TLSRequired on", "TLSProtocol TLSv1.2 TLSv1.3",
		"TLSRSACertificateFile " + tlsFile, "TLSRSACertificateKeyFile " + tlsFile}
}

// tlsFile stands for the certificate's file in lines.
const tlsFile = "CERTIFICATE"

// Digests is the lines that have a server compute digests.
var Digests = []string{"LoadModule mod_digest.c", "DigestEngine on"}

// Quota is the lines that limit how many bytes the user may store.
func Quota(t testing.TB, bytes int) []string {
	t.Helper()
	dir := t.TempDir()
	for _, command := range []string{
		"ftpquota --create-table --type=limit --table-path=limit",
		"ftpquota --create-table --type=tally --table-path=tally",
		fmt.Sprintf("ftpquota --add-record --type=limit --table-path=limit --name=%s --quota-type=user --limit-type=hard --bytes-upload=%d --units=byte", User, bytes),
	} {
		cmd := exec.Command("sh", "-c", command)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	return []string{"LoadModule mod_quotatab.c", "LoadModule mod_quotatab_file.c", "QuotaEngine on",
		"QuotaLimitTable file:" + filepath.Join(dir, "limit"), "QuotaTallyTable file:" + filepath.Join(dir, "tally")}
}

// Start starts a server with more lines in its settings. Without the program the test is skipped, but not in CI.
func Start(t testing.TB, lines ...string) *Server {
	t.Helper()
	program, err := exec.LookPath("proftpd")
	if err != nil {
		program = "/usr/sbin/proftpd"
		_, err = os.Stat(program)
	}
	if err != nil || os.Getuid() != 0 {
		if os.Getenv("CI") != "" {
			t.Fatal("ProFTPD is missing, or this is not root")
		}
		t.Skip("ProFTPD is missing, or this is not root")
	}
	dir := t.TempDir()
	// The user must get there through folders that the test's own are in.
	for at := dir; at != "/" && strings.HasPrefix(at, os.TempDir()) && at != os.TempDir(); at = filepath.Dir(at) {
		require.NoError(t, os.Chmod(at, 0o755))
	}
	s := &Server{Dir: filepath.Join(dir, "home")}
	require.NoError(t, os.Mkdir(s.Dir, 0o755))
	require.NoError(t, os.Chown(s.Dir, UserID, UserID))
	s.Certificate = writeCertificate(t, filepath.Join(dir, "certificate.pem"))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.Port = l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	hash, err := exec.Command("perl", "-e", "print crypt($ARGV[0], '$6$gannetrock')", Password).Output()
	require.NoError(t, err)
	passwd := filepath.Join(dir, "passwd")
	require.NoError(t, os.WriteFile(passwd, fmt.Appendf(nil, "%s:%s:%d:%[3]d::%s:/bin/false\n", User, hash, UserID, s.Dir), 0o600))
	settings := append([]string{"ServerName Rock", "ServerType standalone", "UseIPv6 off", "DefaultAddress 127.0.0.1", fmt.Sprintf("Port %d", s.Port),
		"User nobody", "Group nogroup", "AuthOrder mod_auth_file.c", "AuthUserFile " + passwd, "RequireValidShell off", "DefaultRoot ~",
		"PidFile " + filepath.Join(dir, "pid"), "ScoreboardFile " + filepath.Join(dir, "scoreboard"), "SystemLog " + filepath.Join(dir, "log"),
		"WtmpLog off", "TransferLog none", "DelayEngine off", "UseReverseDNS off", "AllowStoreRestart on", "AllowOverwrite on", "MaxInstances 60", "Umask 022"}, lines...)
	text := strings.ReplaceAll(strings.Join(settings, "\n")+"\n", tlsFile, filepath.Join(dir, "certificate.pem"))
	config := filepath.Join(dir, "proftpd.conf")
	require.NoError(t, os.WriteFile(config, []byte(text), 0o644))
	cmd := exec.Command(program, "--nodaemon", "--quiet", "--config", config)
	var said strings.Builder
	cmd.Stderr, cmd.Stdout = &said, &said
	require.NoError(t, cmd.Start())
	s.Process = cmd.Process.Pid
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt) // it may have ended
		_ = cmd.Wait()
		if t.Failed() {
			log, _ := os.ReadFile(filepath.Join(dir, "log"))
			t.Logf("proftpd said: %s\n%s", said.String(), log)
		}
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", s.Port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, "proftpd does not answer: %s", &said)
	return s
}

// UserID is the number of the user's system account, and of the group. Nothing else belongs to it.
const UserID = 65533

// writeCertificate makes a certificate that signs itself and gives its fingerprint.
func writeCertificate(t testing.TB, file string) string {
	t.Helper()
	certificate, fingerprint, err := ftpserver.NewCertificate()
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(certificate.PrivateKey)
	require.NoError(t, err)
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate.Certificate[0]}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...)
	require.NoError(t, os.WriteFile(file, text, 0o600))
	return fingerprint
}
