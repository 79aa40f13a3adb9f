// Package farend is what is common to all connections, however their other end is reached: how it is told that they are
// gone or that the other end cannot do something, and how what it says is made fit to be shown.
package farend

import (
	"errors"
	"strings"
	"unicode"
)

var (
	// ErrLost tells that the connection to the far end is gone.
	ErrLost = errors.New("the connection was lost")
	// ErrUnsupported tells that the far end cannot do what was asked.
	ErrUnsupported = errors.New("the far end cannot do this")
)

// Said is what a far end says, fit to be shown: in one line, of so many bytes at most, and with nothing in it that
// drives a terminal.
func Said(text string, most int) string {
	text = strings.ToValidUTF8(text[:min(len(text), most)], "?")
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return ' '
	}, text))
}
