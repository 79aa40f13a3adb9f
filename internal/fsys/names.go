package fsys

import (
	"fmt"
	"strings"
)

// NotOnWindows tells why Windows cannot hold a path, whose elements a slash parts; empty: it can. Source: "Naming
// Files, Paths, and Namespaces" of the Windows documentation.
func NotOnWindows(path string) string {
	for element := range strings.SplitSeq(path, "/") {
		if at := strings.IndexFunc(element, func(r rune) bool {
			return r < ' ' ||
				strings.ContainsRune(`<>:"|?*\`, r)
		}); at >= 0 {
			return fmt.Sprintf("%q in its name", element[at])
		}
		if strings.HasSuffix(element, ".") || strings.HasSuffix(element, " ") {
			return "a dot or a space at the end of its name"
		}
		word, _, _ := strings.Cut(strings.ToUpper(element), ".")
		word = strings.TrimRight(word, " ")
		digit := strings.TrimPrefix(strings.TrimPrefix(word, "COM"), "LPT")
		switch {
		case word == "CON", word == "PRN", word == "AUX", word == "NUL", len(word) == 4 && len(digit) == 1 &&
			"1" <= digit && digit <= "9":
			return fmt.Sprintf("%s means a device there", word)
		}
	}
	return ""
}
