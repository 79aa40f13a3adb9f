package site_test

import (
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
	"tartine/internal/site"
)

func paths(entries []manifest.Entry) (out []string) {
	for i := range entries {
		out = append(out, entries[i].Path)
	}
	return out
}

// narrowed is a site of which what differs is narrowed, whatever it is.
func narrowed(t *testing.T) (*world, tree) {
	w, c := newWorld(t), tree{"index.html": "1", "log/last": "->may.html", "log/april.html": "april", "log/june.html": "june", "log/may.html": "may",
		"old/1.html": "1", "old/2.html": "2", "plates/": "0750", "plates/tern.svg": "tern"}
	for _, name := range []string{"a", "b", "c", "d", "e", "f", "g", "h"} { // parts of three
		c["tides/"+name] = "tide " + name
	}
	w.narrow = 1
	w.mustDeploy(c)
	return w, c
}

func TestWhatIsTheSameInAPartThatDiffersIsLeftOut(t *testing.T) {
	w, c := narrowed(t)
	w.settled()
	c["tides/e"], c["tides/new"], c["log/last"] = "another", "new", "->june.html"
	delete(c, "tides/h")
	delete(c, "tides/c") // in a part that is the same otherwise
	delete(c, "old/1.html")
	delete(c, "old/2.html")
	s, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Equal(t, []string{"log/last", "tides/e", "tides/new"}, paths(plan.Want))
	require.Equal(t, []string{"log/last", "old/1.html", "old/2.html", "tides/c", "tides/e", "tides/h"}, paths(plan.Survey.Recorded.Entries))
	require.Equal(t, 11, plan.Result.Same)
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Equal(t, 2, out.SentFiles)
	w.verify(c)
}

func TestWhatIsNotBelievedIsNotLeftOut(t *testing.T) {
	w, c := narrowed(t)
	w.alter(alteration{"log/may.html", "same"})
	w.alter(alteration{"plates/other.svg", "write"})
	_, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Contains(t, paths(plan.Want), "log/may.html", "it changed after the record was written")
	require.Contains(t, paths(plan.Want), "plates/tern.svg", "its folder is not as it is recorded")
	require.NotContains(t, paths(plan.Want), "plates", "which is in another")
	require.Equal(t, []string{"changedlog/may.html3 true true false false true true"}, saidOf(plan.Result)[:1])
}

func TestWhatStaysIsLeftOutAlthoughItIsNotWanted(t *testing.T) {
	w, c := narrowed(t)
	w.settled()
	s, plan, _ := w.planParts(t.Context(), tree{"tides/a": "another", "tides/i": "new"}, func(want *site.Wanted) {
		want.Kept, want.Gone = []string{"."}, []string{"log", "tides/h"}
	})
	require.NotNil(t, plan)
	require.Equal(t, []string{"tides/a", "tides/i"}, paths(plan.Want))
	recorded := paths(plan.Survey.Recorded.Entries)
	require.Subset(t, recorded, []string{"log/april.html", "log/june.html", "log/last", "log/may.html", "tides/a", "tides/h"})
	require.NotContains(t, recorded, "old/1.html")
	plan.Hand, plan.RemoveStrays = true, true
	_, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	c["tides/a"], c["tides/i"] = "another", "new"
	for _, gone := range []string{"log/april.html", "log/june.html", "log/last", "log/may.html", "tides/h"} {
		delete(c, gone)
	}
	w.verify(c)
}

// TestARecordThatCannotBeReadNarrowsNothing has the record fail, and then be read.
func TestARecordThatCannotBeReadNarrowsNothing(t *testing.T) {
	w, c := narrowed(t)
	w.settled()
	s, err := w.open(t.Context())
	require.NoError(t, err)
	survey, err := s.SurveyBriefly(t.Context(), true)
	require.NoError(t, err)
	parts, _ := partsOf(c.entries())
	different, err := s.Differing(t.Context(), survey, &site.Wanted{}, parts, nil, each(func(int, []manifest.Entry) bool { return false }))
	require.NoError(t, err)
	require.True(t, different.IsMuch())
	compare := func() (*site.Survey, error) {
		found, _, err := s.CompareParts(t.Context(), survey, different, &site.Wanted{}, len(c), nil)
		return found, err
	}
	found, err := compare()
	require.NoError(t, err)
	require.Nil(t, found, "it is not known what is recorded in them")
	w.between.Before = func(op string, names ...string) error {
		if op == "open" && strings.HasSuffix(names[0], ".blocks") {
			return errors.New("damaged")
		}
		return nil
	}
	_, _, err = s.Narrow(t.Context(), different, &site.Wanted{}, manifest.Listed(nil))
	require.Error(t, err)
	require.True(t, different.IsMuch())
	w.between.Before = func(string, ...string) error { return nil }
	cancelled, cancel := context.WithCancel(t.Context())
	_, _, err = s.Narrow(cancelled, different, &site.Wanted{}, func(visit func(*manifest.Entry) bool) {
		manifest.Each(c.entries(), func(e *manifest.Entry) bool {
			if e.Path == "log/may.html" { // half way
				cancel()
			}
			return visit(e)
		})
	})
	require.ErrorIs(t, err, context.Canceled)
	require.True(t, different.IsMuch())
	some, left, err := s.Narrow(t.Context(), different, &site.Wanted{}, manifest.Listed(c.entries()))
	require.NoError(t, err)
	require.Empty(t, some)
	require.Empty(t, left)
	found, result, err := s.CompareParts(t.Context(), survey, different, &site.Wanted{}, len(c), nil)
	require.NoError(t, err)
	require.NotNil(t, found)
	require.Equal(t, 17, result.Same)
}
