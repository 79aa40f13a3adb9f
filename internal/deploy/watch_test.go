package deploy_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/farend"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// follower is a watcher of a place, with what it told.
type follower struct {
	*place
	*deploy.Watcher
	told    []*deploy.Round
	waiting bool
}

func (p *place) follow() *follower {
	f := &follower{place: p}
	s := p.session(content.KeepLinks, deploy.Options{Partial: true, Watched: &manifest.Watched{ID: "w"}})
	s.Person = &nobody{refuse: errors.New("nobody is there to ask")}
	scan := s.Content
	f.Watcher = &deploy.Watcher{Session: s, Told: func(r *deploy.Round) { f.told = append(f.told, r) },
		Content: func(ctx context.Context) (*content.Content, bool, error) {
			c, err := scan(ctx)
			return c, f.waiting, err
		}}
	return f
}

func (f *follower) round() *deploy.Round {
	f.t.Helper()
	f.told = nil
	_, err := f.Watcher.Deploy(f.t.Context())
	require.NoError(f.t, err)
	if len(f.told) == 0 {
		return nil
	}
	require.Len(f.t, f.told, 1)
	return f.told[0]
}

func (p *place) read(name string) string {
	text, err := os.ReadFile(filepath.Join(p.dir, filepath.FromSlash(name)))
	require.NoError(p.t, err)
	return string(text)
}

func TestAWatchLeavesWhatItWouldHaveToAskAbout(t *testing.T) {
	p := newPlace(t, "content/index.html", "content/log.html", "www/log.html")
	p.write("www/log.html", "somebody's own")
	f := p.follow()
	r := f.round()
	require.Equal(t, []string{"log.html"}, r.Held, "no deployment put it there")
	require.Equal(t, []string{"index.html"}, r.Changes(false))
	require.Nil(t, f.round(), "it is not named again")
	p.write("www/index.html", "altered there")
	p.write("content/index.html", "altered here, too")
	p.write("content/new.html", "new")
	r = f.round()
	require.Equal(t, []string{"index.html"}, r.Held)
	require.Equal(t, []string{"new.html"}, r.Changes(false), "the watch goes on beside it")
	require.Equal(t, "altered there", p.read("www/index.html"))
	require.Nil(t, f.round())
	p.write("content/index.html", "altered once more")
	require.Equal(t, []string{"index.html"}, f.round().Held, "it changed, so it is named once more")
	require.Nil(t, f.round())
	f.Session.Person.(*nobody).refuse = nil
	p.write("content/index.html", "and now it may go")
	require.Equal(t, []string{"index.html"}, f.round().Changes(false))
	require.Equal(t, "and now it may go", p.read("www/index.html"))
	require.Equal(t, "somebody's own", p.read("www/log.html"))
	past, err := calls.History.On(t.Context(), f.Session.Engine, calls.None{})
	require.NoError(t, err)
	require.Len(t, past, 1, "all of it is one deployment")
}

func TestAWatchGoesOnAfterWhatFails(t *testing.T) {
	p := newPlace(t, "content/index.html", "content/a.css")
	f := p.follow()
	f.round()
	p.write("content/.env", "SECRET=1")
	again, err := f.Watcher.Deploy(t.Context())
	require.NoError(t, err)
	require.False(t, again, "only a change helps against a refusal")
	var refused *deploy.Refusal
	require.ErrorAs(t, f.told[len(f.told)-1].Err, &refused)
	require.NoError(t, os.Remove(filepath.Join(p.dir, "content", ".env")))
	require.Nil(t, f.round())

	lock := filepath.Join(p.dir, ".www.tartine", "lock")
	require.NoError(t, os.WriteFile(lock, []byte("{}"), 0o600))
	p.write("content/a.css", "b")
	again, err = f.Watcher.Deploy(t.Context())
	require.NoError(t, err)
	require.True(t, again, "another deployment ends some time")
	var locked *site.LockedError
	require.ErrorAs(t, f.told[len(f.told)-1].Err, &locked)
	require.NoError(t, os.Remove(lock))
	require.Equal(t, []string{"a.css"}, f.round().Changes(false))

	f.waiting = true
	again, err = f.Watcher.Deploy(t.Context())
	require.NoError(t, err)
	require.True(t, again, "what is still written to is looked at again")
}

func TestAWatchRemovesNotMoreThanIsLikelyToBeMeant(t *testing.T) {
	p := newPlace(t, "content/index.html")
	for i := range 30 {
		p.write(fmt.Sprintf("content/log/%02d.html", i), "gannets")
	}
	f := p.follow()
	f.round()
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "content", "log"))) // as builds do before they write anew
	p.write("content/index.html", "new")
	r := f.round()
	require.Len(t, r.Stay, 30)
	require.Equal(t, []string{"index.html"}, r.Changes(false))
	require.Equal(t, "gannets", p.read("www/log/07.html"))
	require.Nil(t, f.round())
	for i := range 29 {
		p.write(fmt.Sprintf("content/log/%02d.html", i), "gannets again")
	}
	require.Len(t, f.round().Changes(false), 29)
	require.Equal(t, "gannets again", p.read("www/log/07.html"))
	require.Equal(t, "gannets", p.read("www/log/29.html"), "it was asked about and may stay")
}

// gone is an engine whose connection is lost.
type gone struct{ calls.Engine }

func (gone) Do(context.Context, calls.Any, any, any, *site.Watch) error { return farend.ErrLost }

func TestAWatchTellsThatTheConnectionIsGone(t *testing.T) {
	f := newPlace(t, "content/index.html").follow()
	f.Session.Engine = gone{f.Session.Engine}
	_, err := f.Watcher.Deploy(t.Context())
	require.ErrorIs(t, err, farend.ErrLost)
	require.Empty(t, f.told)
}

// surveyed counts how often a site is surveyed.
type surveyed struct {
	calls.Engine
	times *atomic.Int32
}

func (s surveyed) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	if call == calls.Any(calls.Survey) {
		s.times.Add(1)
	}
	return s.Engine.Do(ctx, call, question, answer, watch)
}

func TestAWatchSurveysWhileChangesComeToTheirEnd(t *testing.T) {
	p := newPlace(t, "content/index.html")
	f := p.follow()
	var times atomic.Int32
	f.Session.Engine = surveyed{f.Session.Engine, &times}
	f.round()
	require.EqualValues(t, 1, times.Load())
	p.write("content/index.html", "new")
	f.Stirred(t.Context())
	f.Stirred(t.Context())
	require.Equal(t, []string{"index.html"}, f.round().Changes(false))
	require.EqualValues(t, 2, times.Load(), "what was begun when the changes began is used")
	f.Stirred(t.Context())
	f.Stop()
	p.write("content/index.html", "newer")
	require.Equal(t, []string{"index.html"}, f.round().Changes(false))
	require.EqualValues(t, 4, times.Load(), "and nothing that was ended")
}

// TestAWatchThatIsInterruptedOnceAllIsThereCutsNothing tells what was done, and that nothing was cut.
func TestAWatchThatIsInterruptedOnceAllIsThereCutsNothing(t *testing.T) {
	f := newPlace(t, "content/index.html").follow()
	ctx, interrupt := context.WithCancel(t.Context())
	f.Session.Engine = publishing{f.Session.Engine, interrupt}
	_, err := f.Watcher.Deploy(ctx)
	require.NoError(t, err)
	require.Len(t, f.told, 1)
	require.Equal(t, []string{"index.html"}, f.told[0].Changes(false))
	require.False(t, f.Watcher.Sending())
}

// publishing calls done once something was published.
type publishing struct {
	calls.Engine
	done func()
}

func (p publishing) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	err := p.Engine.Do(ctx, call, question, answer, watch)
	if call == calls.Any(calls.Publish) {
		p.done()
	}
	return err
}
