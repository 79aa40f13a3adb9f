package site_test

import (
	"maps"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/diff"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// wholeBack plans for an earlier deployment of which all is listed.
func (w *world) wholeBack(number int, change func(*site.Wanted)) (*site.Site, *site.Plan) {
	w.t.Helper()
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	m, err := s.Deployment(w.t.Context(), number)
	require.NoError(w.t, err)
	survey, err := s.Survey(w.t.Context(), !w.doubts)
	require.NoError(w.t, err)
	want := site.Wanted{Entries: m.Entries}
	change(&want)
	result, err := s.Compare(w.t.Context(), survey, &want, nil)
	require.NoError(w.t, err)
	return s, &site.Plan{Want: m.Entries, Survey: survey, Result: result, Kept: want.Kept, Gone: want.Gone, Rollback: number}
}

// back is wholeBack of which only what differs is listed; nil: all must be.
func (w *world) back(number int, change func(*site.Wanted)) (*site.Site, *site.Earlier, *site.Plan) {
	w.t.Helper()
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	survey, err := s.SurveyBriefly(w.t.Context(), !w.doubts)
	require.NoError(w.t, err)
	require.NoError(w.t, s.ReadFiles(w.t.Context(), survey, nil))
	want := site.Wanted{}
	change(&want)
	e, different, err := s.Earlier(w.t.Context(), survey, number, &want)
	require.NoError(w.t, err)
	if e == nil {
		return nil, nil, nil
	}
	want.Entries = e.Entries
	found, result, err := s.CompareParts(w.t.Context(), survey, different, &want, e.Paths, nil)
	require.NoError(w.t, err)
	require.NotNil(w.t, found)
	return s, e, &site.Plan{Want: e.Entries, Survey: found, Result: result, Kept: want.Kept, Gone: want.Gone, Rollback: number}
}

// TestAnEarlierDeploymentIsComparedAsTheWholeIs takes random trees one after the other, and goes back to one of them at two sites: where
// all of both is listed, and where what differs is.
func TestAnEarlierDeploymentIsComparedAsTheWholeIs(t *testing.T) {
	t.Parallel()
	inParts := 0
	rapid.Check(t, func(r *rapid.T) {
		whole, parts := newWorld(t), newWorld(t)
		both := []*world{whole, parts}
		far, switched := rapid.Bool().Draw(r, "far away"), rapid.Bool().Draw(r, "switched")
		poor := anyPoor(r)
		doubts := rapid.Bool().Draw(r, "reads")
		deployed := rapid.IntRange(2, 4).Draw(r, "deployments")
		var before tree
		for i := range deployed {
			next := anyTree().Draw(r, "next")
			if i > 0 {
				for _, path := range slices.Sorted(maps.Keys(before)) { // much of it stays
					text := before[path]
					if rapid.IntRange(0, 3).Draw(r, "stays") > 0 && !clashes(next, path) {
						next[path] = text
					}
				}
			}
			withModes(r, next)
			before = next
			whole.far = far
			owned := withOwners(r, whole, next, whole.owned)
			for _, w := range both {
				w.far, w.switched, w.poor, w.owned = far, switched, poor, owned
				w.mustDeploy(next, func(p *site.Plan) { p.RemoveStrays = true })
			}
			if i == 0 && rapid.Bool().Draw(r, "by hand") {
				for _, w := range both {
					s, plan, err := w.plan(t.Context(), tree{"by-hand.html": "a note", "notes/": ""}, func(q *site.Wanted) { q.Kept = []string{"."} })
					require.NoError(t, err)
					plan.Hand = true
					_, err = s.Deploy(t.Context(), plan, &site.Watch{})
					require.NoError(t, err)
				}
			}
		}
		settled := rapid.Bool().Draw(r, "settled")
		alter := alterations().Draw(r, "alterations")
		after := rapid.SampledFrom([]time.Duration{0, time.Hour}).Draw(r, "after")
		change := func(q *site.Wanted) { q.Retire.After = after }
		for _, w := range both {
			if w.doubts = doubts; settled {
				w.settled()
			}
			for _, a := range alter {
				w.alter(a)
			}
		}
		number := rapid.IntRange(1, deployed).Draw(r, "number")
		all, want := whole.wholeBack(number, change)
		s, e, plan := parts.back(number, change)
		if e == nil {
			return
		}
		inParts++
		m, err := s.Deployment(t.Context(), number)
		require.NoError(t, err)
		require.Equal(t, []any{m.Tree(), len(m.Entries)}, []any{e.Tree, e.Paths})
		require.Equal(t, saidOf(want.Result), saidOf(plan.Result))
		missing, err := all.Held(t.Context(), want.Survey, want.Result)
		require.NoError(t, err)
		gone, err := s.Held(t.Context(), plan.Survey, plan.Result)
		require.NoError(t, err)
		require.Equal(t, missing, gone)
		want.RemoveStrays, plan.RemoveStrays = true, true
		want.Partial, plan.Partial = true, true
		other, err := all.Deploy(t.Context(), want, &site.Watch{})
		require.NoError(t, err)
		out, err := s.Deploy(t.Context(), plan, &site.Watch{})
		require.NoError(t, err)
		require.Equal(t, len(other.Failed), len(out.Failed))
		require.Equal(t, []int{other.SentFiles, other.Reused, other.Number}, []int{out.SentFiles, out.Reused, out.Number})
		require.Equal(t, whole.recorded(), parts.recorded())
		require.Equal(t, whole.outcome(), parts.outcome())
		require.Equal(t, whole.stands(), parts.stands())
	})
	require.Positive(t, inParts)
}

// TestAnEarlierDeploymentIsNotListed goes back to a deployment of many files of which one was another.
func TestAnEarlierDeploymentIsNotListed(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w, c := newWorld(t), many(20, 30)
		w.mustDeploy(c)
		before := c["species/s003/plate-07.svg"]
		c["species/s003/plate-07.svg"], c["log.html"] = "another", "new"
		w.mustDeploy(c)
		w.settled()
		e, out := w.mustGoBack(1)
		require.Equal(t, []string{"species/s003/plate-07.svg"}, paths(e.Entries))
		require.Equal(t, 600, e.Paths)
		require.Equal(t, 600, e.Contents)
		require.Zero(t, out.SentFiles)
		c["species/s003/plate-07.svg"] = before
		delete(c, "log.html")
		w.verify(c)
	})
}

func TestAnEarlierDeploymentThatIsNotRecorded(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	w.mustDeploy(second)
	w.settled()
	s, err := w.open(t.Context())
	require.NoError(t, err)
	survey, err := s.SurveyBriefly(t.Context(), true)
	require.NoError(t, err)
	_, _, err = s.Earlier(t.Context(), survey, 7, &site.Wanted{})
	var notKept *site.NotKeptError
	require.ErrorAs(t, err, &notKept)
	require.Equal(t, []int{1, 2}, notKept.Kept)
	require.NoError(t, os.Remove(w.inRecord("deployments/1.blocks")))
	_, _, err = s.Earlier(t.Context(), survey, 1, &site.Wanted{})
	var record *site.RecordError
	require.ErrorAs(t, err, &record, "what was read of it is not taken for all")
}

// TestBetweenTwoDeploymentsIsWhatDiffers compares two deployments of which only what differs is listed with all of both.
func TestBetweenTwoDeploymentsIsWhatDiffers(t *testing.T) {
	t.Parallel()
	rule := diff.Rule{Modes: true, TimeStep: time.Nanosecond}
	compare := func(before, after []manifest.Entry) *diff.Result {
		found := make([]diff.Found, len(before))
		for i := range before {
			found[i].Entry = &before[i]
		}
		return diff.Compare(after, found, before, rule, nil)
	}
	shared := 0
	rapid.Check(t, func(r *rapid.T) {
		w := newWorld(t)
		for range 2 {
			next := anyTree().Draw(r, "next")
			stands := w.stands()
			for _, path := range slices.Sorted(maps.Keys(stands)) {
				text := stands[path]
				if rapid.Bool().Draw(r, "stays") && !clashes(next, path) {
					next[path] = text
				}
			}
			withModes(r, next)
			w.mustDeploy(next, func(p *site.Plan) { p.RemoveStrays = true })
		}
		s, plan, err := w.plan(t.Context(), tree{"by-hand.html": "a note", "notes/": ""}, func(q *site.Wanted) { q.Kept = []string{"."} })
		require.NoError(t, err)
		plan.Hand = true
		_, err = s.Deploy(t.Context(), plan, &site.Watch{})
		require.NoError(t, err)
		from, to := rapid.IntRange(0, 3).Draw(r, "from"), rapid.IntRange(1, 3).Draw(r, "to")
		var before []manifest.Entry
		if from > 0 {
			m, err := s.Deployment(t.Context(), from)
			require.NoError(t, err)
			before = m.Entries
		}
		after, err := s.Deployment(t.Context(), to)
		require.NoError(t, err)
		between, err := s.Between(t.Context(), from, to)
		require.NoError(t, err)
		got := compare(between.Before, between.After)
		shared += between.Same
		require.Less(t, len(between.Before)+len(between.After)+2*between.Same, len(before)+len(after.Entries)+1, "nothing else is listed")
		got.Same, got.SameBytes = got.Same+between.Same, got.SameBytes+between.SameBytes
		want := compare(before, after.Entries)
		want.Stale, got.Stale = false, false // nobody asks
		require.Equal(t, saidOf(want), saidOf(got))
	})
	require.Positive(t, shared)
}

// TestAFolderThatHasContentLaterIsNoDifference has a folder that had a mode of its own have it no longer.
func TestAFolderThatHasContentLaterIsNoDifference(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(tree{"log/": "0750", "log/may/1.html": "1", "old/": ""})
	w.mustDeploy(tree{"log/may/1.html": "1", "log/june/1.html": "1"})
	s, err := w.open(t.Context())
	require.NoError(t, err)
	between, err := s.Between(t.Context(), 1, 2)
	require.NoError(t, err)
	require.Equal(t, []string{"old"}, paths(between.Before))
	require.Equal(t, []string{"log/june/1.html"}, paths(between.After))
	require.Equal(t, 1, between.Same)
}

// mustGoBack publishes an earlier deployment again, whose content the site holds.
func (w *world) mustGoBack(number int) (*site.Earlier, *site.Outcome) {
	w.t.Helper()
	s, e, plan := w.back(number, func(*site.Wanted) {})
	require.NotNil(w.t, e)
	missing, err := s.Held(w.t.Context(), plan.Survey, plan.Result)
	require.NoError(w.t, err)
	require.Empty(w.t, missing)
	out, err := s.Deploy(w.t.Context(), plan, &site.Watch{})
	require.NoError(w.t, err)
	require.Empty(w.t, out.Failed)
	return e, out
}

// TestAFolderWithAModeOfItsOwnStaysWhenWhatCameLaterGoes has a folder be the same in both deployments, and its only file come with the
// second one.
func TestAFolderWithAModeOfItsOwnStaysWhenWhatCameLaterGoes(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(tree{"log/": "0750", "x/old/": "0700", "index.html": "1"})
		w.mustDeploy(tree{"log/": "0750", "log/may.html": "may", "x/old/": "0700", "x/old/1.html": "1", "index.html": "1"})
		w.settled()
		w.mustGoBack(1)
		require.Equal(t, tree{"log/": "", "x/old/": "", "index.html": "1"}, w.stands())
		w.verify(tree{"log/": "0750", "x/old/": "0700", "index.html": "1"})
	})
}
