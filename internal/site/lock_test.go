package site_test

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/farend"
	"tartine/internal/site"
)

func (w *world) lockFile() string { return filepath.Join(w.dir, ".www.tartine", "lock") }

func (w *world) lockFiles() []string {
	list, err := filepath.Glob(w.lockFile() + "*")
	require.NoError(w.t, err)
	return list
}

// holder gives what a lock of this process says.
func (w *world) holder() (h site.Holder) {
	var mu sync.Mutex
	w.between.Before = func(string, ...string) error {
		mu.Lock()
		defer mu.Unlock()
		if text, err := os.ReadFile(w.lockFile()); err == nil && h.Token == "" {
			require.NoError(w.t, json.Unmarshal(text, &h))
		}
		return nil
	}
	w.mustDeploy(first)
	w.between.Before = func(string, ...string) error { return nil }
	require.NotEmpty(w.t, h.Token)
	return h
}

// writeLock writes a lock as somebody else would have, so long ago.
func (w *world) writeLock(h site.Holder, ago time.Duration) {
	text, err := json.Marshal(h)
	require.NoError(w.t, err)
	fresh := w.lockFile() + ".fresh" // locks are renewed in one step
	require.NoError(w.t, os.WriteFile(fresh, text, 0o600))
	then := time.Now().Add(-ago)
	require.NoError(w.t, os.Chtimes(fresh, then, then))
	require.NoError(w.t, os.Rename(fresh, w.lockFile()))
}

const noProcess = 1 << 22 // more than the system gives

func TestWhichLocksAreTakenOver(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		change func(h *site.Holder)
		ago    time.Duration
		dead   bool
	}{
		"not renewed for a lease, though its clock is years ahead": {func(h *site.Holder) { h.Host, h.Until = "elsewhere.example", h.Until.AddDate(5, 0, 0) }, 3 * time.Minute, true},
		"renewed just now, though its clock is years behind":       {func(h *site.Holder) { h.Host, h.Until = "elsewhere.example", h.Until.AddDate(-5, 0, 0) }, 0, false},
		"its process is gone":                        {func(h *site.Holder) { h.Process = noProcess }, 0, true},
		"such a process in another PID namespace":    {func(h *site.Holder) { h.Process, h.Space = noProcess, "pid:[1]" }, 0, false},
		"such a process before the system was reset": {func(h *site.Holder) { h.Process, h.Boot = noProcess, "another" }, 0, false},
		"such a process on another machine":          {func(h *site.Holder) { h.Process, h.Host = noProcess, "elsewhere.example" }, 0, false},
		"of a program that told neither":             {func(h *site.Holder) { h.Process, h.Boot, h.Space = noProcess, "", "" }, 0, false},
		"this process itself":                        {func(*site.Holder) {}, 0, false},
		"unreadable and new":                         {func(h *site.Holder) { h.Token = "../../x" }, 0, false},
		"unreadable and old":                         {func(h *site.Holder) { h.Token = "../../x" }, 3 * time.Minute, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			h := w.holder()
			c.change(&h)
			w.writeLock(h, c.ago)
			_, err := w.deploy(second)
			if !c.dead {
				var locked *site.LockedError
				require.ErrorAs(t, err, &locked)
				require.Equal(t, first, w.stands())
				require.Len(t, w.lockFiles(), 1, "who did not get it leaves nothing")
				return
			}
			require.NoError(t, err)
			w.verify(second)
			require.Empty(t, w.lockFiles())
		})
	}
}

func TestALockThatIsSeenUnchangedForALeaseIsDead(t *testing.T) {
	w := newWorld(t)
	w.lease = 300 * time.Millisecond
	h := w.holder()
	h.Host = "elsewhere.example"
	w.writeLock(h, -time.Hour) // the place's own dates say nothing
	wait := func(p *site.Plan) { p.Wait = 5 * time.Second }
	out, err := w.deploy(second, wait)
	require.NoError(t, err)
	require.Equal(t, 2, out.Number)
	w.verify(second)
}

func TestALockThatIsBeingWrittenIsAlive(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	require.NoError(t, os.WriteFile(w.lockFile(), nil, 0o600))
	_, err := w.deploy(second)
	var locked *site.LockedError
	require.ErrorAs(t, err, &locked)
	require.Equal(t, first, w.stands())
}

func TestALockThatChangesIsAlive(t *testing.T) {
	w := newWorld(t)
	w.lease = 400 * time.Millisecond
	h := w.holder()
	h.Host = "elsewhere.example"
	w.writeLock(h, 0)
	ctx, stop := context.WithCancel(t.Context())
	var renewing sync.WaitGroup
	renewing.Go(func() {
		for tick := time.NewTicker(50 * time.Millisecond); ctx.Err() == nil; <-tick.C {
			h.Until = h.Until.Add(time.Second)
			w.writeLock(h, -time.Hour)
		}
	})
	_, err := w.deploy(second, func(p *site.Plan) { p.Wait = 1500 * time.Millisecond })
	stop()
	renewing.Wait()
	var locked *site.LockedError
	require.ErrorAs(t, err, &locked)
	require.Equal(t, first, w.stands())
}

func TestALateTakeoverFindsTheLockRenewed(t *testing.T) {
	w := newWorld(t)
	h := w.holder()
	h.Host = "elsewhere.example"
	w.writeLock(h, 3*time.Minute)
	// Between the two looks of who takes it over, its holder wakes up and renews it.
	w.between.Before = func(op string, names ...string) error {
		if op == "link" && strings.Contains(names[1], "lock.over.") {
			h.Until = h.Until.Add(time.Hour)
			w.writeLock(h, 0)
		}
		return nil
	}
	_, err := w.deploy(second)
	var locked *site.LockedError
	require.ErrorAs(t, err, &locked)
	require.Equal(t, first, w.stands())
	require.Len(t, w.lockFiles(), 1)
}

func TestATakeoverThatDiedHalfwayIsTakenOver(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	h := w.holder()
	h.Host = "elsewhere.example"
	w.writeLock(h, 10*time.Minute)
	marker := w.lockFile() + ".over." + h.Token
	require.NoError(t, os.WriteFile(marker, []byte("{}"), 0o600))
	_, err := w.deploy(second)
	var locked *site.LockedError
	require.ErrorAs(t, err, &locked, "somebody is at it")
	gone := h
	gone.Host, err = os.Hostname()
	require.NoError(t, err)
	gone.Process = noProcess
	text, err := json.Marshal(gone)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(marker, text, 0o600))
	w.mustDeploy(second)
	require.Empty(t, w.lockFiles())

	w.writeLock(h, 10*time.Minute)
	require.NoError(t, os.WriteFile(marker, []byte("{}"), 0o600))
	then := time.Now().Add(-5 * time.Minute)
	require.NoError(t, os.Chtimes(marker, then, then))
	w.mustDeploy(first)
	require.Empty(t, w.lockFiles())
}

// stolen has another deployment take the lock when an operation comes.
func (w *world) stealAt(when func(op string, names []string) bool) {
	var once sync.Once
	w.between.Before = func(op string, names ...string) error {
		if when(op, names) {
			once.Do(func() {
				h := site.Holder{Token: "THIEF", User: "tern", Host: "other.example", Process: 7, Since: time.Now()}
				w.writeLock(h, 0)
			})
		}
		return nil
	}
}

// TestALostLockStopsAPublisher has the lock lost at each phase. Nothing is changed from then on: not the site, not the record.
func TestALostLockStopsAPublisher(t *testing.T) {
	for name, when := range map[string]func(op string, names []string) bool{
		"before the journal": func(op string, names []string) bool {
			return op == "put" && strings.HasSuffix(names[0], "2.json.fresh")
		},
		"before the first phase": func(op string, names []string) bool {
			return op == "put" && strings.HasSuffix(names[0], "publish.json.fresh")
		},
		"in the phase of assets":  func(op string, names []string) bool { return op == "rename" && names[1] == "www/css/c.css" },
		"in the phase of pages":   func(op string, names []string) bool { return op == "rename" && names[1] == "www/index.html" },
		"after the last removals": func(op string, names []string) bool { return op == "remove" && names[0] == "www/old" },
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(first)
			w.stealAt(when)
			_, err := w.deploy(second)
			var lost *site.LockLostError
			require.ErrorAs(t, err, &lost)
			require.Equal(t, "tern", lost.Holder.User)
			w.between.Before = func(string, ...string) error { return nil }
			stands := w.stands()
			if name == "before the journal" {
				require.NoFileExists(t, w.inRecord("publish.json"))
			}
			if strings.HasPrefix(name, "before") {
				require.Equal(t, first, stands)
			}
			if name != "after the last removals" {
				require.Contains(t, stands, "old/page.html", "removals come after the phase in which it was lost")
			}
			if strings.HasSuffix(name, "assets") {
				require.Equal(t, "<h1>", stands["index.html"], "and pages do, too")
			}
			text, err := os.ReadFile(w.lockFile())
			require.NoError(t, err)
			require.Contains(t, string(text), "THIEF", "the lock of the other is left alone")
			number, err := os.ReadFile(filepath.Join(w.dir, ".www.tartine", "current"))
			require.NoError(t, err)
			require.Equal(t, "1\n", string(number))

			require.NoError(t, os.Remove(w.lockFile()))
			w.mustDeploy(second)
			w.verify(second)
		})
	}
}

func TestALockThatIsRemovedStopsAPublisher(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	w.between.Before = func(op string, names ...string) error {
		if op == "rename" && names[1] == "www/css/c.css" {
			return os.Remove(w.lockFile())
		}
		return nil
	}
	_, err := w.deploy(second)
	var lost *site.LockLostError
	require.ErrorAs(t, err, &lost)
	require.Nil(t, lost.Holder)
}

// TestALockThatIsRemovedWhileContentIsSentIsNotMadeAgain holds for the renewal, too.
func TestALockThatIsRemovedWhileContentIsSentIsNotMadeAgain(t *testing.T) {
	w := newWorld(t)
	w.lease = 400 * time.Millisecond
	w.mustDeploy(first)
	s, plan, err := w.plan(t.Context(), second)
	require.NoError(t, err)
	open := plan.Open
	remove := sync.OnceFunc(func() {
		require.NoError(t, os.Remove(w.lockFile()))
		<-time.After(300 * time.Millisecond) // two renewals
	})
	plan.Open = func(path string) (io.ReadCloser, error) { remove(); return open(path) }
	_, err = s.Deploy(t.Context(), plan, &site.Watch{})
	var lost *site.LockLostError
	require.ErrorAs(t, err, &lost)
	require.NoFileExists(t, w.lockFile())
	require.Equal(t, first, w.stands())
}

// TestAPublisherThatWasSuspendedLooksBeforeItsNextStep holds also in the middle of a phase of many steps.
func TestAPublisherThatWasSuspendedLooksBeforeItsNextStep(t *testing.T) {
	w := newWorld(t)
	w.jobs = 1
	before, after := tree{}, tree{}
	for i := range 40 {
		name := "plates/" + strings.Repeat("x", i+1) + ".svg"
		before[name], after[name] = "old", "new"
	}
	w.mustDeploy(before)
	count := 0
	var mu sync.Mutex
	w.between.Before = func(op string, names ...string) error {
		mu.Lock()
		defer mu.Unlock()
		if op != "rename" || !strings.HasPrefix(names[1], "www/") {
			return nil
		}
		if count++; count == 10 {
			w.writeLock(site.Holder{Token: "THIEF", User: "tern", Host: "other.example"}, 0)
			asleep := time.NewTimer(1200 * time.Millisecond) // longer than it goes without looking
			<-asleep.C
		}
		return nil
	}
	_, err := w.deploy(after)
	var lost *site.LockLostError
	require.ErrorAs(t, err, &lost)
	require.Equal(t, 10, count, "the one that was under way is the last")
}

// TestTheLockIsRenewed holds while a deployment waits for its content longer than a lease.
func TestTheLockIsRenewed(t *testing.T) {
	w := newWorld(t)
	w.lease = 400 * time.Millisecond
	w.mustDeploy(first)
	out, err := w.deploy(second, func(p *site.Plan) {
		open, slow := p.Open, sync.OnceFunc(func() {
			texts := map[string]bool{}
			require.Eventually(t, func() bool {
				text, err := os.ReadFile(w.lockFile())
				require.NoError(t, err)
				texts[string(text)] = true
				return len(texts) > 6 // a lease and a half
			}, 20*time.Second, 10*time.Millisecond)
			_, err := w.deploy(first)
			var locked *site.LockedError
			require.ErrorAs(t, err, &locked)
		})
		p.Open = func(path string) (rc io.ReadCloser, err error) { slow(); return open(path) }
	})
	require.NoError(t, err)
	require.Equal(t, 2, out.Number)
}

var errRefused = errors.New("no right to write")

// TestRenewalsThatFailAreTriedAgainUntilTheLeaseIsOver holds for those that fail now and then, and for those that never work again.
func TestRenewalsThatFailAreTriedAgainUntilTheLeaseIsOver(t *testing.T) {
	for name, mostFailures := range map[string]int{"for a while": 3, "for good": 1 << 30} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.lease = 600 * time.Millisecond
			w.mustDeploy(first)
			var (
				mu       sync.Mutex
				begun    bool
				failures int
				renewed  bool
			)
			w.between.Before = func(op string, names ...string) error {
				mu.Lock()
				defer mu.Unlock()
				if !begun || op != "put" || !strings.Contains(names[0], "lock.by.") {
					return nil
				}
				if failures < mostFailures {
					failures++
					return errRefused
				}
				renewed = true
				return nil
			}
			_, err := w.deploy(second, func(p *site.Plan) {
				open := p.Open
				ended := make(chan struct{})
				wait := sync.OnceFunc(func() {
					mu.Lock()
					begun = true
					mu.Unlock()
					time.AfterFunc(900*time.Millisecond, func() { close(ended) })
					<-ended
				})
				p.Open = func(path string) (io.ReadCloser, error) { wait(); return open(path) }
			})
			if mostFailures < 10 {
				require.NoError(t, err)
				require.True(t, renewed)
				w.verify(second)
				return
			}
			var lost *site.LockLostError
			require.ErrorAs(t, err, &lost)
			require.ErrorIs(t, err, errRefused, "the cause is told")
			require.Greater(t, failures, 1)
			require.Equal(t, first, w.stands())
		})
	}
}

// TestAKillAtTheVeryEndIsClearedUpByTheNextRun has everything fail from an operation on, and then only looks whether there is
// something to recover, as every command does.
func TestAKillAtTheVeryEndIsClearedUpByTheNextRun(t *testing.T) {
	t.Parallel()
	for n := 1; ; n++ {
		w := newWorld(t)
		w.switched = true
		h := w.holder()
		for i := range 4 {
			w.mustDeploy(tree{"index.html": strings.Repeat("x", i+2)})
		}
		count, restore := w.failWhen(func(count int) bool { return count > n }, farend.ErrLost)
		_, err := w.deploy(second)
		restore()
		if *count <= n {
			require.NoError(t, err)
			require.Greater(t, n, 60)
			return
		}
		if text, err := os.ReadFile(w.lockFile()); err == nil { // of a process that is gone
			var left site.Holder
			require.NoError(t, json.Unmarshal(text, &left))
			h.Token, h.Process = left.Token, noProcess
			w.writeLock(h, 0)
		}
		s, err := w.open(t.Context())
		require.NoError(t, err)
		unfinished, err := s.Unfinished(t.Context())
		require.NoError(t, err)
		if unfinished {
			_, err = s.Recover(t.Context(), "warden")
			require.NoError(t, err)
		}
		require.NoFileExists(t, w.lockFile(), "after %d operations", n)
		recorded, err := s.Recorded(t.Context())
		require.NoError(t, err)
		trees, err := filepath.Glob(filepath.Join(w.dir, ".www.trees", "*"))
		require.NoError(t, err)
		require.LessOrEqual(t, len(trees), site.DefaultHistory+min(6-recorded.Deployment.Number, 1), "after %d operations", n)
	}
}
