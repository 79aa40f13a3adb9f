package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestCatWritesTextAloneToATerminal(t *testing.T) {
	for text, fine := range map[string]bool{"épée 砂\n\ttwo\r\n": true, "\x1b[31mred": false, "half \xc3(": false, "bell\a": false, "\u009b2J": false, "": true} {
		var out bytes.Buffer
		to := &textOnly{out: &out, path: "log"}
		var err error
		for i := 0; i < len(text) && err == nil; i++ { // characters come in pieces
			_, err = to.Write([]byte{text[i]})
		}
		require.Equal(t, fine, err == nil, "%q: %v", text, err)
		if fine {
			require.Equal(t, text, out.String())
		}
	}
}

func TestSomeAndLastLines(t *testing.T) {
	text := "one\ntwo\nthree\nfour"
	var out bytes.Buffer
	require.NoError(t, someLines(&out, strings.NewReader(text), 2, 3))
	require.Equal(t, "two\nthree\n", out.String())
	out.Reset()
	require.NoError(t, someLines(&out, strings.NewReader(text), 4, 9))
	require.Equal(t, "four", out.String())
	out.Reset()
	require.NoError(t, lastLines(&out, strings.NewReader(text), 2))
	require.Equal(t, "three\nfour", out.String())
	out.Reset()
	require.NoError(t, lastLines(&out, strings.NewReader("one\n"), 5))
	require.Equal(t, "one\n", out.String())
}
