package cli

import (
	"io"
	"os"
	"runtime"
	"strconv"
	"strings"

	"golang.org/x/term"
)

// color tells whether what is written to a writer has colours, by the conventions NO_COLOR, CLICOLOR and
// CLICOLOR_FORCE.
func (a *app) color(w io.Writer) bool {
	switch {
	case a.flags.noColor || os.Getenv("NO_COLOR") != "":
		return false
	case os.Getenv("CLICOLOR_FORCE") != "" && os.Getenv("CLICOLOR_FORCE") != "0":
		return true
	case os.Getenv("CLICOLOR") == "0":
		return false
	}
	return draws(w)
}

// draws tells whether a writer is a terminal that does more than writing one line after the other.
func draws(w any) bool {
	return isTerminal(w) && takesSequences(w.(*os.File))
}

func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && f != nil && term.IsTerminal(int(f.Fd()))
}

// columns gives how wide a terminal is; 0: it is none.
func columns(w any) int {
	f, ok := w.(*os.File)
	if !ok || f == nil || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 0 {
		return width
	}
	width, _ := strconv.Atoi(os.Getenv("COLUMNS"))
	return max(width, 0)
}

// plain tells whether the locale has no more characters than ASCII, by the rules of POSIX.
func plain() bool {
	if runtime.GOOS == "windows" {
		return false
	}
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if locale := strings.ToLower(os.Getenv(name)); locale != "" {
			return !strings.Contains(locale, "utf-8") && !strings.Contains(locale, "utf8")
		}
	}
	return true
}
