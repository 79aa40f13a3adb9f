// Package ftptest starts FTP servers on loopback for tests: ProFTPD (Start), vsftpd (StartVsftpd) and pure-ftpd
// (StartPure), each with one user who sees one folder. Debian installs one FTP server at a time, so the last two are
// unpacked into bin/servers (make .servers).
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
	"tartine/internal/testservers/porttest"
)

// The one user of a server.
const (
	User     = "warden"
	Password = "kittiwake"
)

// UserID is the number of the user's system account, and of the group. Nothing else belongs to it.
const UserID = 65533

// Server is a running server.
type Server struct {
	Port        int
	Dir         string // of this machine, which the user sees as the top
	Certificate string // its fingerprint, SHA256:…
	Process     int    // its number; each connection is served by a child of it

	own             string // for its settings
	certificateFile string
}

// tlsFile is replaced by the certificate's file in lines of settings.
const tlsFile = "CERTIFICATE"

// prepare makes what every server needs. Without the program the test is skipped, but not in CI.
func prepare(t testing.TB, program string) *Server {
	t.Helper()
	if _, err := os.Stat(program); err != nil || os.Getuid() != 0 {
		if os.Getenv("CI") != "" {
			t.Fatal(program + " is missing, or this is not root")
		}
		t.Skip(program + " is missing, or this is not root")
	}
	own, err := os.MkdirTemp("", "ftptest") // the test's name may have a comma in it, which means something to pure-ftpd
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(own)) })
	s := &Server{own: own}
	// The user must get there through folders that the test's own are in.
	for at := s.own; at != "/" && strings.HasPrefix(at, os.TempDir()) && at != os.TempDir(); at = filepath.Dir(at) {
		require.NoError(t, os.Chmod(at, 0o755))
	}
	s.Dir, s.certificateFile = filepath.Join(s.own, "home"), filepath.Join(s.own, "certificate.pem")
	require.NoError(t, os.Mkdir(s.Dir, 0o755))
	require.NoError(t, os.Chown(s.Dir, UserID, UserID))
	s.Certificate = writeCertificate(t, s.certificateFile)
	port, release, err := porttest.Free()
	require.NoError(t, err)
	t.Cleanup(release)
	s.Port = port
	return s
}

// onlyTLS12 in the environment of a server has OpenSSL speak nothing newer than TLS 1.2.
func onlyTLS12(t testing.TB) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "openssl.cnf")
	require.NoError(t, os.WriteFile(file, []byte("openssl_conf = all\n[all]\nssl_conf = ssl\n[ssl]\nsystem_default = tls\n[tls]\nMaxProtocol = TLSv1.2\n"), 0o644))
	return "OPENSSL_CONF=" + file
}

// run starts a server and waits until it answers.
func (s *Server) run(t testing.TB, cmd *exec.Cmd) {
	t.Helper()
	out, err := os.Create(filepath.Join(s.own, "said")) // a file: what serves a connection may live for longer than the server
	require.NoError(t, err)
	defer out.Close()
	cmd.Stderr, cmd.Stdout = out, out
	inOwnGroup(cmd)
	require.NoError(t, cmd.Start())
	said := func() string { text, _ := os.ReadFile(out.Name()); return string(text) }
	s.Process = cmd.Process.Pid
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt) // it may have ended
		late := time.AfterFunc(5*time.Second, func() { _ = cmd.Process.Kill() })
		_ = cmd.Wait()
		late.Stop()
		killGroup(s.Process) // what still serves a connection
		if t.Failed() {
			log, _ := os.ReadFile(filepath.Join(s.own, "log"))
			t.Logf("%s said: %s\n%s", cmd.Path, said(), log[max(0, len(log)-8000):])
		}
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", s.Port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, "%s does not answer", cmd.Path)
}

// unpacked gives where a program of a package lies that was unpacked into the project.
func unpacked(t testing.TB, program string) string {
	t.Helper()
	at, err := os.Getwd()
	require.NoError(t, err)
	for ; at != "/"; at = filepath.Dir(at) {
		if _, err := os.Stat(filepath.Join(at, "go.mod")); err == nil {
			break
		}
	}
	return filepath.Join(at, "bin", "servers", program)
}

// writeCertificate makes a certificate that signs itself and gives its fingerprint.
func writeCertificate(t testing.TB, file string) string {
	t.Helper()
	certificate, fingerprint, err := ftpserver.NewCertificate()
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(certificate.PrivateKey)
	require.NoError(t, err)
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate.Certificate[0]}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...)
	require.NoError(t, os.WriteFile(file, text, 0o600))
	return fingerprint
}

// Log gives what the server has logged, where it logs to a file.
func (s *Server) Log(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(s.own, "log"))
	require.NoError(t, err)
	return string(text)
}
