package connect

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"math/big"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/ssh"
)

// writePPK writes a key as a .ppk file of a program called Rookery would, independently of how it is read.
func writePPK(t *testing.T, version int, private any, phrase string) (string, ssh.PublicKey) {
	t.Helper()
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	public := signer.PublicKey()
	var secret []byte
	switch k := private.(type) {
	case ed25519.PrivateKey: // a number, lowest byte first, without zeros at its end
		secret = ssh.Marshal(struct{ Seed []byte }{bytes.TrimRight(k.Seed(), "\x00")})
	case *ecdsa.PrivateKey:
		number, err := k.Bytes()
		require.NoError(t, err)
		secret = ssh.Marshal(struct{ D *big.Int }{new(big.Int).SetBytes(number)})
	case *rsa.PrivateKey:
		secret = ssh.Marshal(struct{ D, P, Q, Inverse *big.Int }{k.D, k.Primes[0], k.Primes[1], new(big.Int).ModInverse(k.Primes[1], k.Primes[0])})
	}
	method, extra := "none", ""
	var cipherKey, iv, macKey []byte
	if phrase != "" {
		method = "aes256-cbc"
		padding := make([]byte, (16-len(secret)%16)%16)
		secret = append(secret, padding...)
	}
	algorithm := sha256.New
	switch {
	case version == 2:
		algorithm = func() hash.Hash { return sha1.New() }
		one, two := sha1.Sum([]byte("\x00\x00\x00\x00"+phrase)), sha1.Sum([]byte("\x00\x00\x00\x01"+phrase))
		mac := sha1.Sum([]byte("rookery-private-key-file-mac-key" + phrase))
		cipherKey, iv, macKey = slices.Concat(one[:], two[:])[:32], make([]byte, 16), mac[:]
	case phrase != "":
		salt := []byte("0123456789abcdef")
		all := argon2.IDKey([]byte(phrase), salt, 3, 64, 1, 80)
		cipherKey, iv, macKey = all[:32], all[32:48], all[48:]
		extra = fmt.Sprintf("Key-Derivation: Argon2id\nArgon2-Memory: 64\nArgon2-Passes: 3\nArgon2-Parallelism: 1\nArgon2-Salt: %x\n", salt)
	}
	code := hmac.New(algorithm, macKey)
	code.Write(ssh.Marshal(struct {
		Type, Method, Comment string
		Public, Secret        []byte
	}{public.Type(), method, "Gannet Rock", public.Marshal(), secret}))
	if phrase != "" {
		block, err := aes.NewCipher(cipherKey)
		require.NoError(t, err)
		cipher.NewCBCEncrypter(block, iv).CryptBlocks(secret, secret)
	}
	lines := func(name string, blob []byte) string {
		text := base64.StdEncoding.EncodeToString(blob)
		parts := slices.Collect(slices.Chunk([]byte(text), 64))
		return fmt.Sprintf("%s: %d\n%s\n", name, len(parts), bytes.Join(parts, []byte("\n")))
	}
	return fmt.Sprintf("Rookery-User-Key-File-%d: %s\nEncryption: %s\nComment: Gannet Rock\n%s%s%sPrivate-MAC: %s\n", version, public.Type(), method,
		lines("Public-Lines", public.Marshal()), extra, lines("Private-Lines", secret), hex.EncodeToString(code.Sum(nil))), public
}

func TestPPKFilesOfEveryKind(t *testing.T) {
	_, edwards, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	curve, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	require.NoError(t, err)
	primes, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	short := ed25519.NewKeyFromSeed(append(bytes.Repeat([]byte{7}, 30), 0, 0))
	for name, private := range map[string]any{"ed25519": edwards, "ecdsa": curve, "rsa": primes, "ed25519 with zeros": short} {
		for _, version := range []int{2, 3} {
			for _, phrase := range []string{"", "kittiwake 7"} {
				text, public := writePPK(t, version, private, phrase)
				file := filepath.Join(t.TempDir(), "key.ppk")
				require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(text, "\n", "\r\n")), 0o600))
				keys, err := (&keyReader{passphrase: func(string) (string, error) { return phrase, nil }}).file(file)
				require.NoError(t, err, "%s %d %q", name, version, phrase)
				require.Equal(t, public.Marshal(), keys[0].PublicKey().Marshal())
				signature, err := keys[0].Sign(rand.Reader, []byte("data"))
				require.NoError(t, err)
				require.NoError(t, public.Verify([]byte("data"), signature))
				if phrase != "" {
					wrong, err := (&keyReader{passphrase: func(string) (string, error) { return "puffin", nil }}).file(file)
					require.NoError(t, err, "what key it is stands there in clear")
					_, err = wrong[0].Sign(rand.Reader, []byte("data"))
					require.ErrorContains(t, err, "does not open with this passphrase")
				}
			}
		}
	}
}

func TestPPKFilesThatAreWrong(t *testing.T) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	open, _ := writePPK(t, 3, private, "")
	locked, _ := writePPK(t, 3, private, "kittiwake 7")
	for reason, text := range map[string]string{
		"check code":      strings.Replace(open, "Gannet Rock", "Another", 1),
		"cut off":         open[:strings.Index(open, "Private-Lines")+len("Private-Lines: 1\n")],
		"has no name":     strings.Replace(open, "Encryption: none", "Encryption", 1),
		"no check code":   open[:strings.Index(open, "Private-MAC")],
		"Private-Lines":   strings.Replace(open, "Private-Lines: 1", "Private-Lines: 99999999", 1),
		"cipher":          strings.Replace(open, "Encryption: none", "Encryption: rot13", 1),
		"Argon2-Memory":   strings.Replace(locked, "Argon2-Memory: 64", "Argon2-Memory: 4000000000", 1),
		"key derivation":  strings.Replace(locked, "Argon2id", "Argon2d", 1),
		"its public key":  strings.Replace(open, "AAAAC3", "AAAAC4", 1),
		"illegal base64 ": strings.Replace(open, "AAAAC3", "????", 1),
	} {
		file := filepath.Join(t.TempDir(), "key.ppk")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := (&keyReader{}).file(file)
		require.ErrorContains(t, err, reason)
		require.ErrorContains(t, err, file)
	}
}
