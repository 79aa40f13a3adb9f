package content

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/filter"
	"tartine/internal/manifest"
)

// listed writes down what a content holds.
func listedOf(entries []manifest.Entry) string {
	var out strings.Builder
	for _, e := range entries {
		fmt.Fprintf(&out, "%s %s %04o %s%s\n", e.Kind, e.Path, e.Mode, e.Digest.Hex()[:8], e.Link)
	}
	return out.String()
}

// follows waits until a watch has seen what a scan finds, and fails when it never does.
func follows(t require.TestingT, w *Watching, sources []Source, opt Options) *Tree {
	deadline := time.Now().Add(5 * time.Second)
	for {
		ctx, stop := context.WithTimeout(context.Background(), 20*time.Millisecond)
		_, _ = w.Next(ctx, 0)
		stop()
		got, tree, waiting, err := w.Content(context.Background())
		require.NoError(t, err)
		want, err := Scan(context.Background(), sources, opt)
		require.NoError(t, err)
		if !waiting && listedOf(want.Entries()) == listedOf(got.Entries()) {
			return tree
		}
		if time.Now().After(deadline) {
			require.Equal(t, listedOf(want.Entries()), listedOf(got.Entries()))
		}
	}
}

// TestAWatchSeesWhatAScanFinds changes folders in any way: what a watch gives is always what a scan finds.
func TestAWatchSeesWhatAScanFinds(t *testing.T) {
	t.Parallel()
	maps, err := filter.NewRule("*.map", "")
	require.NoError(t, err)
	for _, links := range []Links{KeepLinks, FollowLinks} {
		t.Run(string(links), func(t *testing.T) {
			t.Parallel()
			rapid.Check(t, func(r *rapid.T) {
				dir, err := os.MkdirTemp(t.TempDir(), "")
				require.NoError(r, err)
				elsewhere := filepath.Join(dir, "elsewhere")
				for _, name := range []string{"site/a/b", "site/c", "more", "elsewhere/deep"} {
					require.NoError(r, os.MkdirAll(filepath.Join(dir, name), 0o755))
				}
				rules := &filter.Set{Excludes: []*filter.Rule{maps}}
				sources := []Source{{Path: filepath.Join(dir, "site"), Dest: ".", Rules: rules},
					{Path: filepath.Join(dir, "more") + "/", Dest: "img", Rules: rules}}
				opt := Options{Links: links, KeepModes: true}
				w := Watch(sources, opt, "", 0, nil)
				defer w.Close()
				w.rest = 2 * time.Millisecond
				_, _, _, err = w.Content(t.Context())
				require.NoError(r, err)
				names := []string{"site/a", "site/a/b", "site/c", "site/c/d", "site/index.html", "site/a/b/x.css", "site/a/x.map", "site/l", "more/p.svg", "more/q"}
				for range rapid.IntRange(1, 8).Draw(r, "changes") {
					name := filepath.Join(dir, rapid.SampledFrom(names).Draw(r, "name"))
					_ = os.MkdirAll(filepath.Dir(name), 0o755) // whatever is in the way
					switch rapid.SampledFrom([]string{"write", "write", "remove", "rename", "folder", "link", "mode", "in", "save"}).Draw(r, "what") {
					case "write":
						_ = os.WriteFile(name, []byte(rapid.StringN(0, 9, 9).Draw(r, "text")), 0o644)
					case "save": // as editors do
						if os.WriteFile(name+"~", []byte(rapid.StringN(0, 9, 9).Draw(r, "text")), 0o644) == nil {
							_ = os.Rename(name+"~", name)
						}
						_ = os.Remove(name + "~")
					case "remove":
						_ = os.RemoveAll(name) // where that can be
					case "rename":
						_ = os.Rename(name, filepath.Join(dir, rapid.SampledFrom(names).Draw(r, "to")))
					case "folder":
						_ = os.MkdirAll(filepath.Join(name, "n"), 0o755)
					case "link":
						_ = os.Symlink(elsewhere, name)
						_ = os.WriteFile(filepath.Join(elsewhere, "deep", "f"), []byte(name), 0o644)
					case "mode":
						_ = os.Chmod(name, 0o700)
					case "in": // a folder that comes with what is in it
						full := filepath.Join(dir, "outside")
						require.NoError(r, os.MkdirAll(filepath.Join(full, "deep"), 0o755))
						require.NoError(r, os.WriteFile(filepath.Join(full, "deep", "f"), []byte("moved in"), 0o644))
						if os.Rename(full, name) != nil {
							require.NoError(r, os.RemoveAll(full))
						}
					}
					if rapid.Bool().Draw(r, "look") {
						for _, s := range sources {
							_ = os.MkdirAll(s.Path, 0o755)
						}
						follows(r, w, sources, opt)
					}
				}
				for _, s := range sources {
					_ = os.MkdirAll(s.Path, 0o755)
				}
				follows(r, w, sources, opt)
			})
		})
	}
}

// TestAFolderUnderAKnownNameIsReadAnew puts one folder in the place of another: nothing in it has changed, and all of it is other.
func TestAFolderUnderAKnownNameIsReadAnew(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"site/img/deep/puffin.svg": "old", "other/deep/razorbill.svg": "new"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	sources := []Source{{Path: filepath.Join(dir, "site"), Dest: ".", Rules: &filter.Set{}}}
	w := Watch(sources, Options{}, "", 0, nil)
	defer w.Close()
	_, _, _, err := w.Content(t.Context())
	require.NoError(t, err)
	require.NoError(t, os.Rename(filepath.Join(dir, "site/img"), filepath.Join(dir, "before")))
	require.NoError(t, os.Rename(filepath.Join(dir, "other"), filepath.Join(dir, "site/img")))
	_, err = w.Next(t.Context(), 0)
	require.NoError(t, err)
	out, _, _, err := w.Content(t.Context())
	require.NoError(t, err)
	require.Len(t, out.Entries(), 1)
	require.Equal(t, "img/deep/razorbill.svg", out.Entries()[0].Path)
}

// TestOnlyWhatChangedIsReadAgain counts the folders that are read.
func TestOnlyWhatChangedIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	for i := range 20 {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, fmt.Sprint(i), "deep"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprint(i), "deep", "f"), nil, 0o644))
	}
	w := Watch([]Source{{Path: dir, Dest: ".", Rules: &filter.Set{}}}, Options{}, "", 0, nil)
	defer w.Close()
	_, _, _, err := w.Content(t.Context())
	require.NoError(t, err)
	require.Len(t, w.remembered(), 41)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "7", "deep", "f"), []byte("x"), 0o644))
	anew, err := w.Next(t.Context(), 0)
	require.NoError(t, err)
	require.False(t, anew)
	require.Len(t, w.remembered(), 40, "one folder is to be read, and no other")
	require.NotContains(t, w.remembered(), spot{0, filepath.Join(dir, "7", "deep")})
}

// TestAFileThatGrowsWaits has a file written to for seconds, beside one that is done.
func TestAFileThatGrowsWaits(t *testing.T) {
	dir := t.TempDir()
	w := Watch([]Source{{Path: dir, Dest: ".", Rules: &filter.Set{}}}, Options{}, "", 0, nil)
	defer w.Close()
	w.rest = 5 * Quiet // whoever writes may be held up by a slow disk
	_, _, _, err := w.Content(t.Context())
	require.NoError(t, err)
	growing, err := os.Create(filepath.Join(dir, "plates.zip"))
	require.NoError(t, err)
	defer growing.Close()
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for tick := time.NewTicker(Quiet / 5); ctx.Err() == nil; <-tick.C {
			_, _ = growing.WriteString("more")
		}
	}()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.html"), []byte("done"), 0o644))
	began := time.Now()
	_, err = w.Next(t.Context(), 0)
	require.NoError(t, err)
	require.Less(t, time.Since(began), 2*Longest, "changes that never stop are not waited for")
	got, _, waiting, err := w.Content(t.Context())
	require.NoError(t, err)
	require.True(t, waiting)
	require.Equal(t, []string{"plates.zip"}, got.Left)
	require.Len(t, got.Entries(), 1)
	require.Equal(t, "index.html", got.Entries()[0].Path)
	stop()
	<-done
	follows(t, w, w.sources, Options{})
}

// TestWhatTheSystemLosesIsLookedFor has events lost, and then none come at all.
func TestWhatTheSystemLosesIsLookedFor(t *testing.T) {
	dir := t.TempDir()
	sources := []Source{{Path: dir, Dest: ".", Rules: &filter.Set{}}}
	var told []error
	w := Watch(sources, Options{}, "", 0, func(why error) { told = append(told, why) })
	defer w.Close()
	_, _, _, err := w.Content(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, w.remembered())
	w.fallBack(fsnotify.ErrEventOverflow)
	require.Empty(t, w.remembered(), "what is known may be old")
	follows(t, w, sources, Options{})
	w.fallBack(os.ErrPermission)
	w.every = 50 * time.Millisecond
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "a", "b"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a", "b", "c"), []byte("x"), 0o644))
	follows(t, w, sources, Options{})
	w.fallBack(os.ErrPermission)
	require.Equal(t, []error{os.ErrPermission}, told, "it is said once")
}

// TestEverythingIsLookedAtWhereThatIsAskedFor polls, and says nothing while nothing changes.
func TestEverythingIsLookedAtWhereThatIsAskedFor(t *testing.T) {
	dir := t.TempDir()
	sources := []Source{{Path: dir, Dest: ".", Rules: &filter.Set{}}}
	w := Watch(sources, Options{}, "", 20*time.Millisecond, nil)
	defer w.Close()
	_, _, _, err := w.Content(t.Context())
	require.NoError(t, err)
	ctx, stop := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer stop()
	_, err = w.Next(ctx, 0)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("x"), 0o644))
	_, err = w.Next(t.Context(), 0)
	require.NoError(t, err)
	follows(t, w, sources, Options{})
}

func TestSettingsAreWatchedToo(t *testing.T) {
	dir := t.TempDir()
	settings := filepath.Join(dir, "tartine.yaml")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "site"), 0o755))
	require.NoError(t, os.WriteFile(settings, nil, 0o644))
	w := Watch([]Source{{Path: filepath.Join(dir, "site"), Dest: ".", Rules: &filter.Set{}}}, Options{}, settings, 0, nil)
	defer w.Close()
	_, _, _, err := w.Content(t.Context())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("x"), 0o644)) // is nothing of ours
	require.NoError(t, os.WriteFile(settings+".new", []byte("name: x"), 0o644))
	require.NoError(t, os.Rename(settings+".new", settings))
	anew, err := w.Next(t.Context(), 0)
	require.NoError(t, err)
	require.True(t, anew)
}

func TestAFolderThatChangesWhileItIsReadIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	w := Watch([]Source{{Path: dir, Dest: ".", Rules: &filter.Set{}}}, Options{}, "", 0, nil)
	defer w.Close()
	w.enter(dir)
	at := spot{0, dir}
	_, state := w.recall(at)
	w.note(fsnotify.Event{Name: filepath.Join(dir, "new.html"), Op: fsnotify.Write})
	w.remember(at, &known{}, state)
	k, state := w.recall(at)
	require.Nil(t, k, "what was read may be old")
	w.remember(at, &known{}, state)
	k, _ = w.recall(at)
	require.NotNil(t, k)
}

func TestASourceThatGoesAndComesAgainIsSeen(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "site")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("1"), 0o644))
	sources := []Source{{Path: dir, Dest: ".", Rules: &filter.Set{}}}
	w := Watch(sources, Options{}, "", 0, nil)
	defer w.Close()
	_, _, _, err := w.Content(t.Context())
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(dir))
	_, err = w.Next(t.Context(), 0)
	require.NoError(t, err)
	_, _, _, err = w.Content(t.Context())
	var missing *SourceError
	require.ErrorAs(t, err, &missing)
	for err == nil || errors.As(err, &missing) { // until all is told of that
		ctx, stop := context.WithTimeout(t.Context(), 3*Quiet)
		_, err = w.Next(ctx, 0)
		stop()
	}
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b"), []byte("2"), 0o644))
	ctx, stop := context.WithTimeout(t.Context(), 5*time.Second)
	defer stop()
	_, err = w.Next(ctx, 0)
	require.NoError(t, err, "that it comes again is told of")
	follows(t, w, sources, Options{})
}

// remembered gives the folders that are known.
func (w *Watching) remembered() map[spot]*known {
	w.mu.Lock()
	defer w.mu.Unlock()
	return maps.Clone(w.folders)
}
