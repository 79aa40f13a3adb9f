package site_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// memoryWorld is a place in memory with a site named www in it, and a neighbour.
type memoryWorld struct {
	memory   *fsystest.Memory
	between  *fsystest.Between
	random   *rand.Rand
	plain    bool // without any optional interface
	switched bool
	jobs     int
	ops      int // since cutAfter was called
}

func newMemoryWorld(seed uint64) *memoryWorld {
	random := rand.New(rand.NewPCG(seed, 0))
	w := &memoryWorld{memory: fsystest.NewMemory(), random: random, plain: random.IntN(4) == 0, switched: random.IntN(3) == 0, jobs: 1 + 3*random.IntN(2)}
	w.between = &fsystest.Between{FS: w.memory}
	w.cutAfter(1 << 30)
	return w
}

// cutAfter has all operations after the next n fail.
func (w *memoryWorld) cutAfter(n int) {
	var mu sync.Mutex
	w.ops = 0
	w.between.Before = func(string, ...string) error {
		mu.Lock()
		defer mu.Unlock()
		if w.ops++; w.ops > n {
			return farend.ErrLost
		}
		return nil
	}
}

func (w *memoryWorld) open(ctx context.Context) (*site.Site, error) {
	var f fsys.FS = w.between
	if w.plain {
		f = fsystest.Plain{FS: f}
	}
	return site.Open(ctx, f, "www", "www", site.Options{Jobs: w.jobs, Switch: w.switched, Brief: 1})
}

// recover does what every command does first.
func (w *memoryWorld) recover(ctx context.Context) error {
	s, err := w.open(ctx)
	if err != nil {
		return err
	}
	unfinished, err := s.Unfinished(ctx)
	if err == nil && unfinished {
		_, err = s.Recover(ctx, "warden")
	}
	return err
}

func (w *memoryWorld) deploy(ctx context.Context, c tree) (*site.Outcome, error) {
	if err := w.recover(ctx); err != nil {
		return nil, err
	}
	s, err := w.open(ctx)
	if err != nil {
		return nil, err
	}
	survey, err := s.Survey(ctx, true)
	if err != nil {
		return nil, err
	}
	want := c.entries()
	result, err := s.Compare(ctx, survey, &site.Wanted{Entries: want}, nil)
	if err != nil {
		return nil, err
	}
	return s.Deploy(ctx, &site.Plan{Want: want, Survey: survey, Result: result, Last: []string{"*.html"},
		Open: func(path string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(c[path])), nil }}, &site.Watch{})
}

// dieAndWake has the process be gone: what it held is left, and the lock counts for nobody.
func (w *memoryWorld) dieAndWake(ctx context.Context, power bool) {
	w.cutAfter(1 << 30)
	if power && !w.plain {
		w.memory.Crash(w.random)
	}
	list, _ := w.memory.List(ctx, ".www.tartine")
	for _, info := range list {
		if strings.HasPrefix(info.Name, "lock") {
			_ = w.memory.Remove(ctx, ".www.tartine/"+info.Name)
		}
	}
}

// stands reads the tree below a folder.
func (w *memoryWorld) stands(ctx context.Context, root string) (tree, error) {
	if info, err := w.memory.Lstat(ctx, root); err == nil && info.Mode&fs.ModeSymlink != 0 {
		root = info.Link
	}
	out := tree{}
	var walk func(dir, prefix string) error
	walk = func(dir, prefix string) error {
		list, err := w.memory.List(ctx, dir)
		if err != nil {
			return err
		}
		if len(list) == 0 && prefix != "" {
			out[prefix] = ""
		}
		for _, info := range list {
			name := dir + "/" + info.Name
			switch {
			case info.Mode.IsDir():
				if err := walk(name, prefix+info.Name+"/"); err != nil {
					return err
				}
			case info.Mode&fs.ModeSymlink != 0:
				out[prefix+info.Name] = "->" + info.Link
			default:
				file, err := w.memory.Open(ctx, name)
				if err != nil {
					return err
				}
				text, err := io.ReadAll(file)
				if err != nil {
					return err
				}
				out[prefix+info.Name] = string(text)
			}
		}
		return nil
	}
	err := walk(root, "")
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return out, err
}

// recoveryCase has a deployment cut somewhere, and then its recovery cut, again and again, by a lost connection, a kill or a failure
// of power; and says what is wrong in the end.
func recoveryCase(ctx context.Context, seed uint64) error {
	w := newMemoryWorld(seed)
	neighbour := tree{"a": "neighbour", "b/a": "neighbour", "index.html": "neighbour"}
	for _, err := range []error{
		w.memory.Mkdir(ctx, "other", 0o755), w.memory.Mkdir(ctx, "other/b", 0o755),
	} {
		if err != nil {
			return err
		}
	}
	for path, text := range neighbour {
		if _, err := w.memory.Put(ctx, "other/"+path, strings.NewReader(text), fsys.Attributes{Mode: 0o644}); err != nil {
			return err
		}
	}
	if err := w.memory.Sync(ctx); err != nil {
		return err
	}
	one, two := tree(fsystest.SwappingTree(w.random)), tree(fsystest.SwappingTree(w.random))
	if w.random.IntN(8) == 0 {
		one = nil // the first deployment is cut
	} else if _, err := w.deploy(ctx, one); err != nil {
		return fmt.Errorf("first deployment: %w", err)
	}
	power := w.random.IntN(2) == 0
	w.cutAfter(w.random.IntN(120))
	out, err := w.deploy(ctx, two)
	if err != nil && !errors.Is(err, farend.ErrLost) {
		return fmt.Errorf("cut deployment: %w", err)
	}
	if err == nil && len(out.Failed) > 0 {
		return fmt.Errorf("cut deployment: %w", &out.Failed[0])
	}
	w.dieAndWake(ctx, power)
	for range w.random.IntN(4) {
		w.cutAfter(w.random.IntN(50))
		if err := w.recover(ctx); err != nil && !errors.Is(err, farend.ErrLost) {
			return fmt.Errorf("cut recovery: %w", err)
		}
		w.dieAndWake(ctx, power)
	}
	if err := w.recover(ctx); err != nil {
		return fmt.Errorf("recovery: %w", err)
	}
	s, err := w.open(ctx)
	if err != nil {
		return err
	}
	recorded, err := s.Recorded(ctx)
	if err != nil {
		return err
	}
	want := one
	if recorded != nil && (one == nil || recorded.Deployment.Number == 2) {
		want = two
	}
	if err := w.is(ctx, recorded, want); err != nil {
		return fmt.Errorf("after recovery: %w", err)
	}
	if out, err := w.deploy(ctx, two); err != nil || len(out.Failed) > 0 {
		return fmt.Errorf("next deployment: %+v: %w", out, err)
	}
	if recorded, err = s.Recorded(ctx); err != nil {
		return err
	}
	if err := w.is(ctx, recorded, two); err != nil {
		return fmt.Errorf("after the next deployment: %w", err)
	}
	beside, err := w.stands(ctx, "other")
	if err == nil && !maps.Equal(beside, neighbour) {
		err = fmt.Errorf("the neighbour has %v", beside)
	}
	return err
}

// is compares what is there and what is recorded with a tree.
func (w *memoryWorld) is(ctx context.Context, recorded *manifest.Manifest, want tree) error {
	stands, err := w.stands(ctx, "www")
	if err != nil {
		return err
	}
	if len(want) == 0 && len(stands) == 0 {
		return nil
	}
	if !maps.Equal(stands, want) {
		return fmt.Errorf("%v stands, and not %v", stands, want)
	}
	if recorded != nil && recorded.Tree() != (&manifest.Manifest{Entries: want.entries()}).Tree() {
		return fmt.Errorf("what is recorded is not what stands: %v", want)
	}
	return nil
}

// TestRecoveryOfAnything tries a great many cases; each can be tried again by its seed.
func TestRecoveryOfAnything(t *testing.T) {
	cases := uint64(20_000)
	if testing.Short() {
		cases = 2_000
	}
	began := time.Now()
	var (
		next    atomic.Uint64
		working sync.WaitGroup
	)
	for range runtime.GOMAXPROCS(0) {
		working.Go(func() {
			for seed := next.Add(1); seed <= cases && !t.Failed(); seed = next.Add(1) {
				if err := recoveryCase(t.Context(), seed); err != nil {
					t.Errorf("seed %d: %v", seed, err)
				}
			}
		})
	}
	working.Wait()
	t.Logf("%d cases in %s", cases, time.Since(began).Round(time.Millisecond))
	require.False(t, t.Failed())
}
