package connect

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/kevinburke/ssh_config"
)

// maxJumps is how many hosts in a row are gone through before it counts as a circle.
const maxJumps = 8

// UserConfig gives the files in which OpenSSH's client settings are looked for, the user's before the system's.
func UserConfig() []string {
	var out []string
	if home, err := os.UserHomeDir(); err == nil {
		out = append(out, filepath.Join(home, ".ssh", "config"))
	}
	return append(out, "/etc/ssh/ssh_config")
}

// ConfigError tells that a file of client settings cannot be read.
type ConfigError struct {
	File string
	Err  error
}

func (e *ConfigError) Error() string { return fmt.Sprintf("SSH settings %s: %v", e.File, e.Err) }

func (e *ConfigError) Unwrap() error { return e.Err }

// Configure fills in what OpenSSH's client settings (ssh_config(5)) say of the host and what is not set yet: HostName,
// User, Port, IdentityFile, IdentitiesOnly, UserKnownHostsFile, HostKeyAlias, ConnectTimeout,
// ServerAliveInterval and ProxyJump. Earlier
// files win over later ones; one that does not exist says nothing. Its errors are *ConfigError.
func (s *SSH) Configure(files []string) error {
	var parsed []*ssh_config.Config
	for _, file := range files {
		f, err := os.Open(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return &ConfigError{file, errors.Unwrap(err)}
		}
		config, err := ssh_config.Decode(f)
		f.Close()
		if err != nil {
			return &ConfigError{file, err}
		}
		parsed = append(parsed, config)
	}
	return s.configure(parsed, 0)
}

func (s *SSH) configure(parsed []*ssh_config.Config, depth int) error {
	alias := s.Host
	all := func(key string) (out []string) {
		for _, config := range parsed {
			if values, err := config.GetAll(alias, key); err == nil {
				out = append(out, values...)
			}
		}
		return out
	}
	first := func(key string) string {
		for _, value := range all(key) {
			if value != "" {
				return value
			}
		}
		return ""
	}
	if name := first("HostName"); name != "" {
		s.Host = strings.ReplaceAll(name, "%h", alias)
	}
	if s.User == "" {
		s.User = first("User")
	}
	if port, err := strconv.Atoi(first("Port")); err == nil && s.Port == 0 {
		s.Port = port
	}
	if seconds, err := strconv.Atoi(first("ConnectTimeout")); err == nil && s.Timeout == 0 {
		s.Timeout = time.Duration(seconds) * time.Second
	}
	if seconds, err := strconv.Atoi(first("ServerAliveInterval")); err == nil && s.Alive == 0 {
		s.Alive = time.Duration(seconds) * time.Second
	}
	s.HostKeyAlias = first("HostKeyAlias")
	s.AgentOff = strings.EqualFold(first("IdentitiesOnly"), "yes")
	for _, file := range all("IdentityFile") {
		s.Identities = append(s.Identities, s.expand(file))
	}
	for _, file := range all("CertificateFile") {
		s.Certificates = append(s.Certificates, s.expand(file))
	}
	if s.KnownHosts == "" {
		for file := range strings.FieldsSeq(first("UserKnownHostsFile")) {
			s.KnownHostsFiles = append(s.KnownHostsFiles, s.expand(file))
		}
	}
	return s.addJumps(first("ProxyJump"), parsed, depth)
}

// addJumps sets the hosts that are gone through, the last of which is the nearest to this one.
func (s *SSH) addJumps(list string, parsed []*ssh_config.Config, depth int) error {
	if s.Via != nil || list == "" || strings.EqualFold(list, "none") {
		return nil
	}
	if depth >= maxJumps {
		return fmt.Errorf("more than %d hosts are gone through to get to %s", maxJumps, s.Host)
	}
	var via *SSH
	for jump := range strings.SplitSeq(list, ",") {
		next, err := s.jump(strings.TrimSpace(jump))
		if err != nil {
			return err
		}
		next.Via = via
		if err := next.configure(parsed, depth+1); err != nil {
			return err
		}
		via = next
	}
	s.Via = via
	return nil
}

// jump reads [USER@]HOST[:PORT], with or without ssh:// before it.
func (s *SSH) jump(text string) (*SSH, error) {
	rest := strings.TrimSuffix(strings.TrimPrefix(text, "ssh://"), "/")
	out := &SSH{KnownHosts: s.KnownHosts, Passphrase: s.Passphrase, Ask: s.Ask}
	if at := strings.LastIndexByte(rest, '@'); at >= 0 {
		out.User, rest = rest[:at], rest[at+1:]
	}
	host, port, has := strings.Cut(rest, ":")
	out.Host = host
	if has {
		var err error
		if out.Port, err = strconv.Atoi(port); err != nil {
			return nil, fmt.Errorf("the host to go through, %q, has the port %q, which is no number", text, port)
		}
	}
	if host == "" {
		return nil, fmt.Errorf("the host to go through, %q, has no name", text)
	}
	return out, nil
}

// GoThrough sets the hosts that are gone through, each as [USER@]HOST[:PORT], in their order. Identity is the key that
// they are logged in to with, unless the client settings name others.
func (s *SSH) GoThrough(hosts []string) error {
	var via *SSH
	for _, host := range hosts {
		next, err := s.jump(host)
		if err != nil {
			return err
		}
		next.Via, next.Identity = via, s.Identity
		via = next
	}
	s.Via = via
	return nil
}

// expand puts in what OpenSSH's tokens stand for.
func (s *SSH) expand(name string) string {
	name = strings.Trim(name, `"`)
	home, err := os.UserHomeDir()
	if err != nil {
		return name
	}
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		name = filepath.Join(home, rest)
	}
	return strings.NewReplacer("%%", "%", "%d", home, "%h", s.Host, "%r", s.User).Replace(name)
}
