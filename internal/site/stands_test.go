package site_test

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/manifest"
	"tartine/internal/site"
)

// standing gives what is said of some paths of the site.
func (w *world) standing(paths []string) string {
	w.t.Helper()
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	stands, err := s.Stands(w.t.Context(), paths, nil, nil)
	if err != nil {
		return err.Error()
	}
	out := ""
	for _, e := range stands.Entries.Entries() {
		out += fmt.Sprintln(e.Path, e.Kind, e.Mode, e.Size, e.Digest, e.Link, e.ModTime.UnixNano(), e.Hand)
	}
	now, err := s.Current(w.t.Context(), nil, nil)
	require.NoError(w.t, err)
	out += fmt.Sprintln(now.Number, now.Count, now.Origin, now.Missing, now.Altered, now.Unfinished)
	manifest.Each(now.Entries.Entries(), func(e *manifest.Entry) bool {
		out += fmt.Sprintln(e.Path, e.Kind, e.Mode, e.Size, e.Digest, e.Link, e.ModTime.UnixNano(), e.Hand)
		return true
	})
	return out + fmt.Sprint(len(stands.Raw), stands.Left)
}

// TestACurrentSiteIsReadWhereItsRecordIsNotBelieved alters a file so that its size and its time stay.
func TestACurrentSiteIsReadWhereItsRecordIsNotBelieved(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(tree{"index.html": "1", "log/may.html": "may", "log/june.html": "june"})
	w.settled()
	w.waitForTicks()
	w.alter(alteration{"log/may.html", "same"})
	s, err := w.open(t.Context())
	require.NoError(t, err)
	var paths []string
	now, err := s.Current(t.Context(), nil, func(entries []manifest.Entry) error {
		for i := range entries {
			paths = append(paths, entries[i].Path)
		}
		return nil
	})
	require.NoError(t, err)
	require.Equal(t, []string{"log/may.html"}, now.Altered)
	require.Equal(t, []string{"index.html", "log/june.html", "log/may.html"}, paths)
	require.Equal(t, 3, now.Count)
	require.Nil(t, now.Entries)
	stands, err := s.Stands(t.Context(), []string{"log/may.html"}, nil, nil)
	require.NoError(t, err)
	require.Equal(t, manifest.Digest(sha256.Sum256([]byte("xxx"))), stands.Entries.At(0).Digest)
	_, err = s.Current(t.Context(), nil, func([]manifest.Entry) error { return fs.ErrClosed })
	require.ErrorIs(t, err, fs.ErrClosed)
	_, err = s.Stands(t.Context(), nil, nil, func([]manifest.Entry) error { return fs.ErrClosed })
	require.ErrorIs(t, err, fs.ErrClosed)
}

// TestWhatStandsIsToldOfABriefSurveyToo compares what is said of random trees, which somebody has altered, with what a whole survey says.
func TestWhatStandsIsToldOfABriefSurveyToo(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(r *rapid.T) {
		w := newWorld(t)
		w.far, w.switched = rapid.Bool().Draw(r, "far away"), rapid.Bool().Draw(r, "switched")
		w.poor.modes = rapid.Bool().Draw(r, "no modes")
		c := anyTree().Draw(r, "content")
		withModes(r, c)
		w.mustDeploy(c, func(p *site.Plan) { p.RemoveStrays = true })
		if rapid.Bool().Draw(r, "settled") {
			w.settled()
		}
		for _, a := range alterations().Draw(r, "alterations") {
			w.alter(a)
		}
		asked := rapid.SampledFrom([][]string{nil, nil, {"a"}, {"a/b", "index.html"}, {"private"}, {"uploads"}}).Draw(r, "paths")
		brief := w.standing(asked)
		w.whole = true
		require.Equal(t, w.standing(asked), brief)
	})
}
