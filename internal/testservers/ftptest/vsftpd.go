package ftptest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// VsftpdTLS is the lines that have vsftpd ask for TLS, with the session of the login in each transfer.
var VsftpdTLS = []string{"ssl_enable=YES", "force_local_logins_ssl=YES", "force_local_data_ssl=YES",
	"require_ssl_reuse=YES", "ssl_ciphers=HIGH",
	"rsa_cert_file=" + tlsFile, "rsa_private_key_file=" + tlsFile}

// TLS12 among the lines or options of vsftpd and pure-ftpd has them speak nothing newer than TLS 1.2.
const TLS12 = "TLS 1.2"

// vsftpdLogin is the name of the rules by which vsftpd lets users in: everybody, by any password.
const vsftpdLogin = "tartine-ftptest"

// StartVsftpd starts vsftpd with more lines in its settings; a later line is the one that counts. Without the program
// the test is skipped, but not in CI.
func StartVsftpd(t testing.TB, lines ...string) *Server {
	t.Helper()
	program := unpacked(t, "usr/sbin/vsftpd")
	s := prepare(t, program)
	letIn(t)
	empty := filepath.Join(s.own, "empty")
	require.NoError(t, os.Mkdir(empty, 0o555))
	account := account(t)
	settings := append([]string{"listen=YES", "listen_ipv6=NO", "listen_address=127.0.0.1",
		fmt.Sprint("listen_port=", s.Port), "background=NO", "anonymous_enable=NO",
		"local_enable=YES", "guest_enable=YES", "guest_username=" + account, "virtual_use_local_privs=YES",
		"pam_service_name=" + vsftpdLogin,
		"local_root=" + s.Dir, "chroot_local_user=YES", "allow_writeable_chroot=YES", "write_enable=YES",
		"local_umask=022", "secure_chroot_dir=" + empty,
		"xferlog_enable=YES", "xferlog_std_format=NO", "vsftpd_log_file=" + filepath.Join(s.own, "log"),
		"log_ftp_protocol=YES", "seccomp_sandbox=NO", "isolate=NO", "isolate_network=NO",
		"pasv_address=127.0.0.1"}, lines...)
	only12 := slices.Contains(settings, TLS12)
	settings = slices.DeleteFunc(settings, func(line string) bool { return line == TLS12 })
	config := filepath.Join(s.own, "vsftpd.conf")
	require.NoError(t, os.WriteFile(config, []byte(strings.ReplaceAll(strings.Join(settings, "\n")+"\n", tlsFile,
		s.certificateFile)), 0o600))
	cmd := exec.Command(program, config)
	if only12 {
		cmd.Env = append(os.Environ(), onlyTLS12(t))
	}
	s.run(t, cmd)
	return s
}

// letIn writes the rules of the login, in one step: servers of other tests may read them at this moment.
func letIn(t testing.TB) {
	t.Helper()
	const rules = "auth required pam_permit.so\naccount required pam_permit.so\nsession required pam_permit.so\n"
	file := filepath.Join("/etc/pam.d", vsftpdLogin)
	if text, err := os.ReadFile(file); err == nil && string(text) == rules {
		return
	}
	fresh, err := os.CreateTemp("/etc/pam.d", vsftpdLogin)
	require.NoError(t, err)
	_, err = fresh.WriteString(rules)
	require.NoError(t, err)
	require.NoError(t, fresh.Chmod(0o644))
	require.NoError(t, fresh.Close())
	require.NoError(t, os.Rename(fresh.Name(), file))
}

// account makes the system's account with UserID, which vsftpd looks up by its name. Tests of another program may make
// it at this moment.
func account(t testing.TB) string {
	t.Helper()
	making.Lock()
	defer making.Unlock()
	const name = "tartine-ftp"
	var said string
	for range 20 {
		if out, err := exec.Command("getent", "passwd", fmt.Sprint(UserID)).Output(); err == nil {
			name, _, _ := strings.Cut(string(out), ":")
			return name
		}
		for _, command := range [][]string{{"groupadd", "-g", fmt.Sprint(UserID), name},
			{"useradd", "-u", fmt.Sprint(UserID), "-g", name, "-M", "-d", "/", "-s", "/bin/false", name}} {
			out, _ := exec.Command(command[0], command[1:]...).CombinedOutput() // whether it is there counts
			said = string(out)
		}
	}
	require.FailNow(t, "there is no account for the server", said)
	return ""
}

// making is held while the account is made.
var making sync.Mutex
