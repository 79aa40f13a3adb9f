package ftptest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// PureTLS is the options that have pure-ftpd ask for TLS, also for transfers.
var PureTLS = []string{"--tls=3", "--certfile=" + tlsFile}

// StartPure starts pure-ftpd with more options. Without the program the test is skipped, but not in CI.
func StartPure(t testing.TB, options ...string) *Server {
	t.Helper()
	program := unpacked(t, "usr/sbin/pure-ftpd")
	s := prepare(t, program)
	hash, err := exec.Command("perl", "-e", "print crypt($ARGV[0], '$6$gannetrock')", Password).Output()
	require.NoError(t, err)
	passwd, database := filepath.Join(s.own, "passwd"), filepath.Join(s.own, "passwd.pdb")
	require.NoError(t, os.WriteFile(passwd, fmt.Appendf(nil, "%s:%s:%d:%[3]d::%s/./::::::::::::\n", User, hash, UserID,
		s.Dir), 0o600))
	out, err := exec.Command(unpacked(t, "usr/bin/pure-pw"), "mkdb", database, "-f", passwd).CombinedOutput()
	require.NoError(t, err, "%s", out)
	var only12 bool
	options = slices.Clone(options)
	for i, option := range options {
		switch option {
		case "--certfile=" + tlsFile:
			options[i] = "--certfile=" + s.certificateFile
		case TLS12:
			only12 = true
		}
	}
	options = slices.DeleteFunc(options, func(option string) bool { return option == TLS12 })
	cmd := exec.Command(program, append([]string{"--bind=127.0.0.1," + fmt.Sprint(s.Port), "--login=puredb:" + database,
		"--noanonymous", "--chrooteveryone", "--dontresolve",
		"--maxclientsperip=60", "--maxclientsnumber=60", "--pidfile=" + filepath.Join(s.own, "pid"), "--verboselog"},
		options...)...)
	if only12 {
		cmd.Env = append(os.Environ(), onlyTLS12(t))
	}
	s.run(t, cmd)
	return s
}
