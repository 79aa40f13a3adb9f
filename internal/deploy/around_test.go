package deploy_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/site"
)

// scripted runs commands by doing what the test says.
type scripted struct {
	ran []string
	do  map[string]func() error
}

func (s *scripted) Run(_ context.Context, c *deploy.Command, f *deploy.Facts, out io.Writer) error {
	s.ran = append(s.ran, fmt.Sprintf("%s %s %d %d", f.When, c, f.Deployment, len(f.Changed)))
	fmt.Fprintln(out, "output of", c)
	if do := s.do[c.String()]; do != nil {
		return do()
	}
	return nil
}

func (s *scripted) Ask(context.Context, *deploy.Question) error { return s.do["ask"]() }
func (s *scripted) Look(context.Context, *deploy.Facts) error   { return nil }

// around gives commands with these names.
func around(s *scripted, before, after, check string) *deploy.Around {
	return &deploy.Around{Before: []deploy.Command{{Shell: before}}, After: []deploy.Command{{Shell: after, There: true}},
		Checks: []deploy.Check{{Command: &deploy.Command{Shell: check}, Within: 50 * time.Millisecond}}, RollBack: true, Runner: s}
}

// TestNothingShowsBeforeCommandsHaveSucceeded and the site stays locked meanwhile.
func TestNothingShowsBeforeCommandsHaveSucceeded(t *testing.T) {
	p := newPlace(t, "content/a.html")
	s := &scripted{do: map[string]func() error{"before": func() error {
		require.NoFileExists(t, filepath.Join(p.dir, "www", "a.html"))
		other := p.session(content.KeepLinks, deploy.Options{})
		_, err := other.Deploy(t.Context())
		var locked *site.LockedError
		require.ErrorAs(t, err, &locked)
		return &deploy.EndedError{Status: 3}
	}}}
	session := p.session(content.KeepLinks, deploy.Options{Around: around(s, "before", "after", "check")})
	_, err := session.Deploy(t.Context())
	var failed *deploy.CommandError
	require.ErrorAs(t, err, &failed)
	require.ErrorContains(t, err, "before (here): it ended with status 3")
	require.NoFileExists(t, filepath.Join(p.dir, "www", "a.html"))
	s.do["before"] = nil
	result, err := session.Deploy(t.Context())
	require.NoError(t, err)
	require.Equal(t, 1, result.Outcome.Number)
	require.Equal(t, []string{"before_publish before 1 1", "before_publish before 1 1", "after_publish after 1 1", "check check 1 1"}, s.ran)
	past, err := calls.History.On(t.Context(), session.Engine, calls.None{})
	require.NoError(t, err)
	require.True(t, past[0].Ran.Settled)
	require.Len(t, past[0].Ran.Commands, 3)
	require.Equal(t, "output of check\n", past[0].Ran.Commands[2].Output)
}

// TestACommandMayBeWantedTwice, as a reload before and after something else.
func TestACommandMayBeWantedTwice(t *testing.T) {
	p := newPlace(t, "content/a.html")
	s := &scripted{}
	a := &deploy.Around{After: []deploy.Command{{Shell: "reload"}, {Shell: "warm"}, {Shell: "reload"}}, Runner: s}
	session := p.session(content.KeepLinks, deploy.Options{Around: a})
	_, err := session.Deploy(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{"after_publish reload 1 1", "after_publish warm 1 1", "after_publish reload 1 1"}, s.ran)

	// Two had run when the run ended.
	noted := site.Ran{Commands: []site.RanCommand{{When: "after_publish", Where: "here", What: "reload"}, {When: "after_publish", Where: "here", What: "warm"}}}
	_, err = calls.Note.On(t.Context(), session.Engine, calls.Noting{Number: 1, Ran: noted})
	require.NoError(t, err)
	s.ran = nil
	_, err = session.Deploy(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{"after_publish reload 1 1"}, s.ran)
	past, err := calls.History.On(t.Context(), session.Engine, calls.None{})
	require.NoError(t, err)
	require.Len(t, past[0].Ran.Commands, 3)
	require.True(t, past[0].Ran.Settled)
}

// TestWhatFailsBeforeItIsPublishedRunsNothing: a deployment that is not published at all has no commands around it.
func TestWhatFailsBeforeItIsPublishedRunsNothing(t *testing.T) {
	p := newPlace(t, "content/a.html", "content/b.html")
	require.NoError(t, os.Symlink("nowhere", filepath.Join(p.dir, "content", "c.html")))
	s := &scripted{}
	result, err := p.session(content.FollowLinks, deploy.Options{Around: around(s, "before", "after", "check")}).Deploy(t.Context())
	require.NoError(t, err)
	require.Zero(t, result.Outcome.Number)
	require.Empty(t, s.ran)
	result, err = p.session(content.FollowLinks, deploy.Options{Partial: true, Around: around(s, "before", "after", "check")}).Deploy(t.Context())
	require.NoError(t, err)
	require.Equal(t, 1, result.Outcome.Number)
	require.Len(t, s.ran, 3)
}

// TestAnUnwellDeploymentIsNotRolledBackOverAnother that was published in the meantime.
func TestAnUnwellDeploymentIsNotRolledBackOverAnother(t *testing.T) {
	p := newPlace(t, "content/a.html")
	p.deploy(deploy.Options{})
	p.write("content/b.html", "b")
	s := &scripted{do: map[string]func() error{"after": func() error {
		p.write("content/c.html", "c")
		p.deploy(deploy.Options{})
		return errors.New("it broke")
	}}}
	_, err := p.session(content.KeepLinks, deploy.Options{Around: around(s, "before", "after", "check")}).Deploy(t.Context())
	var unwell *deploy.UnwellError
	require.ErrorAs(t, err, &unwell)
	require.Equal(t, 2, unwell.Number)
	require.Zero(t, unwell.Back)
	require.ErrorAs(t, unwell.Kept, new(*site.OvertakenError))
	require.FileExists(t, filepath.Join(p.dir, "www", "c.html"))
}

// TestWhatFollowsFailsForTheDeploymentBefore too: it is published again all the same, and that is told.
func TestWhatFollowsFailsForTheDeploymentBefore(t *testing.T) {
	p := newPlace(t, "content/a.html")
	p.deploy(deploy.Options{})
	p.write("content/a.html", "new")
	s := &scripted{do: map[string]func() error{"after": func() error { return errors.New("no reload") }}}
	result, err := p.session(content.KeepLinks, deploy.Options{Around: around(s, "before", "after", "check")}).Deploy(t.Context())
	var unwell *deploy.UnwellError
	require.ErrorAs(t, err, &unwell)
	require.Equal(t, []int{2, 1, 3}, []int{unwell.Number, unwell.Back, unwell.Again})
	require.ErrorContains(t, unwell.After, "no reload")
	require.Equal(t, 2, result.Outcome.Number)
	text, err := os.ReadFile(filepath.Join(p.dir, "www", "a.html"))
	require.NoError(t, err)
	require.Equal(t, "content/a.html", string(text))
}

// TestACheckIsAskedUntilItHolds or its time is over.
func TestACheckIsAskedUntilItHolds(t *testing.T) {
	p := newPlace(t, "content/a.html")
	tries := 0
	s := &scripted{do: map[string]func() error{"ask": func() error {
		if tries++; tries < 3 {
			return errors.New("not yet")
		}
		return nil
	}}}
	a := &deploy.Around{Checks: []deploy.Check{{Asks: &deploy.Question{URL: "http://rock.example/", Status: 200}, Within: time.Minute}}, Runner: s}
	_, err := p.session(content.KeepLinks, deploy.Options{Around: a}).Deploy(t.Context())
	require.NoError(t, err)
	require.Equal(t, 3, tries)
}

func TestCommandsAreWrittenAsAPersonWould(t *testing.T) {
	for want, c := range map[string]deploy.Command{"nginx -t": {Words: []string{"nginx", "-t"}}, "make site && true": {Shell: "make site && true"},
		`echo 'a b' '' 'it'\''s'`: {Words: []string{"echo", "a b", "", "it's"}}} {
		require.Equal(t, want, c.String())
	}
}
