package site_test

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/site"
)

// reads counts the files of the site that are read while something is done.
func (w *world) reads(do func()) (names []string) {
	var mu sync.Mutex
	w.between.Before = func(op string, all ...string) error {
		mu.Lock()
		defer mu.Unlock()
		if op == "open" && (strings.HasPrefix(all[0], "www/") || strings.HasPrefix(all[0], ".www.trees/")) {
			names = append(names, all[0])
		}
		return nil
	}
	do()
	w.between.Before = func(string, ...string) error { return nil }
	return names
}

// looks compares the site with a content, as a deployment that has nothing to do.
func (w *world) looks(c tree) *site.Plan {
	w.t.Helper()
	s, plan, err := w.plan(w.t.Context(), c)
	require.NoError(w.t, err)
	if !plan.Result.Publishes(true) && plan.Survey.Unsettled > 0 {
		require.NoError(w.t, s.Affirm(w.t.Context(), plan.Survey.Number, "warden"))
	}
	return plan
}

func TestAnAlterationThatKeepsSizeAndTimeIsSeen(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		alterations := map[string]func(file string) error{
			"written":  func(file string) error { return os.WriteFile(file, []byte("b"), 0o644) },
			"replaced": func(file string) error { return os.Rename(file+".other", file) },
		}
		for i := range 2 * len(alterations) {
			name := []string{"written", "replaced"}[i/2]
			w := newWorld(t)
			w.whole = i%2 == 0
			w.mustDeploy(first)
			require.Empty(t, w.reads(func() { w.looks(first) }))
			file := filepath.Join(w.dir, "www", "css", "a.css")
			other := file + ".other"
			require.NoError(t, os.WriteFile(other, []byte("b"), 0o644))
			require.NoError(t, os.Chtimes(other, dated, dated))
			require.NoError(t, alterations[name](file))
			require.NoError(t, os.RemoveAll(other))
			require.NoError(t, os.Chtimes(file, dated, dated))
			plan := w.looks(first)
			require.Len(t, plan.Result.Changes, 1, name)
			require.Equal(t, "css/a.css", plan.Result.Changes[0].Path())
			require.True(t, plan.Result.Changes[0].Drifted)
			w.mustDeploy(first)
			w.verify(first)
		}
	})
}

func TestAChangeThatAltersNothingIsReadOnce(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(first)
		file := filepath.Join(w.dir, "www", "css", "a.css")
		for _, mode := range []os.FileMode{0o600, 0o644} {
			require.NoError(t, os.Chmod(file, mode))
		}
		w.waitForTicks()
		names := w.reads(func() { w.looks(first) })
		require.Len(t, names, 1)
		require.True(t, strings.HasSuffix(names[0], "css/a.css"))
		require.Empty(t, w.reads(func() { w.looks(first) }), "the record has noted it")

		// What changes behind that is seen all the same.
		require.NoError(t, os.WriteFile(file, []byte("b"), 0o644))
		require.NoError(t, os.Chtimes(file, time.Time{}, dated))
		require.Len(t, w.looks(first).Result.Changes, 1)
	})
}

// tick is the step in which this system dates changes, as coarse as that may be.
var tick = site.ChangeStep()

// waitForTicks waits until what changes from here on is dated later than what has changed. The clock that dates changes may stop for
// longer than a tick where processors are short.
func (w *world) waitForTicks() {
	now := func() time.Time {
		require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, "tick"), nil, 0o644))
		info, err := w.between.FS.Lstat(w.t.Context(), "tick")
		require.NoError(w.t, err)
		return info.Changed
	}
	for begun := now(); now().Sub(begun) <= 2*tick; {
		runtime.Gosched()
	}
}

// ticking is a place that dates changes in steps, as systems do whose files are dated by the timer.
type ticking struct {
	*osfs.FS
	step time.Duration
}

func (p ticking) inTicks(info *fsys.Info) { info.Changed = info.Changed.Truncate(p.step) }

func (p ticking) Lstat(ctx context.Context, name string) (fsys.Info, error) {
	info, err := p.FS.Lstat(ctx, name)
	p.inTicks(&info)
	return info, err
}

func (p ticking) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	all, err := p.FS.List(ctx, dir)
	for i := range all {
		p.inTicks(&all[i])
	}
	return all, err
}

func TestAnAlterationInTheSameTickIsSeen(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		for i := range 10 { // ticks begin when they begin
			w := newWorld(t)
			w.whole = i%2 == 0
			w.between.FS = ticking{w.between.FS.(*osfs.FS), tick}
			w.mustDeploy(first)
			file := filepath.Join(w.dir, "www", "css", "a.css")
			alter := func(text string) {
				require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
				require.NoError(t, os.Chtimes(file, time.Time{}, dated))
			}
			alter("b")
			require.Len(t, w.looks(first).Result.Changes, 1, "just after the deployment")

			require.NoError(t, os.WriteFile(file, []byte(first["css/a.css"]), 0o644))
			require.NoError(t, os.Chtimes(file, time.Time{}, dated))
			require.Empty(t, w.looks(first).Result.Changes)
			alter("b")
			require.Len(t, w.looks(first).Result.Changes, 1, "just after it was read")
		}
	})
}

func TestWhatWasDeployedIsNotReadAgain(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		for i := range 8 { // old trees and kept content go meanwhile
			content := tree{"index.html": strings.Repeat("x", i+1), "stays.css": "s", "moves-" + strings.Repeat("y", i) + ".css": "m"}
			w.mustDeploy(content)
			require.Empty(t, w.reads(func() { w.looks(content) }), "deployment %d", i+1)
		}
	})
}

// TestWhatWasDeployedIsNotReadAgainWhereTheClockStands has a place whose clock moves less often than it should.
func TestWhatWasDeployedIsNotReadAgainWhereTheClockStands(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.between.FS = ticking{w.between.FS.(*osfs.FS), 20 * tick}
		for i := range 3 {
			content := tree{"index.html": strings.Repeat("x", i+1), "stays.css": "s"}
			w.mustDeploy(content)
			require.Empty(t, w.reads(func() { w.looks(content) }), "deployment %d", i+1)
		}
	})
}

func TestANoteOfWhatWasSeenThatIsDamagedIsNamed(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	require.NoError(t, os.WriteFile(w.inRecord("deployments/1.seen"), []byte("soon\n"), 0o600))
	_, err := w.deploy(second)
	require.ErrorContains(t, err, "1.seen")
}

// TestOneFileOfALargeFolderIsLookedUpAlone has a file published in a folder that need not be listed once more for that.
func TestOneFileOfALargeFolderIsLookedUpAlone(t *testing.T) {
	w := newWorld(t)
	many := tree{}
	for i := range 20 {
		many[fmt.Sprintf("birds/%02d.svg", i)] = fmt.Sprint(i)
	}
	for name, changed := range map[string]int{"one": 1, "many": 9} {
		w.mustDeploy(many)
		after := maps.Clone(many)
		for i := range changed {
			after[fmt.Sprintf("birds/%02d.svg", i)] = name
		}
		var mu sync.Mutex
		published, listed := false, 0
		w.between.Before = func(op string, all ...string) error {
			mu.Lock()
			defer mu.Unlock()
			if published = published || op == "rename" && all[1] == "www/birds/00.svg"; published && op == "list" && all[0] == "www/birds" {
				listed++
			}
			return nil
		}
		w.mustDeploy(after)
		w.between.Before = func(string, ...string) error { return nil }
		require.Equal(t, changed/9, listed, name)
		w.verify(after)
	}
}
