package connect

import (
	"bufio"
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/ssh"
)

// A .ppk file is lines of "Name: value", some of which are followed by as many lines of base64 as the value says. The
// public key is in the wire form of RFC 4253; the private one is its numbers, each as an mpint, padded to the block of
// the cipher and encrypted with AES-256 in CBC mode unless Encryption is none. Private-MAC, in hex, covers the type,
// the cipher, the comment and both keys. In version 2 keys come from SHA-1, in version 3 from Argon2.
type ppk struct {
	program    string // the first word of the file, from which version 2 derives a key
	version    int
	fields     map[string]string
	key        ssh.PublicKey
	public     []byte
	private    []byte // as it is in the file
	kdf        func(passphrase, salt []byte, passes, kib uint32, lanes uint8, length uint32) []byte
	passes     uint32
	kib        uint32
	lanes      uint8
	salt, code []byte
}

// Bounds of what is read, against files that would take all memory or time.
const (
	maxPPKLines = 1 << 10
	maxPPKKiB   = 1 << 20
	maxPasses   = 1 << 10
)

var ppkHead = regexp.MustCompile(`^(\w+)-User-Key-File-([23]): (\S+)\r?\n`)

func isPPK(text []byte) bool { return ppkHead.Match(text) }

func parsePPK(text []byte) (*ppk, error) {
	head := ppkHead.FindSubmatch(text)
	p := &ppk{program: strings.ToLower(string(head[1])), version: int(head[2][0] - '0'),
		fields: map[string]string{"Type": string(head[3])}}
	lines := bufio.NewScanner(bytes.NewReader(text[len(head[0]):]))
	for lines.Scan() {
		name, value, ok := strings.Cut(lines.Text(), ": ")
		if !ok {
			return nil, fmt.Errorf("line %q has no name", lines.Text())
		}
		p.fields[name] = value
		if !strings.HasSuffix(name, "-Lines") {
			continue
		}
		count, err := strconv.Atoi(value)
		if err != nil || count < 0 || count > maxPPKLines {
			return nil, fmt.Errorf("%s is %q", name, value)
		}
		var encoded strings.Builder
		for range count {
			if !lines.Scan() {
				return nil, errors.New("it was cut off")
			}
			encoded.WriteString(lines.Text())
		}
		blob, err := base64.StdEncoding.DecodeString(encoded.String())
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if name == "Public-Lines" {
			p.public = blob
		} else {
			p.private = blob
		}
	}
	return p, p.check()
}

func (p *ppk) encrypted() bool { return p.fields["Encryption"] != "none" }

func (p *ppk) check() (err error) {
	if p.key, err = ssh.ParsePublicKey(p.public); err != nil {
		return fmt.Errorf("its public key: %w", err)
	}
	if p.code, err = hex.DecodeString(p.fields["Private-MAC"]); err != nil || len(p.code) == 0 {
		return errors.New("it has no check code")
	}
	switch p.fields["Encryption"] {
	case "none":
		return nil
	case "aes256-cbc":
	default:
		return fmt.Errorf("its cipher %q is not known", p.fields["Encryption"])
	}
	if len(p.private) == 0 || len(p.private)%aes.BlockSize != 0 {
		return errors.New("it was cut off")
	}
	if p.version == 2 {
		return nil
	}
	switch p.fields["Key-Derivation"] {
	case "Argon2id":
		p.kdf = argon2.IDKey
	case "Argon2i":
		p.kdf = argon2.Key
	default:
		return fmt.Errorf("its key derivation %q is not known", p.fields["Key-Derivation"])
	}
	number := func(name string, most uint64) uint32 {
		n, failed := strconv.ParseUint(p.fields[name], 10, 32)
		if failed != nil || n == 0 || n > most {
			err = fmt.Errorf("%s is %q", name, p.fields[name])
		}
		return uint32(n)
	}
	p.kib, p.passes, p.lanes = number("Argon2-Memory", maxPPKKiB), number("Argon2-Passes", maxPasses),
		uint8(number("Argon2-Parallelism", 255))
	if err == nil {
		p.salt, err = hex.DecodeString(p.fields["Argon2-Salt"])
	}
	return err
}

// errPassphrase tells that the check code is wrong: the passphrase is, or the file was altered.
var errPassphrase = errors.New("it does not match its check code")

// open decrypts the private key.
func (p *ppk) open(passphrase string) (private any, err error) {
	cipherKey, iv, macKey := p.derive(passphrase)
	text := slices.Clone(p.private)
	if p.encrypted() {
		block, err := aes.NewCipher(cipherKey)
		if err != nil {
			return nil, err
		}
		cipher.NewCBCDecrypter(block, iv).CryptBlocks(text, text)
	}
	algorithm := sha256.New
	if p.version == 2 {
		algorithm = sha1.New
	}
	code := hmac.New(func() hash.Hash { return algorithm() }, macKey)
	for _, part := range [][]byte{[]byte(p.fields["Type"]), []byte(p.fields["Encryption"]), []byte(p.fields["Comment"]),
		p.public, text} {
		var length [4]byte
		binary.BigEndian.PutUint32(length[:], uint32(len(part)))
		code.Write(length[:])
		code.Write(part)
	}
	if !hmac.Equal(code.Sum(nil), p.code) {
		return nil, errPassphrase
	}
	return p.assemble(text)
}

// derive gives the keys that follow from the passphrase.
func (p *ppk) derive(passphrase string) (cipherKey, iv, macKey []byte) {
	if p.version == 3 {
		if !p.encrypted() {
			return nil, nil, nil
		}
		all := p.kdf([]byte(passphrase), p.salt, p.passes, p.kib, p.lanes, 80)
		return all[:32], all[32:48], all[48:]
	}
	for counter := range byte(2) {
		part := sha1.Sum(append([]byte{0, 0, 0, counter}, passphrase...))
		cipherKey = append(cipherKey, part[:]...)
	}
	if !p.encrypted() {
		passphrase = ""
	}
	mac := sha1.Sum([]byte(p.program + "-private-key-file-mac-key" + passphrase))
	return cipherKey[:32], make([]byte, aes.BlockSize), mac[:]
}

// assemble makes the private key of both halves.
func (p *ppk) assemble(private []byte) (any, error) {
	numbers := wire{rest: private}
	crypto, ok := p.key.(ssh.CryptoPublicKey)
	if !ok {
		return nil, fmt.Errorf("its type %q is not known", p.key.Type())
	}
	var whole any
	switch public := crypto.CryptoPublicKey().(type) {
	case ed25519.PublicKey:
		// The seed is written as a number, its lowest byte first; zeros at its end may be left out.
		seed := make([]byte, ed25519.SeedSize)
		if number := numbers.next(); copy(seed, number) < len(number) {
			return nil, errors.New("its private key is too long")
		}
		whole = ed25519.NewKeyFromSeed(seed)
	case *ecdsa.PublicKey:
		secret := new(big.Int).SetBytes(numbers.next())
		size := (public.Curve.Params().BitSize + 7) / 8
		if secret.BitLen() > 8*size {
			return nil, errors.New("its private key is too long")
		}
		key, err := ecdsa.ParseRawPrivateKey(public.Curve, secret.FillBytes(make([]byte, size)))
		if err != nil {
			return nil, err
		}
		whole = key
	case *rsa.PublicKey:
		d, first, second := numbers.next(), numbers.next(), numbers.next()
		key := &rsa.PrivateKey{PublicKey: *public, D: new(big.Int).SetBytes(d),
			Primes: []*big.Int{new(big.Int).SetBytes(first), new(big.Int).SetBytes(second)}}
		if err := key.Validate(); err != nil {
			return nil, err
		}
		key.Precompute()
		whole = key
	default:
		return nil, fmt.Errorf("its type %q is not known", p.key.Type())
	}
	if numbers.short {
		return nil, errors.New("it was cut off")
	}
	return whole, nil
}

// wire reads strings and numbers each of which follows its length.
type wire struct {
	rest  []byte
	short bool
}

func (w *wire) next() []byte {
	if len(w.rest) < 4 {
		w.short = true
		return nil
	}
	length := int64(binary.BigEndian.Uint32(w.rest))
	if length > int64(len(w.rest)-4) {
		w.short = true
		return nil
	}
	out := w.rest[4 : 4+length]
	w.rest = w.rest[4+length:]
	return out
}
