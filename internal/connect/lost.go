package connect

import (
	"errors"
	"io"
	"syscall"

	"tartine/internal/farend"
)

// IsLost tells whether an error of connecting is that a connection was there and got lost before the login was through.
// A server that ends a connection at once, or after several logins that it refused, does so on purpose.
func IsLost(err error) bool {
	if errors.Is(err, farend.ErrLost) {
		return true
	}
	var (
		failed *Error
		login  *LoginError
	)
	if !errors.As(err, &failed) || errors.Is(err, ErrHungUp) || errors.Is(err, ErrSilent) {
		return false
	}
	if errors.As(err, &login) && len(login.Tried) > 1 {
		return false
	}
	for _, cut := range []error{io.EOF, io.ErrUnexpectedEOF, syscall.ECONNRESET, syscall.EPIPE} {
		if errors.Is(err, cut) {
			return true
		}
	}
	return false
}
