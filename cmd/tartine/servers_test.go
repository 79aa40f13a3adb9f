//go:build linux

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/cli"
	"tartine/internal/targets"
	"tartine/internal/testservers/sshdtest"
)

// TestDeployToServersSetUpInOtherWays deploys, deploys again, and verifies on servers that are not set up as usual.
func TestDeployToServersSetUpInOtherWays(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("a copy of the program goes to each of many accounts")
	}
	name, password := sshdtest.Account(t)
	chroot, err := os.MkdirTemp("/var/lib", "tartine-test") // every folder above it must be root's alone
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(chroot) })
	require.NoError(t, os.Chmod(chroot, 0o755))
	inside := filepath.Join(chroot, "htdocs")
	require.NoError(t, os.Mkdir(inside, 0o755))
	out, err := exec.Command("chown", name, inside).CombinedOutput()
	require.NoError(t, err, "%s", out)
	keys := filepath.Join(sshdtest.Folder(t, "root"), "authority")
	require.NoError(t, os.Chmod(filepath.Dir(keys), 0o755))
	out, err = exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", keys).CombinedOutput()
	require.NoError(t, err, "%s", out)

	for kind, lines := range map[string][]string{
		"a chroot with internal-sftp and no shell": {"ChrootDirectory " + chroot, "ForceCommand internal-sftp", "AllowTcpForwarding no"},
		"passwords alone":                          {"PubkeyAuthentication no", "PasswordAuthentication yes"},
		"questions through PAM":                    {"PubkeyAuthentication no", "UsePAM yes", "KbdInteractiveAuthentication yes"},
		"certificates alone":                       {"TrustedUserCAKeys " + keys + ".pub", "AuthorizedKeysFile none"},
		"two tries":                                {"MaxAuthTries 2"},
	} {
		t.Run(kind, func(t *testing.T) {
			server := sshdtest.Start(t, lines...)
			root := sshdtest.Folder(t, name) + "/site"
			env := append(os.Environ(), "XDG_CACHE_HOME="+t.TempDir(), "ROCK="+password, "SSH_AUTH_SOCK=")
			switch kind {
			case "a chroot with internal-sftp and no shell":
				root = "/htdocs/site"
			case "certificates alone":
				out, err := exec.Command("sh", "-c", fmt.Sprintf("ssh-keygen -y -f %[1]s >%[1]s.pub && ssh-keygen -q -s %[2]s -I gannet -n %[3]s %[1]s.pub", server.Identity, keys, name)).CombinedOutput()
				require.NoError(t, err, "%s", out)
			case "two tries":
				env = append(env, "SSH_AUTH_SOCK="+sshdtest.Agent(t, 5))
			}
			dir := t.TempDir()
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "public", "css"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "public", "index.html"), []byte("<h1>"), 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "public", "css", "rock.css"), []byte("h1 {}"), 0o644))
			login := "identity: " + server.Identity
			if strings.Contains(strings.Join(lines, " "), "PubkeyAuthentication no") {
				login = "password: {env: ROCK}"
			}
			settings := fmt.Sprintf("content: [{source: public}]\ntargets: {rock: {url: \"ssh://%s@127.0.0.1:%d%s\", host_key: %q, %s}}\n", name, server.Port, root, server.Fingerprint, login)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "tartine.yaml"), []byte(settings), 0o644))
			tartine := func(args ...string) string {
				cmd := exec.Command("tartine", args...)
				cmd.Dir, cmd.Env = dir, env
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, "%s", out)
				return string(out)
			}
			require.Contains(t, tartine("deploy"), "deployment 1")
			require.Contains(t, tartine("deploy"), "unchanged")
			require.Contains(t, tartine("verify"), "match")
		})
	}
}

// TestIdleLongerThanTheServerAllows waits until the server has closed the line, and goes on.
func TestIdleLongerThanTheServerAllows(t *testing.T) {
	patient := sshdtest.Start(t)
	server := sshdtest.Start(t, "ChannelTimeout session:*=2s", "UnusedConnectionTimeout 2s")
	user := sshdtest.Users(t)[0]
	for _, way := range []string{"auto", "off"} {
		again := 0
		settings := targets.Settings{
			Address:   targets.Address{Kind: targets.SSH, Host: "127.0.0.1", Port: patient.Port, User: user, Path: sshdtest.Folder(t, user)},
			SSH:       targets.SSHSettings{Identity: patient.Identity, HostKey: patient.Fingerprint},
			Agent:     targets.AgentSettings{Use: way, Version: cli.Build{Version: version, Commit: commit}.Stamp().String()},
			Reconnect: time.Minute, Told: func(err error, _ time.Duration) {
				if err == nil {
					again++
				}
			}}
		// The program is copied there through a server that lets that take as long as it takes.
		first, err := targets.Open(t.Context(), settings)
		require.NoError(t, err)
		require.NoError(t, first.Close())
		settings.Address.Port, settings.SSH.Identity, settings.SSH.HostKey = server.Port, server.Identity, server.Fingerprint
		opened, err := targets.Open(t.Context(), settings)
		require.NoError(t, err)
		defer opened.Close()
		require.Equal(t, way == "auto", opened.Agent, "%v", opened.Why)
		children := fmt.Sprintf("/proc/%d/task/%[1]d/children", server.Process())
		require.Eventually(t, func() bool {
			text, err := os.ReadFile(children)
			return err == nil && strings.TrimSpace(string(text)) == ""
		}, 30*time.Second, 20*time.Millisecond, "the server closes what is idle")
		_, err = calls.Survey.On(t.Context(), opened, calls.Surveying{As: 1, Believe: true})
		require.NoError(t, err)
		require.Equal(t, 1, again)
	}
}
