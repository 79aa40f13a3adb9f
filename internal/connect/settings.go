package connect

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"tartine/internal/connect/sshconfig"
)

// maxJumps is how many hosts in a row are gone through before it counts as a circle.
const maxJumps = 8

// UserConfig gives the files in which OpenSSH's client settings are looked for.
func UserConfig() sshconfig.Files {
	folder := userFolder()
	system := "/etc/ssh/ssh_config"
	if data := os.Getenv("ProgramData"); runtime.GOOS == "windows" && data != "" {
		system = filepath.Join(data, "ssh", "ssh_config")
	}
	return sshconfig.Files{User: filepath.Join(folder, "config"), System: system, Folder: folder, Checked: true}
}

// GivenConfig gives one file in their place.
func GivenConfig(file string) sshconfig.Files {
	return sshconfig.Files{User: file, Folder: userFolder(), Needed: true}
}

// userFolder gives the folder of the user's own files. A user without a home has one that does not exist, and not one
// of where the program runs.
func userFolder() string {
	home := sshconfig.Home()
	if !filepath.IsAbs(home) {
		home = os.DevNull
	}
	return filepath.Join(home, ".ssh")
}

// Configure fills in what OpenSSH's client settings (ssh_config(5)) say of the host and what is not set yet. Unhonoured
// gets what is set there and not done here. Its errors are *sshconfig.Error, or that of the context.
func (s *SSH) Configure(ctx context.Context, files sshconfig.Files) error {
	config, err := sshconfig.Load(files)
	if err != nil {
		return err
	}
	return s.configure(ctx, config, 0)
}

func (s *SSH) configure(ctx context.Context, config *sshconfig.Config, depth int) error {
	given := s.Host
	s.Given = given
	said, err := config.For(ctx, given, s.User, s.Port)
	if err != nil {
		return err
	}
	if name := said.First("hostname"); name != "" {
		s.Host = strings.ToLower(strings.ReplaceAll(name, "%h", given))
	}
	setFirst(&s.User, said.First("user"))
	if port, err := strconv.Atoi(said.First("port")); err == nil && s.Port == 0 {
		s.Port = port
	}
	facts := s.facts(given, said)
	for _, set := range []func(*sshconfig.Facts, sshconfig.Options) error{s.setIdentities, s.setHostKeys, s.setWay} {
		if err := set(facts, said); err != nil {
			return fmt.Errorf("SSH settings of %s: %w", given, err)
		}
	}
	s.setLimits(said)
	s.Environment = environment(said, os.Environ())
	s.Unhonoured = unhonoured(said)
	return s.addJumps(ctx, said.First("proxyjump"), config, depth)
}

func setFirst(to *string, value string) {
	if *to == "" {
		*to = value
	}
}

// facts gives what tokens stand for. User and Port get what ssh takes where nothing is said.
func (s *SSH) facts(given string, said sshconfig.Options) *sshconfig.Facts {
	out := &sshconfig.Facts{Host: s.Host, Given: given, Port: s.Port, User: s.User, Alias: said.First("hostkeyalias")}
	if out.Port == 0 {
		out.Port = defaultPort
	}
	if me, err := user.Current(); err == nil {
		setFirst(&out.User, me.Username)
	}
	if jumps := said.First("proxyjump"); !isNone(jumps) {
		out.Jumps = jumps
	}
	return out
}

func isNone(value string) bool { return value == "" || strings.EqualFold(value, "none") }

// setIdentities sets with which keys, in which ways and in which order somebody logs in.
func (s *SSH) setIdentities(facts *sshconfig.Facts, said sshconfig.Options) (err error) {
	if s.Identities, err = expandAll(facts, said["identityfile"]); err != nil {
		return err
	}
	if s.Certificates, err = expandAll(facts, said["certificatefile"]); err != nil {
		return err
	}
	s.IdentitiesOnly = said.First("identitiesonly") == "yes"
	if agent := said.First("identityagent"); agent != "" {
		switch name, variable := strings.CutPrefix(agent, "$"); {
		case strings.EqualFold(agent, "none"):
			s.AgentSocket = noAgent
		case agent == "SSH_AUTH_SOCK":
		case variable && !strings.HasPrefix(name, "{"):
			if s.AgentSocket = os.Getenv(name); s.AgentSocket == "" {
				s.AgentSocket = noAgent
			}
		default:
			if s.AgentSocket, err = facts.ExpandPath(agent); err != nil {
				return err
			}
		}
	}
	for method, keyword := range map[string]string{"publickey": "pubkeyauthentication",
		"password": "passwordauthentication", "keyboard-interactive": "kbdinteractiveauthentication"} {
		if said.First(keyword) == "no" {
			s.Never = append(s.Never, method)
		}
	}
	if preferred := said.First("preferredauthentications"); preferred != "" {
		s.Methods = strings.Split(preferred, ",")
	}
	if s.Prompts, err = number(said, "numberofpasswordprompts"); err != nil {
		return err
	}
	s.AddKeysToAgent = said.First("addkeystoagent")
	if said.First("batchmode") == "yes" {
		if s.Ask = nil; !s.Settled {
			s.Passphrase = nil
		}
	}
	return nil
}

// expandAll gives names of files. One of none stands for no file at all.
func expandAll(facts *sshconfig.Facts, values []string) (out []string, err error) {
	for _, value := range values {
		name := os.DevNull
		if !isNone(value) {
			if name, err = facts.ExpandPath(value); err != nil {
				return nil, err
			}
		}
		out = append(out, name)
	}
	return out, nil
}

// setHostKeys sets how the key of the host is judged.
func (s *SSH) setHostKeys(facts *sshconfig.Facts, said sshconfig.Options) (err error) {
	if alias := said.First("hostkeyalias"); alias != "" {
		if s.HostKeyAlias, err = facts.Expand(alias); err != nil {
			return err
		}
	}
	if s.KnownHosts == "" {
		if s.KnownHostsFiles, err = expandAll(facts, said["userknownhostsfile"]); err != nil {
			return err
		}
	}
	if s.GlobalKnownHosts, err = expandAll(facts, said["globalknownhostsfile"]); err != nil {
		return err
	}
	if command := said.First("knownhostscommand"); !isNone(command) {
		facts.Looked = s.lookedUpAs()
		if s.KnownHostsCommand, err = facts.Words(command); err != nil {
			return err
		}
	}
	if revoked := said.First("revokedhostkeys"); !isNone(revoked) {
		if s.RevokedHostKeys, err = facts.ExpandPath(revoked); err != nil {
			return err
		}
	}
	if s.MinRSA, err = number(said, "requiredrsasize"); err != nil {
		return err
	}
	s.Strict, s.HashKnownHosts = said.First("stricthostkeychecking"), said.First("hashknownhosts") == "yes"
	lists := map[string]*[]string{"hostkeyalgorithms": &s.HostKeyAlgorithms, "kexalgorithms": &s.KeyExchanges,
		"ciphers": &s.Ciphers, "macs": &s.MACs, "casignaturealgorithms": &s.AuthorityAlgorithms}
	for keyword, list := range lists {
		if value := said.First(keyword); value != "" {
			*list = strings.Split(value, ",")
		}
	}
	return nil
}

// setWay sets how the connection gets to the host.
func (s *SSH) setWay(facts *sshconfig.Facts, said sshconfig.Options) (err error) {
	if command := said.First("proxycommand"); !isNone(command) && s.Via == nil {
		if s.Command, err = facts.Expand(command); err != nil {
			return err
		}
	}
	switch said.First("addressfamily") {
	case "inet":
		s.Network = "tcp4"
	case "inet6":
		s.Network = "tcp6"
	}
	s.BindAddress, s.BindInterface = said.First("bindaddress"), said.First("bindinterface")
	s.Attempts, err = number(said, "connectionattempts")
	return err
}

func number(said sshconfig.Options, keyword string) (int, error) {
	value := said.First(keyword)
	if value == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(value)
	if err != nil {
		return 0, fmt.Errorf("%s is %q, which is not a number", keyword, value)
	}
	return n, nil
}

// setLimits sets times and amounts.
func (s *SSH) setLimits(said sshconfig.Options) {
	seconds := func(to *time.Duration, keyword string) {
		if n, err := strconv.Atoi(said.First(keyword)); err == nil && n > 0 && *to == 0 {
			*to = time.Duration(n) * time.Second
		}
	}
	seconds(&s.Timeout, "connecttimeout")
	seconds(&s.Alive, "serveraliveinterval")
	s.AliveMisses, _ = strconv.Atoi(said.First("serveralivecountmax")) // ssh -G has checked it, or the package
	if bytes, _, _ := strings.Cut(said.First("rekeylimit"), " "); bytes != "" {
		s.Rekey, _ = strconv.ParseUint(bytes, 10, 64) // likewise
	}
}

// environment gives the variables that a session gets: those of this program whose names SendEnv lists, in patterns,
// and those of SetEnv, which win.
func environment(said sshconfig.Options, own []string) (out []string) {
	for _, variable := range own {
		name, _, _ := strings.Cut(variable, "=")
		if slices.ContainsFunc(said["sendenv"], func(pattern string) bool { return sshconfig.Matches(pattern, name) }) {
			out = append(out, variable)
		}
	}
	return append(out, said["setenv"]...)
}

// unhonoured names what is set and not done here, although it says something about where a connection leads, who is
// trusted, or who logs in.
func unhonoured(said sshconfig.Options) (out []string) {
	for keyword, harmless := range map[string][]string{
		"VerifyHostKeyDNS": {"no"}, "PKCS11Provider": {"none"}, "SecurityKeyProvider": {"internal"},
		"HostbasedAuthentication": {"no"},
		"ProxyUseFdpass":          {"no"}, "RemoteCommand": {"none"}, "UpdateHostKeys": {"no"}, "CheckHostIP": {"no"},
		"NoHostAuthenticationForLocalhost": {"no"},
	} {
		if value := said.First(strings.ToLower(keyword)); value != "" && !slices.Contains(harmless, value) {
			out = append(out, keyword)
		}
	}
	if _, after, _ := strings.Cut(said.First("rekeylimit"), " "); after != "" && after != "0" && after != "none" {
		out = append(out, "RekeyLimit after a time")
	}
	slices.Sort(out)
	return out
}

// addJumps sets the hosts that are gone through, the last of which is the nearest to this one. What the settings say of
// the way to one of them counts for the first alone.
func (s *SSH) addJumps(ctx context.Context, list string, config *sshconfig.Config, depth int) error {
	if s.Via == nil && !isNone(list) {
		if err := s.GoThrough(strings.Split(list, ",")); err != nil {
			return err
		}
		for via := s.Via; via != nil; via = via.Via {
			via.Identity = "" // a key that was named for the last host is not for these
		}
	}
	if s.Via == nil {
		return nil
	}
	if depth >= maxJumps {
		return fmt.Errorf("more than %d hosts are gone through to get to %s", maxJumps, s.Host)
	}
	return s.Via.configure(ctx, config, depth+1)
}

// jump reads [USER@]HOST[:PORT], with or without ssh:// before it. An address of IPv6 with a port has brackets.
func (s *SSH) jump(text string) (*SSH, error) {
	rest := strings.TrimSuffix(strings.TrimPrefix(text, "ssh://"), "/")
	out := &SSH{KnownHosts: s.KnownHosts, Passphrase: s.Passphrase, Ask: s.Ask, Notice: s.Notice}
	if at := strings.LastIndexByte(rest, '@'); at >= 0 {
		out.User, rest = rest[:at], rest[at+1:]
	}
	host, port := rest, ""
	switch inside, after, bracketed := cutBrackets(rest); {
	case bracketed && (after == "" || after[0] == ':'):
		host, port = inside, strings.TrimPrefix(after, ":")
	case strings.Count(rest, ":") == 1:
		host, port, _ = strings.Cut(rest, ":")
	}
	out.Host = host
	if port != "" {
		var err error
		if out.Port, err = strconv.Atoi(port); err != nil || out.Port < 1 || out.Port > 1<<16-1 {
			return nil, fmt.Errorf("the host to go through, %q, has the port %q, which is not one", text, port)
		}
	}
	if host == "" {
		return nil, fmt.Errorf("the host to go through, %q, has no name", text)
	}
	return out, nil
}

// cutBrackets takes apart [INSIDE]AFTER.
func cutBrackets(text string) (inside, after string, ok bool) {
	rest, ok := strings.CutPrefix(text, "[")
	if !ok {
		return "", "", false
	}
	return strings.Cut(rest, "]")
}

// GoThrough sets the hosts that are gone through, each as [USER@]HOST[:PORT], in their order. Identity is the key that
// they are logged in to with, unless the client settings name others.
func (s *SSH) GoThrough(hosts []string) error {
	var via *SSH
	for _, host := range hosts {
		next, err := s.jump(strings.TrimSpace(host))
		if err != nil {
			return err
		}
		next.Via, next.Identity = via, s.Identity
		via = next
	}
	s.Via = via
	return nil
}

// lookedUpAs gives the name under which the host's key is recorded: HOST, or [HOST]:PORT.
func (s *SSH) lookedUpAs() string {
	host, port, err := net.SplitHostPort(s.keyName())
	if err != nil || port == "22" {
		return host
	}
	return "[" + host + "]:" + port
}
