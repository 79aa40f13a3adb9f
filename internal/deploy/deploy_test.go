package deploy_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/diff"
	"tartine/internal/filter"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// place is a folder with content in one folder of it and a site in another.
type place struct {
	t     *testing.T
	dir   string
	brief int // see site.Options
}

func newPlace(t *testing.T, files ...string) *place {
	p := &place{t: t, dir: t.TempDir()}
	for _, name := range files {
		p.write(name, name)
	}
	return p
}

func (p *place) write(name, text string) {
	p.t.Helper()
	full := filepath.Join(p.dir, filepath.FromSlash(name))
	require.NoError(p.t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(p.t, os.WriteFile(full, []byte(text), 0o644))
}

// nobody agrees to everything, and remembers what it was told.
type nobody struct {
	told   []deploy.Event
	refuse error
}

func (n *nobody) Tell(event deploy.Event)              { n.told = append(n.told, event) }
func (n *nobody) Agree(*deploy.Consent) error          { return n.refuse }
func (*nobody) Output(deploy.Runs) (io.Writer, func()) { return io.Discard, func() {} }
func (n *nobody) Watch(context.Context, deploy.Stage) (*site.Watch, func()) {
	return &site.Watch{}, func() {}
}

// session opens the site and gives a session of it with the content.
func (p *place) session(links content.Links, opt deploy.Options) *deploy.Session {
	p.t.Helper()
	f, err := osfs.Open(p.dir)
	require.NoError(p.t, err)
	p.t.Cleanup(func() { f.Close() })
	opened, err := site.Open(p.t.Context(), f, "www", "www", site.Options{Brief: p.brief})
	require.NoError(p.t, err)
	sources := []content.Source{{Path: filepath.Join(p.dir, "content"), Dest: ".", Rules: &filter.Set{}}}
	scan := func(ctx context.Context) (*content.Content, error) {
		tree, err := content.Scan(ctx, sources, content.Options{Links: links})
		if err != nil {
			return nil, err
		}
		return tree.Content(), nil
	}
	return &deploy.Session{Engine: calls.NewHere(opened), Content: scan, Options: opt, Person: &nobody{}}
}

// settle has what a deployment brought be believed, as if it had been there for a while.
func (p *place) settle(number int) {
	p.t.Helper()
	later, deployments := time.Now().Add(time.Hour), filepath.Join(p.dir, ".www.tartine", "deployments")
	require.NoError(p.t, os.Chtimes(filepath.Join(deployments, fmt.Sprintf("%d.json", number)), later, later))
	require.NoError(p.t, os.WriteFile(filepath.Join(deployments, fmt.Sprintf("%d.seen", number)), fmt.Appendf(nil, "%d\n", later.UnixNano()), 0o600))
}

func (p *place) look(links content.Links) (*deploy.Session, *deploy.Comparison) {
	p.t.Helper()
	s := p.session(links, deploy.Options{})
	c, err := s.Compare(p.t.Context())
	require.NoError(p.t, err)
	return s, c
}

func (p *place) deploy(opt deploy.Options) *site.Outcome {
	p.t.Helper()
	result, err := p.session(content.KeepLinks, opt).Deploy(p.t.Context())
	require.NoError(p.t, err)
	require.Empty(p.t, result.Outcome.Failed)
	return result.Outcome
}

func TestRefusalsNameEveryPath(t *testing.T) {
	p := newPlace(t, "content/index.html", "content/.env", "content/.git/config")
	_, c := p.look(content.KeepLinks)
	var refusal *deploy.Refusal
	require.ErrorAs(t, c.Refuse(deploy.Options{}), &refusal)
	require.ErrorIs(t, refusal, content.ErrGuard)
	require.Equal(t, []string{".env  (environment file)", ".git/  (version-control folder)"}, refusal.Paths)

	p = newPlace(t, "content/index.html")
	require.NoError(t, os.Symlink("../outside", filepath.Join(p.dir, "content", "out")))
	_, c = p.look(content.KeepLinks)
	require.ErrorIs(t, c.Refuse(deploy.Options{}), content.ErrLinks)

	p = newPlace(t, "content/css/a.css", "www/css")
	_, c = p.look(content.KeepLinks)
	require.ErrorIs(t, c.Refuse(deploy.Options{}), deploy.ErrBlocked)
	require.NoError(t, c.Refuse(deploy.Options{RemoveStrays: true}))
}

func TestConsentIsAskedForWhatNoDeploymentPutThere(t *testing.T) {
	p := newPlace(t, "content/a.html", "content/b.html", "content/c.html", "www/a.html", "www/stray.html")
	_, c := p.look(content.KeepLinks)
	require.Equal(t, &deploy.Consent{First: true, Replaced: []string{"a.html"}}, c.Consent(deploy.Options{}))
	require.Equal(t, &deploy.Consent{First: true, Replaced: []string{"a.html"}, Removed: []string{"stray.html"}}, c.Consent(deploy.Options{RemoveStrays: true}))

	p.deploy(deploy.Options{})
	_, c = p.look(content.KeepLinks)
	require.False(t, c.Consent(deploy.Options{}).Needed())
	require.True(t, c.Unchanged(deploy.Options{}))

	p.write("www/b.html", "edited")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "www", "c.html")))
	_, c = p.look(content.KeepLinks)
	require.Equal(t, &deploy.Consent{Drifted: []string{"b.html", "c.html"}}, c.Consent(deploy.Options{}))

	for _, name := range []string{"a", "b", "c"} {
		require.NoError(t, os.Remove(filepath.Join(p.dir, "content", name+".html")))
	}
	_, c = p.look(content.KeepLinks)
	require.True(t, c.Consent(deploy.Options{}).Empty)
}

func TestMoreThanIsLikelyToBeMeantIsRemovedAfterAQuestion(t *testing.T) {
	p := newPlace(t)
	for i := range 30 {
		p.write(fmt.Sprintf("content/log/%02d.html", i), "gannets")
	}
	consent := func(sources string) *deploy.Consent {
		opt := deploy.Options{Sources: sources}
		s := p.session(content.KeepLinks, opt)
		c, err := s.Compare(t.Context())
		require.NoError(t, err)
		return c.Consent(opt)
	}
	p.deploy(deploy.Options{Sources: "content"})
	for i := range 15 {
		require.NoError(t, os.Remove(filepath.Join(p.dir, "content", "log", fmt.Sprintf("%02d.html", i))))
	}
	require.False(t, consent("content").Needed(), "half of it")
	require.False(t, consent("").Needed(), "a content that is not told of")
	other := consent("a.pdf")
	require.Equal(t, "content", other.Elsewhere)
	require.Len(t, other.Retired, 15)
	require.NoError(t, os.Remove(filepath.Join(p.dir, "content", "log", "29.html")))
	most := consent("content")
	require.True(t, most.Most)
	require.Len(t, most.Retired, 16)
	require.Empty(t, most.Elsewhere)
}

func TestWhatCannotBeReadHereIsNotRetiredThere(t *testing.T) {
	p := newPlace(t, "content/index.html", "content/log/may.html", "content/log/june.html")
	p.deploy(deploy.Options{})
	log := filepath.Join(p.dir, "content", "log")
	require.NoError(t, os.RemoveAll(log))
	require.NoError(t, os.Symlink("nowhere", log))
	s, c := p.look(content.FollowLinks)
	require.Len(t, c.Content.Failed, 1)
	retired, _ := c.Result.Count(diff.Retired)
	require.Zero(t, retired)
	s.Options.Partial = true
	out, err := s.Publish(t.Context(), c)
	require.NoError(t, err)
	require.Equal(t, "log", out.Failed[0].Path)
	require.FileExists(t, filepath.Join(p.dir, "www", "log", "may.html"))

	// And it is still recorded: once the source is fixed, there is nothing to do.
	require.NoError(t, os.Remove(log))
	p.write("content/log/may.html", "content/log/may.html")
	p.write("content/log/june.html", "content/log/june.html")
	_, c = p.look(content.KeepLinks)
	require.False(t, c.Result.Publishes(false), "%+v", c.Result.Changes)
}

func TestRollbackAndWhatIsGone(t *testing.T) {
	for name, brief := range map[string]int{"all is listed": 0, "what differs is": 1} {
		t.Run(name, func(t *testing.T) { rollBackAndMiss(t, brief) })
	}
}

func rollBackAndMiss(t *testing.T, brief int) {
	p := newPlace(t, "content/index.html", "content/old.html", "content/same.html")
	p.brief = brief
	p.deploy(deploy.Options{})
	p.write("content/index.html", "second")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "content", "old.html")))
	p.deploy(deploy.Options{})

	s, _ := p.look(content.KeepLinks)
	between, err := deploy.Between(t.Context(), s.Engine, 1, 2)
	require.NoError(t, err)
	var changes []string
	for _, c := range between.Changes {
		changes = append(changes, c.Status.String()+" "+c.Path())
	}
	require.Equal(t, []string{"changed index.html", "retired old.html"}, changes)

	s.Content = deploy.Earlier(1)
	c, err := s.Compare(t.Context())
	require.NoError(t, err)
	require.Equal(t, brief > 0, c.Content.Whole != nil)
	first, err := calls.Deployment.On(t.Context(), s.Engine, 1)
	require.NoError(t, err)
	require.Equal(t, first.Tree(), c.TreeDigest())
	require.False(t, c.Unchanged(deploy.Options{}))
	require.False(t, c.Consent(deploy.Options{}).Needed())
	back, err := s.Deploy(t.Context())
	require.NoError(t, err)
	require.Zero(t, back.Outcome.SentBytes)
	require.Equal(t, 3, back.Outcome.Number)
	require.FileExists(t, filepath.Join(p.dir, "www", "old.html"))
	p.settle(3)
	s, _ = p.look(content.KeepLinks)
	s.Content = deploy.Earlier(3)
	again, err := s.Deploy(t.Context())
	require.NoError(t, err)
	require.True(t, again.Unchanged, "it is the current one")

	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".www.tartine", "kept")))
	s, _ = p.look(content.KeepLinks)
	s.Content = deploy.Earlier(2)
	_, err = s.Compare(t.Context())
	var gone *deploy.GoneError
	require.ErrorAs(t, err, &gone)
	require.Equal(t, []string{"index.html"}, gone.Paths)
	s.Content = deploy.Earlier(9)
	_, err = s.Compare(t.Context())
	var notKept *site.NotKeptError
	require.True(t, errors.As(err, &notKept) && strings.Contains(err.Error(), "deployment 9"))
}

func TestARootThatBecameALinkIsAskedAboutAndNoStraysAreRemovedThroughIt(t *testing.T) {
	p := newPlace(t, "content/index.html")
	_, c := p.look(content.KeepLinks)
	require.NoError(t, c.Refuse(deploy.Options{RemoveStrays: true}))
	c.Survey.Moved = "/srv/other"
	require.ErrorIs(t, c.Refuse(deploy.Options{RemoveStrays: true}), deploy.ErrMoved)
	require.NoError(t, c.Refuse(deploy.Options{}))
	consent := c.Consent(deploy.Options{})
	require.True(t, consent.Needed())
	require.Equal(t, "/srv/other", consent.Moved)
}

func withOpen(entries []manifest.Entry, open func(path string) (io.ReadCloser, error)) *content.Content {
	c := content.Of(entries)
	c.Open = open
	return c
}

// TestASessionRunsAnyContentAnyNumberOfTimes brings three states of a content that is in no folder to one open site.
func TestASessionRunsAnyContentAnyNumberOfTimes(t *testing.T) {
	p := newPlace(t)
	s, person := p.session(content.KeepLinks, deploy.Options{}), &nobody{}
	text := "first"
	s.Person, s.Content = person, func(context.Context) (*content.Content, error) {
		entry := manifest.Entry{Path: "index.html", Attributes: manifest.Attributes{Mode: 0o644}, Size: int64(len(text)), Digest: sha256.Sum256([]byte(text))}
		return withOpen([]manifest.Entry{entry}, func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }), nil
	}
	for i, now := range []string{"first", "second", "third"} {
		text = now
		result, err := s.Deploy(t.Context())
		require.NoError(t, err)
		require.Equal(t, i+1, result.Outcome.Number)
		again, err := s.Deploy(t.Context())
		require.NoError(t, err)
		require.True(t, again.Unchanged, "%+v stale %v", again.Result.Changes, again.Result.Stale)
	}
	there, err := os.ReadFile(filepath.Join(p.dir, "www", "index.html"))
	require.NoError(t, err)
	require.Equal(t, "third", string(there))
	require.Len(t, person.told, 3*2+3, "each comparison, and each time what is to be done")

	text, s.Options.Trial = "fourth", true
	result, err := s.Deploy(t.Context())
	require.NoError(t, err)
	require.False(t, result.Unchanged)
	require.Nil(t, result.Outcome, "a trial publishes nothing")
	s.Options.Trial, person.refuse = false, errors.New("no")
	_, err = s.Deploy(t.Context())
	require.ErrorIs(t, err, person.refuse)
	there, err = os.ReadFile(filepath.Join(p.dir, "www", "index.html"))
	require.NoError(t, err)
	require.Equal(t, "third", string(there))
}

// overtaken is an engine that another deployment overtakes a number of times.
type overtaken struct {
	calls.Engine
	times int
}

func (o *overtaken) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	if _, deploys := question.(*calls.Staging); deploys && o.times > 0 {
		o.times--
		return &site.OvertakenError{Expected: 0, Found: 1}
	}
	return o.Engine.Do(ctx, call, question, answer, watch)
}

func TestASessionThatMayWaitBeginsAnewWhenItIsOvertaken(t *testing.T) {
	p := newPlace(t, "content/index.html")
	s, person := p.session(content.KeepLinks, deploy.Options{}), &nobody{}
	s.Engine, s.Person = &overtaken{s.Engine, 2}, person
	_, err := s.Deploy(t.Context())
	var lost *site.OvertakenError
	require.ErrorAs(t, err, &lost)
	s.Options.Wait = time.Minute
	result, err := s.Deploy(t.Context())
	require.NoError(t, err)
	require.Equal(t, 1, result.Outcome.Number)
	require.Contains(t, person.told, deploy.Overtaken{Number: 1})
}

// TestAContentThatCannotAllBeReadAgainIsNotDeployed has a part of a content be lost: at once, and when it has been staged.
func TestAContentThatCannotAllBeReadAgainIsNotDeployed(t *testing.T) {
	lost := errors.New("input/output error")
	for _, asked := range []int{1, 2} {
		p := newPlace(t, "content/index.html", "content/log/may.html")
		s := p.session(content.KeepLinks, deploy.Options{})
		scan := s.Content
		s.Content = func(ctx context.Context) (*content.Content, error) {
			c, err := scan(ctx)
			times := 0
			c.Lacks = func() error {
				if times++; times >= asked {
					return lost
				}
				return nil
			}
			return c, err
		}
		_, err := s.Deploy(t.Context())
		require.ErrorIs(t, err, lost)
		require.NoFileExists(t, filepath.Join(p.dir, "www", "index.html"))
		p.deploy(deploy.Options{})
		require.FileExists(t, filepath.Join(p.dir, "www", "index.html"), "it is not locked")
	}
}
