package connect

import (
	"context"
	"crypto/rsa"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"tartine/internal/farend"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// HostKeyError tells that a host showed a key that is not the expected one, or that nothing is known of it.
type HostKeyError struct {
	Type, Fingerprint string
	Key               ssh.PublicKey
	Pinned            string                // the fingerprint that was expected, when it was pinned
	Known             []knownhosts.KnownKey // what is recorded for the host, when it was not; empty: nothing
	Revoked           *knownhosts.KnownKey  // where the key is recorded as one that must not be trusted any more
	Strict            bool                  // client settings forbid to ask about a host that is not known
	Certificate       error                 // why a certificate does not count, when the host showed one
	// why it must not be trusted, whatever is recorded: it is too short, or listed as revoked
	Unfit error
}

func (e *HostKeyError) Error() string {
	shows := fmt.Sprintf("the host shows the %s key %s", e.Type, e.Fingerprint)
	switch {
	case e.Unfit != nil:
		return fmt.Sprintf("%s, %v", shows, e.Unfit)
	case e.Revoked != nil:
		return fmt.Sprintf("%s, which %s line %d marks as revoked", shows, e.Revoked.Filename, e.Revoked.Line)
	case e.Certificate != nil:
		return fmt.Sprintf("%s with a certificate that does not count: %v", shows, e.Certificate)
	case e.Pinned != "":
		return fmt.Sprintf("%s, not the pinned %s", shows, e.Pinned)
	case len(e.Known) > 0:
		return fmt.Sprintf("%s, not the one recorded in %s line %d, %s", shows,
			e.Known[0].Filename, e.Known[0].Line, ssh.FingerprintSHA256(e.Known[0].Key))
	default:
		return shows + ", and nothing is recorded for it"
	}
}

// Unknown tells whether simply nothing is recorded for the host, so that a person may decide.
func (e *HostKeyError) Unknown() bool {
	return e.Pinned == "" && len(e.Known) == 0 && e.Revoked == nil && e.Certificate == nil && e.Unfit == nil
}

// keyName gives host:port as the host key is looked up.
func (s *SSH) keyName() string {
	if s.HostKeyAlias != "" {
		return net.JoinHostPort(s.HostKeyAlias, "22")
	}
	return s.Address()
}

// noAddress is given where the address that a name led to is not to be looked up beside the name.
type noAddress struct{}

func (noAddress) Network() string { return "tcp" }
func (noAddress) String() string  { return "0.0.0.0:0" }

// hostKeys decides about the key of one host.
type hostKeys struct {
	host   string // host:port
	pinned string
	known  ssh.HostKeyCallback   // nil: nothing is known of any host
	plain  []knownhosts.KnownKey // keys that are recorded for the host
	wanted string                // of several keys of a host that is not known the one that is to be shown; empty: the first
	passed []string              // types of which the host has shown a key that is not the right one
	strict bool                  // nobody is to be asked about a host that is not known
	named  []string              // the types that client settings allow, in their order; empty: all that are safe
	signed bool                  // an authority is recorded that signs the keys of such hosts

	revoked *revocations // keys that must not be trusted, whatever is recorded
	minRSA  int          // bits
	signing []string     // algorithms with which an authority may sign; empty: those that are safe
}

// userKnownHosts gives the user's files in which host keys are recorded; the first is the one to which more are added.
func (s *SSH) userKnownHosts() []string {
	switch {
	case s.KnownHosts != "":
		return []string{s.KnownHosts}
	case len(s.KnownHostsFiles) > 0:
		return s.KnownHostsFiles
	}
	return []string{filepath.Join(userFolder(), "known_hosts"), filepath.Join(userFolder(), "known_hosts2")}
}

func (s *SSH) hostKeyCheck(ctx context.Context) (*hostKeys, error) {
	h := &hostKeys{host: s.keyName(), wanted: s.Wanted, pinned: s.HostKey, strict: s.Strict == "yes",
		named: s.HostKeyAlgorithms, minRSA: s.MinRSA, signing: s.AuthorityAlgorithms}
	var err error
	if h.revoked, err = readRevocations(s.RevokedHostKeys); err != nil {
		return nil, err
	}
	global := s.GlobalKnownHosts
	if len(global) == 0 {
		global = []string{"/etc/ssh/ssh_known_hosts", "/etc/ssh/ssh_known_hosts2"}
	}
	files := slices.Concat(s.userKnownHosts(), global)
	said, err := s.askKnownHosts(ctx)
	if err != nil {
		return nil, err
	}
	if said != "" {
		defer os.Remove(said)
		files = append(files, said)
	}
	files = slices.DeleteFunc(files, func(file string) bool {
		_, err := os.Stat(file)
		return err != nil || file == os.DevNull
	})
	if len(files) == 0 {
		return h, nil
	}
	known, err := knownhosts.New(files...)
	if err != nil {
		return nil, err
	}
	h.known = known
	h.look()
	return h, nil
}

// askKnownHosts runs the command that tells which keys hosts have, and gives a file with what it said; empty: there is
// no command.
func (s *SSH) askKnownHosts(ctx context.Context) (file string, err error) {
	if len(s.KnownHostsCommand) == 0 {
		return "", nil
	}
	cmd := exec.CommandContext(ctx, s.KnownHostsCommand[0], s.KnownHostsCommand[1:]...)
	said := &farend.Tail{Most: mostSaid}
	cmd.Stderr = said
	text, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("the command %q (KnownHostsCommand) failed: %w%s", strings.Join(s.KnownHostsCommand, " "), err, strings.TrimSuffix(": "+said.String(), ": "))
	}
	out, err := os.CreateTemp("", "tartine-known-hosts-")
	if err != nil {
		return "", err
	}
	_, err = out.Write(text)
	if err = errors.Join(err, out.Close()); err != nil {
		return "", errors.Join(err, os.Remove(out.Name()))
	}
	return out.Name(), nil
}

// by tells what decides.
func (h *hostKeys) by() string {
	if h.pinned != "" {
		return "its pinned fingerprint"
	}
	return "known_hosts"
}

// look finds out what is recorded for the host.
func (h *hostKeys) look() {
	for _, host := range h.names() {
		var recorded *knownhosts.KeyError
		if err := h.known(host, noAddress{}, noKey{}); !errors.As(err, &recorded) {
			continue
		}
		for _, want := range recorded.Want {
			if isAuthority(want) {
				h.signed = true
			} else if host == h.host {
				h.plain = append(h.plain, want)
			}
		}
	}
}

// names gives what the host is looked up as: with its port, and, for authorities alone, without.
func (h *hostKeys) names() []string {
	out := []string{h.host}
	if name, port, err := net.SplitHostPort(h.host); err == nil && port != "22" {
		out = append(out, net.JoinHostPort(name, "22"))
	}
	return out
}

// isAuthority tells whether a line of a known_hosts file names one who signs host keys, and not a host's own key.
func isAuthority(key knownhosts.KnownKey) bool {
	text, err := os.ReadFile(key.Filename)
	if err != nil {
		return false
	}
	number := 0
	for line := range strings.Lines(string(text)) {
		if number++; number == key.Line {
			return strings.HasPrefix(strings.TrimSpace(line), "@cert-authority")
		}
	}
	return false
}

// check decides about the key that the host shows; nil means that it is trusted.
func (h *hostKeys) check(key ssh.PublicKey) *HostKeyError {
	out := &HostKeyError{Type: key.Type(), Fingerprint: ssh.FingerprintSHA256(key), Key: key, Strict: h.strict}
	if out.Unfit = h.unfit(key); out.Unfit != nil {
		return out
	}
	if h.pinned != "" {
		var revoked *knownhosts.RevokedError
		switch {
		case h.pinned != out.Fingerprint:
			out.Pinned = h.pinned
		case h.known != nil && errors.As(h.known(h.host, noAddress{}, key), &revoked):
			out.Revoked = &revoked.Revoked
		default:
			return nil
		}
		return out
	}
	if h.known == nil {
		return out
	}
	err := h.known(h.host, noAddress{}, key)
	var revoked *knownhosts.RevokedError
	certificate, signed := key.(*ssh.Certificate)
	if signed {
		for _, host := range h.names() {
			if err != nil && !errors.As(err, &revoked) {
				err = h.known(host, noAddress{}, key)
			}
		}
		out.Type, out.Fingerprint = certificate.Key.Type(), ssh.FingerprintSHA256(certificate.Key)
	}
	switch {
	case errors.As(err, &revoked):
		out.Revoked = &revoked.Revoked
	case err == nil && signed && len(h.signing) > 0 && !slices.Contains(h.signing, certificate.Signature.Format):
		out.Certificate = fmt.Errorf("it is signed with %s, which CASignatureAlgorithms does not list",
			certificate.Signature.Format)
	case err == nil && (signed || slices.ContainsFunc(h.plain,
		func(k knownhosts.KnownKey) bool { return string(k.Key.Marshal()) == string(key.Marshal()) })):
		return nil
	case signed:
		out.Certificate = errors.New(strings.TrimPrefix(err.Error(), "ssh: "))
	default: // not known; or it is the key of an authority, which is no host's own
		out.Known = h.plain
	}
	return out
}

// unfit tells why a key must not be trusted, whatever is recorded of it; nil: nothing says so.
func (h *hostKeys) unfit(key ssh.PublicKey) error {
	if err := h.revoked.why(key); err != nil {
		return err
	}
	if bits := bitsOfRSA(key); bits > 0 && bits < h.minRSA {
		return fmt.Errorf("which has %d bits, and RequiredRSASize asks for %d", bits, h.minRSA)
	}
	return nil
}

// bitsOfRSA gives the length of a key of RSA; 0: it is of another kind.
func bitsOfRSA(key ssh.PublicKey) int {
	if certificate, ok := key.(*ssh.Certificate); ok {
		key = certificate.Key
	}
	if able, ok := key.(ssh.CryptoPublicKey); ok {
		if public, ok := able.CryptoPublicKey().(*rsa.PublicKey); ok {
			return public.N.BitLen()
		}
	}
	return 0
}

// algorithms gives the types of key that the host may show, those first that can be checked: certificates where their
// authority is known, then keys of a type that is recorded for it.
func (h *hostKeys) algorithms() []string {
	var signed, known, others []string
	supported := ssh.SupportedAlgorithms().HostKeys
	slices.SortStableFunc(supported, func(a, b string) int { return rank(a) - rank(b) })
	if len(h.named) > 0 { // then their order counts, whatever is recorded
		able := append(supported, ssh.InsecureAlgorithms().HostKeys...)
		return slices.DeleteFunc(slices.Clone(h.named), func(name string) bool {
			return !slices.Contains(able, name) || slices.ContainsFunc(h.passed,
				func(shown string) bool { return sameType(shown, name) })
		})
	}
	for _, name := range supported {
		switch {
		case slices.ContainsFunc(h.passed, func(shown string) bool { return sameType(shown, name) }):
		case strings.Contains(name, "-cert-"):
			if h.signed {
				signed = append(signed, name)
			}
		case slices.ContainsFunc(h.plain, func(k knownhosts.KnownKey) bool { return sameType(k.Key.Type(), name) }):
			known = append(known, name)
		default:
			others = append(others, name)
		}
	}
	return slices.Concat(signed, known, others)
}

// rank gives the order of types of keys in which OpenSSH asks for them, so that the same key is shown first.
func rank(algorithm string) int {
	for i, name := range []string{"ed25519", "ecdsa"} {
		if strings.Contains(algorithm, name) {
			return i
		}
	}
	return 2
}

// pass has the next try ask for a key of another type than one that was not the pinned one: a server may have several,
// each of which may be the pinned one. It tells whether there is another type to ask for.
func (h *hostKeys) pass(shown *HostKeyError) bool {
	other := h.pinned != "" || h.wanted != "" && shown.Unknown() && shown.Fingerprint != h.wanted
	if !other || slices.Contains(h.passed, shown.Type) {
		return false
	}
	h.passed = append(h.passed, shown.Type)
	return len(h.algorithms()) > 0
}

// sameType tells whether a key of a type signs with an algorithm. Keys of RSA sign with one that is named after SHA-2.
func sameType(key, algorithm string) bool {
	return key == algorithm || key == ssh.KeyAlgoRSA && (algorithm == ssh.KeyAlgoRSASHA512 ||
		algorithm == ssh.KeyAlgoRSASHA256)
}

// noKey is a key that no file knows.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }
