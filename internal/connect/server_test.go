package connect_test

import (
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"tartine/internal/connect"
	"tartine/internal/testservers/sshdtest"
)

// keygen runs ssh-keygen in a folder.
func keygen(t *testing.T, dir string, args ...string) {
	t.Helper()
	cmd := exec.Command("ssh-keygen", append([]string{"-q"}, args...)...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func readable(t *testing.T) string {
	dir := t.TempDir()
	for up := dir; strings.Contains(up, "Test"); up = filepath.Dir(up) { // the server reads it as who logs in
		require.NoError(t, os.Chmod(up, 0o755))
	}
	return dir
}

func to(server *sshdtest.Server, user string) *connect.SSH {
	return &connect.SSH{Host: "127.0.0.1", Port: server.Port, User: user, HostKey: server.Fingerprint, Timeout: 10 * time.Second, IdentitiesOnly: true, Identities: []string{"/no/such/key"}}
}

// letsIn logs in and runs a command.
func letsIn(t *testing.T, dial *connect.SSH) {
	t.Helper()
	client, err := dial.Dial(t.Context())
	require.NoError(t, err)
	defer client.Close()
	session, err := client.NewSession()
	require.NoError(t, err)
	require.NoError(t, session.Run("exit 0"))
}

func TestPasswordsAloneAndAskedThroughPAM(t *testing.T) {
	name, password := sshdtest.Account(t)
	for kind, lines := range map[string][]string{
		"password":             {"PubkeyAuthentication no", "PasswordAuthentication yes"},
		"keyboard-interactive": {"PubkeyAuthentication no", "UsePAM yes", "KbdInteractiveAuthentication yes"},
	} {
		t.Run(kind, func(t *testing.T) {
			server := sshdtest.Start(t, lines...)
			known := to(server, name)
			known.Password = func() (string, error) { return password, nil }
			letsIn(t, known)

			var asked []string
			person := to(server, name)
			person.Ask = func(question string, echo bool) (string, error) {
				require.False(t, echo)
				if asked = append(asked, question); len(asked) == 1 {
					return "mistyped", nil
				}
				return password, nil
			}
			letsIn(t, person)
			require.Len(t, asked, 2, "a person may mistype")

			wrong := to(server, name)
			wrong.Password = func() (string, error) { return "wrong", nil }
			_, err := wrong.Dial(t.Context())
			var refused *connect.LoginError
			require.ErrorAs(t, err, &refused)
			require.Equal(t, []string{"the password"}, refused.Tried)
			require.Contains(t, refused.Accepts, kind)

			nothing := to(server, name)
			_, err = nothing.Dial(t.Context())
			require.ErrorContains(t, err, "there was nothing to try; the server accepts "+kind)
		})
	}
}

func TestKeyAndPasswordTogether(t *testing.T) {
	name, password := sshdtest.Account(t)
	server := sshdtest.Start(t, "PasswordAuthentication yes", "AuthenticationMethods publickey,password")
	both := to(server, name)
	both.Identity = server.Identity
	both.Password = func() (string, error) { return password, nil }
	letsIn(t, both)
	both.Password = nil
	_, err := both.Dial(t.Context())
	require.ErrorContains(t, err, "tried the key "+server.Identity+"; the server accepts password")
}

func TestUserCertificates(t *testing.T) {
	dir := readable(t)
	keygen(t, dir, "-t", "ed25519", "-N", "", "-f", "authority")
	user := sshdtest.Users(t)[0]
	server := sshdtest.Start(t, "TrustedUserCAKeys "+filepath.Join(dir, "authority.pub"), "AuthorizedKeysFile none")
	for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
		keygen(t, dir, "-t", kind, "-N", "", "-f", kind)
		dial := to(server, user)
		dial.Identity = filepath.Join(dir, kind)
		_, err := dial.Dial(t.Context())
		require.Error(t, err, "the key alone is not enough")
		keygen(t, dir, "-s", "authority", "-I", "gannet", "-n", user, kind+".pub")
		letsIn(t, dial)
	}
	// A certificate that lies elsewhere, as the client settings name it; and one that has run out.
	require.NoError(t, os.Rename(filepath.Join(dir, "ed25519-cert.pub"), filepath.Join(dir, "elsewhere.pub")))
	settings := to(server, user)
	settings.Identities, settings.Certificates = []string{filepath.Join(dir, "ed25519")}, []string{filepath.Join(dir, "elsewhere.pub")}
	letsIn(t, settings)
	keygen(t, dir, "-s", "authority", "-I", "gannet", "-n", user, "-V", "20250101:20250201", "ed25519.pub")
	old := to(server, user)
	old.Identity = filepath.Join(dir, "ed25519")
	_, err := old.Dial(t.Context())
	require.ErrorContains(t, err, "it ran out on 2025-02-01")
}

func TestHostCertificatesAndRevokedKeys(t *testing.T) {
	dir := readable(t)
	keygen(t, dir, "-t", "ed25519", "-N", "", "-f", "authority")
	keygen(t, dir, "-t", "ecdsa", "-N", "", "-f", "host")
	keygen(t, dir, "-s", "authority", "-I", "rock", "-h", "-n", "127.0.0.1,rock.example", "host.pub")
	server := sshdtest.Start(t, "HostKey "+filepath.Join(dir, "host"), "HostCertificate "+filepath.Join(dir, "host-cert.pub"))
	authority, err := os.ReadFile(filepath.Join(dir, "authority.pub"))
	require.NoError(t, err)
	host, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	require.NoError(t, err)
	known := func(text string, args ...any) *connect.SSH {
		dial := to(server, sshdtest.Users(t)[0])
		dial.Identity, dial.HostKey, dial.KnownHosts = server.Identity, "", filepath.Join(t.TempDir(), "known_hosts")
		require.NoError(t, os.WriteFile(dial.KnownHosts, fmt.Appendf(nil, text, args...), 0o600))
		return dial
	}
	letsIn(t, known("@cert-authority [127.0.0.1]:%d %s", server.Port, authority))
	letsIn(t, known("@cert-authority * %s", authority))
	letsIn(t, known("[127.0.0.1]:%d %s", server.Port, host))

	var refused *connect.HostKeyError
	_, err = known("@revoked * %s[127.0.0.1]:%d %s", host, server.Port, host).Dial(t.Context())
	require.ErrorAs(t, err, &refused)
	require.ErrorContains(t, err, "line 1 marks as revoked")
	// The authority's own key is no host's key, and one that signs for others does not count.
	_, err = known("@cert-authority other.example %s", authority).Dial(t.Context())
	require.ErrorAs(t, err, &refused)
	require.True(t, refused.Unknown())

	keygen(t, dir, "-s", "authority", "-I", "rock", "-h", "-n", "other.example", "host.pub")
	elsewhere := sshdtest.Start(t, "HostKey "+filepath.Join(dir, "host"), "HostCertificate "+filepath.Join(dir, "host-cert.pub"))
	dial := known("@cert-authority * %s", authority)
	dial.Port = elsewhere.Port
	_, err = dial.Dial(t.Context())
	require.ErrorAs(t, err, &refused)
	require.ErrorContains(t, err, "with a certificate that does not count")
	require.False(t, refused.Unknown())
}

func TestAKeyOfAnotherTypeIsAChangedKey(t *testing.T) {
	dir := readable(t)
	keygen(t, dir, "-t", "rsa", "-N", "", "-f", "old")
	old, err := os.ReadFile(filepath.Join(dir, "old.pub"))
	require.NoError(t, err)
	server := sshdtest.Start(t)
	dial := to(server, sshdtest.Users(t)[0])
	dial.Identity, dial.HostKey, dial.KnownHosts = server.Identity, "", filepath.Join(dir, "known_hosts")
	require.NoError(t, os.WriteFile(dial.KnownHosts, fmt.Appendf(nil, "[127.0.0.1]:%d %s", server.Port, old), 0o600))
	_, err = dial.Dial(t.Context())
	var changed *connect.HostKeyError
	require.ErrorAs(t, err, &changed)
	require.Len(t, changed.Known, 1)
	// A server that has both shows the one that is known.
	both := sshdtest.Start(t, "HostKey "+filepath.Join(dir, "old"))
	require.NoError(t, os.WriteFile(dial.KnownHosts, fmt.Appendf(nil, "[127.0.0.1]:%d %s", both.Port, old), 0o600))
	dial.Port, dial.Identity = both.Port, both.Identity
	letsIn(t, dial)
}

func TestServersThatHaveOnlyOldKeys(t *testing.T) {
	dir := readable(t)
	keygen(t, dir, "-t", "rsa", "-N", "", "-f", "host")
	server := sshdtest.Start(t, "HostKey "+filepath.Join(dir, "host"), "HostKeyAlgorithms ssh-rsa")
	dial := to(server, sshdtest.Users(t)[0])
	dial.Identity = server.Identity
	_, err := dial.Dial(t.Context())
	var nothing *connect.NothingInCommonError
	require.ErrorAs(t, err, &nothing)
	require.Equal(t, []string{"ssh-rsa"}, nothing.Offers)

	sha2 := sshdtest.Start(t, "HostKey "+filepath.Join(dir, "host"), "HostKeyAlgorithms rsa-sha2-256", "PubkeyAcceptedAlgorithms rsa-sha2-512,ssh-ed25519")
	dial.Port = sha2.Port
	host, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	require.NoError(t, err)
	public, _, _, _, err := ssh.ParseAuthorizedKey(host)
	require.NoError(t, err)
	dial.HostKey, dial.Identity = ssh.FingerprintSHA256(public), sha2.Identity
	letsIn(t, dial)
}

func TestTooManyKeysAndTheOneThatIsNamed(t *testing.T) {
	server := sshdtest.Start(t, "MaxAuthTries 2")
	text, err := os.ReadFile(server.Identity)
	require.NoError(t, err)
	right, err := ssh.ParseRawPrivateKey(text)
	require.NoError(t, err)
	dir := t.TempDir()
	t.Setenv("SSH_AUTH_SOCK", sshdtest.Agent(t, 3, right))
	user := sshdtest.Users(t)[0]
	dial := to(server, user)
	dial.IdentitiesOnly = false
	_, err = dial.Dial(t.Context())
	var refused *connect.LoginError
	require.ErrorAs(t, err, &refused)
	require.True(t, refused.Ended)
	require.GreaterOrEqual(t, len(refused.Tried), 2)

	dial.Identity = server.Identity
	letsIn(t, dial)

	// A locked key that the agent holds asks nobody, and a public key chooses among what the agent holds.
	locked := filepath.Join(dir, "locked")
	block, err := ssh.MarshalPrivateKeyWithPassphrase(right, "", []byte("kittiwake 7"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(locked, pem.EncodeToMemory(block), 0o600))
	dial.Identity = locked
	letsIn(t, dial)
	signer, err := ssh.NewSignerFromKey(right)
	require.NoError(t, err)
	dial.Identity = filepath.Join(dir, "right.pub")
	require.NoError(t, os.WriteFile(dial.Identity, ssh.MarshalAuthorizedKey(signer.PublicKey()), 0o644))
	letsIn(t, dial)
	t.Setenv("SSH_AUTH_SOCK", "")
	_, err = dial.Dial(t.Context())
	require.ErrorContains(t, err, "is a public key, and no agent holds its private one")

	// Without an agent the phrase is asked for, but only where the server would take the key.
	dial.Identity = locked
	asked := 0
	dial.Passphrase = func(string) (string, error) { asked++; return "kittiwake 7", nil }
	letsIn(t, dial)
	require.Equal(t, 1, asked)
	dial.User = "nobody-here"
	_, err = dial.Dial(t.Context())
	require.ErrorContains(t, err, "tried the key "+locked)
	require.Equal(t, 1, asked)
}

func TestKeyFilesOfEveryForm(t *testing.T) {
	dir := t.TempDir()
	authorized := filepath.Join(readable(t), "authorized")
	server := sshdtest.Start(t, "AuthorizedKeysFile "+authorized)
	for _, form := range [][]string{{"-t", "ed25519"}, {"-t", "rsa", "-m", "PEM"}, {"-t", "rsa", "-m", "PKCS8"}, {"-t", "ecdsa", "-m", "PEM"}, {"-t", "ecdsa", "-m", "PKCS8"}, {"-t", "ecdsa"}} {
		name := strings.Join(form, "")
		for _, phrase := range []string{"", "kittiwake 7"} {
			file := filepath.Join(dir, name+rand.Text())
			keygen(t, dir, append(form, "-N", phrase, "-f", file)...)
			public, err := os.ReadFile(file + ".pub")
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(authorized, public, 0o644))
			dial := to(server, sshdtest.Users(t)[0])
			dial.Identity = file
			dial.Passphrase = func(string) (string, error) { return phrase, nil }
			letsIn(t, dial)
		}
	}
}

func TestThroughJumpHostsOfTheirOwn(t *testing.T) {
	user := sshdtest.Users(t)[0]
	outer, inner, end := sshdtest.Start(t, "PermitTTY no"), sshdtest.Start(t), sshdtest.Start(t)
	first, second, last := to(outer, user), to(inner, user), to(end, user)
	first.Identity, second.Identity, last.Identity = outer.Identity, inner.Identity, end.Identity
	last.Via, second.Via = second, first
	letsIn(t, last)

	var failed *connect.Error
	second.Identity = outer.Identity
	_, err := last.Dial(t.Context())
	require.ErrorAs(t, err, &failed)
	require.Equal(t, inner.Port, portOf(t, failed.Address), "the host on the way that does not let us in is named")
	second.Identity, second.HostKey = inner.Identity, outer.Fingerprint
	_, err = last.Dial(t.Context())
	require.ErrorAs(t, err, &failed)
	require.Equal(t, connect.HostKey, failed.Step)

	closed := sshdtest.Start(t, "AllowTcpForwarding no")
	gate := to(closed, user)
	gate.Identity, last.Via = closed.Identity, gate
	_, err = last.Dial(t.Context())
	require.ErrorContains(t, err, fmt.Sprintf("through 127.0.0.1:%d", closed.Port))
}

func portOf(t *testing.T, address string) (port int) {
	t.Helper()
	_, text, err := net.SplitHostPort(address)
	require.NoError(t, err)
	_, err = fmt.Sscan(text, &port)
	require.NoError(t, err)
	return port
}

func TestALineThatGivesNoSignOfLifeIsEnded(t *testing.T) {
	server := sshdtest.Start(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	frozen := make(chan struct{})
	go func() {
		near, err := l.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", server.Port))
		if err != nil {
			return
		}
		for _, pipe := range [][2]net.Conn{{near, far}, {far, near}} {
			go func() {
				buffer := make([]byte, 4096)
				for {
					n, err := pipe[0].Read(buffer)
					if err != nil {
						return
					}
					select {
					case <-frozen: // nothing goes on, and nobody hangs up
					default:
						_, _ = pipe[1].Write(buffer[:n]) // the test sees what does not come
					}
				}
			}()
		}
	}()
	dial := to(server, sshdtest.Users(t)[0])
	dial.Identity, dial.Alive = server.Identity, 50*time.Millisecond
	dial.Port = l.Addr().(*net.TCPAddr).Port
	client, err := dial.Dial(t.Context())
	require.NoError(t, err)
	close(frozen)
	ended := make(chan error, 1)
	go func() { ended <- client.Wait() }()
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Fatal("the dead line was not found out")
	}
}

func TestTheRateIsHeld(t *testing.T) {
	server := sshdtest.Start(t)
	dial := to(server, sshdtest.Users(t)[0])
	dial.Identity, dial.Limit = server.Identity, connect.NewThrottle(400_000)
	client, err := dial.Dial(t.Context())
	require.NoError(t, err)
	defer client.Close()
	session, err := client.NewSession()
	require.NoError(t, err)
	session.Stdin = strings.NewReader(strings.Repeat("x", 400_000))
	began := time.Now()
	require.NoError(t, session.Run("cat >/dev/null"))
	require.Greater(t, time.Since(began), 600*time.Millisecond)
}

// TestAnyKeyOfAServerMayBePinned has a server with keys of three types.
func TestAnyKeyOfAServerMayBePinned(t *testing.T) {
	dir := t.TempDir()
	var lines []string
	keys := map[string]string{}                     // fingerprints by type
	for _, kind := range []string{"rsa", "ecdsa"} { // beside the one of Ed25519 that it has
		file := filepath.Join(dir, kind)
		out, err := exec.Command("ssh-keygen", "-q", "-t", kind, "-N", "", "-f", file).CombinedOutput()
		require.NoError(t, err, "%s", out)
		text, err := os.ReadFile(file + ".pub")
		require.NoError(t, err)
		public, _, _, _, err := ssh.ParseAuthorizedKey(text)
		require.NoError(t, err)
		keys[kind] = ssh.FingerprintSHA256(public)
		lines = append(lines, "HostKey "+file)
	}
	server := sshdtest.Start(t, lines...)
	keys["ed25519"] = server.Fingerprint
	dial := func(pinned, wanted string) *connect.SSH {
		return &connect.SSH{Host: "127.0.0.1", Port: server.Port, User: sshdtest.Users(t)[0], Identity: server.Identity, HostKey: pinned, Wanted: wanted,
			KnownHosts: filepath.Join(dir, "none")}
	}
	for kind, fingerprint := range keys {
		client, err := dial(fingerprint, "").Dial(t.Context())
		require.NoError(t, err, kind)
		require.NoError(t, client.Close())
		var unknown *connect.HostKeyError
		shown, err := dial("", fingerprint).ShowKey(t.Context())
		require.ErrorAs(t, err, &unknown)
		require.Equal(t, fingerprint, shown)
		require.Equal(t, fingerprint, unknown.Fingerprint, "the one that was named is shown")
	}
	var wrong *connect.HostKeyError
	_, err := dial("SHA256:"+strings.Repeat("A", 43), "").Dial(t.Context())
	require.ErrorAs(t, err, &wrong)
	require.NotEmpty(t, wrong.Pinned)
	_, err = dial("", "").ShowKey(t.Context())
	require.ErrorAs(t, err, &wrong)
	require.Equal(t, keys["ed25519"], wrong.Fingerprint, "the one that ssh would show")
}

// TestServersThatTakeOneAlgorithmAlone logs in where nothing else is offered.
func TestServersThatTakeOneAlgorithmAlone(t *testing.T) {
	dir := readable(t)
	keygen(t, dir, "-t", "rsa", "-N", "", "-f", "rsa")
	text, err := os.ReadFile(filepath.Join(dir, "rsa.pub"))
	require.NoError(t, err)
	key, _, _, _, err := ssh.ParseAuthorizedKey(text)
	require.NoError(t, err)
	for _, lines := range [][]string{
		{"HostKey " + filepath.Join(dir, "rsa"), "HostKeyAlgorithms rsa-sha2-512"},
		{"KexAlgorithms diffie-hellman-group16-sha512"}, {"KexAlgorithms ecdh-sha2-nistp521"}, {"KexAlgorithms curve25519-sha256@libssh.org"}, {"KexAlgorithms diffie-hellman-group-exchange-sha256"},
		{"Ciphers aes256-ctr", "MACs hmac-sha2-512"}, {"Ciphers chacha20-poly1305@openssh.com"},
	} {
		t.Run(lines[len(lines)-1], func(t *testing.T) {
			t.Parallel()
			server := sshdtest.Start(t, lines...)
			dial := to(server, sshdtest.Users(t)[0])
			if dial.Identity = server.Identity; strings.HasPrefix(lines[0], "HostKey ") {
				dial.HostKey = ssh.FingerprintSHA256(key)
			}
			letsIn(t, dial)
		})
	}
	server := sshdtest.Start(t, "MACs hmac-sha1", "Ciphers aes256-ctr")
	dial := to(server, sshdtest.Users(t)[0])
	dial.Identity = server.Identity
	_, err = dial.Dial(t.Context())
	var common *connect.NothingInCommonError
	require.ErrorAs(t, err, &common)
	require.Equal(t, []string{"hmac-sha1"}, common.Offers)
	require.True(t, common.Unsafe)
	dial.MACs = []string{"hmac-sha1"}
	letsIn(t, dial)
}
