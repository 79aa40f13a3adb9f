package fsys

import (
	"strings"
	"unicode"
)

// Said is what a far end says, fit to be shown: in one line, of so many bytes at most, and with nothing in it that drives a
// terminal.
func Said(text string, most int) string {
	text = strings.ToValidUTF8(text[:min(len(text), most)], "?")
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return ' '
	}, text))
}
