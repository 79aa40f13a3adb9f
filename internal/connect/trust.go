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
// not trusted, ErrTrusted when it is.
func (s *SSH) ShowKey(ctx context.Context) error {
	only := *s
	only.Identity, only.Password, only.Ask = "", nil, nil
	client, err := only.dial(ctx, func() ([]key, func(), error) { return nil, func() {}, nil })
	if err == nil {
		client.Close()
		return ErrTrusted
	}
	var failed *Error
	if errors.As(err, &failed) && failed.Step == Login {
		return ErrTrusted
	}
	return err
}

// UserKnownHosts gives the file in which trusted keys are recorded: the one that is named, or the user's own.
func (s *SSH) UserKnownHosts() (string, error) {
	if s.KnownHosts != "" {
		return s.KnownHosts, nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("find home folder: %w", err)
	}
	return filepath.Join(home, ".ssh", "known_hosts"), nil
}

// Trust records a host's key in a known_hosts file, which is made when it is not there.
func Trust(file, address string, key ssh.PublicKey) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return fmt.Errorf("record host key: %w", err)
	}
	line := knownhosts.Line([]string{knownhosts.Normalize(address)}, key) + "\n"
	if text, err := os.ReadFile(file); err == nil && len(text) > 0 && text[len(text)-1] != '\n' {
		line = "\n" + line
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("record host key: %w", err)
	}
	_, err = f.WriteString(line)
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return fmt.Errorf("record host key: %w", err)
	}
	return nil
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
