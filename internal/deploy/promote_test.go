package deploy_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/filter"
	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// counted is an engine of which is known what it was asked. It is no calls.Opener, as those at a far end are not.
type counted struct {
	calls.Engine
	mu    sync.Mutex
	asked map[string]int
	late  time.Duration // how long it takes to answer anything
}

func (c *counted) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	c.mu.Lock()
	c.asked[call.Title()]++
	c.mu.Unlock()
	time.Sleep(c.late)
	return c.Engine.Do(ctx, call, question, answer, watch)
}

// to gives a session that brings what is at the site of another place to this one.
func (p *place) to(from *place, drifted deploy.Drifted, opt site.Options) (*deploy.Session, *counted) {
	p.t.Helper()
	asked := &counted{Engine: from.session(content.KeepLinks, deploy.Options{}).Engine, asked: map[string]int{}}
	promotion := &deploy.Promotion{From: "there", Drifted: drifted, Open: func(context.Context) (calls.Engine, error) { return asked, nil }}
	p.t.Cleanup(promotion.Close)
	f, err := osfs.Open(p.dir)
	require.NoError(p.t, err)
	p.t.Cleanup(func() { f.Close() })
	opened, err := site.Open(p.t.Context(), f, "www", "www", opt)
	require.NoError(p.t, err)
	sources := []content.Source{{Path: "there", Dest: ".", Rules: &filter.Set{}, Entries: promotion.Entries()}}
	return &deploy.Session{Engine: calls.NewHere(opened), Person: &nobody{}, Content: func(ctx context.Context) (*content.Content, error) {
		tree, err := content.Scan(ctx, sources, content.Options{Links: content.KeepLinks, KeepModes: true})
		if err != nil {
			return nil, err
		}
		c := tree.Content()
		c.Promoted, c.Origin = promotion.Promoted, promotion.Origin
		return c, nil
	}}, asked
}

func TestPromotionBringsWhatIsRecordedInFewCalls(t *testing.T) {
	from, to := newPlace(t), newPlace(t)
	for i := range 1200 {
		from.write(fmt.Sprintf("content/%d/%04d.html", i%7, i), fmt.Sprint("page ", i))
	}
	from.write("content/film.webm", strings.Repeat("large", 100_000))
	require.NoError(t, os.Chmod(filepath.Join(from.dir, "content", "film.webm"), 0o755))
	from.deploy(deploy.Options{})
	from.write("www/stray.html", "nobody deployed it")
	s, asked := to.to(from, "", site.Options{})
	result, err := s.Deploy(t.Context())
	require.NoError(t, err)
	require.Empty(t, result.Outcome.Failed)
	require.Equal(t, 1201, result.Outcome.SentFiles)
	require.Contains(t, []int{12, 3}, asked.asked["gather"], "as is fit for a short line, or for a long one where this machine is busy")
	delete(asked.asked, "gather")
	require.Equal(t, map[string]int{"unfinished": 1, "current": 1, "read": 1}, asked.asked)
	past, err := calls.History.On(t.Context(), s.Engine, calls.None{})
	require.NoError(t, err)
	require.Equal(t, "there", past[0].Promoted.From)
	require.Equal(t, 1, past[0].Promoted.Deployment)
	require.Equal(t, past[0].Tree, past[0].Promoted.Tree)
	require.Equal(t, "page 8", to.read("www/1/0008.html"))
	require.NoFileExists(t, filepath.Join(to.dir, "www", "stray.html"))

	s, asked = to.to(from, "", site.Options{})
	result, err = s.Deploy(t.Context())
	require.NoError(t, err)
	require.True(t, result.Unchanged)
	require.Equal(t, map[string]int{"unfinished": 1, "current": 1}, asked.asked)

	// Over a long line more comes in a call.
	far := newPlace(t)
	s, asked = far.to(from, "", site.Options{})
	asked.late = 10 * time.Millisecond
	_, err = s.Deploy(t.Context())
	require.NoError(t, err)
	require.Equal(t, 3, asked.asked["gather"])
}

// early keeps whether the digests of folders came with a comparison.
type early struct {
	calls.Engine
	with     []bool
	in       map[string]bool // folders that alone came
	foretold int
}

func (e *early) Foretell() { e.foretold++ }

func (e *early) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	if q, is := question.(*calls.Comparing); is {
		e.with, e.in = append(e.with, len(q.Folders) > 0 && len(q.Folders) == len(q.Of)), q.In
	}
	return e.Engine.Do(ctx, call, question, answer, watch)
}

// TestFoldersAreDigestedEarlyWhereAnotherTreeIsRecorded has a session know what is recorded before it asks.
func TestFoldersAreDigestedEarlyWhereAnotherTreeIsRecorded(t *testing.T) {
	p := newPlace(t, "content/a.html", "content/log/may.html")
	sources := []content.Source{{Path: filepath.Join(p.dir, "content"), Dest: ".", Rules: &filter.Set{}}}
	foretold, in := 0, map[string]bool{}
	compare := func(recorded manifest.Digest, opt content.Options) (bool, *deploy.Comparison) {
		s := p.session(content.KeepLinks, deploy.Options{})
		asked := &early{Engine: s.Engine}
		s.Engine, s.Recorded, s.Distant = asked, recorded, true
		s.Content = func(ctx context.Context) (*content.Content, error) {
			tree, err := content.Scan(ctx, sources, opt)
			require.NoError(t, err)
			return tree.Content(), nil
		}
		c, err := s.Compare(t.Context())
		require.NoError(t, err)
		foretold, in = asked.foretold, asked.in
		return asked.with[0], c
	}
	folded := content.Options{Links: content.KeepLinks, Fold: 1}
	with, c := compare(manifest.Digest{}, folded)
	require.False(t, with, "it is not known what is recorded")
	with, _ = compare(manifest.Digest{1}, folded)
	require.True(t, with)
	require.Equal(t, 1, foretold)
	with, _ = compare(c.TreeDigest(), folded)
	require.False(t, with, "it is the same")
	require.Zero(t, foretold)
	folded.Cache = content.NewCache(t.TempDir())
	_, _ = compare(c.TreeDigest(), folded)
	require.Equal(t, 1, foretold, "before it is known which tree it is")
	_, _ = compare(c.TreeDigest(), folded)
	require.Zero(t, foretold, "it is known from before")
	was := c.TreeDigest()
	p.write("content/log/may.html", "another")
	with, _ = compare(was, folded)
	require.True(t, with)
	require.Zero(t, foretold)
	require.Equal(t, map[string]bool{"log": true}, in, "it is known in which folder alone there is something else")
	with, _ = compare(was, folded)
	require.True(t, with)
	require.Equal(t, map[string]bool{"log": true}, in, "and what is there")
	with, _ = compare(manifest.Digest{1}, folded)
	require.True(t, with)
	require.Nil(t, in)
	with, _ = compare(manifest.Digest{1}, content.Options{Links: content.KeepLinks})
	require.False(t, with, "a small one is digested when it is asked for")
	folded.Later = 1
	with, _ = compare(manifest.Digest{1}, folded)
	require.False(t, with, "not all digests are known")
}

func TestWhatDriftedIsNotPromotedUnasked(t *testing.T) {
	from, to := newPlace(t, "content/a.html", "content/b.html", "content/c.html"), newPlace(t)
	var unrecorded *deploy.UnrecordedError
	s, _ := to.to(from, "", site.Options{})
	_, err := s.Deploy(t.Context())
	require.ErrorAs(t, err, &unrecorded)
	from.deploy(deploy.Options{})
	from.write("www/b.html", "altered")
	require.NoError(t, os.Remove(filepath.Join(from.dir, "www", "c.html")))
	var drift *deploy.DriftError
	s, _ = to.to(from, "", site.Options{})
	_, err = s.Deploy(t.Context())
	require.ErrorAs(t, err, &drift)
	require.Equal(t, []string{"b.html", "c.html"}, drift.Paths)

	s, _ = to.to(from, deploy.TakeRecorded, site.Options{})
	result, err := s.Deploy(t.Context())
	require.NoError(t, err)
	require.Len(t, result.Outcome.Failed, 2, "what was recorded is gone")
	for _, f := range result.Outcome.Failed {
		require.ErrorContains(t, f.Err, "what was deployed there was altered or removed since")
	}
	require.Zero(t, result.Outcome.Number)
	s, _ = to.to(from, deploy.TakeStanding, site.Options{})
	_, err = s.Deploy(t.Context())
	require.NoError(t, err)
	require.Equal(t, "altered", to.read("www/b.html"))
	require.NoFileExists(t, filepath.Join(to.dir, "www", "c.html"))
}

// TestWhatChangesWhileItIsPromotedIsNotBrought is checked by its digest at the site that takes it.
func TestWhatChangesWhileItIsPromotedIsNotBrought(t *testing.T) {
	from, to := newPlace(t, "content/a.html", "content/b.html"), newPlace(t)
	from.deploy(deploy.Options{})
	s, _ := to.to(from, "", site.Options{})
	c, err := s.Compare(t.Context())
	require.NoError(t, err)
	from.write("www/b.html", "content/B.html")
	result, err := s.DeployCompared(t.Context(), c)
	require.NoError(t, err)
	require.Len(t, result.Outcome.Failed, 1)
	require.Equal(t, "b.html", result.Outcome.Failed[0].Path)
	require.NoFileExists(t, filepath.Join(to.dir, "www", "a.html"), "nor is the rest published")
}

// TestContentIsTakenFromBesideTheSite by its digest: what is not there as it should be is sent.
func TestContentIsTakenFromBesideTheSite(t *testing.T) {
	from, to := newPlace(t, "content/a.html", "content/b.html", "content/c.html"), newPlace(t)
	from.deploy(deploy.Options{})
	there := ""
	s, asked := to.to(from, "", site.Options{Beside: func(b site.Beside) (fsys.FS, error) {
		there = b.Root
		require.NoError(t, os.Remove(filepath.Join(from.dir, "www", "c.html"))) // after it was compared
		require.NoError(t, os.Symlink("a.html", filepath.Join(from.dir, "www", "c.html")))
		other := newPlace(t)
		other.write("a.html", "content/a.html")
		other.write("b.html", "content/B.html")
		require.NoError(t, os.Symlink("a.html", filepath.Join(other.dir, "c.html")))
		return osfs.Open(other.dir)
	}})
	s.Options.Beside = &site.Beside{Root: "/srv/www/there", Dest: "."}
	result, err := s.Deploy(t.Context())
	require.NoError(t, err)
	require.Equal(t, "/srv/www/there", there)
	require.Equal(t, 1, result.Outcome.Copied)
	require.Equal(t, 1, result.Outcome.SentFiles)
	require.Len(t, result.Outcome.Failed, 1)
	require.Equal(t, 1, asked.asked["gather"])

	s, _ = to.to(from, deploy.TakeStanding, site.Options{Beside: func(site.Beside) (fsys.FS, error) { return nil, errors.New("not for you") }})
	s.Options.Beside = &site.Beside{Root: "/srv/www/there", Dest: "."}
	result, err = s.Deploy(t.Context())
	require.NoError(t, err)
	require.Zero(t, result.Outcome.Copied)
	require.NotZero(t, result.Outcome.Number)
}

// TestWhatIsPromotedMayBeOpenedTwice and in any order.
func TestWhatIsPromotedMayBeOpenedTwice(t *testing.T) {
	from := newPlace(t)
	for i := range 1100 {
		from.write(fmt.Sprintf("content/%04d.html", i), fmt.Sprint(i))
	}
	from.deploy(deploy.Options{})
	engine := &counted{Engine: from.session(content.KeepLinks, deploy.Options{}).Engine, asked: map[string]int{}}
	p := &deploy.Promotion{From: "there", Open: func(context.Context) (calls.Engine, error) { return engine, nil }}
	defer p.Close()
	source := p.Entries()
	listed, err := source.List(t.Context())
	require.NoError(t, err)
	files := listed.Entries()
	source.Want(files)
	for _, i := range []int{1099, 3, 3, 700, 1099} {
		in, err := source.Open(files[i].Path)
		require.NoError(t, err)
		text, err := io.ReadAll(in)
		require.NoError(t, err)
		require.Equal(t, fmt.Sprint(i), string(text))
	}
	// Each of three places is read where it is asked for; what follows on two of them may be read ahead, or not yet.
	engine.mu.Lock()
	defer engine.mu.Unlock()
	require.GreaterOrEqual(t, engine.asked["gather"], 3)
	require.LessOrEqual(t, engine.asked["gather"], 5)
	require.Equal(t, 2, engine.asked["read"])
}
