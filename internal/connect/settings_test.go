package connect

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect/sshconfig"
)

func configure(t *testing.T, s *SSH, text string) *SSH {
	t.Helper()
	name := filepath.Join(t.TempDir(), "config")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	require.NoError(t, s.Configure(t.Context(), GivenConfig(name)))
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
  ConnectTimeout 1m5s
  ServerAliveInterval 7
  PreferredAuthentications password,publickey
  PubkeyAuthentication no
  IdentityAgent none
Host *.example
  ProxyJump gate,keeper@[2001:db8::1]:2022
Host *
  User nobody
`

func TestConfigureFillsInWhatIsNotSet(t *testing.T) {
	t.Setenv("SSH_AUTH_SOCK", "/run/agent")
	s := configure(t, &SSH{Host: "rock"}, rockConfig)
	require.Equal(t, "server.example:2222", s.Address())
	require.Equal(t, "warden", s.User)
	require.Equal(t, []string{filepath.Join(sshconfig.Home(), "keys", "server.example")}, s.Identities)
	require.True(t, s.IdentitiesOnly)
	require.Equal(t, []string{filepath.Join(sshconfig.Home(), "known"), "/etc/known"}, s.KnownHostsFiles)
	require.Equal(t, "the-rock:22", s.keyName())
	require.Equal(t, 65*time.Second, s.Timeout)
	require.Equal(t, 7*time.Second, s.Alive)
	require.Equal(t, []string{"password", "publickey"}, s.Methods)
	require.Equal(t, []string{"publickey"}, s.Never)
	require.Empty(t, s.agentSocket())
	require.Nil(t, s.Via, "the rule is for another name")

	set := configure(t, &SSH{Host: "rock", User: "me", Port: 22, KnownHosts: "mine", Timeout: time.Second}, rockConfig)
	require.Equal(t, "server.example:22", set.Address())
	require.Equal(t, "me", set.User)
	require.Equal(t, []string{"mine"}, set.userKnownHosts())
	require.Equal(t, time.Second, set.Timeout)
}

func TestJumpsComeInTheirOrder(t *testing.T) {
	s := configure(t, &SSH{Host: "x.example"}, "Host gate\n  HostName 192.0.2.1\n"+rockConfig)
	require.Equal(t, "[2001:db8::1]:2022", s.Via.Address())
	require.Equal(t, "keeper", s.Via.User)
	require.Equal(t, "192.0.2.1:22", s.Via.Via.Address())

	through := &SSH{Host: "x.example"}
	require.NoError(t, through.GoThrough([]string{"a@192.0.2.1:22", "2001:db8::2"}))
	require.Equal(t, "[2001:db8::2]:22", through.Via.Address())
	require.Equal(t, "a", through.Via.Via.User)
	configure(t, through, "Host 192.0.2.1\n  HostName gate.example\n  ProxyCommand no\n")
	require.Equal(t, "gate.example:22", through.Via.Via.Address(), "the settings hold for hosts on the way, too")
	for _, wrong := range []string{"host:port", "user@", "host:0", "[::1]:70000"} {
		require.Error(t, through.GoThrough([]string{wrong}), wrong)
	}
	name := filepath.Join(t.TempDir(), "config")
	require.NoError(t, os.WriteFile(name, []byte("Host *\n  ProxyJump circle\n"), 0o600))
	require.ErrorContains(t, (&SSH{Host: "x"}).Configure(t.Context(), GivenConfig(name)), "are gone through")
}

func TestWhatHasNoEffectIsNamed(t *testing.T) {
	s := configure(t, &SSH{Host: "rock"}, "Match host rock\n  VerifyHostKeyDNS yes\n  SetEnv A=b\n  CheckHostIP no\n  RekeyLimit 1G 1h\n  UpdateHostKeys ask\n  ForwardX11 yes\n")
	require.Equal(t, []string{"RekeyLimit after a time", "UpdateHostKeys", "VerifyHostKeyDNS"}, s.Unhonoured)
	require.Equal(t, uint64(1<<30), s.Rekey)
	require.Empty(t, configure(t, &SSH{Host: "rock"}, rockConfig).Unhonoured)
}

func TestWhatIsNotSafeIsOfferedOnlyWhereItIsNamed(t *testing.T) {
	offered, err := (&SSH{}).algorithms()
	require.NoError(t, err)
	require.Contains(t, offered.KeyExchanges, "diffie-hellman-group16-sha512")
	require.Contains(t, offered.KeyExchanges, "mlkem768x25519-sha256")
	require.NotContains(t, offered.KeyExchanges, "diffie-hellman-group14-sha1")
	require.NotContains(t, offered.MACs, "hmac-sha1")
	s := configure(t, &SSH{Host: "rock"}, "MACs hmac-sha1-96,hmac-sha1\nKexAlgorithms +diffie-hellman-group14-sha1\nHostKeyAlgorithms ssh-rsa\n")
	offered, err = s.algorithms()
	require.NoError(t, err)
	require.Equal(t, []string{"hmac-sha1-96", "hmac-sha1"}, offered.MACs)
	require.Contains(t, offered.KeyExchanges, "diffie-hellman-group14-sha1")
	s.Ciphers = []string{"rot13"}
	_, err = s.algorithms()
	require.ErrorContains(t, err, "none is known here: rot13")
}
