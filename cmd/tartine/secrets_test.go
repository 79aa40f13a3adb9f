//go:build linux

package main

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/sshdtest"
)

// TestSecretsStayWhereTheyAre runs every command that logs in, well and badly, and looks for the planted secrets in all
// that was printed, in every file that was written at either end, and in the arguments of every process.
func TestSecretsStayWhereTheyAre(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("a copy of the program goes to each of many accounts")
	}
	name, password := sshdtest.Account(t)
	server := sshdtest.Start(t, "PasswordAuthentication yes")
	dir, far := t.TempDir(), sshdtest.Folder(t, name)
	const phrase, mistaken, literal = "kittiwake-7-phrase", "guillemot-8-mistaken", "razorbill-9-literal"
	write := func(file, text string, mode fs.FileMode) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, file)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), mode))
	}
	write("public/index.html", "<h1>", 0o644)
	write("secret/password", password+"\n", 0o600)
	write("secret/phrase", phrase+"\n", 0o600)
	key, err := os.ReadFile(server.Identity)
	require.NoError(t, err)
	write("secret/key", string(key), 0o600)
	out, err := exec.Command("ssh-keygen", "-q", "-p", "-P", "", "-N", phrase, "-f", filepath.Join(dir, "secret", "key")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	// While it logs in, the command that finds the password lists what every process was started with.
	write("secret/tell", "#!/bin/sh\ncat /proc/[0-9]*/cmdline 2>/dev/null | tr '\\0' ' ' >>../processes\ncat password\n", 0o755)

	target := func(extra string) string {
		return fmt.Sprintf("{url: \"ssh://%s@127.0.0.1:%d%s/site\", host_key: %q, %s}", name, server.Port, far, server.Fingerprint, extra)
	}
	write("t.yaml", "content: [{source: public}]\ntargets:\n"+
		"  env: "+target("password: {env: ROCK}")+"\n  file: "+target("password: {file: secret/password}")+"\n"+
		"  command: "+target("password: {command: [sh, -c, cd secret; sh tell]}")+"\n"+
		"  phrase: "+target("identity: secret/key, passphrase: {file: secret/phrase}")+"\n"+
		"  wrong: "+target("password: {env: MISTAKEN}")+"\n  wrongphrase: "+target("identity: secret/key, passphrase: {env: MISTAKEN}")+"\n", 0o644)
	write("literal.yaml", "targets:\n  env: "+target("password: "+literal)+"\n", 0o644)

	var said bytes.Buffer
	tartine := func(want int, args ...string) {
		t.Helper()
		cmd := exec.Command("tartine", args...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "ROCK="+password, "MISTAKEN="+mistaken, "XDG_CACHE_HOME="+filepath.Join(dir, "cache"), "SSH_AUTH_SOCK=")
		out, _ := cmd.CombinedOutput() // the exit status tells
		said.Write(out)
		require.Equal(t, want, cmd.ProcessState.ExitCode(), "%v: %s", args, out)
	}
	for _, format := range []string{"text", "json"} {
		for _, target := range []string{"env", "file", "command", "phrase"} {
			for _, command := range []string{"deploy", "diff", "verify", "history", "doctor"} {
				tartine(0, command, target, "--config", "t.yaml", "--verbose", "--format", format)
			}
		}
		for _, target := range []string{"wrong", "wrongphrase"} {
			tartine(3, "deploy", target, "--config", "t.yaml", "--verbose", "--format", format)
		}
		tartine(3, "targets", "--check", "--config", "t.yaml", "--verbose", "--format", format)
		tartine(2, "diff", "env", "--config", "literal.yaml", "--verbose", "--format", format)
	}
	require.Contains(t, said.String(), "tried the password")

	secrets := []string{password, phrase, mistaken, literal}
	clean := func(where string, text []byte) {
		for _, secret := range secrets {
			require.NotContains(t, string(text), secret, where)
		}
	}
	clean("what was printed", said.Bytes())
	searched := 0
	for _, root := range []string{dir, far} {
		require.NoError(t, filepath.WalkDir(root, func(file string, entry fs.DirEntry, err error) error {
			if err != nil || !entry.Type().IsRegular() || slices.Contains([]string{"password", "phrase", "literal.yaml"}, entry.Name()) {
				return err
			}
			text, err := os.ReadFile(file)
			clean(file, text)
			searched++
			return err
		}))
	}
	require.Greater(t, searched, 8)
	processes, err := os.ReadFile(filepath.Join(dir, "processes"))
	require.NoError(t, err)
	require.True(t, strings.Contains(string(processes), "tartine deploy command"), "the processes were seen")
}
