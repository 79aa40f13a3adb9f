package connect_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect"
	"tartine/internal/connect/sshdtest"
)

// TestTheWayThatSSHGoes has ssh and this program read the same settings, and finds both at the same place, as the same user, and with the
// same key recorded, or both refused.
func TestTheWayThatSSHGoes(t *testing.T) {
	program, err := exec.LookPath("ssh")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("ssh is not installed")
	}
	require.NoError(t, err)
	rock, gate := sshdtest.Start(t, "AcceptEnv LANG"), sshdtest.Start(t)
	user := sshdtest.Users(t)[0]
	dir := readable(t)
	keygen(t, dir, "-t", "ed25519", "-N", "", "-f", "stranger")
	open := filepath.Join(dir, "open")
	text, err := os.ReadFile(rock.Identity)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(open, text, 0o600))
	require.NoError(t, os.Chmod(open, 0o644))
	spaced := filepath.Join(dir, "a key")
	require.NoError(t, os.WriteFile(spaced, text, 0o600))
	known, err := os.ReadFile(rock.KnownHosts)
	require.NoError(t, err)
	revoked, none := filepath.Join(dir, "revoked"), filepath.Join(dir, "none")
	require.NoError(t, os.WriteFile(revoked, []byte("@revoked * "+strings.SplitN(string(known), " ", 2)[1]), 0o600))
	require.NoError(t, os.WriteFile(none, nil, 0o600))
	other := filepath.Join(dir, "other")
	require.NoError(t, os.WriteFile(other, []byte(strings.ReplaceAll(string(known), fmt.Sprint(rock.Port), fmt.Sprint(gate.Port))), 0o600)) // of another host
	knowsGate, err := os.ReadFile(gate.KnownHosts)
	require.NoError(t, err)
	both := filepath.Join(dir, "both")
	require.NoError(t, os.WriteFile(both, append(known, knowsGate...), 0o600))
	agent := startAgent(t, rock.Identity)
	t.Setenv("ROCK_AGENT", agent)

	base := fmt.Sprintf("Host rock\n HostName 127.0.0.1\n Port %d\n User %s\n", rock.Port, user)
	way := base + " IdentityFile " + rock.Identity + "\n"
	trusting := way + " UserKnownHostsFile " + rock.KnownHosts + "\n"
	for name, c := range map[string]struct {
		settings string
		refused  bool
	}{
		"plain":                           {trusting, false},
		"for another user":                {"Match user nobody\n User nobody\n" + trusting, false},
		"for this host alone":             {"Match host other,rock !user nobody\n Port 1\nHost *\n" + trusting, true},
		"after it was named":              {trusting + "Match host 127.0.0.1\n PubkeyAuthentication no\n", true},
		"quoted":                          {base + " IdentityFile \"" + spaced + "\"\n UserKnownHostsFile " + rock.KnownHosts + "\n", false},
		"a command leads there":           {way + " UserKnownHostsFile " + rock.KnownHosts + "\n ProxyCommand busybox nc %h %p\n", false},
		"ssh leads there":                 {trusting + " ProxyCommand " + program + " -F $CONFIG -W %h:%p gate\nHost gate\n HostName 127.0.0.1\n Port $GATE\n User " + user + "\n IdentityFile " + gate.Identity + "\n UserKnownHostsFile " + gate.KnownHosts + "\n", false},
		"a command that fails":            {trusting + " ProxyCommand sh -c 'echo no such gate >&2; exit 3'\n", true},
		"a host on the way":               {trusting + " ProxyJump gate\nHost gate\n HostName 127.0.0.1\n Port $GATE\n User " + user + "\n IdentityFile " + gate.Identity + "\n UserKnownHostsFile " + gate.KnownHosts + "\n", false},
		"a host on the way, not known":    {trusting + " ProxyJump gate\nHost gate\n HostName 127.0.0.1\n Port $GATE\n User " + user + "\n IdentityFile " + gate.Identity + "\n UserKnownHostsFile " + none + "\n", true},
		"the agent":                       {base + " UserKnownHostsFile " + rock.KnownHosts + "\n IdentityAgent " + agent + "\n IdentityFile none\n", false},
		"the agent of a variable":         {base + " UserKnownHostsFile " + rock.KnownHosts + "\n IdentityAgent $ROCK_AGENT\n IdentityFile none\n", false},
		"no agent":                        {base + " UserKnownHostsFile " + rock.KnownHosts + "\n IdentityAgent none\n IdentityFile none\n", true},
		"the agent and one key":           {base + " UserKnownHostsFile " + rock.KnownHosts + "\n IdentityAgent " + agent + "\n IdentitiesOnly true\n IdentityFile " + filepath.Join(dir, "stranger") + "\n", true},
		"an open key beside a good one":   {base + " IdentityFile " + open + "\n IdentityFile " + rock.Identity + "\n UserKnownHostsFile " + rock.KnownHosts + "\n", false},
		"an open key alone":               {base + " IdentityFile " + open + "\n UserKnownHostsFile " + rock.KnownHosts + "\n", true},
		"no keys":                         {trusting + " PubkeyAuthentication no\n", true},
		"other ways alone":                {trusting + " PreferredAuthentications password,keyboard-interactive\n", true},
		"unknown":                         {way + " UserKnownHostsFile " + none + "\n", true},
		"unknown, strict":                 {way + " UserKnownHostsFile " + none + "\n StrictHostKeyChecking yes\n", true},
		"unknown, accepted":               {way + " UserKnownHostsFile $FRESH\n StrictHostKeyChecking accept-new\n", false},
		"unknown, accepted, hashed":       {way + " UserKnownHostsFile $FRESH\n StrictHostKeyChecking no\n HashKnownHosts yes\n", false},
		"unknown, accepted under a name":  {way + " UserKnownHostsFile $FRESH\n StrictHostKeyChecking accept-new\n HostKeyAlias the-rock\n", false},
		"changed, accepted":               {"Host rock\n HostName 127.0.0.1\n Port $GATE\n User " + user + "\n IdentityFile " + gate.Identity + "\n UserKnownHostsFile " + other + "\n StrictHostKeyChecking accept-new\n", true},
		"revoked by the system":           {trusting + " GlobalKnownHostsFile " + revoked + "\n", true},
		"known by the system":             {way + " UserKnownHostsFile " + none + "\n GlobalKnownHostsFile " + rock.KnownHosts + "\n", false},
		"known by a command":              {way + " UserKnownHostsFile " + none + "\n KnownHostsCommand /bin/cat " + rock.KnownHosts + "\n", false},
		"known by a command that fails":   {way + " UserKnownHostsFile " + none + "\n KnownHostsCommand /bin/false\n", true},
		"algorithms":                      {trusting + " KexAlgorithms diffie-hellman-group16-sha512\n Ciphers aes256-ctr\n MACs hmac-sha2-512\n HostKeyAlgorithms ssh-ed25519\n", false},
		"a key that the host has not":     {trusting + " HostKeyAlgorithms rsa-sha2-512\n", true},
		"from an address":                 {trusting + " BindAddress 127.0.0.3\n", false},
		"from an interface":               {trusting + " BindInterface lo\n", false},
		"over IPv6 alone":                 {trusting + " AddressFamily inet6\n", true},
		"an address of the other family":  {strings.Replace(trusting, "127.0.0.1", "::1", 1), true}, // it listens on the first
		"a number that is none":           {trusting + " Port abc\n", true},
		"a fault in a block of others":    {trusting + "Host other\n Foo bar\n", true},
		"a fault that is to be passed by": {"IgnoreUnknown Fo*\n" + trusting + "Host other\n Foo bar\n", false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			place := func(who string, run func(config string) (string, error)) (said, recorded string, err error) {
				own := t.TempDir()
				config, fresh := filepath.Join(own, "config"), filepath.Join(own, "known")
				text := strings.NewReplacer("$GATE", fmt.Sprint(gate.Port), "$FRESH", fresh, "$CONFIG", config).Replace(c.settings)
				if !strings.Contains(text, "GlobalKnownHostsFile") {
					text += "\nHost *\n GlobalKnownHostsFile none\n"
				}
				require.NoError(t, os.WriteFile(config, []byte(text), 0o600))
				said, err = run(config)
				lines, _ := os.ReadFile(fresh)
				return said, strings.TrimSpace(string(lines)), err
			}
			const command = "echo $(id -un) $SSH_CONNECTION"
			theirs, they, refused := place("ssh", func(config string) (string, error) {
				cmd := exec.Command(program, "-F", config, "-o", "BatchMode=yes", "-o", "ConnectTimeout=5", "rock", command)
				cmd.Env = append(os.Environ(), "SSH_AUTH_SOCK=")
				return output(cmd)
			})
			require.Equal(t, c.refused, refused != nil, "ssh: %v", refused)
			ours, we, failed := place("here", func(config string) (string, error) {
				dial := &connect.SSH{Host: "rock", Timeout: 5 * time.Second}
				if err := dial.Configure(t.Context(), connect.GivenConfig(config)); err != nil {
					return "", err
				}
				client, err := dial.Dial(t.Context())
				if err != nil {
					return "", err
				}
				defer client.Close()
				var out bytes.Buffer
				err = connect.Exec(client)(t.Context(), command, nil, &out)
				return out.String(), err
			})
			require.Equal(t, refused != nil, failed != nil, "here: %v", failed)
			if refused == nil {
				require.Equal(t, withoutPort(theirs), withoutPort(ours))
				require.NotEmpty(t, ours)
			}
			if strings.HasPrefix(they, "|1|") { // with salt
				require.True(t, strings.HasPrefix(we, "|1|"), we)
				they, we = they[strings.Index(they, " "):], we[strings.Index(we, " "):]
			}
			require.Equal(t, they, we, "what is recorded")
		})
	}
}

// withoutPort leaves out the port of this machine, which is another each time.
func withoutPort(said string) string {
	words := strings.Fields(said)
	if len(words) == 5 {
		words[2] = ""
	}
	return strings.Join(words, " ")
}

// output runs a program. What it says beside is part of the error.
func output(cmd *exec.Cmd) (string, error) {
	var said bytes.Buffer
	cmd.Stderr, cmd.WaitDelay = &said, time.Second // something that it started may live on
	out, err := cmd.Output()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, said.String())
	}
	return string(out), err
}

// startAgent starts a key agent with one key, and gives its socket.
func startAgent(t *testing.T, identity string) string {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "agent")
	cmd := exec.Command("ssh-agent", "-D", "-a", socket)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill() // it never ends by itself
		_ = cmd.Wait()
	})
	require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, 5*time.Second, 10*time.Millisecond)
	add := exec.Command("ssh-add", identity)
	add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
	out, err := add.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return socket
}
