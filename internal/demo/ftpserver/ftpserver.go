// Package ftpserver is a small FTP server on loopback, for the example and for tests. It has listings for programs, and
// neither sets times nor modes; TLS must be asked for before the login.
package ftpserver

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"path"
	"path/filepath"
	"sync"
	"time"

	"goftp.io/server/v2"
	"goftp.io/server/v2/driver/file"
)

// Server is a running server.
type Server struct {
	Port        int
	Certificate string // its fingerprint, SHA256: and the hex of its DER form

	inner *server.Server
	done  chan error
}

// Options says what a server is like.
type Options struct {
	Dir            string // what its user sees as the top
	User, Password string
}

// Start starts a server.
func Start(opt Options) (*Server, error) {
	driver, err := file.NewDriver(opt.Dir)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{Port: l.Addr().(*net.TCPAddr).Port, done: make(chan error, 1)}
	if err := l.Close(); err != nil { // the library listens itself, and only so with TLS
		return nil, err
	}
	heard := &listener{first: make(chan struct{})}
	settings := &server.Options{Name: "Gannet Rock", WelcomeMessage: "Gannet Rock", Driver: &folder{driver, opt.Dir},
		Hostname: "127.0.0.1", Port: s.Port,
		Auth: &server.SimpleAuth{Name: opt.User, Password: opt.Password},
		Perm: server.NewSimplePerm("warden", "wardens"), Logger: heard}
	certificate, fingerprint, err := NewCertificate()
	if err != nil {
		return nil, err
	}
	s.Certificate = fingerprint
	settings.TLS, settings.ExplicitFTPS, settings.ForceTLS = true, true, true
	settings.TLSConfig = &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}
	if s.inner, err = server.NewServer(settings); err != nil {
		return nil, err
	}
	go func() { s.done <- s.inner.ListenAndServe() }()
	for {
		conn, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", s.Port))
		if err == nil {
			_, err = io.WriteString(conn, "QUIT\r\n")
			if err == nil {
				<-heard.first
			}
			return s, errors.Join(err, conn.Close())
		}
		select {
		case err := <-s.done:
			return nil, err
		case <-time.After(time.Millisecond):
		}
	}
}

// folder is the library's folder, altered where it holds its client up.
type folder struct {
	server.Driver
	dir string
}

// ListDir implements server.Driver: the library's reads everything below a folder to list it.
func (f *folder) ListDir(_ *server.Context, name string, callback func(os.FileInfo) error) error {
	found, err := os.ReadDir(f.full(name))
	if err != nil {
		return err
	}
	for _, entry := range found {
		info, err := entry.Info()
		if err != nil {
			continue // it was removed
		}
		if err := callback(info); err != nil {
			return err
		}
	}
	return nil
}

// PutFile implements server.Driver: the library's leaves a client waiting whose file cannot be written.
func (f *folder) PutFile(ctx *server.Context, name string, data io.Reader, offset int64) (int64, error) {
	size, err := f.Driver.PutFile(ctx, name, data, offset)
	if err != nil {
		_, _ = io.Copy(io.Discard, data) // whatever comes is not wanted
	}
	return size, err
}

// MakeDir implements server.Driver: the library's makes folders above, too, and takes one that stands for a new one.
func (f *folder) MakeDir(_ *server.Context, name string) error { return os.Mkdir(f.full(name), 0o755) }

func (f *folder) full(name string) string {
	return filepath.Join(f.dir, filepath.FromSlash(path.Join("/", name)))
}

// listener notes the first command: from then on the server can be ended.
type listener struct {
	server.DiscardLogger
	once  sync.Once
	first chan struct{}
}

func (l *listener) PrintCommand(string, string, string) { l.once.Do(func() { close(l.first) }) }

// Close ends the server.
func (s *Server) Close() error {
	err := s.inner.Shutdown()
	if ended := <-s.done; !errors.Is(ended, server.ErrServerClosed) {
		err = errors.Join(err, ended)
	}
	return err
}

// NewCertificate makes a certificate that signs itself, for a day, and gives its fingerprint.
func NewCertificate() (tls.Certificate, string, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(24 * time.Hour),
		DNSNames: []string{"ftp.example"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return tls.Certificate{}, "", fmt.Errorf("make a certificate: %w", err)
	}
	sum := sha256.Sum256(der)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, "SHA256:" + hex.EncodeToString(sum[:]), nil
}
