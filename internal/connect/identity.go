package connect

import (
	"bytes"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/youmark/pkcs8"
	"golang.org/x/crypto/ssh"
)

// IdentityError tells that a key file cannot be used.
type IdentityError struct {
	File   string
	Reason string
	Open   bool // others can read it
	Locked bool // it has a passphrase
	Public bool // it holds a public key, whose private one no agent has
}

func (e *IdentityError) Error() string { return fmt.Sprintf("key file %s %s", e.File, e.Reason) }

// key is a private key that may be used to log in, and what a person knows it by.
type key struct {
	ssh.Signer
	name string
}

// keyFile reads a private key file: OpenSSH's own form, PEM (PKCS #1, PKCS #8, EC), or a .ppk file. A key with a
// passphrase is opened by an agent that holds it; else passphrase is called, and only once the server accepts the key.
// A certificate beside it, under its name and -cert.pub, makes another key, which comes first.
func keyFile(file string, passphrase func(string) (string, error), held []ssh.Signer) ([]key, error) {
	text, err := readPrivately(file)
	if err != nil {
		return nil, err
	}
	signer, err := parseKey(file, text, passphrase, held)
	if err != nil {
		return nil, err
	}
	out := []key{{signer, "the key " + file}}
	if certificate, err := certify(signer, file+"-cert.pub"); err == nil {
		out = slices.Insert(out, 0, certificate)
	}
	return out, nil
}

// KeySource is where a private key is found that is in no file.
type KeySource struct {
	Name string
	Text func() (string, error)
}

// keys reads the key. In variables of build systems, line ends are often lost or written as \n.
func (s *KeySource) keys(passphrase func(string) (string, error), held []ssh.Signer) ([]key, error) {
	text, err := s.Text()
	if err != nil {
		return nil, err
	}
	text = strings.ReplaceAll(text, "\r\n", "\n")
	if !strings.Contains(strings.TrimSpace(text), "\n") {
		text = strings.ReplaceAll(text, `\n`, "\n")
	}
	signer, err := parseKey(s.Name, []byte(strings.TrimSpace(text)+"\n"), passphrase, held)
	if err != nil {
		return nil, err
	}
	return []key{{signer, "the key " + s.Name}}, nil
}

func readPrivately(file string) ([]byte, error) {
	info, err := os.Stat(file)
	var text []byte
	if err == nil {
		text, err = os.ReadFile(file)
	}
	if err != nil {
		var inner *fs.PathError
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return nil, &IdentityError{File: file, Reason: "cannot be read: " + err.Error()}
	}
	public := isPublicKey(text)
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 && !public {
		return nil, &IdentityError{File: file, Reason: fmt.Sprintf("can be read by others (mode %04o)", info.Mode().Perm()), Open: true}
	}
	return text, nil
}

func isPublicKey(text []byte) bool {
	_, _, _, _, err := ssh.ParseAuthorizedKey(text)
	return err == nil
}

func parseKey(file string, text []byte, passphrase func(string) (string, error), held []ssh.Signer) (ssh.Signer, error) {
	if public, _, _, _, err := ssh.ParseAuthorizedKey(text); err == nil {
		if signer := holds(held, public); signer != nil {
			return signer, nil
		}
		return nil, &IdentityError{File: file, Reason: "is a public key, and no agent holds its private one", Public: true}
	}
	signer, locked, err := decode(text)
	if err != nil {
		return nil, &IdentityError{File: file, Reason: err.Error()}
	}
	if signer != nil {
		return signer, nil
	}
	if locked.public == nil { // older forms do not say which key is in them
		if beside, err := os.ReadFile(file + ".pub"); err == nil {
			locked.public, _, _, _, _ = ssh.ParseAuthorizedKey(beside)
		}
	}
	if signer := holds(held, locked.public); signer != nil {
		return signer, nil
	}
	s := seal(file, locked, passphrase)
	if locked.public == nil {
		return s.open()
	}
	return s, nil
}

// locked is a key with a passphrase.
type locked struct {
	public ssh.PublicKey // nil: the file does not say
	open   func(phrase string) (ssh.Signer, error)
}

// decode reads a private key in any form: it can be used at once, or has a passphrase.
func decode(text []byte) (ssh.Signer, *locked, error) {
	if isPPK(text) {
		parsed, err := parsePPK(text)
		if err == nil && parsed.encrypted() {
			return nil, &locked{parsed.key, parsed.open}, nil
		}
		var signer ssh.Signer
		if err == nil {
			signer, err = parsed.open("")
		}
		if err != nil {
			return nil, nil, fmt.Errorf("cannot be read: %w", err)
		}
		return signer, nil, nil
	}
	signer, err := ssh.ParsePrivateKey(text)
	var missing *ssh.PassphraseMissingError
	switch {
	case err == nil:
		return signer, nil, nil
	case errors.As(err, &missing):
		open := func(phrase string) (ssh.Signer, error) {
			return ssh.ParsePrivateKeyWithPassphrase(text, []byte(phrase))
		}
		return nil, &locked{missing.PublicKey, open}, nil
	case isLockedPKCS8(text):
		return nil, &locked{nil, func(phrase string) (ssh.Signer, error) { return openPKCS8(text, phrase) }}, nil
	}
	return nil, nil, fmt.Errorf("is no private key: %w", err)
}

func isLockedPKCS8(text []byte) bool {
	block, _ := pem.Decode(text)
	return block != nil && block.Type == "ENCRYPTED PRIVATE KEY"
}

// openPKCS8 decrypts a key of RFC 5958, whose encryption (RFC 8018) the SSH library does not know.
func openPKCS8(text []byte, phrase string) (ssh.Signer, error) {
	block, _ := pem.Decode(text)
	private, err := pkcs8.ParsePKCS8PrivateKey(block.Bytes, []byte(phrase))
	if err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(private)
}

// holds finds the one that signs for a public key.
func holds(signers []ssh.Signer, public ssh.PublicKey) ssh.Signer {
	for _, s := range signers {
		if public != nil && bytes.Equal(s.PublicKey().Marshal(), public.Marshal()) {
			return s
		}
	}
	return nil
}

// sealed is a key with a passphrase, which is asked for when the key is first used.
type sealed struct {
	public ssh.PublicKey
	open   func() (ssh.Signer, error)
}

func seal(file string, locked *locked, passphrase func(string) (string, error)) *sealed {
	return &sealed{locked.public, sync.OnceValues(func() (ssh.Signer, error) {
		if passphrase == nil {
			return nil, &IdentityError{File: file, Reason: "has a passphrase", Locked: true}
		}
		phrase, err := passphrase(file)
		if err != nil {
			return nil, err
		}
		signer, err := locked.open(phrase)
		if err != nil {
			return nil, &IdentityError{File: file, Reason: "does not open with this passphrase", Locked: true}
		}
		return signer, nil
	})}
}

func (s *sealed) PublicKey() ssh.PublicKey { return s.public }

func (s *sealed) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(rand, data, "")
}

// SignWithAlgorithm implements ssh.AlgorithmSigner.
func (s *sealed) SignWithAlgorithm(rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	signer, err := s.open()
	if err != nil {
		return nil, err
	}
	if able, ok := signer.(ssh.AlgorithmSigner); ok {
		return able.SignWithAlgorithm(rand, data, algorithm)
	}
	return signer.Sign(rand, data)
}

// certify gives the key with its certificate in a file.
func certify(signer ssh.Signer, file string) (key, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return key{}, err
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey(text)
	if err != nil {
		return key{}, err
	}
	certificate, ok := public.(*ssh.Certificate)
	if !ok {
		return key{}, fmt.Errorf("%s holds no certificate", file)
	}
	certified, err := ssh.NewCertSigner(certificate, signer)
	if err != nil {
		return key{}, err
	}
	name := "the certificate " + file
	if until := certificate.ValidBefore; until != ssh.CertTimeInfinity && time.Now().Unix() > int64(until) {
		name += " (it ran out on " + time.Unix(int64(until), 0).Format(time.DateTime) + ")"
	}
	return key{certified, name}, nil
}
