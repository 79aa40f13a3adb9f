package fsys

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestNotOnWindows(t *testing.T) {
	for path, why := range map[string]string{
		"img/gannet.svg":    "",
		".htaccess":         "",
		"a b/c.d.e":         "",
		"com0/console":      "",
		"log/12:30.html":    `':' in its name`,
		`a\b`:               `'\\' in its name`,
		"a\tb":              `'\t' in its name`,
		"why?/index.html":   `'?' in its name`,
		"notes./index.html": "a dot or a space at the end of its name",
		"notes ":            "a dot or a space at the end of its name",
		"species/aux.html":  "AUX means a device there",
		"Lpt1":              "LPT1 means a device there",
		"nul .txt/x":        "NUL means a device there",
	} {
		require.Equal(t, why, NotOnWindows(path), path)
	}
}

func TestAFolderContainsItselfAndWhatIsInIt(t *testing.T) {
	for _, name := range []string{"a", "a/b", "a/b/c"} {
		require.True(t, Contains("a", name), name)
	}
	for _, name := range []string{"a-b", "ab", "b/a", ".", ""} {
		require.False(t, Contains("a", name), name)
	}
	require.True(t, Contains(".", "a/b"))
	require.True(t, Contains(".", "."))
}
