package connect

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
)

// What is safe is offered. What rests on SHA-1, or is not safe for other reasons, is offered only where client settings
// name it.
const (
	curve25519Before = "curve25519-sha256@libssh.org" // the name that it had before RFC 8731
	macSHA1          = "hmac-sha1"
)

// algorithms gives what is offered for a connection, other than types of keys.
func (s *SSH) algorithms() (ssh.Config, error) {
	safe, unsafe := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	safe.KeyExchanges = append(safe.KeyExchanges, curve25519Before)
	safe.MACs = slices.DeleteFunc(safe.MACs, func(name string) bool { return name == macSHA1 })
	unsafe.MACs = append(unsafe.MACs, macSHA1)
	out := ssh.Config{RekeyThreshold: s.Rekey}
	for _, list := range []struct {
		what               string
		to                 *[]string
		named, safe, other []string
	}{
		{"key exchange", &out.KeyExchanges, s.KeyExchanges, safe.KeyExchanges, unsafe.KeyExchanges},
		{"cipher", &out.Ciphers, s.Ciphers, safe.Ciphers, unsafe.Ciphers},
		{"MAC", &out.MACs, s.MACs, safe.MACs, unsafe.MACs},
	} {
		var err error
		if *list.to, err = chosen(list.what, list.named, list.safe, list.other); err != nil {
			return out, err
		}
	}
	return out, nil
}

// chosen gives those that are named and known here, in their order, or all safe ones where none is named.
func chosen(what string, named, safe, other []string) (out []string, err error) {
	if len(named) == 0 {
		return safe, nil
	}
	for _, name := range named {
		if slices.Contains(safe, name) || slices.Contains(other, name) {
			out = append(out, name)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("of what the SSH settings allow as %s, none is known here: %s", what, strings.Join(named, ", "))
	}
	return out, nil
}
