package sshconfig

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// openSSH gives OpenSSH's own program. Without it the test is skipped, but not in CI.
func openSSH(t *testing.T) string {
	t.Helper()
	path, err := exec.LookPath("ssh")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("ssh is not installed")
	}
	require.NoError(t, err)
	return path
}

// effective gives what holds for a host: what is said of it, and what ssh does without settings.
func effective(t require.TestingT, said, ours, without Options, host string) Options {
	out := Options{}
	for keyword := range known {
		values := said[keyword]
		if values == nil {
			values = without[keyword]
		}
		if len(values) > 0 {
			out[keyword] = values
		}
	}
	name := said.First("hostname")
	if name == "" {
		name = host
	}
	name = strings.ToLower(strings.ReplaceAll(name, "%h", host))
	out["hostname"] = []string{name}
	facts := Facts{Host: name, Given: host, Port: 22, User: out.First("user")}
	for _, keyword := range []string{"userknownhostsfile", "globalknownhostsfile"} {
		var files []string
		for _, value := range out[keyword] {
			if keyword == "userknownhostsfile" {
				expanded, err := facts.ExpandPath(value)
				require.NoError(t, err)
				value = expanded
			}
			files = append(files, value)
		}
		out[keyword] = files
	}
	for _, keyword := range []string{"proxyjump", "proxycommand"} { // ssh prints nothing for none
		if out.First(keyword) == "none" {
			delete(out, keyword)
		}
	}
	if out.First("batchmode") == "yes" && ours["serveraliveinterval"] == nil { // Debian's way
		delete(out, "serveraliveinterval")
	}
	delete(out, "host")
	return out
}

// TestPlainFilesAreReadAsSSHReadsThem has any plain files resolved here and by ssh itself.
func TestPlainFilesAreReadAsSSHReadsThem(t *testing.T) {
	program := openSSH(t)
	without, err := resolve(t.Context(), program, []string{"-F", os.DevNull, "--", "x"})
	require.NoError(t, err)
	folder := t.TempDir()
	hosts := []string{"rock", "ROCK", "web1.example", "web2.example", "192.0.2.7"}
	patterns := []string{"*", "rock", "Rock", "web?.example", "*.example", "!web2.example", "!*", "192.0.2.*", "!rock", "r*k", "**", "web?"}
	settings := []string{"HostName rock.example", "hostname=%h.Example", "HostName = 192.0.2.9", "User warden", "USER\tkeeper", "Port 2222", "Port=22", "IdentityFile ~/keys/%h",
		"IdentityFile /k/a", "IdentityFile none", "CertificateFile /c/a", "IdentitiesOnly yes", "IdentitiesOnly TRUE", "IdentitiesOnly no", "IdentityAgent none", "IdentityAgent $A",
		"ProxyJump gate,inner", "ProxyJump none", "ProxyCommand nc %h  %p # so", "UserKnownHostsFile ~/a /b/%h", "UserKnownHostsFile none", "GlobalKnownHostsFile /g /h", "HostKeyAlias a",
		"StrictHostKeyChecking accept-new", "StrictHostKeyChecking off", "StrictHostKeyChecking yes", "HashKnownHosts yes", "AddressFamily inet6", "BindAddress 127.0.0.1", "ConnectTimeout 2m",
		"ConnectTimeout 1h5", "ConnectionAttempts 3", "ServerAliveInterval 90", "ServerAliveCountMax 2", "SendEnv LANG LC_*", "SendEnv A", "PreferredAuthentications publickey,password",
		"PubkeyAuthentication no", "PasswordAuthentication no", "ChallengeResponseAuthentication no", "KbdInteractiveAuthentication yes", "BatchMode yes", "NumberOfPasswordPrompts 1",
		"AddKeysToAgent yes", "ForwardAgent yes", "TCPKeepAlive no", "Compression yes", "LogLevel debug", "GSSAPIAuthentication no", "ControlMaster auto", "ControlPersist 10m", "RequestTTY no"}
	block := rapid.Custom(func(rt *rapid.T) string {
		var out strings.Builder
		fmt.Fprintf(&out, "Host %s\n", strings.Join(rapid.SliceOfN(rapid.SampledFrom(patterns), 1, 3).Draw(rt, "patterns"), rapid.SampledFrom([]string{" ", "\t"}).Draw(rt, "between")))
		for _, line := range rapid.SliceOfN(rapid.SampledFrom(settings), 0, 5).Draw(rt, "settings") {
			fmt.Fprintf(&out, "%s%s%s\n", rapid.SampledFrom([]string{"", "  ", "\t"}).Draw(rt, "before"), line, rapid.SampledFrom([]string{"", " ", "\r", "\n# note"}).Draw(rt, "after"))
		}
		return out.String()
	})
	blocks := func(rt *rapid.T, name string) string {
		text := strings.Join(rapid.SliceOfN(block, 0, 4).Draw(rt, name), "")
		if rapid.Bool().Draw(rt, "first") {
			text = rapid.SampledFrom(settings).Draw(rt, "setting") + "\n" + text
		}
		return text
	}
	once := "Host *\nProxyJump none\nProxyCommand nc %h %p\nProxyJump gate\n" // what chance rarely makes
	rapid.Check(t, func(rt *rapid.T) {
		name, inner := filepath.Join(folder, "config"), filepath.Join(folder, "inner")
		require.NoError(rt, os.WriteFile(inner, []byte(blocks(rt, "inner")), 0o600))
		text := blocks(rt, "outer")
		if at := strings.LastIndex(text, "\n"); rapid.Bool().Draw(rt, "include") && at >= 0 {
			text = text[:at+1] + "Include " + inner + "\n" + text[at+1:] + blocks(rt, "rest")
		}
		text, once = once+text, ""
		require.NoError(rt, os.WriteFile(name, []byte(text), 0o600))
		config, err := Load(Files{User: name})
		require.NoError(rt, err)
		require.True(rt, config.Plain(), "%v", config.foreign)
		host := rapid.SampledFrom(hosts).Draw(rt, "host")
		ours, err := config.For(t.Context(), host, "", 0)
		require.NoError(rt, err)
		theirs, err := resolve(t.Context(), program, []string{"-F", name, "--", host})
		require.NoError(rt, err)
		me, err := user.Current()
		require.NoError(rt, err)
		if ours["user"] == nil {
			ours["user"] = []string{me.Username}
		}
		require.Equal(rt, effective(rt, theirs, ours, without, host), effective(rt, ours, ours, without, host), "of\n%s\nand\n%s", text, inner)
	})
}

// TestWhatIsNotPlainIsAsked has what is not read here resolved by ssh.
func TestWhatIsNotPlainIsAsked(t *testing.T) {
	openSSH(t)
	name := filepath.Join(t.TempDir(), "config")
	for text, want := range map[string]string{
		"Match host web*,rock user warden\n Port 2200\n":                   "warden 2200",
		"Match user keeper\n Port 2200\nHost *\n Port 22":                  "warden 22",
		"Match !user keeper\n Port 2200\n":                                 "warden 2200",
		"Match exec \"test %h = rock\"\n Port 2200\n":                      "warden 2200",
		"Match originalhost rock\n Port 2200\n":                            "warden 2200",
		"Match localuser nobody\n Port 2201\n":                             "warden 22",
		"Host rock\n HostName web.example\nMatch host web.*\n Port 2200\n": "warden 2200",
		"Host \"rock\"\n Port 2200\n":                                      "warden 2200",
		"Match final host rock\n Port 2200\n":                              "warden 2200",
		"IgnoreUnknown Gull*\nGullWings wide\nPort 2200\n":                 "warden 2200",
	} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		config, err := Load(Files{User: name})
		require.NoError(t, err)
		require.False(t, config.Plain(), text)
		out, err := config.For(t.Context(), "rock", "warden", 0)
		require.NoError(t, err, text)
		require.Equal(t, want, out.First("user")+" "+out.First("port"), text)

		config.files.Program = "no-such-program"
		_, err = config.For(t.Context(), "rock", "warden", 0)
		require.ErrorIs(t, err, ErrForeign)
		require.ErrorContains(t, err, name+" line ")
	}
}

func TestFaultsAreNamedWithTheirLine(t *testing.T) {
	openSSH(t)
	name := filepath.Join(t.TempDir(), "config")
	for text, line := range map[string]int{"\nPort abc\n": 2, "Host x\n  Foo bar\n": 2, "IdentitiesOnly on\n": 1, "User a b\n": 1, "Port 0\n": 1, "rubbish\n": 1, "Match\n": 1, "Host\n": 1,
		"ConnectTimeout soon\n": 1, "Port \"22\n": 1} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		config, err := Load(Files{User: name})
		require.NoError(t, err)
		for _, program := range []string{"ssh", "no-such-program"} {
			config.files.Program = program
			_, err = config.For(t.Context(), "rock", "", 0)
			var wrong *Error
			require.ErrorAs(t, err, &wrong, text)
			require.Equal(t, name, wrong.File, "%s: %v", text, err)
			require.Equal(t, line, wrong.Line, "%s: %v", text, err)
		}
	}
	require.NoError(t, os.WriteFile(name, nil, 0o600))
	require.NoError(t, os.Chmod(name, 0o666))
	_, err := Load(Files{User: name, Checked: true})
	require.ErrorContains(t, err, "can be written by others (mode 0666)")
	_, err = Load(Files{User: name + "-none", Needed: true})
	require.ErrorContains(t, err, name+"-none: no such file")
	_, err = Load(Files{User: name + "-none"})
	require.NoError(t, err)
	_, err = Load(Files{User: filepath.Dir(name)})
	require.ErrorContains(t, err, "is a folder")
}

func TestTokens(t *testing.T) {
	f := Facts{Host: "rock.example", Given: "rock", Port: 2222, User: "warden"}
	t.Setenv("ROCK", "gannet")
	out, err := f.ExpandPath("~/%h-%n-%p-%r-%k-%%-${ROCK}")
	require.NoError(t, err)
	require.Equal(t, filepath.Join(Home(), "rock.example-rock-2222-warden-rock-%-gannet"), out)
	t.Setenv("ROCK", "${ROCK}")
	out, err = f.ExpandPath("/${ROCK}")
	require.NoError(t, err)
	require.Equal(t, "/${ROCK}", out)
	for _, wrong := range []string{"%", "%z", "${NO_SUCH_THING}", "${ROCK", "~nobody-of-that-name/x"} {
		_, err := f.ExpandPath(wrong)
		require.Error(t, err, wrong)
	}
}

func TestWhatIsIncludedIsWhatSSHIncludes(t *testing.T) {
	program, folder := openSSH(t), t.TempDir()
	for name, port := range map[string]string{"a.conf": "Host none\n", ".hidden.conf": "Port 1\n", "b.conf": "Port 2222\n", "c.conf": "Port 3\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(port), 0o600))
	}
	name := filepath.Join(folder, "config")
	for _, line := range []string{"Include " + folder + "/*.conf", "Include " + folder + "/c.conf " + folder + "/b.conf", "Include " + folder + "/none*", "Include " + folder + "/.h*",
		"Include ~root/none/*", "Include " + folder + "/[ab].conf"} {
		require.NoError(t, os.WriteFile(name, []byte(line+"\nPort 22\n"), 0o600))
		config, err := Load(Files{User: name})
		require.NoError(t, err)
		ours, err := config.For(t.Context(), "rock", "", 0)
		require.NoError(t, err)
		theirs, err := resolve(t.Context(), program, []string{"-F", name, "--", "rock"})
		require.NoError(t, err)
		require.Equal(t, theirs.First("port"), ours.First("port"), line)
	}
}

func TestNoHostOrUserIsACommand(t *testing.T) {
	config, err := Load(Files{User: filepath.Join(t.TempDir(), "none")})
	require.NoError(t, err)
	for _, wrong := range []string{"-oProxyCommand=x", "a;b", "$(id)", "a b", "`id`", "a|b"} {
		_, err := config.For(t.Context(), wrong, "", 0)
		require.ErrorContains(t, err, "characters that no host has", wrong)
		_, err = config.For(t.Context(), "rock", wrong, 0)
		require.Equal(t, wrong != "a b", err != nil, wrong)
	}
	_, err = config.For(t.Context(), "2001:db8::1%eth0", `WORK\warden`, 0)
	require.NoError(t, err)
}

func TestNamesWithSpacesAreToldApart(t *testing.T) {
	require.Equal(t, []string{"/a b/c", "/d", "none"}, paths("/a b/c /d none"))
}
