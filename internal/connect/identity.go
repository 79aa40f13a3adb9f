package connect

import (
	"bytes"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/youmark/pkcs8"
	"golang.org/x/crypto/ssh"

	"tartine/internal/connect/sshconfig"
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

// keyReader reads private keys.
type keyReader struct {
	passphrase func(file string) (string, error) // nil: there is nobody to ask
	held       []ssh.Signer                      // by an agent
	used       func(file string, private any)    // told of a key from a file that has signed; may be nil
}

// file reads a private key file: OpenSSH's own form, PEM (PKCS #1, PKCS #8, EC), or a .ppk file. A key with a
// passphrase is opened by an agent that holds it; else passphrase is called, and only once the server accepts the key.
// A certificate beside it, under its name and -cert.pub, makes another key, which comes first.
func (r *keyReader) file(name string) ([]key, error) {
	text, err := readPrivately(name)
	if err != nil {
		return nil, err
	}
	signer, err := r.parse(name, text)
	if err != nil {
		return nil, err
	}
	out := []key{{signer, "the key " + name}}
	if certificate, err := certify(signer, name+"-cert.pub"); err == nil {
		out = slices.Insert(out, 0, certificate)
	}
	return out, nil
}

// KeySource is where a private key is found that is in no file.
type KeySource struct {
	Name string
	Text func() (string, error)
}

// source reads a key that is in no file. In variables of build systems, line ends are often lost or written as \n.
func (r *keyReader) source(s *KeySource) ([]key, error) {
	text, err := s.Text()
	if err != nil {
		return nil, err
	}
	text = strings.ReplaceAll(text, "\r\n", "\n")
	if !strings.Contains(strings.TrimSpace(text), "\n") {
		text = strings.ReplaceAll(text, `\n`, "\n")
	}
	signer, err := r.parse(s.Name, []byte(strings.TrimSpace(text)+"\n"))
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
	if reason := sshconfig.OthersRead(file, info); reason != "" && !isPublicKey(text) {
		return nil, &IdentityError{File: file, Reason: reason, Open: true}
	}
	return text, nil
}

func isPublicKey(text []byte) bool {
	_, _, _, _, err := ssh.ParseAuthorizedKey(text)
	return err == nil
}

func (r *keyReader) parse(file string, text []byte) (ssh.Signer, error) {
	if public, _, _, _, err := ssh.ParseAuthorizedKey(text); err == nil {
		if signer := holds(r.held, public); signer != nil {
			return signer, nil
		}
		return nil, &IdentityError{File: file, Reason: "is a public key, and no agent holds its private one", Public: true}
	}
	private, locked, err := decode(text)
	if err != nil {
		return nil, &IdentityError{File: file, Reason: err.Error()}
	}
	if locked == nil {
		return r.ready(file, private)
	}
	if locked.public == nil { // older forms do not say which key is in them
		if beside, err := os.ReadFile(file + ".pub"); err == nil {
			locked.public, _, _, _, _ = ssh.ParseAuthorizedKey(beside)
		}
	}
	if signer := holds(r.held, locked.public); signer != nil {
		return signer, nil
	}
	s := r.seal(file, locked)
	if locked.public == nil {
		return s.open()
	}
	return s, nil
}

// ready gives a key that can be used at once. What is told of its use is told after the first signature.
func (r *keyReader) ready(file string, private any) (ssh.Signer, error) {
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return nil, &IdentityError{File: file, Reason: "is not a key to log in with: " + err.Error()}
	}
	if r.used == nil || holds(r.held, signer.PublicKey()) != nil {
		return signer, nil
	}
	return &reported{signer, sync.OnceFunc(func() { r.used(file, private) })}, nil
}

// reported is a key of whose first use somebody is told.
type reported struct {
	ssh.Signer
	used func()
}

func (s *reported) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(rand, data, "")
}

// SignWithAlgorithm implements ssh.AlgorithmSigner.
func (s *reported) SignWithAlgorithm(rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	signature, err := signWith(s.Signer, rand, data, algorithm)
	if err == nil {
		s.used()
	}
	return signature, err
}

// signWith signs with an algorithm, where the key has several; empty: its own.
func signWith(signer ssh.Signer, rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	if able, ok := signer.(ssh.AlgorithmSigner); ok {
		return able.SignWithAlgorithm(rand, data, algorithm)
	}
	return signer.Sign(rand, data)
}

// locked is a key with a passphrase.
type locked struct {
	public ssh.PublicKey // nil: the file does not say
	open   func(phrase string) (private any, err error)
}

// decode reads a private key in any form: it can be used at once, or has a passphrase.
func decode(text []byte) (private any, sealed *locked, err error) {
	if isPPK(text) {
		parsed, err := parsePPK(text)
		if err == nil && parsed.encrypted() {
			return nil, &locked{parsed.key, parsed.open}, nil
		}
		if err == nil {
			private, err = parsed.open("")
		}
		if err != nil {
			return nil, nil, fmt.Errorf("cannot be read: %w", err)
		}
		return private, nil, nil
	}
	private, err = ssh.ParseRawPrivateKey(text)
	var missing *ssh.PassphraseMissingError
	switch {
	case err == nil:
		return private, nil, nil
	case errors.As(err, &missing):
		open := func(phrase string) (any, error) { return ssh.ParseRawPrivateKeyWithPassphrase(text, []byte(phrase)) }
		return nil, &locked{missing.PublicKey, open}, nil
	case isLockedPKCS8(text):
		return nil, &locked{nil, func(phrase string) (any, error) { return openPKCS8(text, phrase) }}, nil
	}
	return nil, nil, fmt.Errorf("is not a private key: %w", err)
}

func isLockedPKCS8(text []byte) bool {
	block, _ := pem.Decode(text)
	return block != nil && block.Type == "ENCRYPTED PRIVATE KEY"
}

// openPKCS8 decrypts a key of RFC 5958, whose encryption (RFC 8018) the SSH library does not know.
func openPKCS8(text []byte, phrase string) (private any, err error) {
	block, _ := pem.Decode(text)
	return pkcs8.ParsePKCS8PrivateKey(block.Bytes, []byte(phrase))
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

func (r *keyReader) seal(file string, locked *locked) *sealed {
	return &sealed{locked.public, sync.OnceValues(func() (ssh.Signer, error) {
		if r.passphrase == nil {
			return nil, &IdentityError{File: file, Reason: "has a passphrase", Locked: true}
		}
		phrase, err := r.passphrase(file)
		if err != nil {
			return nil, err
		}
		private, err := locked.open(phrase)
		if err != nil {
			return nil, &IdentityError{File: file, Reason: "does not open with this passphrase", Locked: true}
		}
		return r.ready(file, private)
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
	return signWith(signer, rand, data, algorithm)
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
