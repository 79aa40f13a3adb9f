package manifest_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/manifest"
)

func TestATreeDigestGoesOnFromAMark(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		was := longList(r, rapid.IntRange(1, 300).Draw(r, "entries"))
		every := rapid.IntRange(1, 150).Draw(r, "every")
		at := 0
		tree, marks, err := manifest.CheckedMarkedTree(nil, manifest.Listed(was), func(*manifest.Entry) bool { at++; return at%every == 0 })
		require.NoError(r, err)
		require.Equal(r, manifest.TreeOf(manifest.Listed(was)), tree)
		require.Len(r, marks, len(was)/every)
		for _, mark := range marks {
			from, found := manifest.Find(was, mark.Path)
			require.True(r, found)
			is := append(append([]manifest.Entry{}, was[:from]...), was[from+1:]...) // the entry at the mark is another one, too
			again, _, err := manifest.CheckedMarkedTree(&mark, manifest.Listed(is[from:]), func(*manifest.Entry) bool { return false })
			require.NoError(r, err)
			require.Equal(r, manifest.TreeOf(manifest.Listed(is)), again)
			again, further, err := manifest.MarkedTree(&mark, manifest.Listed(was[from:]), func(e *manifest.Entry) bool { return e.Path == was[len(was)-1].Path })
			require.NoError(r, err)
			require.Equal(r, tree, again)
			require.Len(r, further, 1)
		}
	})
	_, _, err := manifest.MarkedTree(&manifest.Mark{Path: "log", State: []byte("none")}, manifest.Listed(nil), func(*manifest.Entry) bool { return false })
	require.ErrorContains(t, err, `the mark at "log" cannot be read`)
}

// TestAMarkKnowsWhatCanHaveNothingBelow goes on behind a file with what is below it.
func TestAMarkKnowsWhatCanHaveNothingBelow(t *testing.T) {
	var entries []manifest.Entry
	for _, path := range []string{"log", "log-2.html", "log.html"} {
		entries = append(entries, manifest.Entry{Path: path, Attributes: manifest.Attributes{Mode: manifest.FileMode}})
	}
	_, marks, err := manifest.CheckedMarkedTree(nil, manifest.Listed(entries), func(*manifest.Entry) bool { return true })
	require.NoError(t, err)
	require.Len(t, marks, 3)
	below := append([]manifest.Entry{}, entries[1:]...)
	below = append(below, manifest.Entry{Path: "log/may.html", Attributes: entries[0].Attributes})
	for i, mark := range marks[1:] {
		require.Equal(t, []string{"log"}, mark.Leaves)
		_, _, err := manifest.CheckedMarkedTree(&mark, manifest.Listed(below[i:]), func(*manifest.Entry) bool { return false })
		require.ErrorContains(t, err, `lies below "log"`, fmt.Sprint(i))
	}
	require.Empty(t, marks[0].Leaves)
}
