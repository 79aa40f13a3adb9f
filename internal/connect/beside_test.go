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
	"tartine/internal/testservers/sshdtest"
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
	t.Setenv("LANG", "C.UTF-8")
	keyOfRock := strings.SplitN(strings.TrimSpace(string(known)), " ", 2)[1] + "\n"
	listed, strangers := filepath.Join(dir, "listed"), filepath.Join(dir, "strangers")
	stranger, err := os.ReadFile(filepath.Join(dir, "stranger.pub"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(strangers, append([]byte("# of old servers\n"), stranger...), 0o600))
	require.NoError(t, os.WriteFile(listed, []byte("# of old servers\n\n"+string(stranger)+keyOfRock), 0o600))
	for _, name := range []string{"listed", "strangers"} {
		keygen(t, dir, "-k", "-f", name+".krl", name)
	}
	signed := startSigned(t, dir)

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
		"variables":                       {trusting + " SetEnv LANG=gannet\n SendEnv L*G\n", false},
		"variables of this machine":       {trusting + " SendEnv FOO LAN?\n", false},
		"variables left out":              {trusting + " SendEnv LANG\n SendEnv -LANG\n", false},
		"listed as revoked":               {trusting + " RevokedHostKeys " + listed + "\n", true},
		"others are listed as revoked":    {trusting + " RevokedHostKeys " + strangers + "\n", false},
		"in a list of revoked keys":       {trusting + " RevokedHostKeys " + listed + ".krl\n", true},
		"others are in such a list":       {trusting + " RevokedHostKeys " + strangers + ".krl\n", false},
		"no list of revoked keys":         {trusting + " RevokedHostKeys " + dir + "/missing\n", true},
		"signed by an authority":          {signed.settings, false},
		"signed, and it is revoked":       {signed.settings + " RevokedHostKeys " + signed.authority + "\n", true},
		"signed with what is not allowed": {signed.settings + " CASignatureAlgorithms ecdsa-sha2-nistp256\n", true},
		"a short key of the host":         {signed.settings + " HostKeyAlgorithms rsa-sha2-512\n StrictHostKeyChecking accept-new\n UserKnownHostsFile $FRESH\n RequiredRSASize 4096\n", true},
		"a key that is long enough":       {strings.Replace(signed.settings, "UserKnownHostsFile", "UserKnownHostsFile $FRESH\n IgnoreUnknown Other\n Other", 1) + " HostKeyAlgorithms rsa-sha2-512\n StrictHostKeyChecking accept-new\n RequiredRSASize 2048\n", false},
		"a short key of the user":         {trusting + " IdentityFile none\n IdentitiesOnly yes\n RequiredRSASize 4096\n", false},
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
			const command = "echo $(id -un)/$LANG $SSH_CONNECTION"
			theirs, they, refused := place("ssh", func(config string) (string, error) {
				cmd := exec.Command(program, "-F", config, "-o", "BatchMode=yes", "-o", "ConnectTimeout=60", "rock", command)
				cmd.Env = append(os.Environ(), "SSH_AUTH_SOCK=")
				return output(cmd)
			})
			require.Equal(t, c.refused, refused != nil, "ssh: %v", refused)
			ours, we, failed := place("here", func(config string) (string, error) {
				dial := &connect.SSH{Host: "rock", Timeout: time.Minute}
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

// signedHost is a server with a key of RSA, of 3072 bits, and one of Ed25519 that an authority has signed.
type signedHost struct {
	settings  string // to get there
	authority string // a file
}

func startSigned(t *testing.T, dir string) signedHost {
	t.Helper()
	for _, name := range []string{"authority", "host"} {
		keygen(t, dir, "-t", "ed25519", "-N", "", "-f", name)
	}
	keygen(t, dir, "-t", "rsa", "-b", "3072", "-N", "", "-f", "long")
	keygen(t, dir, "-s", "authority", "-I", "rock", "-h", "-n", "127.0.0.1", "host.pub")
	file := func(name string) string { return filepath.Join(dir, name) }
	server := sshdtest.Start(t, "HostKey "+file("long"), "HostKey "+file("host"), "HostCertificate "+file("host-cert.pub"))
	authority, err := os.ReadFile(file("authority.pub"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file("authorities"), append([]byte("@cert-authority * "), authority...), 0o600))
	return signedHost{fmt.Sprintf("Host rock\n HostName 127.0.0.1\n Port %d\n User %s\n IdentityFile %s\n UserKnownHostsFile %s\n", server.Port, sshdtest.Users(t)[0],
		server.Identity, file("authorities")), file("authority.pub")}
}

// TestKeysGoToTheAgentAsWithSSH compares what the agent holds after a login with a key from a file.
func TestKeysGoToTheAgentAsWithSSH(t *testing.T) {
	program, err := exec.LookPath("ssh")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("ssh is not installed")
	}
	require.NoError(t, err)
	server := sshdtest.Start(t)
	dir := readable(t)
	text, err := os.ReadFile(server.Identity)
	require.NoError(t, err)
	locked := filepath.Join(dir, "locked")
	require.NoError(t, os.WriteFile(locked, text, 0o600))
	keygen(t, dir, "-p", "-N", "kittiwake 7", "-f", "locked")
	askpass := filepath.Join(dir, "askpass")
	require.NoError(t, os.WriteFile(askpass, []byte("#!/bin/sh\necho kittiwake 7\n"), 0o700))
	for value, held := range map[string]bool{"yes": true, "no": false, "confirm": true, "1h": true, "confirm 1h": true} {
		t.Run(value, func(t *testing.T) {
			ring := func(login func(config string) error) string {
				agent := startAgent(t)
				config := filepath.Join(t.TempDir(), "config")
				require.NoError(t, os.WriteFile(config, []byte(fmt.Sprintf("Host rock\n HostName 127.0.0.1\n Port %d\n User %s\n IdentityFile %s\n UserKnownHostsFile %s\n IdentityAgent %s\n AddKeysToAgent %s\n",
					server.Port, sshdtest.Users(t)[0], locked, server.KnownHosts, agent, value)), 0o600))
				require.NoError(t, login(config))
				list := exec.Command("ssh-add", "-L")
				list.Env = append(os.Environ(), "SSH_AUTH_SOCK="+agent)
				out, _ := list.Output() // it fails where there are none
				words := strings.Fields(string(out))
				return strings.Join(words[:min(2, len(words))], " ")
			}
			theirs := ring(func(config string) error {
				cmd := exec.Command(program, "-F", config, "rock", "true")
				cmd.Env = append(os.Environ(), "SSH_ASKPASS="+askpass, "SSH_ASKPASS_REQUIRE=force")
				_, err := output(cmd)
				return err
			})
			asked := 0
			ours := ring(func(config string) error {
				for range 2 {
					dial := &connect.SSH{Host: "rock", Passphrase: func(string) (string, error) { asked++; return "kittiwake 7", nil }}
					require.NoError(t, dial.Configure(t.Context(), connect.GivenConfig(config)))
					client, err := dial.Dial(t.Context())
					if err != nil {
						return err
					}
					client.Close()
					if strings.HasPrefix(value, "confirm") { // the agent would ask somebody
						break
					}
				}
				return nil
			})
			require.Equal(t, theirs, ours)
			require.Equal(t, held, strings.HasPrefix(ours, "ssh-ed25519 "), ours)
			if held {
				require.Equal(t, 1, asked, "the second time the agent has it")
			}
		})
	}
}

// TestAPassphraseMayTakeLongerThanAStep has somebody type for longer than the server may be silent.
func TestAPassphraseMayTakeLongerThanAStep(t *testing.T) {
	server := sshdtest.Start(t)
	dir := readable(t)
	text, err := os.ReadFile(server.Identity)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "locked"), text, 0o600))
	keygen(t, dir, "-p", "-N", "kittiwake 7", "-f", "locked")
	const limit = 500 * time.Millisecond
	dial := &connect.SSH{Host: "127.0.0.1", Port: server.Port, User: sshdtest.Users(t)[0], KnownHosts: server.KnownHosts, Identity: filepath.Join(dir, "locked"), Timeout: limit}
	dial.Passphrase = func(string) (string, error) {
		<-time.After(3 * limit)
		return "kittiwake 7", nil
	}
	client, err := dial.Dial(t.Context())
	require.NoError(t, err)
	client.Close()
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

// startAgent starts a key agent with keys, and gives its socket.
func startAgent(t *testing.T, identities ...string) string {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "agent")
	cmd := exec.Command("ssh-agent", "-D", "-a", socket)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill() // it never ends by itself
		_ = cmd.Wait()
	})
	require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, 5*time.Second, 10*time.Millisecond)
	for _, identity := range identities {
		add := exec.Command("ssh-add", identity)
		add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
		out, err := add.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	return socket
}
