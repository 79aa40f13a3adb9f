package site_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
	"tartine/internal/site"
)

// replaced puts other bytes into a file of the site, which keeps its size and time.
func (w *world) replaced(name string) {
	w.t.Helper()
	w.alter(alteration{name, "same"})
}

// TestFilesThatAreReadAreNotBelieved has somebody alter a file so that neither its size nor its time tells.
func TestFilesThatAreReadAreNotBelieved(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "log/june.html": "june", "log/last": "->may.html", "log/old/": "", "plates/tern.svg": "tern"}
	w.far = true // where nothing else tells
	w.mustDeploy(c)
	w.settled()
	w.replaced("log/may.html")
	_, plan, _ := w.planParts(t.Context(), c)
	require.Empty(t, plan.Result.Changes)
	require.Equal(t, 6, plan.Result.Same)
	w.doubts = true
	s, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Len(t, plan.Want, 4, "of the folder that it is in")
	require.Len(t, plan.Result.Changes, 1)
	require.Equal(t, "log/may.html", plan.Result.Changes[0].Path())
	require.True(t, plan.Result.Changes[0].Drifted)
	require.Equal(t, []int{5, 9}, []int{plan.Result.Same, int(plan.Result.SameBytes)})
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Equal(t, 1, out.SentFiles)
	w.verify(c)
}

// TestAFileInAnOddFolderIsReadToo has somebody put a file beside the one that he altered.
func TestAFileInAnOddFolderIsReadToo(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "log/june.html": "june"}
	w.far = true
	w.mustDeploy(c)
	w.settled()
	w.replaced("log/may.html")
	w.alter(alteration{"log/new", "write"})
	w.doubts = true
	_, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Equal(t, []string{"changedlog/may.html3 true true false false true true", "straylog/new7 false false false false false true", "2 5 false"}, saidOf(plan.Result))
}

// TestFilesAreReadOnceAndTold counts what is said to have been read, of a site that is as it was.
func TestFilesAreReadOnceAndTold(t *testing.T) {
	w, c, bytes := newWorld(t), tree{}, 0
	for i := range 9000 { // more than are read at a time
		text := fmt.Sprint("species ", i)
		c[fmt.Sprintf("%d/%04d", i/70, i)] = text
		bytes += len(text)
	}
	w.mustDeploy(c)
	s, err := w.open(t.Context())
	require.NoError(t, err)
	survey, err := s.SurveyBriefly(t.Context(), false)
	require.NoError(t, err)
	require.True(t, survey.IsBrief())
	require.Zero(t, survey.Unsettled, "all are read in any case")
	require.False(t, s.InParts(survey, &site.Wanted{}), "nobody has read them")
	_, is := survey.IsRecorded(survey.Tree(), survey.Paths)
	require.False(t, is)
	var told atomic.Int64
	for range 2 {
		require.NoError(t, s.ReadFiles(t.Context(), survey, func(bytes int64) { told.Add(bytes) }))
		require.Equal(t, int64(bytes), told.Load())
	}
	_, is = survey.IsRecorded(survey.Tree(), survey.Paths)
	require.False(t, is, "it is not believed which tree it is, either")
	_, enough := survey.Outside(survey.Tree(), map[string]bool{"1": true})
	require.False(t, enough)
	require.True(t, s.InParts(survey, &site.Wanted{}))
}

// TestVeryManyFilesThatAreNotBelievedAreRead has files that were made right before they were deployed, but for a few.
func TestVeryManyFilesThatAreNotBelievedAreRead(t *testing.T) {
	w, c, young := newWorld(t), tree{"log/old.html": "old"}, 0
	for i := range 5000 {
		c[fmt.Sprintf("%d/%04d", i/70, i)] = "species"
	}
	w.far = true // where nothing but its time tells
	w.mustDeploy(c, func(p *site.Plan) {
		for i := range p.Want {
			if p.Want[i].Path != "log/old.html" && i%10 > 0 {
				p.Want[i].ModTime = time.Now().Add(time.Hour)
				young += len("species")
			}
		}
	})
	w.replaced("7/0491")
	s, err := w.open(t.Context())
	require.NoError(t, err)
	survey, err := s.SurveyBriefly(t.Context(), true)
	require.NoError(t, err)
	require.False(t, s.InParts(survey, &site.Wanted{}))
	var told atomic.Int64
	require.NoError(t, s.ReadFiles(t.Context(), survey, func(bytes int64) { told.Add(bytes) }))
	require.Equal(t, int64(young), told.Load(), "the others are believed")
	require.True(t, s.InParts(survey, &site.Wanted{}))
	require.Positive(t, survey.Unsettled, "so that they are not read again")
	_, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Equal(t, []string{"changed7/04917 true true false false true true", "5000 34996 false"}, saidOf(plan.Result))
	require.LessOrEqual(t, len(plan.Want), 70)
}

// TestAFileThatCannotBeReadIsNotTakenForWhatIsRecorded has one fail when it is opened.
func TestAFileThatCannotBeReadIsNotTakenForWhatIsRecorded(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "log/june.html": "june"}
	w.mustDeploy(c)
	w.doubts = true
	w.between.Before = func(op string, names ...string) error {
		if op == "open" && strings.HasSuffix(names[0], "may.html") {
			return errors.New("no right to read")
		}
		return nil
	}
	_, want, err := w.plan(t.Context(), c)
	require.NoError(t, err)
	_, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Equal(t, saidOf(want.Result), saidOf(plan.Result))
	require.Equal(t, "log/may.html", plan.Result.Changes[0].Path())
}

// TestFilesOfADeploymentThatIsNoLongerRecordedAreNotRead has others be published between the survey and the reading.
func TestFilesOfADeploymentThatIsNoLongerRecordedAreNotRead(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	s, err := w.open(t.Context())
	require.NoError(t, err)
	survey, err := s.SurveyBriefly(t.Context(), false)
	require.NoError(t, err)
	for i := range 3 {
		w.mustDeploy(tree{"index.html": fmt.Sprint(i)}, func(p *site.Plan) { p.History = 1 })
	}
	var overtaken *site.OvertakenError
	require.ErrorAs(t, s.ReadFiles(t.Context(), survey, nil), &overtaken)
}

// TestFewFilesThatAreNotBelievedAreReadFirst has a site be as it is recorded, and then not, right after a deployment.
func TestFewFilesThatAreNotBelievedAreReadFirst(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/2026/may.html": "may", "log/june.html": "june", "tides/may.html": "tides"}
	w.mustDeploy(c)
	write := func(path, text string) {
		name := filepath.Join(w.dir, "www", filepath.FromSlash(path))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
		require.NoError(t, os.Chtimes(name, dated, dated))
	}
	look := func() bool {
		s, err := w.open(t.Context())
		require.NoError(t, err)
		survey, err := s.SurveyBriefly(t.Context(), true)
		require.NoError(t, err)
		require.Equal(t, 1, survey.Unsettled)
		_, is := survey.IsRecorded(manifest.TreeOf(manifest.Listed(c.entries())), 4)
		require.False(t, is, "nobody has read it")
		read := int64(0)
		require.NoError(t, s.ReadYoung(t.Context(), survey, func(bytes int64) { read += bytes }))
		require.Equal(t, int64(3), read)
		result, is := survey.IsRecorded(manifest.TreeOf(manifest.Listed(c.entries())), 4)
		if is {
			require.Equal(t, 4, result.Same)
			require.Equal(t, 1, survey.Unsettled, "so that it is believed from then on")
		}
		return is
	}
	write("log/2026/may.html", "may")
	require.True(t, look())
	write("log/2026/may.html", "MAY")
	require.False(t, look())
	w.young = true
	_, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Len(t, plan.Result.Changes, 1)
	require.True(t, plan.Result.Changes[0].Drifted)
	require.Equal(t, 3, plan.Result.Same)
	for i := range 70 {
		c[fmt.Sprintf("tides/%02d.html", i)] = "tide"
	}
	w.mustDeploy(c)
	for path, text := range c {
		write(path, text)
	}
	s, err := w.open(t.Context())
	require.NoError(t, err)
	survey, err := s.SurveyBriefly(t.Context(), true)
	require.NoError(t, err)
	require.Equal(t, len(c), survey.Unsettled)
	require.NoError(t, s.ReadYoung(t.Context(), survey, func(int64) { t.Error("they are more than a few") }))
}
