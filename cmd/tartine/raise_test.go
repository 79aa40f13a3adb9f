//go:build linux

package main

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/sshdtest"
)

// raised is a site in a folder of another user than the one who logs in.
type raised struct {
	*place
	login, owner       string
	loginsPassword     string
	ownersPassword     string
	root, home, target string
}

// raisedPlace gives one. More is added to the target.
func raisedPlace(t *testing.T, server *sshdtest.Server, more string) *raised {
	t.Helper()
	r := &raised{}
	r.login, r.loginsPassword = sshdtest.Account(t)
	r.owner, r.ownersPassword = sshdtest.Account(t)
	r.home = homeOf(t, r.login)
	dir, err := os.MkdirTemp("/var/tmp", "raised")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	id, err := user.Lookup(r.owner)
	require.NoError(t, err)
	uid, err := strconv.Atoi(id.Uid)
	require.NoError(t, err)
	require.NoError(t, os.Chown(dir, uid, -1))
	r.root = filepath.Join(dir, "www")
	r.target = login(server, r.login, r.root) + ", as: " + r.owner
	r.place = newPlace(t, r.target+more)
	return r
}

// belongs tells that everything at the site, and nothing that the other user could not have made, is there.
func (r *raised) belongs() {
	r.t.Helper()
	id, err := user.Lookup(r.owner)
	require.NoError(r.t, err)
	require.NoError(r.t, filepath.WalkDir(filepath.Dir(r.root), func(name string, d os.DirEntry, err error) error {
		require.NoError(r.t, err)
		info, err := d.Info()
		require.NoError(r.t, err)
		require.Equal(r.t, id.Uid, fmt.Sprint(info.Sys().(*syscall.Stat_t).Uid), name)
		return nil
	}))
	mine, err := user.Lookup(r.login)
	require.NoError(r.t, err)
	require.EventuallyWithT(r.t, func(t *assert.CollectT) { // the shell removes it once it has heard that the connection ended
		for _, dir := range []string{"/tmp", "/var/tmp", "/dev/shm"} {
			left, err := filepath.Glob(dir + "/tartine-????????????")
			require.NoError(t, err)
			for _, name := range left {
				if info, err := os.Stat(name); err == nil {
					require.NotEqual(t, mine.Uid, fmt.Sprint(info.Sys().(*syscall.Stat_t).Uid), "%s is left", name)
				}
			}
		}
	}, 5*time.Second, 10*time.Millisecond)
}

func (r *raised) fails(status int, words string, args ...string) {
	r.t.Helper()
	got, out := r.try(append([]string{"deploy"}, args...)...)
	require.Equal(r.t, status, got, out)
	require.Contains(r.t, out, words)
	require.NotContains(r.t, out, r.loginsPassword)
	require.NoFileExists(r.t, filepath.Join(r.root, "index.html"))
}

// asks has a program answer what a person would be asked, and gives what it was asked.
func (r *raised) asks(answers ...string) (status int, said string, asked []string) {
	r.t.Helper()
	log := filepath.Join(r.dir, "asked")
	require.NoError(r.t, os.RemoveAll(log))
	script := "#!/bin/sh\necho \"$1\" >>" + log + "\ncase $(wc -l <" + log + ") in"
	for i, answer := range answers {
		script += fmt.Sprintf("\n%d) echo '%s';;", i+1, answer)
	}
	require.NoError(r.t, os.WriteFile(filepath.Join(r.dir, "ask"), []byte(script+"\nesac\n"), 0o755))
	cmd := exec.Command(r.program, "deploy")
	cmd.Dir, cmd.Env = r.dir, append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(r.dir, ".cache"), "SSH_AUTH_SOCK=", "SSH_ASKPASS_REQUIRE=force", "SSH_ASKPASS="+filepath.Join(r.dir, "ask"))
	out, _ := cmd.CombinedOutput()
	text, _ := os.ReadFile(log)
	return cmd.ProcessState.ExitCode(), r.words(out), strings.Split(strings.TrimSpace(string(text)), "\n")
}

// allow writes lines for sudo, for as long as the test runs.
func allow(t *testing.T, name, lines string) {
	t.Helper()
	file := "/etc/sudoers.d/" + name
	require.NoError(t, os.WriteFile(file, []byte(lines+"\n"), 0o440))
	t.Cleanup(func() { os.Remove(file) })
	out, err := exec.Command("visudo", "-c", "-f", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func TestRaisedRights(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("wrong passwords are answered after a while")
	}
	if os.Getuid() != 0 {
		t.Skip("it needs users that may become others")
	}
	for _, program := range []string{"sudo", "doas", "su"} {
		if _, err := exec.LookPath(program); err != nil && os.Getenv("CI") == "" {
			t.Skip(program + " is not installed")
		}
	}
	server := sshdtest.Start(t)

	t.Run("sudo without a password", func(t *testing.T) {
		t.Parallel()
		r := raisedPlace(t, server, ", after_publish: [{there: id -un}]")
		allow(t, r.login, r.login+" ALL=("+r.owner+") NOPASSWD: ALL")
		out := r.tartine("deploy")
		require.Contains(t, out, "computed at the far end while writing")
		require.Contains(t, out, "| "+r.login, "commands run as who logs in")
		r.belongs()
		r.write("public/index.html", "<h1>new")
		r.tartine("deploy")
		require.Contains(t, r.tartine("deploy"), "unchanged")
		r.tartine("rollback", "--yes")
		require.Contains(t, r.tartine("verify"), "match")
		r.belongs()
		out = r.tartine("doctor")
		require.Regexp(t, "user +files are read and written as "+r.owner, out)
		require.Regexp(t, "web server +the user www-data may read the root", out)
		require.NoError(t, os.Chmod(filepath.Dir(r.root), 0o700))
		require.Regexp(t, "slow +web server +the user www-data may not enter or read "+filepath.Dir(r.root), r.tartine("doctor"))
	})

	t.Run("sudo with a password", func(t *testing.T) {
		t.Parallel()
		r := raisedPlace(t, server, "")
		allow(t, r.login, r.login+" ALL=("+r.owner+") ALL")
		r.fails(3, "it wants a password: there is no terminal to ask for it")
		was := r.read("tartine.yaml")
		r.write("tartine.yaml", strings.ReplaceAll(was, "as: ", "as_password: {command: [echo, wrong]}, as: "))
		r.fails(3, "the password is wrong: the settings have no other one")
		r.write("tartine.yaml", was)
		status, said, asked := r.asks("wrong", "wrong too", "wrong as well", r.loginsPassword)
		require.Equal(t, 3, status, said)
		require.Contains(t, said, "the password was wrong 3 times")
		require.Len(t, asked, 3)
		require.Equal(t, "password for becoming "+r.owner+" at rock: ", asked[0])
		require.NoFileExists(t, r.root)
		status, said, asked = r.asks("wrong", r.loginsPassword)
		require.Zero(t, status, said)
		require.Len(t, asked, 2)
		require.NoError(t, exec.Command("su", r.owner, "-c", "rm -rf "+filepath.Dir(r.root)+"/*  "+filepath.Dir(r.root)+"/.www*").Run())
		r.write("tartine.yaml", strings.ReplaceAll(was, "as: ", "as_password: {command: [echo, "+r.loginsPassword+"]}, as: "))
		out := r.tartine("deploy")
		require.NotContains(t, out, r.loginsPassword)
		r.belongs()
		require.Contains(t, r.tartine("verify"), "match")
	})

	t.Run("sudo that wants a terminal", func(t *testing.T) {
		t.Parallel()
		r := raisedPlace(t, server, "")
		allow(t, r.login, "Defaults:"+r.login+" requiretty\n"+r.login+" ALL=("+r.owner+") ALL")
		r.write("tartine.yaml", strings.ReplaceAll(r.read("tartine.yaml"), "as: ", "as_password: {command: [echo, "+r.loginsPassword+"]}, as: "))
		all := make([]byte, 0, 70<<10) // every byte passes a terminal as it is
		for i := range cap(all) {
			all = append(all, byte(i), byte(i>>8))
		}
		r.write("public/all.bin", string(all))
		r.tartine("deploy")
		r.belongs()
		require.Contains(t, r.tartine("verify"), "match")
		got, err := os.ReadFile(filepath.Join(r.root, "all.bin"))
		require.NoError(t, err)
		require.Equal(t, all, got)
	})

	t.Run("sudo with a line for one program", func(t *testing.T) {
		t.Parallel()
		dir, err := os.MkdirTemp("/usr/local/lib", "tartine-test")
		require.NoError(t, err)
		t.Cleanup(func() { os.RemoveAll(dir) })
		require.NoError(t, os.Chmod(dir, 0o755))
		built, err := exec.LookPath("tartine")
		require.NoError(t, err)
		program := filepath.Join(dir, "tartine")
		out, err := exec.Command("cp", built, program).CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.NoError(t, os.Chmod(program, 0o755))
		r := raisedPlace(t, server, ", agent: "+program)
		allow(t, r.login, r.login+" ALL=("+r.owner+") NOPASSWD: "+program+" far-end *")
		require.NoError(t, os.Chmod(program, 0o777))
		r.fails(3, "others may write to "+program)
		require.NoError(t, os.Chmod(program, 0o755))
		require.NoError(t, os.Chmod(dir, 0o777))
		r.fails(3, "others may write to "+program)
		require.NoError(t, os.Chmod(dir, 0o755))
		r.tartine("deploy")
		r.belongs()
		r.write("tartine.yaml", strings.ReplaceAll(r.read("tartine.yaml"), "agent: "+program, "agent: auto"))
		got, said := r.try("deploy", "--compare", "hash")
		require.Equal(t, 3, got, said)
		require.Contains(t, said, "with sudo: ")
	})

	t.Run("sudo with a line for one command that installs", func(t *testing.T) {
		t.Parallel()
		r := raisedPlace(t, server, "")
		srv := filepath.Dir(r.root)
		dir, err := os.MkdirTemp("/usr/local/lib", "tartine-test")
		require.NoError(t, err)
		t.Cleanup(func() { os.RemoveAll(dir) })
		require.NoError(t, os.Chmod(dir, 0o755))
		page, err := os.ReadFile("../../docs/raised-rights.md")
		require.NoError(t, err)
		_, script, found := strings.Cut(string(page), "    #!/bin/sh\n")
		require.True(t, found)
		script, _, _ = strings.Cut(script, "\n\n")
		script = strings.NewReplacer("\n    ", "\n", "/srv/www/gannet", srv+"/www", "/home/warden/gannet", r.home+"/gannet", "www-data:www-data", r.owner+":").Replace("    " + script)
		install := filepath.Join(dir, "install-gannet")
		require.NoError(t, os.WriteFile(install, []byte("#!/bin/sh\n"+script+"\ntest ! -e "+srv+"/www/unwell\n"), 0o755))
		allow(t, r.login, r.login+" ALL=(root) NOPASSWD: "+install)
		r.write("tartine.yaml", "content: [{source: public}]\ntargets: {rock: {"+login(server, r.login, r.home+"/gannet")+", after_publish: [{there: [sudo, -n, "+install+"]}]}}\n")
		served := func() string {
			text, err := os.ReadFile(r.root + "/index.html")
			require.NoError(t, err)
			return string(text)
		}
		r.tartine("deploy")
		require.Equal(t, "<h1>", served())
		r.write("public/index.html", "<h1>new")
		r.tartine("deploy")
		require.Equal(t, "<h1>new", served())
		r.write("public/index.html", "<h1>worse")
		r.write("public/unwell", "")
		status, said := r.try("deploy")
		require.Equal(t, 6, status, said)
		require.Equal(t, "<h1>new", served())
		trees, err := filepath.Glob(srv + "/www-*")
		require.NoError(t, err)
		require.Len(t, trees, 1, "no earlier tree stays")
	})

	t.Run("nobody may", func(t *testing.T) {
		t.Parallel()
		r := raisedPlace(t, server, ", with: sudo")
		r.fails(3, "nothing can be run as "+r.owner+" there with sudo: ")
		was := r.read("tartine.yaml")
		allow(t, r.login, r.login+" ALL=(ALL) NOPASSWD: ALL")
		r.write("tartine.yaml", strings.ReplaceAll(was, "as: "+r.owner, "as: no-such-user"))
		r.fails(3, "unknown user")
		r.write("tartine.yaml", strings.ReplaceAll(was, "ssh://", "sftp://"))
		r.fails(2, "sftp:// is for files alone, so nobody can become "+r.owner)
		r.write("tartine.yaml", strings.ReplaceAll(was, "with: sudo", "agent: off"))
		r.fails(2, "with as: an agent must run at the far end")
	})

	t.Run("only what we wrote is raised", func(t *testing.T) {
		t.Parallel()
		r := raisedPlace(t, server, "")
		allow(t, r.login, r.login+" ALL=("+r.owner+") NOPASSWD: ALL")
		r.tartine("deploy")
		copies, err := filepath.Glob(filepath.Join(r.home, ".cache/tartine/agent-*"))
		require.NoError(t, err)
		require.Len(t, copies, 1)
		evil := []byte("#!/bin/sh\ntouch " + filepath.Dir(r.root) + "/evil\nexec sh\n")
		for _, attack := range []func(){
			func() { require.NoError(t, os.WriteFile(copies[0], evil, 0o755)) },
			func() {
				require.NoError(t, os.Remove(copies[0]))
				require.NoError(t, os.WriteFile(filepath.Join(r.dir, "evil"), evil, 0o755))
				require.NoError(t, os.Symlink(filepath.Join(r.dir, "evil"), copies[0]))
			},
			func() {
				require.NoError(t, os.Chmod(filepath.Dir(copies[0]), 0o777))
				require.NoError(t, os.Remove(copies[0]))
				require.NoError(t, os.WriteFile(copies[0], evil, 0o777))
			},
		} {
			attack()
			r.tartine("verify")
			require.NoFileExists(t, filepath.Join(filepath.Dir(r.root), "evil"))
		}
	})

	t.Run("doas and su", func(t *testing.T) {
		t.Parallel()
		plain, asked, other := raisedPlace(t, server, ", with: doas"), raisedPlace(t, server, ", with: doas"), raisedPlace(t, server, ", with: su")
		if own, err := os.ReadFile("/etc/doas.conf"); err == nil && !strings.HasPrefix(string(own), "permit nopass tartine-") {
			t.Skip("doas has settings of its own here") // else they were left by a test that was killed
		}
		require.NoError(t, os.WriteFile("/etc/doas.conf", fmt.Appendf(nil, "permit nopass %s as %s\npermit %s as %s\n", plain.login, plain.owner, asked.login, asked.owner), 0o400))
		t.Cleanup(func() { os.Remove("/etc/doas.conf") })
		plain.tartine("deploy")
		plain.belongs()
		was := asked.read("tartine.yaml")
		asked.write("tartine.yaml", strings.ReplaceAll(was, "as: ", "as_password: {command: [echo, wrong]}, as: "))
		asked.fails(3, "the password is wrong")
		asked.write("tartine.yaml", was)
		status, said, prompts := asked.asks("wrong", "wrong too", "wrong as well", asked.loginsPassword)
		require.Equal(t, 3, status, said)
		require.Contains(t, said, "the password was wrong 3 times")
		require.Len(t, prompts, 3)
		asked.write("tartine.yaml", strings.ReplaceAll(was, "as: ", "as_password: {command: [echo, "+asked.loginsPassword+"]}, as: "))
		asked.tartine("deploy")
		asked.belongs()
		require.Contains(t, asked.tartine("verify"), "match")
		was = other.read("tartine.yaml")
		other.fails(3, "it wants a password: there is no terminal to ask for it")
		other.write("tartine.yaml", strings.ReplaceAll(was, "as: ", "as_password: {command: [echo, "+other.ownersPassword+"]}, as: "))
		other.tartine("deploy")
		other.belongs()
	})

	t.Run("a folder of this machine", func(t *testing.T) {
		t.Parallel()
		r := raisedPlace(t, server, "")
		r.write("tartine.yaml", fmt.Sprintf("content: [{source: public}]\ntargets: {rock: {url: %q, as: %s}}\n", r.root, r.owner))
		r.tartine("deploy")
		r.belongs()
		require.Contains(t, r.tartine("verify"), "match")
	})

	t.Run("root may become anybody", func(t *testing.T) {
		t.Parallel()
		r := raisedPlace(t, server, "")
		r.write("tartine.yaml", strings.ReplaceAll(r.read("tartine.yaml"), r.login+"@", "root@"))
		for _, with := range []string{"su", "sudo"} {
			r.write("public/index.html", "<h1>with "+with)
			require.Contains(t, r.tartine("deploy", "--as", r.owner), "deployed")
			r.write("tartine.yaml", strings.ReplaceAll(r.read("tartine.yaml"), "as: ", "with: su, as: "))
			r.belongs()
		}
	})
}
