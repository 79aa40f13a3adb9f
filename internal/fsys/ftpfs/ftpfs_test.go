package ftpfs

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect"
	"tartine/internal/connect/ftptest"
	"tartine/internal/demo/ftpserver"
	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
)

func login(port int, certificate string) *connect.FTP {
	return &connect.FTP{Host: "127.0.0.1", Port: port, User: ftptest.User, TLS: certificate != "", Certificate: certificate,
		Password: func() (string, error) { return ftptest.Password, nil }}
}

func open(t *testing.T, dial *connect.FTP, base string) *FS {
	t.Helper()
	var (
		first *connect.FTPLine
		err   error
	)
	require.Eventually(t, func() bool { // a server that takes few may still count those of the test before
		first, err = dial.Dial(t.Context())
		return !isFull(err)
	}, 10*time.Second, 20*time.Millisecond)
	require.NoError(t, err)
	return New(first, dial.Dial, base, 8, 10*time.Second)
}

// TestFTP runs the suite against ProFTPD, set up in several ways, and against a server of another make.
func TestFTP(t *testing.T) {
	for name, lines := range map[string][]string{
		"plain": nil, "TLS": ftptest.TLS(t), "digests": ftptest.Digests, "no listings for programs": {"FactsAdvertise off"},
		"few connections": {"MaxClientsPerUser 2"}, "no overwriting": {"AllowOverwrite off"},
	} {
		if testing.Short() && name != "TLS" && name != "few connections" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			server := ftptest.Start(t, lines...)
			certificate := ""
			if name == "TLS" {
				certificate = server.Certificate
			}
			dial := login(server.Port, certificate)
			count := 0
			fsystest.Run(t, func(t *testing.T) fsys.FS {
				count++
				base := fmt.Sprintf("base%d", count)
				dir := filepath.Join(server.Dir, base)
				require.NoError(t, os.Mkdir(dir, 0o755))
				require.NoError(t, os.Chown(dir, ftptest.UserID, ftptest.UserID))
				return open(t, dial, "/"+base)
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

func TestWhatAServerCanDoIsFoundOut(t *testing.T) {
	all := open(t, login(ftptest.Start(t, ftptest.Digests...).Port, ""), "/")
	require.Equal(t, fsys.Abilities{AtomicReplace: true, Modes: true, TimeStep: time.Second, OneLine: true, FarDigests: "HASH"}, all.Abilities())
	old := open(t, login(ftptest.Start(t, "FactsAdvertise off").Port, ""), "/")
	require.Equal(t, fsys.Abilities{AtomicReplace: true, TimeStep: time.Minute, OneLine: true, NoTimes: true}, old.Abilities())
}

func TestConnectionsThatAreCutAreMadeAgain(t *testing.T) {
	server := ftptest.Start(t)
	f := open(t, login(server.Port, ""), "/")
	defer f.Close()
	for i := range 4 {
		for _, line := range f.lines.idle {
			line.Close()
		}
		_, err := f.Put(t.Context(), fmt.Sprint(i), strings.NewReader("gannet"), fsys.Attr{Mode: 0o644})
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

// TestReadingGoesOnOverAnotherLine cuts the line under a file that is read.
func TestReadingGoesOnOverAnotherLine(t *testing.T) {
	server := ftptest.Start(t, ftptest.TLS(t)...)
	f := open(t, login(server.Port, server.Certificate), "/")
	defer f.Close()
	text := strings.Repeat("gannet rock ", 1<<20)
	_, err := f.Put(t.Context(), "large", strings.NewReader(text), fsys.Attr{Mode: 0o644})
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
