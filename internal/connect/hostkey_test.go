package connect

import (
	"crypto/ed25519"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

func hostKey(t *testing.T) ssh.PublicKey {
	public, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	return key
}

func TestHostKeysArePinnedOrKnown(t *testing.T) {
	right, wrong := hostKey(t), hostKey(t)
	file := filepath.Join(t.TempDir(), "known_hosts")
	require.NoError(t, os.WriteFile(file, []byte(knownhosts.Line([]string{"[rock.example]:2222"}, right)+"\n"), 0o600))
	none := filepath.Join(t.TempDir(), "none")
	for name, c := range map[string]struct {
		dial    SSH
		key     ssh.PublicKey
		trusted bool
		unknown bool
	}{
		"the pinned one":                    {SSH{HostKey: ssh.FingerprintSHA256(right)}, right, true, false},
		"another than the pinned one":       {SSH{HostKey: ssh.FingerprintSHA256(right)}, wrong, false, false},
		"a known one that is not pinned":    {SSH{HostKey: ssh.FingerprintSHA256(wrong), KnownHosts: file}, right, false, false},
		"the known one":                     {SSH{KnownHosts: file}, right, true, false},
		"another than the known one":        {SSH{KnownHosts: file}, wrong, false, false},
		"the known one of another port":     {SSH{KnownHosts: file, Port: 22}, right, false, true},
		"one of which nothing is known":     {SSH{KnownHosts: none}, right, false, true},
		"the known one, under another name": {SSH{KnownHosts: file, HostKeyAlias: "other.example"}, right, false, true},
	} {
		t.Run(name, func(t *testing.T) {
			c.dial.Host = "rock.example"
			if c.dial.Port == 0 {
				c.dial.Port = 2222
			}
			check, err := c.dial.hostKeyCheck(t.Context())
			require.NoError(t, err)
			refused := check.check(c.key)
			require.Equal(t, c.trusted, refused == nil)
			if refused != nil {
				require.Equal(t, c.unknown, refused.Unknown())
				require.Equal(t, ssh.FingerprintSHA256(c.key), refused.Fingerprint)
			}
		})
	}
}
