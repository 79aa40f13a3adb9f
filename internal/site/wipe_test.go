package site_test

import (
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/farend"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/site"
)

func (w *world) wipe(asked site.Wiping) (*site.Wiped, error) {
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	return s.Wipe(w.t.Context(), &asked, &site.Watch{})
}

// names gives all that is in the folder that the root and the record are in.
func (w *world) names() (out []string) {
	list, err := os.ReadDir(w.dir)
	require.NoError(w.t, err)
	for _, entry := range list {
		out = append(out, entry.Name())
	}
	return out
}

// anyPlace runs a test in place and switched, over a place that removes folders quickly and over one that does not.
func anyPlace(t *testing.T, test func(t *testing.T, newWorld func(t *testing.T) *world)) {
	for name, plain := range map[string]bool{"quickly": false, "name by name": true} {
		t.Run(name, func(t *testing.T) {
			bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
				test(t, func(t *testing.T) *world {
					w := newWorld(t)
					if plain {
						w.between.FS = fsystest.Plain{FS: w.between.FS}
					}
					return w
				})
			})
		})
	}
}

var gannet = tree{"index.html": "<h1>", "log/may.html": "<p>", "log/june.html": "<p>june", "img/rock.svg": "<svg>",
	"current": "->log", "drafts/": "", "cgi/tide.sh": "#!/bin/sh"}

func TestAWipeTakesRootAndRecordAway(t *testing.T) {
	anyPlace(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(tree{"old.html": "old"})
		w.mustDeploy(gannet)
		outside := filepath.Join(w.dir, "outside")
		require.NoError(t, os.Mkdir(outside, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(outside, "ours"), []byte("stays"), 0o644))
		require.NoError(t, os.Symlink("../outside", filepath.Join(w.dir, "www", "away")))
		require.NoError(t, os.WriteFile(filepath.Join(w.dir, "www", "caf\xe9"), []byte("odd"), 0o644))

		there, err := w.wipe(site.Wiping{Trial: true})
		require.NoError(t, err)
		require.Equal(t, [3]int{8, 2, 2}, [3]int{there.Files, there.Strays, there.Deployments})
		require.Len(t, w.stands(), 9, "a trial changes nothing")

		gone, err := w.wipe(site.Wiping{})
		require.NoError(t, err)
		require.Empty(t, gone.Left)
		require.False(t, gone.RootStays)
		require.Equal(t, []string{"outside"}, w.names())
		require.FileExists(t, filepath.Join(outside, "ours"), "a link is removed, and not followed")
		if !w.switched {
			require.Equal(t, [2]int{8, there.Folders + 1}, [2]int{gone.Files, gone.Folders}, "the root itself is one")
			require.EqualValues(t, 28, there.Bytes)
		}
		require.Equal(t, 1, w.mustDeploy(gannet).Number, "and it begins anew")
	})
}

// with is a tree with one file more.
func with(t tree, path, text string) tree {
	out := maps.Clone(t)
	out[path] = text
	return out
}

func TestWhatNoDeploymentPutThereCanStay(t *testing.T) {
	anyPlace(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(tree{"index.html": "<h1>", "log/may.html": "<p>"})
		w.mustDeploy(gannet)
		w.mustDeploy(with(gannet, "guide.txt", "by hand"), func(p *site.Plan) { p.Hand = true })
		root := filepath.Join(w.dir, "www")
		require.NoError(t, os.WriteFile(filepath.Join(root, "log", "stray.html"), []byte("s"), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(root, "img", "rock.svg"), []byte("altered"), 0o644))
		gone, err := w.wipe(site.Wiping{KeepStrays: true})
		require.NoError(t, err)
		require.Empty(t, gone.Left)
		require.True(t, gone.RootStays)
		require.Equal(t, tree{"log/stray.html": "s", "guide.txt": "by hand"}, w.stands(), "what was altered is still a deployment's")
		require.NoDirExists(t, filepath.Join(w.dir, ".www.tartine"))
		w.mustDeploy(tree{"index.html": "<h1>"})
		require.Equal(t, tree{"log/stray.html": "s", "guide.txt": "by hand", "index.html": "<h1>"}, w.stands())
	})
}

func TestAWipeNeedsASite(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, os.Mkdir(filepath.Join(w.dir, "www"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "www", "theirs"), []byte("x"), 0o644))
	for _, trial := range []bool{true, false} {
		_, err := w.wipe(site.Wiping{Trial: trial})
		require.ErrorIs(t, err, site.ErrNoSite)
	}
	require.NoError(t, os.Mkdir(filepath.Join(w.dir, ".www.tartine"), 0o700))
	_, err := w.wipe(site.Wiping{})
	require.ErrorIs(t, err, site.ErrNoSite, "a record without a deployment")
	require.Equal(t, tree{"theirs": "x"}, w.stands())
	s, err := w.open(t.Context())
	require.NoError(t, err)
	holder, err := s.Locked(t.Context())
	require.NoError(t, err)
	require.Nil(t, holder)
}

// TestAWipeThatIsCutAnywhere is finished by the next one, and by a deployment. A visitor sees the whole site or none.
func TestAWipeThatIsCutAnywhere(t *testing.T) {
	t.Parallel()
	anyPlace(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		for _, keepStrays := range []bool{false, true} {
			for at, cut := 1, true; cut; at++ {
				for _, next := range [][]string{{"wipe"}, {"deploy"}}[at%2] {
					w := newWorld(t)
					w.mustDeploy(gannet)
					require.NoError(t, os.WriteFile(filepath.Join(w.dir, "www", "stray"), []byte("s"), 0o644))
					whole := w.stands()
					s, err := w.open(t.Context())
					require.NoError(t, err)
					count, restore := w.failWhen(func(count int) bool { return count >= at }, farend.ErrLost)
					_, err = s.Wipe(t.Context(), &site.Wiping{KeepStrays: keepStrays}, &site.Watch{})
					cut = *count >= at
					restore()
					require.NoError(t, os.RemoveAll(filepath.Join(w.dir, ".www.tartine", "lock"))) // as if it had died
					what := fmt.Sprintf("operation %d, strays kept %v, then %s", at, keepStrays, next)
					if !keepStrays && err != nil {
						if now := w.stands(); len(now) > 0 {
							require.Equal(t, whole, now, what)
						}
					}
					after := tree{}
					if keepStrays {
						after["stray"] = "s"
					}
					if next == "deploy" {
						begun := !keepStrays && err != nil && len(w.stands()) == 0
						out := w.mustDeploy(tree{"new.html": "new"}, func(p *site.Plan) { p.RemoveStrays = true })
						require.Equal(t, tree{"new.html": "new"}, w.stands(), what)
						if begun {
							require.Equal(t, 1, out.Number, what)
						}
						require.NoDirExists(t, filepath.Join(w.dir, ".www.tartine", "aside"), what)
						continue
					}
					if err != nil {
						if _, err = w.wipe(site.Wiping{Trial: true}); err != nil {
							require.ErrorIs(t, err, site.ErrNoSite, what)
						}
						if _, err = w.wipe(site.Wiping{KeepStrays: keepStrays}); err != nil { // all was done but for the record
							require.ErrorIs(t, err, site.ErrNoSite, what)
						}
					}
					require.Equal(t, after, w.stands(), what)
					_, err = os.Lstat(filepath.Join(w.dir, ".www.tartine", "current"))
					require.ErrorIs(t, err, fs.ErrNotExist, what)
				}
			}
		}
	})
}

func TestAWipeWaitsForNobody(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(gannet)
	s, plan, err := w.plan(t.Context(), tree{"index.html": "<h2>"})
	require.NoError(t, err)
	staged, err := s.Stage(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	var locked *site.LockedError
	_, err = w.wipe(site.Wiping{})
	require.ErrorAs(t, err, &locked)
	require.Equal(t, gannet, w.stands())
	require.NoError(t, staged.Abandon(t.Context()))
}

// TestWhatCannotBeRemovedIsNamed has a folder whose files may not be removed. It stays in the record, hidden from visitors.
func TestWhatCannotBeRemovedIsNamed(t *testing.T) {
	w := newWorld(t)
	w.between.FS = fsystest.Plain{FS: w.between.FS}
	w.mustDeploy(gannet)
	stuck := true
	w.between.Before = func(op string, names ...string) error {
		if stuck && op == "remove" && strings.HasSuffix(names[0], "/june.html") {
			return &fs.PathError{Op: "remove", Path: names[0], Err: fs.ErrPermission}
		}
		return nil
	}
	gone, err := w.wipe(site.Wiping{})
	require.NoError(t, err)
	require.Len(t, gone.Left, 1, "the file, and not what it is in: %v", gone.Left)
	require.Regexp(t, `^\.www\.tartine/aside/.*/log/june\.html$`, gone.Left[0].Path)
	require.ErrorContains(t, gone.Left[0].Err, "permission")
	require.Empty(t, w.stands())
	require.Equal(t, 1, w.mustDeploy(tree{"new.html": "new"}).Number, "a new site is not hindered")
	stuck = false
	gone, err = w.wipe(site.Wiping{})
	require.NoError(t, err)
	require.True(t, gone.Resumed)
	require.Empty(t, w.names())
}

// TestADeploymentThatWaitsForAWipe finds the site gone when it gets the lock, and begins anew.
func TestADeploymentThatWaitsForAWipe(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(gannet)
		s, plan, err := w.plan(t.Context(), tree{"index.html": "<h2>"})
		require.NoError(t, err)
		_, err = w.wipe(site.Wiping{})
		require.NoError(t, err)
		_, err = s.Stage(t.Context(), plan, &site.Watch{})
		var overtaken *site.OvertakenError
		require.ErrorAs(t, err, &overtaken)
		survey, err := s.Survey(t.Context(), true) // with the same site
		require.NoError(t, err)
		require.Zero(t, survey.Number)
		plan.Survey = survey
		plan.Result, err = s.Compare(t.Context(), survey, &site.Wanted{Entries: plan.Want}, nil)
		require.NoError(t, err)
		_, err = s.Deploy(t.Context(), plan, &site.Watch{})
		require.NoError(t, err)
		require.Equal(t, tree{"index.html": "<h2>"}, w.stands())
	})
}
