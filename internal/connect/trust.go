package connect

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// ErrTrusted tells that a host's key is trusted already.
var ErrTrusted = errors.New("the host key is trusted already")

// ShowKey connects as far as the host key and gives what is to be said of it: a *HostKeyError in an *Error when it is
// not trusted, ErrTrusted when it is. The fingerprint is that of the key, where one was shown.
func (s *SSH) ShowKey(ctx context.Context) (fingerprint string, err error) {
	only := *s
	only.Identity, only.Password, only.Ask, only.Strict = "", nil, nil, ""
	only.shown = &fingerprint
	client, err := only.dial(ctx, func() ([]key, func(), error) { return nil, func() {}, nil })
	if err == nil {
		client.Close()
		return fingerprint, ErrTrusted
	}
	var failed *Error
	if errors.As(err, &failed) && failed.Step == Login {
		return fingerprint, ErrTrusted
	}
	return fingerprint, err
}

// TrustError tells that a host key cannot be recorded, or that what was recorded is not found again.
type TrustError struct {
	File string
	Err  error
}

func (e *TrustError) Error() string {
	return fmt.Sprintf("record the host key in %s: %v", e.File, e.Err)
}

func (e *TrustError) Unwrap() error { return e.Err }

// Trust records a host's key where the next connection looks for it, proves that it is found there, and gives the file.
// It is made when it is not there. Its error is a *TrustError.
func (s *SSH) Trust(ctx context.Context, key ssh.PublicKey) (file string, err error) {
	file = s.userKnownHosts()[0]
	fail := func(err error) (string, error) { return "", &TrustError{file, err} }
	if file == os.DevNull {
		return fail(errors.New("UserKnownHostsFile is none"))
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return fail(err)
	}
	name := s.lookedUpAs()
	if s.HashKnownHosts {
		name = knownhosts.HashHostname(name)
	}
	line := name + " " + string(ssh.MarshalAuthorizedKey(key))
	if text, err := os.ReadFile(file); err == nil && len(text) > 0 && text[len(text)-1] != '\n' {
		line = "\n" + line
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return fail(err)
	}
	_, err = f.WriteString(line)
	if err = errors.Join(err, f.Close()); err != nil {
		return fail(err)
	}
	again := *s
	again.HostKey = ""
	check, err := again.hostKeyCheck(ctx)
	if err != nil {
		return fail(err)
	}
	if refused := check.check(key); refused != nil {
		return fail(fmt.Errorf("it was written, but still %w", refused))
	}
	return file, nil
}

// accepts tells whether the settings have a host that is not known trusted without a question, as StrictHostKeyChecking
// accept-new does, and records its key then. A key that has changed is never accepted, whatever they say.
func (s *SSH) accepts(ctx context.Context, key *HostKeyError) bool {
	if s.Strict != "accept-new" && s.Strict != "no" || !key.Unknown() {
		return false
	}
	file, err := s.Trust(ctx, key.Key)
	if err != nil {
		s.notice(fmt.Sprintf("the %s key %s of %s is trusted this once: %v", key.Type, key.Fingerprint, s.Address(),
			err))
		return true
	}
	s.notice(fmt.Sprintf("%s was not known: its %s key %s is recorded in %s, as StrictHostKeyChecking %s says",
		s.Address(), key.Type, key.Fingerprint, file, s.Strict))
	return true
}

// Picture draws a key's fingerprint as OpenSSH does, so that a person can compare it with what ssh-keygen -lv prints at
// the server. A walker starts in the middle of a field of 17 by 9 and goes diagonally, two bits of the digest a step,
// the lowest first; the more often it comes to a place, the denser the character there.
func Picture(key ssh.PublicKey) string {
	const width, height = 17, 9
	const characters = " .o+=*BOX@%&#/^SE"
	var field [height][width]int
	digest := sha256.Sum256(key.Marshal())
	x, y := width/2, height/2
	for _, b := range digest {
		for range 4 {
			x = min(max(x+int(b&1)*2-1, 0), width-1)
			y = min(max(y+int(b>>1&1)*2-1, 0), height-1)
			field[y][x] = min(field[y][x]+1, len(characters)-3)
			b >>= 2
		}
	}
	field[height/2][width/2], field[y][x] = len(characters)-2, len(characters)-1
	var out strings.Builder
	border := "+" + strings.Repeat("-", width) + "+\n"
	out.WriteString(border)
	for _, row := range field {
		out.WriteByte('|')
		for _, count := range row {
			out.WriteByte(characters[count])
		}
		out.WriteString("|\n")
	}
	out.WriteString(border)
	return out.String()
}
