package connect

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func configure(t *testing.T, s *SSH, files ...string) *SSH {
	t.Helper()
	var names []string
	for i, text := range files {
		name := filepath.Join(t.TempDir(), string(rune('a'+i)))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		names = append(names, name)
	}
	require.NoError(t, s.Configure(append(names, "/no/such/file")))
	return s
}

const rockConfig = `Host rock
  HostName server.example
  User warden
  Port 2222
  IdentityFile ~/keys/%h
  IdentitiesOnly yes
  UserKnownHostsFile ~/known /etc/known
  HostKeyAlias the-rock
  ConnectTimeout 7
Host *.example
  ProxyJump gate,keeper@inner.example:2022
Host *
  User nobody
`

func TestConfigureFillsInWhatIsNotSet(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	s := configure(t, &SSH{Host: "rock"}, rockConfig, "Host *\n  Port 9\n")
	require.Equal(t, "server.example:2222", s.Address())
	require.Equal(t, "warden", s.User)
	require.Equal(t, []string{filepath.Join(home, "keys", "server.example")}, s.Identities)
	require.True(t, s.AgentOff)
	require.Equal(t, []string{filepath.Join(home, "known"), "/etc/known"}, s.KnownHostsFiles)
	require.Equal(t, "the-rock:22", s.keyName())
	require.Equal(t, 7*time.Second, s.Timeout)
	require.Nil(t, s.Via, "the rule is for another name")

	set := configure(t, &SSH{Host: "rock", User: "me", Port: 22, KnownHosts: "mine"}, rockConfig)
	require.Equal(t, "server.example:22", set.Address())
	require.Equal(t, "me", set.User)
	require.Empty(t, set.KnownHostsFiles)
}

func TestJumpsComeInTheirOrder(t *testing.T) {
	s := configure(t, &SSH{Host: "x.example"}, "Host gate\n  HostName 192.0.2.1\n"+rockConfig)
	require.Equal(t, "inner.example:2022", s.Via.Address())
	require.Equal(t, "keeper", s.Via.User)
	require.Equal(t, "192.0.2.1:22", s.Via.Via.Address())

	through := &SSH{Host: "x.example"}
	require.NoError(t, through.GoThrough([]string{"a@192.0.2.1:22", "192.0.2.2"}))
	require.Equal(t, "192.0.2.2:22", through.Via.Address())
	require.Equal(t, "a", through.Via.Via.User)
	require.Error(t, through.GoThrough([]string{"host:port"}))
	require.Error(t, through.GoThrough([]string{"user@"}))
}

func TestWrongSettingsAreNamed(t *testing.T) {
	dir := t.TempDir()
	var wrong *ConfigError
	require.ErrorAs(t, (&SSH{Host: "x"}).Configure([]string{dir}), &wrong, "a folder is no file of settings")
	require.Equal(t, dir, wrong.File)
	name := filepath.Join(dir, "config")
	require.NoError(t, os.WriteFile(name, []byte("Host *\n  ProxyJump circle\n"), 0o600))
	require.ErrorContains(t, (&SSH{Host: "x"}).Configure([]string{name}), "are gone through")
}
