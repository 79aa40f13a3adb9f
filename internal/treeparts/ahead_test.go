package treeparts_test

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/treeparts"
)

// TestADigestAheadIsTheSame adds folders from several goroutines.
func TestADigestAheadIsTheSame(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		base := numberedEntries(map[string][]int{"": {1, 2}, "birds/": numbers(rapid.IntRange(1, 1100).Draw(r, "birds")), "tides/": {1, 2, 3}}, 1)
		folders, _ := treeparts.Of(manifest.Listed(base))
		var (
			ahead   treeparts.Ahead
			working sync.WaitGroup
		)
		for i, f := range folders {
			var in []manifest.Entry
			for _, e := range base {
				if dir, name := fsys.Split(e.Path); dir == f.Path {
					e.Path = name
					in = append(in, e)
				}
			}
			working.Go(func() { ahead.Add(manifest.Digest{byte(i + 1)}, in) })
		}
		working.Wait()
		for i, f := range folders {
			digest, known := ahead.Digest(manifest.Digest{byte(i + 1)})
			inParts := i > 0 && folders[i-1].Path == f.Path || i+1 < len(folders) && folders[i+1].Path == f.Path
			require.Equal(r, !inParts, known)
			if known {
				require.Equal(r, f.Digest, digest)
			}
		}
		_, known := ahead.Digest(manifest.Digest{})
		require.False(r, known)
	})
}

func numbers(count int) (out []int) {
	for i := range count {
		out = append(out, i)
	}
	return out
}
