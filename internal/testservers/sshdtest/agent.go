package sshdtest

import (
	"crypto/ed25519"
	"crypto/rand"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh/agent"
)

// Agent starts a key agent that holds as many keys that no server knows as asked, and then others, and gives its
// socket.
func Agent(t testing.TB, strangers int, keys ...any) string {
	t.Helper()
	ring := agent.NewKeyring()
	for range strangers {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: key}))
	}
	for _, key := range keys {
		require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: key}))
	}
	dir, err := os.MkdirTemp("", "agent") // a socket's name must be short
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket := filepath.Join(dir, "socket")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(ring, conn) }() // it ends with the connection
		}
	}()
	return socket
}
