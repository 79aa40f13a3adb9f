// Package webtest starts web servers on loopback for tests, nginx and Apache's, and makes certificates for them.
package webtest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/porttest"
)

// Authority signs certificates.
type Authority struct {
	File string // its certificate, in PEM form

	dir         string
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

// NewAuthority makes one.
func NewAuthority(t testing.TB) *Authority {
	t.Helper()
	a := &Authority{dir: t.TempDir()}
	a.File = filepath.Join(a.dir, "authority.pem")
	a.certificate = &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Gannet Rock authority"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign}
	a.key = newKey(t)
	write(t, a.File, "CERTIFICATE", a.sign(t, a.certificate, &a.key.PublicKey))
	return a
}

// Sign makes a certificate for rock.example, localhost and 127.0.0.1, and gives the files that hold it and its key.
func (a *Authority) Sign(t testing.TB, holds time.Duration) (certificate, key string) {
	t.Helper()
	own := newKey(t)
	text := a.sign(t, &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "rock.example"},
		DNSNames: []string{"rock.example", "localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(holds), KeyUsage: x509.KeyUsageDigitalSignature}, &own.PublicKey)
	dir := t.TempDir()
	certificate, key = filepath.Join(dir, "certificate.pem"), filepath.Join(dir, "key.pem")
	write(t, certificate, "CERTIFICATE", text)
	encoded, err := x509.MarshalPKCS8PrivateKey(own)
	require.NoError(t, err)
	write(t, key, "PRIVATE KEY", encoded)
	return certificate, key
}

func newKey(t testing.TB) *ecdsa.PrivateKey {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

func (a *Authority) sign(t testing.TB, certificate *x509.Certificate, key *ecdsa.PublicKey) []byte {
	out, err := x509.CreateCertificate(rand.Reader, certificate, a.certificate, key, a.key)
	require.NoError(t, err)
	return out
}

func write(t testing.TB, file, kind string, content []byte) {
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: content}), 0o600))
}

// Port gives a port on loopback that nobody else has until the test ends.
func Port(t testing.TB) int {
	t.Helper()
	port, release, err := porttest.Free()
	require.NoError(t, err)
	t.Cleanup(release)
	return port
}

// Nginx starts nginx with blocks for its http context. Without the program the test is skipped, but not in CI. The
// server answers at the port from then on.
func Nginx(t testing.TB, port int, http string) {
	t.Helper()
	dir := t.TempDir()
	user := ""
	if os.Getuid() == 0 {
		user = "user root;"
	}
	settings := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(settings, fmt.Appendf(nil, `%s worker_processes 1; daemon off; pid %[2]s/pid; error_log %[2]s/error.log; events { worker_connections 256; }
http { access_log off; client_body_temp_path %[2]s/body; proxy_temp_path %[2]s/proxy; fastcgi_temp_path %[2]s/fastcgi; uwsgi_temp_path %[2]s/uwsgi; scgi_temp_path %[2]s/scgi;
types { text/html html; text/css css; text/javascript js; image/svg+xml svg; application/pdf pdf; text/plain txt; }
%[3]s
}`, user, dir, strings.ReplaceAll(http, "@DIR@", dir)), 0o644))
	start(t, port, program(t, "nginx"), "-c", settings, "-p", dir, "-e", filepath.Join(dir, "error.log"))
}

// Apache starts Apache's server with lines for it, likewise.
func Apache(t testing.TB, port int, lines string) {
	t.Helper()
	dir := t.TempDir()
	settings := filepath.Join(dir, "httpd.conf")
	var modules strings.Builder
	for _, m := range []string{"mpm_event", "authz_core", "dir", "mime", "deflate", "filter", "autoindex", "headers", "alias", "authn_core", "authn_file", "auth_basic", "authz_user"} {
		fmt.Fprintf(&modules, "LoadModule %s_module /usr/lib/apache2/modules/mod_%[1]s.so\n", m)
	}
	user := ""
	if os.Getuid() == 0 {
		user = "User www-data\nGroup www-data\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "types"), []byte("text/html html\ntext/css css\ntext/javascript js\nimage/svg+xml svg\ntext/plain txt\n"), 0o644))
	require.NoError(t, os.WriteFile(settings, fmt.Appendf(nil, "ServerRoot %s\nServerName rock.example\nListen 127.0.0.1:%d\nPidFile %[1]s/pid\nErrorLog %[1]s/error.log\n%[3]s%[4]sTypesConfig %[1]s/types\nMutex file:%[1]s\n%[5]s\n",
		dir, port, modules.String(), user, lines), 0o644))
	start(t, port, program(t, "apache2"), "-f", settings, "-D", "FOREGROUND")
}

// program finds a server: installed, or unpacked into bin/servers (make .servers).
func program(t testing.TB, name string) string {
	t.Helper()
	_, file, _, _ := runtime.Caller(0)
	unpacked := filepath.Join(filepath.Dir(file), "..", "..", "..", "bin", "servers", "usr", "sbin", name)
	if here, err := os.Getwd(); err == nil && !filepath.IsAbs(unpacked) { // names of sources are trimmed
		for ; here != "/"; here = filepath.Dir(here) {
			if at := filepath.Join(here, "bin", "servers", "usr", "sbin", name); isThere(at) {
				return at
			}
		}
	}
	for _, at := range []string{unpacked, "/usr/sbin/" + name} {
		if isThere(at) {
			return at
		}
	}
	found, err := exec.LookPath(name)
	if err != nil && os.Getenv("CI") == "" {
		t.Skip(name + " is not installed")
	}
	require.NoError(t, err)
	return found
}

func isThere(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}

func start(t testing.TB, port int, program string, args ...string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt) // it may have ended
		_ = cmd.Wait()
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 10*time.Millisecond)
}
