package treeparts_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/calls"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/treeparts"
)

// numberedEntries gives entries of some folders, each of which has files with numbers as names.
func numberedEntries(folders map[string][]int, digest byte) (out []manifest.Entry) {
	for dir, numbers := range folders {
		for _, n := range numbers {
			e := manifest.Entry{Path: fmt.Sprintf("%s%05d.svg", dir, n), Size: 1}
			e.Digest[0], e.Mode = digest, 0o644
			out = append(out, e)
		}
	}
	slices.SortFunc(out, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return slices.CompactFunc(out, func(a, b manifest.Entry) bool { return a.Path == b.Path })
}

// over brings a tree to who has the base, and gives what that makes of it and how many entries were sent.
func over(t require.TestingT, want, base []manifest.Entry) (merged []manifest.Entry, sent int) {
	all := &calls.Comparing{Wanted: site.Wanted{Entries: want}}
	folders, of := treeparts.Of(all.Each)
	ofBase := treeparts.ByFolder(base)
	some, err := treeparts.Entries(of, treeparts.Differing(folders, base, ofBase))
	require.NoError(t, err)
	return treeparts.Merge(folders, base, ofBase, all.Some(some)), len(some)
}

// TestAnyTreeIsPutTogether brings any tree over any other, with folders that are sent in parts.
func TestAnyTreeIsPutTogether(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		tree := func(name string) map[string][]int {
			out := map[string][]int{}
			for _, dir := range []string{"", "01500/", "01500/plates/", "01500-old/", "img/"} {
				from, count := rapid.IntRange(0, 3000).Draw(r, name+" from"), rapid.SampledFrom([]int{0, 1, 7, 1023, 1024, 1025, 2500}).Draw(r, name+" count")
				step := rapid.IntRange(1, 2).Draw(r, name+" step")
				for i := range count {
					out[dir] = append(out[dir], from+i*step)
				}
			}
			return out
		}
		base := numberedEntries(tree("base"), 1)
		want := numberedEntries(tree("want"), rapid.SampledFrom([]byte{1, 2}).Draw(r, "digest"))
		merged, _ := over(r, want, base)
		require.Equal(r, len(want), len(merged))
		for i := range want {
			require.True(r, want[i].Equal(merged[i]), want[i].Path)
		}
	})
}

func TestOfALargeFolderAPartIsSent(t *testing.T) {
	var all []int
	for i := range 10 * treeparts.MostEntries {
		all = append(all, 2*i)
	}
	base := numberedEntries(map[string][]int{"birds/": all, "tides/": {1, 2, 3}}, 1)
	for name, change := range map[string]func() []manifest.Entry{
		"changed": func() []manifest.Entry { out := slices.Clone(base); out[5000].Digest[3] = 9; return out },
		"new": func() []manifest.Entry {
			return numberedEntries(map[string][]int{"birds/": append(slices.Clone(all), 5001), "tides/": {1, 2, 3}}, 1)
		},
		"gone":              func() []manifest.Entry { return slices.Delete(slices.Clone(base), 5000, 5001) },
		"the first is gone": func() []manifest.Entry { return slices.Delete(slices.Clone(base), 0, 1) },
	} {
		t.Run(name, func(t *testing.T) {
			want := change()
			merged, sent := over(t, want, base)
			require.Equal(t, want, merged)
			require.LessOrEqual(t, sent, treeparts.MostEntries)
		})
	}
}

// TestPartsInAnyOrderAreInput has parts that overlap, go backwards, or are of a folder that does not exist.
func TestPartsInAnyOrderAreInput(t *testing.T) {
	base := numberedEntries(map[string][]int{"birds/": {1, 2, 3, 4}}, 1)
	of := treeparts.ByFolder(base)
	folders := []treeparts.Part{{Path: "birds", From: "00003.svg"}, {Path: "birds", From: "00001.svg"}, {Path: "birds"}, {Path: "nowhere", From: "x"}}
	require.Equal(t, []int{0, 1, 2, 3}, treeparts.Differing(folders, base, of))
	require.False(t, treeparts.InOrder(treeparts.Merge(append(folders, treeparts.Part{Path: "birds"}), base, of, nil)), "what comes twice is refused")
}
