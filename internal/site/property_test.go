package site_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/fsys/fsystest"
)

// anyTree generates trees whose paths meet often, so that files, links and folders change places.
func anyTree() *rapid.Generator[tree] {
	element := rapid.SampledFrom([]string{"a", "b", "a-", "é", "x y", "index.html"})
	return rapid.Custom(func(t *rapid.T) tree {
		out := tree{}
		taken := map[string]bool{} // every path and every folder above one
		for range rapid.IntRange(0, 8).Draw(t, "paths") {
			path := strings.Join(rapid.SliceOfN(element, 1, 3).Draw(t, "elements"), "/")
			if taken[path] || fsystest.Below(out, path) {
				continue
			}
			for at, dir := 0, path; at >= 0; dir = dir[:max(at, 0)] {
				taken[dir] = true
				at = strings.LastIndexByte(dir, '/')
			}
			switch rapid.SampledFrom([]string{"file", "file", "file", "link", "folder"}).Draw(t, "kind") {
			case "link":
				out[path] = "->" + rapid.SampledFrom([]string{"a", "b/c", "nowhere"}).Draw(t, "target")
			case "folder":
				out[path+"/"] = ""
			default:
				out[path] = fmt.Sprint("content ", rapid.IntRange(0, 3).Draw(t, "content"))
			}
		}
		return out
	})
}

func TestAnyTreeAfterAnyOther(t *testing.T) {
	t.Parallel()
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		rapid.Check(t, func(r *rapid.T) {
			one, two := anyTree().Draw(r, "one"), anyTree().Draw(r, "two")
			w := newWorld(t)
			w.mustDeploy(one)
			require.Equal(t, one, w.stands())
			w.mustDeploy(two)
			require.Equal(t, two, w.stands())
			w.verify(two)
			_, plan, err := w.plan(t.Context(), two)
			require.NoError(t, err)
			require.False(t, plan.Result.Publishes(true), "a second deployment has nothing to do: %+v", plan.Result.Changes)
			require.False(t, plan.Result.Stale)
		})
	})
}
