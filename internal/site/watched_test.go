package site_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/diff"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

func watched(id string) func(*site.Plan) {
	return func(p *site.Plan) {
		p.Watched = &manifest.Watched{ID: id, Since: time.Date(2026, 5, 1, 14, 2, 0, 0, time.UTC)}
	}
}

// TestAWatchIsOneDeployment has a watch deploy any trees: history shows one deployment, nothing that came in between is
// kept, and what was there before can be published again.
func TestAWatchIsOneDeployment(t *testing.T) {
	t.Parallel()
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		rapid.Check(t, func(r *rapid.T) {
			w := newWorld(t)
			older, before := anyTree().Draw(r, "older"), anyTree().Draw(r, "before")
			w.mustDeploy(older)
			w.mustDeploy(before)
			changes := 0
			var last tree
			for i := range rapid.IntRange(1, 7).Draw(r, "deployments") {
				last = anyTree().Draw(r, fmt.Sprint("tree ", i))
				last[fmt.Sprintf("n%d", i)] = fmt.Sprint("content of the watch ", i)
				out := w.mustDeploy(last, watched("w1"))
				require.Equal(t, 3+i, out.Number, "numbers go on, so that others find out")
				require.Equal(t, last, w.stands())
			}
			s, err := w.open(t.Context())
			require.NoError(t, err)
			past, err := s.History(t.Context())
			require.NoError(t, err)
			require.Len(t, past, 3)
			d := past[0].Deployment
			require.Equal(t, d.Number-2, d.Watched.Deployments)
			require.Equal(t, d.New+d.Changed+d.Retired, d.Watched.Changes)
			require.Greater(t, d.Watched.Changes, changes)
			require.Equal(t, 2, past[1].Number)
			wanted := map[string]bool{}
			for _, number := range []int{1, 2} {
				m, err := s.Deployment(t.Context(), number)
				require.NoError(t, err)
				for _, e := range m.Entries {
					wanted[e.Digest.Hex()] = true
				}
			}
			for _, name := range w.kept() {
				require.True(t, wanted[filepath.Base(name)], "%s is of a tree in between", name)
			}
			_, err = w.rollback(2)
			require.NoError(t, err)
			require.Equal(t, before, w.stands())
			_, err = w.rollback(1)
			require.NoError(t, err)
			require.Equal(t, older, w.stands())
		})
	})
}

func TestAWatchTakesUpNothingButItsOwn(t *testing.T) {
	w := newWorld(t)
	numbers := func() (out []int) {
		s, err := w.open(t.Context())
		require.NoError(t, err)
		past, err := s.History(t.Context())
		require.NoError(t, err)
		for _, p := range past {
			out = append(out, p.Number)
		}
		return out
	}
	w.mustDeploy(first, watched("w1"))
	w.mustDeploy(second, watched("w2"))
	w.mustDeploy(first)
	w.mustDeploy(second, watched("w2"))
	require.Equal(t, []int{4, 3, 2, 1}, numbers(), "another watch, and a deployment in between")
	w.mustDeploy(first, watched("w2"))
	require.Equal(t, []int{5, 3, 2, 1}, numbers())
	keep := func(p *site.Plan) { p.History = 3 }
	for i := range 8 {
		w.mustDeploy(tree{"a": fmt.Sprint(i)}, watched("w2"), keep)
	}
	require.Equal(t, []int{13, 3, 2}, numbers(), "how many deployments are kept does not count those of one watch")
}

func TestAWatchThatIsCutIsStillOne(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.mustDeploy(first)
	w.mustDeploy(second, watched("w1"))
	count, restore := w.failWhen(func(int) bool { return false }, nil)
	w.mustDeploy(first, watched("w1"))
	restore()
	total := *count
	for cut := 1; cut <= total; cut += 3 {
		w := newWorld(t)
		w.mustDeploy(first)
		w.mustDeploy(second, watched("w1"))
		_, restore := w.failWhen(func(count int) bool { return count > cut }, errLost)
		_, _ = w.deploy(first, watched("w1")) // whatever comes of it
		restore()
		require.NoError(t, os.RemoveAll(filepath.Join(w.dir, ".www.tartine", "lock")))
		w.mustDeploy(first, watched("w1"))
		s, err := w.open(t.Context())
		require.NoError(t, err)
		past, err := s.History(t.Context())
		require.NoError(t, err)
		require.Equal(t, 1, past[len(past)-1].Number)
		require.Len(t, past, 2, "cut at operation %d", cut)
		_, err = w.rollback(1)
		require.NoError(t, err)
		require.Equal(t, first, w.stands())
	}
}

// TestChangesByHandPushNoDeploymentOut makes many of them: what was deployed before can still be published again.
func TestChangesByHandPushNoDeploymentOut(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		hand := func(p *site.Plan) { p.Hand = true }
		recorded := func() (out []int) {
			s, err := w.open(t.Context())
			require.NoError(t, err)
			past, err := s.History(t.Context())
			require.NoError(t, err)
			for _, d := range past {
				out = append(out, d.Number)
			}
			return out
		}
		for i := range 3 {
			w.mustDeploy(tree{"index.html": fmt.Sprint("edition ", i)})
		}
		for i := range 9 {
			w.mustDeploy(tree{"index.html": fmt.Sprint("by hand ", i)}, hand)
		}
		require.Equal(t, []int{12, 11, 10, 9, 8, 3, 2, 1}, recorded())
		s, err := w.open(t.Context())
		require.NoError(t, err)
		m, err := s.Deployment(t.Context(), 1)
		require.NoError(t, err)
		survey, err := s.Survey(t.Context(), true)
		require.NoError(t, err)
		result, err := s.Compare(t.Context(), survey, &site.Wanted{Entries: m.Entries}, nil)
		require.NoError(t, err)
		missing, err := s.Held(t.Context(), survey, result)
		require.NoError(t, err)
		require.Empty(t, missing, "its content is kept")
		for i := range 5 {
			w.mustDeploy(tree{"index.html": fmt.Sprint("later ", i)})
		}
		require.Equal(t, []int{17, 16, 15, 14, 13}, recorded())
		for i := range 8 { // at a site that only people change
			w.mustDeploy(tree{"index.html": fmt.Sprint("again by hand ", i)}, hand)
		}
		require.Len(t, recorded(), 10)
	})
}

// TestWhatSomebodyRemovedStaysRecorded changes something by hand in between: that it is gone is still to be told.
func TestWhatSomebodyRemovedStaysRecorded(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(tree{"index.html": "<h1>", "robots.txt": "all"})
		require.NoError(t, os.Remove(filepath.Join(w.dir, "www", "robots.txt")))
		s, plan, err := w.plan(t.Context(), tree{"guide.txt": "guide"})
		require.NoError(t, err)
		survey, err := s.Survey(t.Context(), true)
		require.NoError(t, err)
		plan.Survey, plan.Kept, plan.Hand = survey, []string{"."}, true
		plan.Result, err = s.Compare(t.Context(), survey, &site.Wanted{Entries: plan.Want, Kept: plan.Kept}, nil)
		require.NoError(t, err)
		_, err = s.Deploy(t.Context(), plan, &site.Watch{})
		require.NoError(t, err)
		require.Equal(t, tree{"index.html": "<h1>", "guide.txt": "guide"}, w.stands())
		_, plan, err = w.plan(t.Context(), tree{"index.html": "<h1>", "robots.txt": "all"})
		require.NoError(t, err)
		at := slices.IndexFunc(plan.Result.Changes, func(c diff.Change) bool { return c.Path() == "robots.txt" })
		require.True(t, plan.Result.Changes[at].Drifted)
	})
}
