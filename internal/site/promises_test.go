package site_test

import (
	"context"
	"io"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/site"
)

// liar reports success for one operation and does nothing, or something else.
type liar struct {
	*osfs.FS
	rename func(to string) bool // is not done
	link   func(name string) string
	mode   func(name string) bool // is not set
}

func (l *liar) Rename(ctx context.Context, from, to string) error {
	if l.rename != nil && l.rename(to) {
		return nil
	}
	return l.FS.Rename(ctx, from, to)
}

func (l *liar) Symlink(ctx context.Context, target, name string) error {
	if l.link != nil {
		target = l.link(target)
	}
	return l.FS.Symlink(ctx, target, name)
}

func (l *liar) SetAttr(ctx context.Context, name string, attr fsys.Attributes) error {
	if l.mode != nil && l.mode(name) {
		return nil
	}
	return l.FS.SetAttr(ctx, name, attr)
}

// TestWhatIsNotThereAfterPublishingIsNotVerified holds for a place that reports what it did not do.
func TestWhatIsNotThereAfterPublishingIsNotVerified(t *testing.T) {
	third := tree{"index.html": "<h1>", "css/a.css": "longer than before", "home": "->css/a.css", "cgi/tide.sh": "#!"}
	for name, c := range map[string]struct {
		lie  liar
		want tree
		path string
	}{
		"a file that was not replaced":   {liar{rename: func(to string) bool { return to == "www/css/a.css" }}, third, "css/a.css"},
		"a file that never came":         {liar{rename: func(to string) bool { return to == "www/css/c.css" }}, second, "css/c.css"},
		"a link that leads elsewhere":    {liar{link: func(string) string { return "elsewhere" }}, third, "home"},
		"a mode that was not set":        {liar{mode: func(name string) bool { return name == "www/index.html" }}, first, "index.html"},
		"all is as it was reported":      {liar{}, third, ""},
		"what it was to be all the same": {liar{}, second, ""},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(first)
			if name == "a mode that was not set" {
				require.NoError(t, os.Chmod(w.dir+"/www/index.html", 0o600))
			}
			c.lie.FS = w.between.FS.(*osfs.FS)
			w.between.FS = &c.lie
			out, err := w.deploy(c.want)
			require.NoError(t, err)
			require.Equal(t, c.path == "", out.Verified)
			if c.path != "" {
				require.Len(t, out.Failed, 1)
				require.Equal(t, c.path, out.Failed[0].Path)
				require.ErrorContains(t, out.Failed[0].Err, "after publishing")
			}
		})
	}
}

// TestACancelledPublishGoesOn holds once the first step is done: a site that is half one edition and half another is worse than waiting.
func TestACancelledPublishGoesOn(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(first)
		ctx, cancel := context.WithCancel(t.Context())
		s, plan, err := w.plan(ctx, second)
		require.NoError(t, err)
		w.between.Before = func(op string, names ...string) error {
			if op == "rename" && strings.HasSuffix(names[1], "/publish.json") {
				cancel()
			}
			return nil
		}
		out, err := s.Deploy(ctx, plan, &site.Watch{})
		require.NoError(t, err)
		require.Equal(t, 2, out.Number)
		require.True(t, out.Verified)
		w.verify(second)
		require.Empty(t, w.lockFiles())
	})
}

func TestADeploymentThatIsCancelledWhileItSendsChangesNothing(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	ctx, cancel := context.WithCancel(t.Context())
	s, plan, err := w.plan(ctx, second)
	require.NoError(t, err)
	open, once := plan.Open, sync.OnceFunc(cancel)
	plan.Open = func(path string) (io.ReadCloser, error) { once(); return open(path) }
	_, err = s.Deploy(ctx, plan, &site.Watch{})
	require.ErrorIs(t, err, context.Canceled)
	require.Equal(t, first, w.stands())
	require.Empty(t, w.lockFiles())
	w.mustDeploy(second)
}

// TestWhatIsKeptMeanwhileIsNotTakenForWhatWasKept has a content come back from the kept store while a file with the same content and
// another mode goes, and is kept.
func TestWhatIsKeptMeanwhileIsNotTakenForWhatWasKept(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.jobs = 1
		w.mustDeploy(tree{"a.sh": "two", "x.css": "one"})
		w.mustDeploy(tree{"a.sh": "one", "x.css": "two"})
		last := tree{"a.sh/b": "three", "x.css": "one"} // the file goes before what is in its place comes
		out := w.mustDeploy(last)
		require.Equal(t, 1, out.Reused)
		w.verify(last)
		_, err := w.rollback(2)
		require.NoError(t, err)
		w.verify(tree{"a.sh": "one", "x.css": "two"})
	})
}

// TestWhatIsKeptIsTakenAlthoughTheSameGoesLater is at a place that cannot copy: what is removed is kept after all is placed.
func TestWhatIsKeptIsTakenAlthoughTheSameGoesLater(t *testing.T) {
	w := newWorld(t)
	w.far = true
	w.mustDeploy(tree{"a.css": "one", "b.css": "one", "index.html": "1"})
	w.mustDeploy(tree{"b.css": "one", "index.html": "1"})
	last := tree{"c.css": "one", "index.html": "1"}
	require.Zero(t, w.mustDeploy(last).SentFiles)
	w.verify(last)
	_, err := w.rollback(2)
	require.NoError(t, err)
	w.verify(tree{"b.css": "one", "index.html": "1"})
}
