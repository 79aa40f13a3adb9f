package connect

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"golang.org/x/crypto/ssh"
)

// krlMagic begins a key revocation list in OpenSSH's binary form (its PROTOCOL.krl).
const krlMagic = "SSHKRL\n\x00"

// revocations is what RevokedHostKeys names: a text with a public key on each line, or a key revocation list.
type revocations struct {
	file string
	text []byte
}

// readRevocations reads a file of revoked keys; nil: none is named. A file that cannot be read is an error, as for ssh:
// without it nothing is known of any key.
func readRevocations(file string) (*revocations, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("RevokedHostKeys: %w", err)
	}
	return &revocations{file, text}, nil
}

// why tells why a host's key, that of its certificate or that of the authority must not be trusted; nil: nothing says
// so.
func (r *revocations) why(key ssh.PublicKey) error {
	if r == nil {
		return nil
	}
	keys := []ssh.PublicKey{key}
	if certificate, ok := key.(*ssh.Certificate); ok {
		keys = append(keys, certificate.Key, certificate.SignatureKey)
	}
	for _, k := range keys {
		revoked, err := r.has(k)
		if err != nil {
			return err
		}
		if revoked {
			return fmt.Errorf("which %s lists as revoked", r.file)
		}
	}
	return nil
}

func (r *revocations) has(key ssh.PublicKey) (bool, error) {
	if bytes.HasPrefix(r.text, []byte(krlMagic)) {
		return r.ask(key)
	}
	for line := range strings.Lines(string(r.text)) {
		listed, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err == nil && bytes.Equal(listed.Marshal(), key.Marshal()) {
			return true, nil
		}
	}
	return false, nil
}

// ask has OpenSSH's own program look into a key revocation list.
func (r *revocations) ask(key ssh.PublicKey) (bool, error) {
	fail := func(err error) (bool, error) {
		return false, fmt.Errorf("of which %s does not say whether it is revoked: %w", r.file, err)
	}
	program, err := exec.LookPath("ssh-keygen")
	if err != nil {
		return fail(fmt.Errorf("only ssh-keygen reads such a list: %w", err))
	}
	file, err := os.CreateTemp("", "tartine-key-")
	if err != nil {
		return fail(err)
	}
	defer os.Remove(file.Name())
	_, err = file.Write(ssh.MarshalAuthorizedKey(key))
	if closing := file.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return fail(err)
	}
	out, err := exec.Command(program, "-Q", "-f", r.file, file.Name()).CombinedOutput()
	switch {
	case err == nil:
		return false, nil
	case strings.HasSuffix(strings.TrimSpace(string(out)), ": REVOKED"):
		return true, nil
	}
	return fail(fmt.Errorf("ssh-keygen: %w: %s", err, strings.TrimSpace(string(out))))
}
