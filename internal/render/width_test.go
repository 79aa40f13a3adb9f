package render

import (
	"bytes"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
	"tartine/internal/site"
)

func TestTablesFitTheTerminal(t *testing.T) {
	past := []site.Past{{Deployment: manifest.Deployment{Number: 12, At: time.Now(), User: "warden-of-the-rock", Host: "office.observatory.example", New: 2000, SentBytes: 123456789}}}
	checks := []site.Check{{Name: "record", Verdict: site.Wrong, Found: strings.Repeat("the folder above ", 8), Fix: strings.Repeat("make it ", 12)}}
	targets := []TargetState{{Name: "live", Address: "ssh://warden@server.observatory.example:2222/srv/www/gannet-rock/htdocs", Problem: strings.Repeat("nothing listens ", 5)}}
	for _, width := range []int{40, 60, 80, 120, 200} {
		var out bytes.Buffer
		p := &Printer{Out: &out, Width: width}
		p.History(Heading{Address: "live"}, past)
		p.Checks(Heading{Address: "live"}, checks)
		p.Targets(targets, true)
		p.Problem(strings.Repeat("something that is wrong ", 9), nil, strings.Repeat("do something ", 9))
		p.rows([]row{{word: "changed", name: "log/june.html", bytes: 1000, note: "drifted: altered at the site on 2026-06-01 12:00"}})
		for line := range strings.Lines(out.String()) {
			require.LessOrEqual(t, utf8.RuneCountInString(strings.TrimRight(line, "\n")), width, "%d columns: %s", width, line)
		}
		require.Contains(t, out.String(), "12 ")
		require.NotContains(t, out.String(), `\n`)
	}
	var out bytes.Buffer
	(&Printer{Out: &out}).Problem("no\nnew line", nil, "")
	require.Equal(t, "error     no\\nnew line\n", out.String())
}
