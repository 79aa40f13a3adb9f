//go:build linux

package engine_test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect/engine"
	"tartine/internal/demo/engineserver"
	"tartine/internal/testservers/enginetest"
)

func open(t *testing.T, address string) *engine.Engine {
	t.Helper()
	e, err := engine.Open(t.Context(), address, nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, e.Close()) })
	return e
}

func TestContainersAreFoundByNameAndID(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, own *enginetest.Engine) {
		e := open(t, own.Address)
		name := own.Run(enginetest.Wanted{Volume: "/srv", Memory: map[string]string{"/run": ""}})
		id := own.ID(name)
		for _, called := range []string{name, id, id[:20]} {
			c, err := e.Container(t.Context(), called)
			require.NoError(t, err, called)
			require.Equal(t, []string{id, name}, []string{c.ID, c.Name})
			require.True(t, c.Running)
			require.Regexp(t, "^linux/", c.System)
			require.ElementsMatch(t, []engine.Mount{{Path: "/srv", Kind: "volume", Writable: true}, {Path: "/run", Kind: "tmpfs", Writable: true}}, c.Mounts)
		}
		// Of so many two begin with the same digit.
		digits := map[string]int{id[:1]: 1}
		for made := 1; len(digits) == made; made++ {
			digits[own.ID(own.Make(enginetest.Wanted{}))[:1]]++
		}
		for digit, count := range digits {
			_, err := e.Container(t.Context(), digit)
			var unknown *engine.NotFoundError
			if count > 1 {
				require.ErrorAs(t, err, &unknown)
				require.GreaterOrEqual(t, len(unknown.Several), 2)
				require.Contains(t, unknown.Several[0], "rock-")
			}
		}
		_, err := e.Container(t.Context(), "rocc"+name[4:])
		var unknown *engine.NotFoundError
		require.ErrorAs(t, err, &unknown)
		require.Contains(t, unknown.Nearest, name)
		_, err = e.Container(t.Context(), "no name at all")
		require.ErrorAs(t, err, &unknown)
	})
}

func TestProgramsAndArchives(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, own *enginetest.Engine) {
		c, err := open(t, own.Address).Container(t.Context(), own.Run(enginetest.Wanted{}))
		require.NoError(t, err)
		echoes(t, c)
		stream, err := c.Exec(t.Context(), "", "/bin/nothing")
		require.NoError(t, err)
		said, err := io.ReadAll(stream)
		require.NoError(t, err)
		require.Contains(t, string(said)+stream.Said(), "/bin/nothing")
		require.NoError(t, stream.Close())

		_, err = c.Get(t.Context(), "/srv/nothing")
		require.ErrorIs(t, err, fs.ErrNotExist)
		require.Error(t, c.Put(t.Context(), "/srv/nothing", archive(t, "a")))
		require.NoError(t, c.Put(t.Context(), "/srv", archive(t, "a")))
		stands, err := c.Has(t.Context(), "/srv/a")
		require.NoError(t, err)
		require.True(t, stands)
		folder, err := c.IsFolder(t.Context(), "/srv/a")
		require.NoError(t, err)
		require.False(t, folder)
		require.Equal(t, "text", own.Read(c.Name, "/srv/a"))
	})
}

// echoes has a program of the container write what it reads.
func echoes(t *testing.T, c *engine.Container) {
	t.Helper()
	stream, err := c.Exec(t.Context(), "0:0", "/bin/sh", "-c", "busybox head -c 300000; echo words >&2")
	require.NoError(t, err)
	text := bytes.Repeat([]byte("gannet"), 50_000)
	go func() { _, _ = stream.Write(text) }()
	got, err := io.ReadAll(stream)
	require.NoError(t, err)
	require.True(t, bytes.Equal(text, got), "%d bytes", len(got))
	require.Equal(t, "words", stream.Said())
	require.NoError(t, stream.Close())
}

func archive(t *testing.T, name string) io.Reader {
	out := &bytes.Buffer{}
	w := tar.NewWriter(out)
	require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o644, Size: 4}))
	_, err := io.WriteString(w, "text")
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out
}

func TestOlderEnginesAreSpokenToAsTheyCan(t *testing.T) {
	own := enginetest.StandIn(t, engineserver.Options{Version: "1.40"})
	c, err := open(t, own.Address).Container(t.Context(), own.Run(enginetest.Wanted{}))
	require.NoError(t, err)
	echoes(t, c)

	dir := t.TempDir()
	old, err := engineserver.Start(engineserver.Options{Dir: dir, Version: "1.24"})
	require.NoError(t, err)
	defer old.Close()
	_, err = engine.Open(t.Context(), old.Address, nil)
	var none *engine.Error
	require.ErrorAs(t, err, &none)
	require.True(t, none.Old)
	require.ErrorContains(t, err, "1.24")
}

func TestNoEngine(t *testing.T) {
	dir := t.TempDir()
	mute, err := net.Listen("unix", filepath.Join(dir, "mute.sock"))
	require.NoError(t, err)
	go func() {
		for {
			conn, err := mute.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(conn, "220 mail.example ready\r\n")
			_, _ = conn.Read(make([]byte, 1<<10)) // what is asked is of no interest
			conn.Close()
		}
	}()
	defer mute.Close()
	broken, err := engineserver.Start(engineserver.Options{Dir: dir, Fault: func(*http.Request) *engineserver.Fault {
		return &engineserver.Fault{Status: 500, Message: "the engine is not itself today"}
	}})
	require.NoError(t, err)
	defer broken.Close()
	for address, says := range map[string]string{
		"unix://" + dir + "/nowhere.sock": "no such file",
		"unix://" + dir + "/mute.sock":    "does not speak HTTP",
		broken.Address:                    "not itself today",
		"tcp://127.0.0.1:1":               "connection refused",
		"pigeon://rock.example":           "",
	} {
		_, err := engine.Open(t.Context(), address, nil)
		var none *engine.Error
		require.ErrorAs(t, err, &none, address)
		require.False(t, none.Denied)
		require.ErrorContains(t, err, says)
	}
}

// authority writes a certificate authority into a folder, with a certificate for a server and one for a client, in the
// files that engines' own tools look for.
func authority(t *testing.T, dir string) (server *tls.Config) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	top := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Gannet Rock"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	write := func(name, kind string, der []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600))
	}
	own, err := x509.CreateCertificate(rand.Reader, top, top, key.Public(), key)
	require.NoError(t, err)
	write("ca.pem", "CERTIFICATE", own)
	leaf := func(usage x509.ExtKeyUsage) tls.Certificate {
		certificate := &x509.Certificate{SerialNumber: big.NewInt(2), NotBefore: top.NotBefore, NotAfter: top.NotAfter, ExtKeyUsage: []x509.ExtKeyUsage{usage}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
		key2, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		der, err := x509.CreateCertificate(rand.Reader, certificate, top, key2.Public(), key)
		require.NoError(t, err)
		secret, err := x509.MarshalECPrivateKey(key2)
		require.NoError(t, err)
		write("cert.pem", "CERTIFICATE", der)
		write("key.pem", "EC PRIVATE KEY", secret)
		return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key2}
	}
	served := leaf(x509.ExtKeyUsageServerAuth)
	leaf(x509.ExtKeyUsageClientAuth) // stays in the files
	known := x509.NewCertPool()
	known.AppendCertsFromPEM(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: own}))
	return &tls.Config{Certificates: []tls.Certificate{served}, ClientCAs: known, ClientAuth: tls.RequireAndVerifyClientCert}
}

// overTLS leads from a port of this machine, with TLS, to an engine's socket.
func overTLS(t *testing.T, config *tls.Config, address string) string {
	t.Helper()
	l, err := tls.Listen("tcp", "127.0.0.1:0", config)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer near.Close()
				far, err := net.Dial("unix", strings.TrimPrefix(address, "unix://"))
				if err != nil {
					return
				}
				defer far.Close()
				go func() {
					_, _ = io.Copy(far, near)
					_ = far.(*net.UnixConn).CloseWrite()
				}()
				_, _ = io.Copy(near, far)
			}()
		}
	}()
	return "tcp://" + l.Addr().String()
}

func TestOverTLS(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, own *enginetest.Engine) {
		name := own.Run(enginetest.Wanted{})
		for way, address := range map[string]string{"as the target says": "address", "as the environment says": ""} {
			t.Run(way, func(t *testing.T) {
				keys := t.TempDir()
				port := overTLS(t, authority(t, keys), own.Address)
				if address != "" {
					address = port
				}
				t.Setenv("DOCKER_HOST", port)
				t.Setenv("DOCKER_TLS_VERIFY", "1")
				t.Setenv("DOCKER_CERT_PATH", keys)
				c, err := open(t, address).Container(t.Context(), name)
				require.NoError(t, err)
				echoes(t, c)
				t.Setenv("DOCKER_CERT_PATH", t.TempDir())
				_, err = engine.Open(t.Context(), address, nil)
				require.ErrorContains(t, err, "certificate")
			})
		}
		t.Run("as a context says", func(t *testing.T) {
			settings := t.TempDir()
			sum := sha256.Sum256([]byte("rock"))
			id := hex.EncodeToString(sum[:])
			keys := filepath.Join(settings, "contexts", "tls", id, "docker")
			meta := filepath.Join(settings, "contexts", "meta", id)
			require.NoError(t, os.MkdirAll(keys, 0o700))
			require.NoError(t, os.MkdirAll(meta, 0o700))
			port := overTLS(t, authority(t, keys), own.Address)
			require.NoError(t, os.WriteFile(filepath.Join(meta, "meta.json"), fmt.Appendf(nil, `{"Name": "rock", "Metadata": {}, "Endpoints": {"docker": {"Host": %q, "SkipTLSVerify": false}}}`, port), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(settings, "config.json"), []byte(`{"currentContext": "rock"}`), 0o600))
			t.Setenv("DOCKER_CONFIG", settings)
			t.Setenv("DOCKER_HOST", "")
			c, err := open(t, "").Container(t.Context(), name)
			require.NoError(t, err)
			echoes(t, c)
			t.Setenv("DOCKER_CONTEXT", "rocc")
			_, err = engine.Open(t.Context(), "", nil)
			require.ErrorContains(t, err, "there is no such context in "+settings)
			t.Setenv("DOCKER_CONTEXT", "rock")
			require.NoError(t, os.WriteFile(filepath.Join(meta, "meta.json"), []byte(`{"Endpoints": {}}`), 0o600))
			_, err = engine.Open(t.Context(), "", nil)
			require.ErrorContains(t, err, "names no address")
		})
	})
}

func TestACancelledCallEnds(t *testing.T) {
	hang := make(chan struct{})
	dir := t.TempDir()
	slow, err := engineserver.Start(engineserver.Options{Dir: dir, Fault: func(*http.Request) *engineserver.Fault {
		<-hang
		return nil
	}})
	require.NoError(t, err)
	defer slow.Close()
	defer close(hang)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err = engine.Open(ctx, slow.Address, nil)
	require.ErrorIs(t, err, context.DeadlineExceeded)
}
