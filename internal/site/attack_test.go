package site_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

var errFault = errors.New("a fault")

// TestAFaultAtEveryOperation has the n-th operation fail, for every n, and everything after it work again. Whatever
// comes of it is said, what visitors see is whole, and the next deployment puts it right.
func TestAFaultAtEveryOperation(t *testing.T) {
	t.Parallel()
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		faults := 0
		for n := 1; ; n++ {
			w := newWorld(t)
			w.mustDeploy(first)
			count, restore := w.failWhen(func(count int) bool { return count == n }, errFault)
			out, err := w.deploy(second)
			restore()
			if *count < n {
				require.NoError(t, err)
				break
			}
			faults++
			for path, text := range w.stands() {
				require.True(t, text == first[path] || text == second[path] || strings.HasSuffix(path, "/"), "fault at %d: %s", n, path)
			}
			if err == nil && len(out.Failed) == 0 {
				w.verify(second) // it did without
				continue
			}
			require.NoError(t, os.RemoveAll(filepath.Join(w.dir, ".www.tartine", "lock")))
			if out != nil && slices.ContainsFunc(out.Failed, func(f site.Failure) bool { return f.Path == "old" }) {
				// An emptied folder that could not be removed is named, and nobody's from then on.
				require.NoError(t, os.Remove(filepath.Join(w.dir, "www", "old")))
			}
			w.mustDeploy(second)
			require.Equal(t, second, w.stands(), "fault at %d", n)
			w.verify(second)
		}
		t.Logf("%d faults", faults)
		require.Greater(t, faults, 60)
	})
}

func TestEightDeploymentsAtOnceNeverMix(t *testing.T) {
	t.Parallel()
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(first)
		contents := make([]tree, 8)
		for i := range contents {
			contents[i] = tree{}
			for j := range 10 {
				contents[i][fmt.Sprintf("page-%d.html", j)] = fmt.Sprintf("edition %d", i)
			}
		}
		var (
			running sync.WaitGroup
			mu      sync.Mutex
			won     int
		)
		for _, content := range contents {
			running.Go(func() {
				_, err := w.deploy(content, func(p *site.Plan) { p.Wait = 20 * time.Millisecond })
				var (
					locked    *site.LockedError
					overtaken *site.OvertakenError
				)
				mu.Lock()
				defer mu.Unlock()
				switch {
				case err == nil:
					won++
				case errors.As(err, &locked), errors.As(err, &overtaken):
				default:
					t.Errorf("%v", err)
				}
			})
		}
		running.Wait()
		require.GreaterOrEqual(t, won, 1)
		stands := w.stands()
		require.Contains(t, contents, stands, "the result is one of the eight trees exactly")
		w.verify(stands)
	})
}

// rollback publishes a recorded deployment again.
func (w *world) rollback(number int) (*site.Outcome, error) {
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	m, err := s.Deployment(w.t.Context(), number)
	if err != nil {
		return nil, err
	}
	survey, err := s.Survey(w.t.Context(), true)
	require.NoError(w.t, err)
	result, err := s.Compare(w.t.Context(), survey, &site.Wanted{Entries: m.Entries}, nil)
	require.NoError(w.t, err)
	missing, err := s.Held(w.t.Context(), survey, result)
	require.NoError(w.t, err)
	if len(missing) > 0 {
		return nil, fmt.Errorf("%w: %q", errGone, missing)
	}
	return s.Deploy(w.t.Context(), &site.Plan{Want: m.Entries, Survey: survey, Result: result, Rollback: number}, &site.Watch{})
}

var errGone = errors.New("content is not kept")

func TestRollbackSendsNothing(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(first)
		w.mustDeploy(second)
		w.mustDeploy(tree{"index.html": "third"})
		for _, step := range []struct {
			number int
			want   tree
		}{{1, first}, {2, second}, {3, tree{"index.html": "third"}}, {4, first}} {
			out, err := w.rollback(step.number)
			require.NoError(t, err)
			require.Empty(t, out.Failed)
			require.Zero(t, out.SentBytes)
			require.True(t, out.Verified)
			require.Equal(t, step.want, w.stands())
			w.verify(step.want)
		}
		_, err := w.rollback(1)
		var gone *site.NotKeptError
		require.ErrorAs(t, err, &gone)
		require.Equal(t, []int{3, 4, 5, 6, 7}, gone.Kept)
	})
}

// TestAnySequence deploys, edits at the site, rolls back and cuts, in any order. After every step what is there is what
// is recorded but for the edits, and every deployment that is recorded can be rolled back to.
func TestAnySequence(t *testing.T) {
	t.Parallel()
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		rapid.Check(t, func(r *rapid.T) {
			w := newWorld(t)
			w.mustDeploy(tree{"index.html": "start"})
			past := map[int]tree{1: {"index.html": "start"}}
			latest, edited := 1, false
			for range rapid.IntRange(1, 6).Draw(r, "steps") {
				switch rapid.SampledFrom([]string{"deploy", "deploy", "edit", "rollback", "cut"}).Draw(r, "step") {
				case "deploy":
					content := anyTree().Draw(r, "content")
					if len(content) == 0 {
						continue
					}
					out := w.mustDeploy(content)
					latest = out.Number
					past[latest] = content
					w.verify(content)
				case "edit":
					for path := range w.stands() {
						if !strings.HasSuffix(path, "/") {
							name := filepath.Join(w.dir, "www", path)
							require.NoError(t, os.RemoveAll(name))
							require.NoError(t, os.WriteFile(name, []byte("edited by hand"), 0o644))
							edited = true
							break
						}
					}
				case "rollback":
					to := rapid.IntRange(max(latest-site.DefaultHistory+1, 1), latest).Draw(r, "to")
					out, err := w.rollback(to)
					if edited && errors.Is(err, errGone) {
						continue // the edit destroyed it
					}
					require.NoError(t, err)
					require.Empty(t, out.Failed)
					latest = out.Number
					past[latest] = past[to]
					w.verify(past[to])
				case "cut":
					w.cutOnce(rapid.IntRange(1, 120).Draw(r, "operation"), tree{"index.html": "cut", "a": "cut"})
					s, plan, err := w.plan(t.Context(), tree{})
					require.NoError(t, err)
					require.NotNil(t, s)
					if number := plan.Survey.Number; number > latest {
						latest = number
						past[latest] = tree{"index.html": "cut", "a": "cut"}
					}
				}
			}
		})
	})
}

// cutOnce deploys and has the connection cut at the n-th operation.
func (w *world) cutOnce(n int, content tree) {
	_, restore := w.failWhen(func(count int) bool { return count > n }, errLost)
	_, _ = w.deploy(content) // whatever comes of it
	restore()
	require.NoError(w.t, os.RemoveAll(filepath.Join(w.dir, ".www.tartine", "lock")))
}

// shifted is a place whose clock is off: what is not dated by us gets the time there.
type shifted struct {
	*osfs.FS
	by time.Duration
}

func (s shifted) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	if attr.ModTime.IsZero() {
		attr.ModTime = time.Now().Add(s.by)
	}
	return s.FS.Put(ctx, name, content, attr)
}

func (s shifted) Create(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	attr.ModTime = time.Now().Add(s.by)
	return s.FS.Create(ctx, name, content, attr)
}

func TestAFarClockThatIsOffByHours(t *testing.T) {
	for _, by := range []time.Duration{-5 * time.Hour, 5 * time.Hour} {
		w := newWorld(t)
		w.between.FS = shifted{w.between.FS.(*osfs.FS), by}
		fresh := func(p *site.Plan) {
			for i := range p.Want {
				if p.Want[i].Kind == manifest.File {
					p.Want[i].ModTime = time.Now()
				}
			}
		}
		w.mustDeploy(first, fresh)
		_, plan, err := w.plan(t.Context(), first)
		require.NoError(t, err)
		require.False(t, plan.Result.Publishes(true), "%v: %+v", by, plan.Result.Changes)

		// An edit there, of the same size, dated by the clock there.
		name := filepath.Join(w.dir, "www", "index.html")
		require.NoError(t, os.WriteFile(name, []byte("<h9>"), 0o644))
		require.NoError(t, os.Chtimes(name, time.Time{}, time.Now().Add(by)))
		_, plan, err = w.plan(t.Context(), first)
		require.NoError(t, err)
		require.Len(t, plan.Result.Changes, 1, by)
		require.True(t, plan.Result.Changes[0].Drifted)
		w.mustDeploy(second)
		w.verify(second)
	}
}

func TestARecordThatVanishedIsMadeAgain(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, ".www.tartine")))
	_, plan, err := w.plan(t.Context(), first)
	require.NoError(t, err)
	require.False(t, plan.Result.Publishes(true))
	require.True(t, plan.Result.Stale, "there is something to record")
	out := w.mustDeploy(first)
	require.Equal(t, 1, out.Number)
	require.Zero(t, out.SentFiles)
	w.verify(first)
}

func TestAFolderThatVanishesWhileItIsWrittenTo(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	var once sync.Once
	w.between.Before = func(op string, names ...string) error {
		if op == "put" && staging(names[0]) {
			once.Do(func() { _ = os.RemoveAll(filepath.Join(w.dir, ".www.tartine", "incoming")) })
		}
		return nil
	}
	out, err := w.deploy(second)
	require.True(t, err != nil || len(out.Failed) > 0)
	require.Equal(t, first, w.stands())
	w.between.Before = func(string, ...string) error { return nil }
	w.mustDeploy(second)
	w.verify(second)
}

// forgetful loses the tail of its n-th write and reports success.
type forgetful struct {
	*osfs.FS
	mu    sync.Mutex
	count int
	at    int
}

func (f *forgetful) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	f.mu.Lock()
	f.count++
	loses := f.count == f.at
	f.mu.Unlock()
	all, err := io.ReadAll(content)
	if err != nil || !loses || len(all) == 0 {
		size, _ := f.FS.Put(ctx, name, strings.NewReader(string(all)), attr)
		return size, err
	}
	_, err = f.FS.Put(ctx, name, strings.NewReader(string(all[:len(all)/2])), attr)
	return int64(len(all)), err
}

// TestTheTailLostAtEveryWrite has every write in turn lose its tail, of content and of the record alike.
func TestTheTailLostAtEveryWrite(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		for n := 1; ; n++ {
			w := newWorld(t)
			w.mustDeploy(first)
			lying := &forgetful{FS: w.between.FS.(*osfs.FS), at: n}
			w.between.FS = lying
			out, err := w.deploy(second)
			w.between.FS = lying.FS
			if lying.count < n {
				require.NoError(t, err)
				require.Greater(t, n, 6)
				break
			}
			for path, text := range w.stands() {
				require.True(t, text == first[path] || text == second[path] || strings.HasSuffix(path, "/"), "write %d: %s", n, path)
			}
			if err == nil && len(out.Failed) == 0 {
				w.verify(second)
				continue
			}
			require.NoError(t, os.RemoveAll(filepath.Join(w.dir, ".www.tartine", "lock")))
			w.mustDeploy(second)
			w.verify(second)
		}
	})
}
