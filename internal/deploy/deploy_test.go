package deploy_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/diff"
	"tartine/internal/filter"
	"tartine/internal/fsys/osfs"
	"tartine/internal/site"
)

// place is a folder with content in one folder of it and a site in another.
type place struct {
	t   *testing.T
	dir string
}

func newPlace(t *testing.T, files ...string) *place {
	p := &place{t, t.TempDir()}
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

func (p *place) look(links content.Links) (*site.Site, *deploy.Comparison) {
	p.t.Helper()
	f, err := osfs.Open(p.dir)
	require.NoError(p.t, err)
	p.t.Cleanup(func() { f.Close() })
	s, err := site.Open(p.t.Context(), f, "www", "www", site.Options{})
	require.NoError(p.t, err)
	sources := []content.Source{{Path: filepath.Join(p.dir, "content"), Dest: ".", Rules: &filter.Set{}}}
	scan := deploy.BeginScan(p.t.Context(), sources, content.Options{Links: links})
	defer scan.Stop()
	c, err := deploy.Look(p.t.Context(), s, scan, deploy.ByRecord, site.Retire{}, nil)
	require.NoError(p.t, err)
	return s, c
}

func (p *place) deploy(opt deploy.Options) *site.Outcome {
	p.t.Helper()
	s, c := p.look(content.KeepLinks)
	require.NoError(p.t, c.Refuse(opt))
	out, err := deploy.Run(p.t.Context(), s, c, opt, &site.Watch{})
	require.NoError(p.t, err)
	require.Empty(p.t, out.Failed)
	return out
}

func TestRefusalsNameEveryPath(t *testing.T) {
	p := newPlace(t, "content/index.html", "content/.env", "content/.git/config")
	_, c := p.look(content.KeepLinks)
	var refusal *deploy.Refusal
	require.ErrorAs(t, c.Refuse(deploy.Options{}), &refusal)
	require.ErrorIs(t, refusal, deploy.ErrGuard)
	require.Equal(t, []string{".env  (environment file)", ".git/  (version-control folder)"}, refusal.Paths)

	p = newPlace(t, "content/index.html")
	require.NoError(t, os.Symlink("../outside", filepath.Join(p.dir, "content", "out")))
	_, c = p.look(content.KeepLinks)
	require.ErrorIs(t, c.Refuse(deploy.Options{}), deploy.ErrLinks)

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

func TestWhatCannotBeReadHereIsNotRetiredThere(t *testing.T) {
	p := newPlace(t, "content/index.html", "content/log/may.html", "content/log/june.html")
	p.deploy(deploy.Options{})
	log := filepath.Join(p.dir, "content", "log")
	require.NoError(t, os.RemoveAll(log))
	require.NoError(t, os.Symlink("nowhere", log))
	s, c := p.look(content.FollowLinks)
	require.Len(t, c.Tree.Failed, 1)
	retired, _ := c.Result.Count(diff.Retired)
	require.Zero(t, retired)
	out, err := deploy.Run(t.Context(), s, c, deploy.Options{Partial: true}, &site.Watch{})
	require.NoError(t, err)
	require.Equal(t, "log", out.Failed[0].Path)
	require.FileExists(t, filepath.Join(p.dir, "www", "log", "may.html"))

	// And it is still recorded: once the source is mended, there is nothing to do.
	require.NoError(t, os.Remove(log))
	p.write("content/log/may.html", "content/log/may.html")
	p.write("content/log/june.html", "content/log/june.html")
	_, c = p.look(content.KeepLinks)
	require.False(t, c.Result.Publishes(false), "%+v", c.Result.Changes)
}

func TestRollbackAndWhatIsGone(t *testing.T) {
	p := newPlace(t, "content/index.html", "content/old.html")
	p.deploy(deploy.Options{})
	p.write("content/index.html", "second")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "content", "old.html")))
	p.deploy(deploy.Options{})

	s, _ := p.look(content.KeepLinks)
	between, err := deploy.Between(t.Context(), s, 1, 2)
	require.NoError(t, err)
	var changes []string
	for _, c := range between.Changes {
		changes = append(changes, string(c.Status)+" "+c.Path)
	}
	require.Equal(t, []string{"changed index.html", "retired old.html"}, changes)

	back, err := deploy.LookBack(t.Context(), s, 1, false, site.Retire{}, nil)
	require.NoError(t, err)
	out, err := deploy.Rollback(t.Context(), s, back, deploy.Options{}, &site.Watch{})
	require.NoError(t, err)
	require.Zero(t, out.SentBytes)
	require.Equal(t, 3, out.Number)
	require.FileExists(t, filepath.Join(p.dir, "www", "old.html"))

	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".www.tartine", "kept")))
	s, _ = p.look(content.KeepLinks)
	_, err = deploy.LookBack(t.Context(), s, 2, false, site.Retire{}, nil)
	var gone *deploy.GoneError
	require.ErrorAs(t, err, &gone)
	require.Equal(t, []string{"index.html"}, gone.Paths)
	_, err = deploy.LookBack(t.Context(), s, 9, false, site.Retire{}, nil)
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
