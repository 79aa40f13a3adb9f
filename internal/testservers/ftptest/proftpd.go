package ftptest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TLS is the lines that have ProFTPD ask for TLS, with the session of the login in each transfer.
func TLS(t testing.TB) []string {
	t.Helper()
	return []string{"LoadModule mod_tls.c", "TLSEngine on", "TLSRequired on", "TLSProtocol TLSv1.2 TLSv1.3",
		"TLSRSACertificateFile " + tlsFile, "TLSRSACertificateKeyFile " + tlsFile}
}

// Digests is the lines that have ProFTPD compute digests.
var Digests = []string{"LoadModule mod_digest.c", "DigestEngine on"}

// Quota is the lines that limit how many bytes the user may store.
func Quota(t testing.TB, bytes int) []string {
	dir := t.TempDir()
	for _, command := range []string{
		"ftpquota --create-table --type=limit --table-path=limit",
		"ftpquota --create-table --type=tally --table-path=tally",
		fmt.Sprintf("ftpquota --add-record --type=limit --table-path=limit --name=%s --quota-type=user --limit-type=hard --bytes-upload=%d --units=byte", User, bytes),
	} {
		cmd := exec.Command("sh", "-c", command)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	return []string{"LoadModule mod_quotatab.c", "LoadModule mod_quotatab_file.c", "QuotaEngine on",
		"QuotaLimitTable file:" + filepath.Join(dir, "limit"), "QuotaTallyTable file:" + filepath.Join(dir, "tally")}
}

// Start starts ProFTPD with more lines in its settings. Without the program the test is skipped, but not in CI.
func Start(t testing.TB, lines ...string) *Server {
	t.Helper()
	program, err := exec.LookPath("proftpd")
	if err != nil {
		program = "/usr/sbin/proftpd"
	}
	s := prepare(t, program)
	hash, err := exec.Command("perl", "-e", "print crypt($ARGV[0], '$6$gannetrock')", Password).Output()
	require.NoError(t, err)
	passwd := filepath.Join(s.own, "passwd")
	require.NoError(t, os.WriteFile(passwd, fmt.Appendf(nil, "%s:%s:%d:%[3]d::%s:/bin/false\n", User, hash, UserID,
		s.Dir), 0o600))
	settings := append([]string{"ServerName Rock", "ServerType standalone", "UseIPv6 off", "DefaultAddress 127.0.0.1",
		"SocketBindTight on", fmt.Sprintf("Port %d", s.Port),
		"User nobody", "Group nogroup", "AuthOrder mod_auth_file.c", "AuthUserFile " + passwd, "RequireValidShell off",
		"DefaultRoot ~",
		"PidFile " + filepath.Join(s.own, "pid"), "ScoreboardFile " + filepath.Join(s.own, "scoreboard"),
		"SystemLog " + filepath.Join(s.own, "log"),
		"WtmpLog off", "TransferLog none", "DelayEngine off", "UseReverseDNS off", "AllowStoreRestart on",
		"AllowOverwrite on", "MaxInstances 60", "Umask 022"}, lines...)
	config := filepath.Join(s.own, "proftpd.conf")
	text := strings.ReplaceAll(strings.Join(settings, "\n")+"\n", tlsFile, s.certificateFile)
	require.NoError(t, os.WriteFile(config, []byte(text), 0o644))
	s.run(t, exec.Command(program, "--nodaemon", "--quiet", "--config", config))
	return s
}
