package render

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Everything that is written for a person goes through Fprintf, and everything in it that is not ours through Safe:
// names, users, hosts, messages of servers, text of files. None of it drives a terminal, or looks like another line.

// painted is text with our own colours in it.
type painted string

// Fprintf is fmt's, with all texts among the arguments made safe.
func Fprintf(w io.Writer, format string, args ...any) {
	safe := make([]any, len(args))
	for i, arg := range args {
		switch a := arg.(type) {
		case painted:
			safe[i] = string(a)
		case string:
			safe[i] = Safe(a)
		case error:
			safe[i] = Safe(a.Error())
		case fmt.Stringer:
			safe[i] = Safe(a.String())
		default:
			safe[i] = arg
		}
	}
	fmt.Fprintf(w, format, safe...)
}

// Safe gives a text in which everything that is not printable is written as Go writes it in a string, but for tabs.
func Safe(text string) string {
	if !strings.ContainsFunc(text, unsafe) {
		return text
	}
	var out strings.Builder
	for at, width := 0, 0; at < len(text); at += width {
		var r rune
		r, width = utf8.DecodeRuneInString(text[at:])
		switch {
		case r == utf8.RuneError && width == 1:
			fmt.Fprintf(&out, `\x%02x`, text[at])
		case unsafe(r):
			quoted := strconv.QuoteRune(r)
			out.WriteString(quoted[1 : len(quoted)-1])
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

func unsafe(r rune) bool { return r != '\t' && (r == utf8.RuneError || !strconv.IsPrint(r)) }

// safeJSON escapes what encoding/json leaves as it is and what is not printable: a terminal might obey it.
func safeJSON(text []byte) []byte {
	if !strings.ContainsFunc(string(text), hidden) {
		return text
	}
	var out strings.Builder
	for _, r := range string(text) {
		switch {
		case !hidden(r):
			out.WriteRune(r)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&out, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
	}
	return []byte(out.String())
}

func hidden(r rune) bool { return r >= 0x7f && !strconv.IsPrint(r) }
