package ftpfs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect/ftpline"
	"tartine/internal/demo/ftpserver"
	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/manifest"
	"tartine/internal/testservers/ftptest"
)

func login(port int, certificate string) *ftpline.Dialer {
	return &ftpline.Dialer{Host: "127.0.0.1", Port: port, User: ftptest.User, TLS: certificate != "", Certificate: certificate,
		Password: func() (string, error) { return ftptest.Password, nil }}
}

func open(t *testing.T, dial *ftpline.Dialer, base string) *FS {
	t.Helper()
	var (
		first *ftpline.Conn
		err   error
	)
	require.Eventually(t, func() bool { // a server that takes few may still count those of the test before
		first, err = dial.Dial(t.Context())
		return !isFull(err)
	}, 10*time.Second, 20*time.Millisecond)
	require.NoError(t, err)
	return New(first, dial.Dial, base, 8, 10*time.Second)
}

// setUps are the servers that the tests know, by name. Those that ask for TLS have it in theirs.
func setUps(t *testing.T) map[string]func(t *testing.T) *ftptest.Server {
	type start func(t testing.TB, settings ...string) *ftptest.Server
	as := func(start start, settings ...string) func(t *testing.T) *ftptest.Server {
		return func(t *testing.T) *ftptest.Server { return start(t, settings...) }
	}
	tls := ftptest.TLS(t)
	return map[string]func(t *testing.T) *ftptest.Server{
		"ProFTPD":                           as(ftptest.Start),
		"ProFTPD, TLS":                      as(ftptest.Start, tls...),
		"ProFTPD, TLS 1.2, any session":     as(ftptest.Start, append(tls, "TLSProtocol TLSv1.2", "TLSOptions NoSessionReuseRequired")...),
		"ProFTPD, digests":                  as(ftptest.Start, ftptest.Digests...),
		"ProFTPD, no listings for programs": as(ftptest.Start, "FactsAdvertise off"),
		"ProFTPD, few connections":          as(ftptest.Start, "MaxClientsPerUser 2"),
		"ProFTPD, no overwriting":           as(ftptest.Start, "AllowOverwrite off"),
		"ProFTPD, no encoding":              as(ftptest.Start, "LangEngine on", "UseEncoding off"),
		"vsftpd":                            as(ftptest.StartVsftpd),
		"vsftpd, TLS":                       as(ftptest.StartVsftpd, ftptest.VsftpdTLS...),
		"vsftpd, TLS 1.2":                   as(ftptest.StartVsftpd, append(ftptest.VsftpdTLS, ftptest.TLS12)...),
		"vsftpd, TLS, any session":          as(ftptest.StartVsftpd, append(ftptest.VsftpdTLS, "require_ssl_reuse=NO")...),
		"vsftpd, no modes":                  as(ftptest.StartVsftpd, "chmod_enable=NO"),
		"pure-ftpd":                         as(ftptest.StartPure),
		"pure-ftpd, TLS":                    as(ftptest.StartPure, ftptest.PureTLS...),
		"pure-ftpd, TLS 1.2":                as(ftptest.StartPure, append(ftptest.PureTLS, ftptest.TLS12)...),
		"pure-ftpd, modes refused":          as(ftptest.StartPure, "--nochmod"),
	}
}

func (s setUp) dial(server *ftptest.Server) *ftpline.Dialer {
	if strings.Contains(string(s), "TLS") {
		return login(server.Port, server.Certificate)
	}
	return login(server.Port, "")
}

// setUp is the name of one.
type setUp string

// TestFTP runs the suite against ProFTPD, vsftpd and pure-ftpd, set up in several ways, and against a server of another make.
func TestFTP(t *testing.T) {
	for name, start := range setUps(t) {
		if testing.Short() && name != "ProFTPD, TLS" && name != "ProFTPD, few connections" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := start(t)
			count := 0
			fsystest.Run(t, func(t *testing.T) fsys.FS {
				count++
				base := fmt.Sprintf("base%d", count)
				dir := filepath.Join(server.Dir, base)
				require.NoError(t, os.Mkdir(dir, 0o755))
				require.NoError(t, os.Chown(dir, ftptest.UserID, ftptest.UserID))
				return open(t, setUp(name).dial(server), "/"+base)
			})
		})
	}
	t.Run("another make", func(t *testing.T) {
		fsystest.Run(t, func(t *testing.T) fsys.FS {
			server, err := ftpserver.Start(ftpserver.Options{Dir: t.TempDir(), User: ftptest.User, Password: ftptest.Password})
			require.NoError(t, err)
			t.Cleanup(func() { require.NoError(t, server.Close()) })
			return open(t, login(server.Port, server.Certificate), "/")
		})
	})
}

// TestFilesOfEverySizeArrive writes and reads files around the sizes at which buffers end, on each server.
func TestFilesOfEverySizeArrive(t *testing.T) {
	for name, start := range setUps(t) {
		if testing.Short() && name != "vsftpd, TLS" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := start(t)
			f, made := open(t, setUp(name).dial(server), "/"), 1
			defer f.Close()
			dial := f.lines.dial
			f.lines.dial = func(ctx context.Context) (*ftpline.Conn, error) { made++; return dial(ctx) }
			for i, size := range []int{0, 1, 16 << 10, 128<<10 - 1, 128 << 10, 130_000, 500_000, 1 << 20, 3_000_000, 20 << 20} {
				text := bytes.Repeat([]byte("Gannet Rock\n"), size/12+1)[:size]
				name := fmt.Sprint("plate-", i)
				_, err := f.Put(t.Context(), name, bytes.NewReader(text), fsys.Attributes{Mode: 0o644})
				require.NoError(t, err, size)
				require.Equal(t, 1, made, "%d bytes: no connection was lost", size)
				found, err := os.ReadFile(filepath.Join(server.Dir, name))
				require.NoError(t, err)
				require.True(t, bytes.Equal(text, found), "%d bytes there, %d wanted", len(found), size)
				file, err := f.Open(t.Context(), name)
				require.NoError(t, err)
				back, err := io.ReadAll(file)
				require.NoError(t, err)
				require.NoError(t, file.Close())
				require.True(t, bytes.Equal(text, back))
			}
		})
	}
}

func TestWhatAServerCanDoIsFoundOut(t *testing.T) {
	all := open(t, login(ftptest.Start(t, ftptest.Digests...).Port, ""), "/")
	require.Equal(t, fsys.Abilities{AtomicReplace: true, Modes: true, TimeStep: time.Second, OneLine: true, OddNames: true, FarDigests: "HASH"}, all.Abilities())
	old := open(t, login(ftptest.Start(t, "FactsAdvertise off").Port, ""), "/")
	require.Equal(t, fsys.Abilities{AtomicReplace: true, Modes: true, TimeStep: time.Minute, OneLine: true, OddNames: true, NoTimes: true}, old.Abilities())
}

func TestConnectionsThatAreCutAreMadeAgain(t *testing.T) {
	server := ftptest.Start(t)
	f := open(t, login(server.Port, ""), "/")
	defer f.Close()
	for i := range 4 {
		for _, line := range f.lines.idle {
			line.Close()
		}
		_, err := f.Put(t.Context(), fmt.Sprint(i), strings.NewReader("gannet"), fsys.Attributes{Mode: 0o644})
		require.NoError(t, err)
	}
	file, err := f.Open(t.Context(), "3")
	require.NoError(t, err)
	text, err := io.ReadAll(file)
	require.NoError(t, err)
	require.Equal(t, "gannet", string(text))
	require.NoError(t, file.Close())
	require.Equal(t, 1, f.Connections())
}

// TestReadingGoesOnOverAnotherLine cuts the connection under a file that is read.
func TestReadingGoesOnOverAnotherLine(t *testing.T) {
	server := ftptest.Start(t, ftptest.TLS(t)...)
	f := open(t, login(server.Port, server.Certificate), "/")
	defer f.Close()
	text := strings.Repeat("gannet rock ", 1<<20)
	_, err := f.Put(t.Context(), "large", strings.NewReader(text), fsys.Attributes{Mode: 0o644})
	require.NoError(t, err)
	file, err := f.Open(t.Context(), "large")
	require.NoError(t, err)
	defer file.Close()
	var got strings.Builder
	for i := range 3 {
		_, err = io.CopyN(&got, file, 1<<20)
		require.NoError(t, err, i)
		file.(*reading).content.Close()
		file.(*reading).line.Close()
	}
	_, err = io.Copy(&got, file)
	require.NoError(t, err)
	require.True(t, got.String() == text)

	file, err = f.Open(t.Context(), "large")
	require.NoError(t, err)
	defer file.Close()
	require.NoError(t, os.Truncate(filepath.Join(server.Dir, "large"), 10))
	_, err = io.Copy(io.Discard, file)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

// proving is content that is told what a place holds of it.
type proving struct {
	io.Reader
	told []manifest.Digest
}

func (p *proving) Proved(digest manifest.Digest) { p.told = append(p.told, digest) }

// TestWhatWasWrittenIsProvedAtOnce has a server that computes digests tell that of a file with its attributes.
func TestWhatWasWrittenIsProvedAtOnce(t *testing.T) {
	server := ftptest.Start(t, ftptest.Digests...)
	f := open(t, login(server.Port, ""), "/")
	defer f.Close()
	when := time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)
	for i, text := range []string{"gannet", "", strings.Repeat("a plate ", 100_000)} {
		name, content := fmt.Sprint("page-", i), &proving{Reader: strings.NewReader(text)}
		_, err := f.Put(t.Context(), name, content, fsys.Attributes{Mode: 0o640, ModTime: when})
		require.NoError(t, err)
		require.Equal(t, []manifest.Digest{sha256.Sum256([]byte(text))}, content.told)
		info, err := f.Lstat(t.Context(), name)
		require.NoError(t, err)
		require.Equal(t, fs.FileMode(0o640), info.Mode)
		require.True(t, when.Equal(info.ModTime), info.ModTime)
	}
	plain := open(t, login(ftptest.Start(t).Port, ""), "/")
	defer plain.Close()
	content := &proving{Reader: strings.NewReader("gannet")}
	_, err := plain.Put(t.Context(), "page", content, fsys.Attributes{Mode: 0o640, ModTime: when})
	require.NoError(t, err)
	require.Empty(t, content.told, "a server that computes none tells none")
}

func TestFoldersGoAtOnce(t *testing.T) {
	f := open(t, login(ftptest.Start(t).Port, ""), "/")
	defer f.Close()
	require.NoError(t, f.Mkdir(t.Context(), "empty", 0o755))
	require.NoError(t, f.RemoveFolder(t.Context(), "empty"))
	require.ErrorIs(t, f.RemoveFolder(t.Context(), "empty"), fs.ErrNotExist)
	require.NoError(t, f.Mkdir(t.Context(), "full", 0o755))
	_, err := f.Put(t.Context(), "full/page", strings.NewReader("gannet"), fsys.Attributes{Mode: 0o644})
	require.NoError(t, err)
	require.Error(t, f.RemoveFolder(t.Context(), "full"))
	_, err = f.Lstat(t.Context(), "full/page")
	require.NoError(t, err)
}

// TestWhatIsRefusedBesideADigestIsFoundOut has a server offer to set mode and time at once, and refuse it.
func TestWhatIsRefusedBesideADigestIsFoundOut(t *testing.T) {
	server := ftptest.Start(t, append(ftptest.Digests, "<Limit MFF>", "DenyAll", "</Limit>")...)
	f := open(t, login(server.Port, ""), "/")
	defer f.Close()
	when := time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)
	for i := range 2 {
		content := &proving{Reader: strings.NewReader("gannet")}
		_, err := f.Put(t.Context(), fmt.Sprint(i), content, fsys.Attributes{Mode: 0o640, ModTime: when})
		require.NoError(t, err)
		info, err := f.Lstat(t.Context(), fmt.Sprint(i))
		require.NoError(t, err)
		require.Equal(t, fs.FileMode(0o640), info.Mode)
		require.True(t, when.Equal(info.ModTime), info.ModTime)
	}
	require.False(t, f.sets.both.Load())
}

func TestOnlyADigestOfTheRightKindCounts(t *testing.T) {
	want := manifest.Digest(sha256.Sum256([]byte("gannet")))
	for hash, replies := range map[string]map[string]bool{
		"HASH":    {"SHA-256 0-6 " + want.Hex() + " page": true, "SHA3-256 0-6 " + want.Hex() + " page": false, want.Hex(): false, "SHA-256 0-6 abc page": false},
		"XSHA256": {want.Hex(): true, want.Hex()[:40]: false, "": false},
	} {
		for reply, counts := range replies {
			digest, ok := (&FS{hash: hash}).digestIn(reply)
			require.Equal(t, counts, ok, "%s: %s", hash, reply)
			require.True(t, !ok || digest == want)
		}
	}
}

// TestAKeptCopyOfWhatCannotBeThereIsNamed has errors of both names of a copy tell which name they are about.
func TestAKeptCopyOfWhatCannotBeThereIsNamed(t *testing.T) {
	f := open(t, login(ftptest.Start(t).Port, ""), "/")
	defer f.Close()
	require.ErrorIs(t, f.Link(t.Context(), "missing", "copy"), fs.ErrNotExist)
	require.ErrorContains(t, f.Link(t.Context(), "two\nlines", "copy"), "/two\nlines: a name with a line break cannot be there")
	require.NoError(t, f.Mkdir(t.Context(), "folder", 0o755))
	require.ErrorContains(t, f.Link(t.Context(), "folder", "copy"), "/folder: not a file")
}
