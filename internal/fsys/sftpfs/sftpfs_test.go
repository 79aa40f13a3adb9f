package sftpfs_test

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect"
	"tartine/internal/demo/sshserver"
	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/fsys/sftpfs"
	"tartine/internal/testservers/sshdtest"
)

func open(t *testing.T, dial connect.SSH, dir string, shell bool) fsys.FS {
	t.Helper()
	client, err := dial.Dial(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { client.Close() })
	transfer, line, err := connect.OpenSFTP(client, nil)
	require.NoError(t, err)
	if shell {
		return sftpfs.New(transfer, line, dir, connect.Exec(client))
	}
	return sftpfs.New(transfer, line, dir, nil)
}

func TestConformanceWithOpenSSH(t *testing.T) {
	server := sshdtest.Start(t)
	for i, user := range sshdtest.Users(t) {
		shell := i > 0 // once with a shell, once with SFTP alone
		t.Run(fmt.Sprintf("%s, shell %v", user, shell), func(t *testing.T) {
			fsystest.Run(t, func(t *testing.T) fsys.FS {
				dial := connect.SSH{Host: "127.0.0.1", Port: server.Port, User: user, Identity: server.Identity, KnownHosts: server.KnownHosts}
				return open(t, dial, sshdtest.Folder(t, user), shell)
			})
		})
	}
}

func TestConformanceWithoutAShellAtTheFarEnd(t *testing.T) {
	server := sshdtest.Start(t, "ForceCommand internal-sftp")
	fsystest.Run(t, func(t *testing.T) fsys.FS {
		user := sshdtest.Users(t)[0]
		dial := connect.SSH{Host: "127.0.0.1", Port: server.Port, User: user, Identity: server.Identity, HostKey: server.Fingerprint}
		return open(t, dial, sshdtest.Folder(t, user), true)
	})
}

func TestConformanceWithTheBuiltInServer(t *testing.T) {
	identity := filepath.Join(t.TempDir(), "identity")
	server, err := sshserver.Start("warden", identity, "")
	require.NoError(t, err)
	t.Cleanup(func() { server.Close() })
	fsystest.Run(t, func(t *testing.T) fsys.FS {
		dial := connect.SSH{Host: "127.0.0.1", Port: server.Port(), User: "warden", Identity: identity, HostKey: server.Fingerprint}
		return open(t, dial, t.TempDir(), true)
	})
}

// TestConformanceWithoutExtensions runs against a server that cannot replace by a rename, link, or make files durable.
func TestConformanceWithoutExtensions(t *testing.T) {
	server := sshdtest.Start(t, "Subsystem sftp internal-sftp -P posix-rename,hardlink,fsync,statvfs")
	user := sshdtest.Users(t)[0]
	fsystest.Run(t, func(t *testing.T) fsys.FS {
		dial := connect.SSH{Host: "127.0.0.1", Port: server.Port, User: user, Identity: server.Identity, HostKey: server.Fingerprint}
		f := open(t, dial, sshdtest.Folder(t, user), false)
		require.False(t, f.Abilities().AtomicReplace)
		return f
	})
}
