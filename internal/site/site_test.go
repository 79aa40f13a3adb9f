package site_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// world is a place with a site named www in it.
type world struct {
	t        *testing.T
	dir      string
	between  *fsystest.Between
	switched bool
	lease    time.Duration
	jobs     int
	whole    bool                       // no survey is brief
	doubts   bool                       // the record of files is not believed
	narrow   int                        // see site.Options
	young    bool                       // few files that are not believed are read first
	foretold bool                       // it is told before a survey that something else is wanted
	passed   int                        // parts of which nobody had to be asked, then
	since    bool                       // it is known in which folders alone something else is wanted
	some     bool                       // and these alone were looked into
	inSomes  int                        // how often they were
	far      bool                       // the place is farPlace, or at
	poor     poor                       // if it is farPlace
	owned    map[string]*manifest.Owner // whom paths should belong to
	at       fsys.FS
}

// farPlace is a place as one at the other end of a connection tells of it: times in seconds, nothing of owners nor of changes,
// and none of what a system does for those who are on it.
type farPlace struct {
	fsys.FS
	poor poor
}

// poor is what such a place does not tell either: the modes of files; their times, but for when they were brought; and that no
// more exactly than to the minute, unless it is asked for single files.
type poor struct{ modes, times, seconds bool }

func (f farPlace) Abilities() fsys.Abilities {
	out := f.FS.Abilities()
	out.TimeStep = time.Second
	if f.poor.seconds {
		out.TimeStep = time.Minute
	}
	out.Modes = !f.poor.modes
	out.NoTimes, out.UnsetTimes = f.poor.times, f.poor.times
	return out
}

// datingPlace is a farPlace that tells the dates of single files.
type datingPlace struct {
	farPlace
	asked atomic.Int64
}

// Dates implements fsys.Dater.
func (d *datingPlace) Dates(ctx context.Context, names []string, each func(i int, when time.Time)) error {
	exact := d.farPlace
	exact.poor.seconds = false
	for i, name := range names {
		if info, err := exact.Lstat(ctx, name); err == nil {
			d.asked.Add(1)
			each(i, info.ModTime)
		}
	}
	return nil
}

func (f farPlace) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	list, err := f.FS.List(ctx, dir)
	for i := range list {
		list[i] = f.fromAfar(fsys.Join(dir, list[i].Name), list[i])
	}
	return list, err
}

func (f farPlace) Lstat(ctx context.Context, name string) (fsys.Info, error) {
	info, err := f.FS.Lstat(ctx, name)
	return f.fromAfar(name, info), err
}

func (f farPlace) fromAfar(name string, info fsys.Info) fsys.Info {
	if f.poor.times && !strings.Contains(name, "/deployments/") { // which these tests date
		info.ModTime = info.Changed
	}
	if info.ModTime = info.ModTime.Truncate(time.Second); f.poor.seconds {
		info.ModTime = info.ModTime.Truncate(time.Minute)
	}
	if f.poor.modes {
		info.Mode = info.Mode.Type() | 0o640
	}
	info.Changed, info.User, info.Group = time.Time{}, fsys.User{}, 0
	return info
}

func newWorld(t *testing.T) *world {
	dir := t.TempDir()
	f, err := osfs.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return &world{t: t, dir: dir, between: &fsystest.Between{FS: f, Before: func(string, ...string) error { return nil }}, jobs: 4}
}

// bothWays runs a test for a site that is published in place and for one that is switched.
func bothWays(t *testing.T, test func(t *testing.T, newWorld func(t *testing.T) *world)) {
	for name, switched := range map[string]bool{"in place": false, "switched": true} {
		t.Run(name, func(t *testing.T) {
			test(t, func(t *testing.T) *world {
				w := newWorld(t)
				w.switched = switched
				return w
			})
		})
	}
}

func (w *world) open(ctx context.Context) (*site.Site, error) {
	brief := 1
	if w.whole {
		brief = math.MaxInt
	}
	var at fsys.FS = w.between
	switch {
	case w.at != nil:
		at = w.at
	case w.far:
		far := farPlace{at, w.poor}
		if at = far; w.poor.seconds {
			at = &datingPlace{farPlace: far}
		}
	}
	return site.Open(ctx, at, "www", filepath.Join(w.dir, "www"), site.Options{Jobs: w.jobs, Switch: w.switched, Lease: w.lease, Brief: brief, Narrow: w.narrow})
}

// tree is a content or a site in short: a text that begins with -> is a link, a name that ends in / a folder.
type tree map[string]string

var dated = time.Date(2026, 5, 1, 6, 30, 15, 0, time.UTC)

func (c tree) entries() (out []manifest.Entry) {
	for path, text := range c {
		target, isLink := strings.CutPrefix(text, "->")
		name, isDir := strings.CutSuffix(path, "/")
		switch {
		case isLink:
			out = append(out, manifest.Entry{Path: path, Kind: manifest.Link, Link: target})
		case isDir:
			mode := manifest.DirMode
			if text != "" { // of its own
				_, _ = fmt.Sscanf(text, "%o", &mode)
			}
			out = append(out, manifest.Entry{Path: name, Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: mode}})
		default:
			mode := manifest.FileMode
			if strings.HasSuffix(path, ".sh") {
				mode = manifest.ExecMode
			}
			out = append(out, manifest.Entry{Path: path, Attributes: manifest.Attributes{Mode: mode, ModTime: dated}, Size: int64(len(text)), Digest: sha256.Sum256([]byte(text))})
		}
	}
	slices.SortFunc(out, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// entries gives those of a tree, with their owners.
func (w *world) entries(c tree) []manifest.Entry {
	out := c.entries()
	for i := range out {
		if e := &out[i]; e.Kind != manifest.Link {
			e.Owner = w.owned[e.Path]
		}
	}
	return out
}

// plan looks at the site and plans for a content.
func (w *world) plan(ctx context.Context, c tree, change ...func(*site.Wanted)) (*site.Site, *site.Plan, error) {
	s, err := w.open(ctx)
	if err != nil {
		return nil, nil, err
	}
	if unfinished, err := s.Unfinished(ctx); err != nil {
		return nil, nil, err
	} else if unfinished {
		if _, err := s.Recover(ctx, "warden"); err != nil {
			return nil, nil, err
		}
	}
	survey, err := s.SurveyBriefly(ctx, !w.doubts) // as users have it
	if err == nil {
		err = s.Unfold(ctx, survey)
	}
	if err != nil {
		return nil, nil, err
	}
	want := site.Wanted{Entries: w.entries(c)}
	for _, f := range change {
		f(&want)
	}
	result, err := s.Compare(ctx, survey, &want, nil)
	if err != nil {
		return nil, nil, err
	}
	return s, &site.Plan{
		Want: want.Entries, Survey: survey, Result: result, Kept: want.Kept, Gone: want.Gone,
		Last:   []string{"*.html"},
		Open:   func(path string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(c[path])), nil },
		Origin: &manifest.Origin{User: "warden"},
	}, nil
}

func (w *world) deploy(c tree, change ...func(*site.Plan)) (*site.Outcome, error) {
	s, plan, err := w.plan(w.t.Context(), c)
	if err != nil {
		return nil, err
	}
	for _, f := range change {
		f(plan)
	}
	return s.Deploy(w.t.Context(), plan, &site.Watch{})
}

func (w *world) mustDeploy(c tree, change ...func(*site.Plan)) *site.Outcome {
	w.t.Helper()
	out, err := w.deploy(c, change...)
	require.NoError(w.t, err)
	require.Empty(w.t, out.Failed)
	require.True(w.t, out.Verified)
	return out
}

// failWhen has operations fail by their number, which is counted from 1, until it is restored.
func (w *world) failWhen(fails func(count int) bool, err error) (count *int, restore func()) {
	var mu sync.Mutex
	count = new(int)
	w.between.Before = func(string, ...string) error {
		mu.Lock()
		defer mu.Unlock()
		if *count++; fails(*count) {
			return err
		}
		return nil
	}
	return count, func() { w.between.Before = func(string, ...string) error { return nil } }
}

// unreadable makes files of the content fail when they are opened.
func unreadable(paths ...string) func(*site.Plan) {
	return func(p *site.Plan) {
		open := p.Open
		p.Open = func(path string) (io.ReadCloser, error) {
			if slices.Contains(paths, path) {
				return nil, errors.New("no right to read")
			}
			return open(path)
		}
	}
}

// stands reads what is at the site.
func (w *world) stands() tree {
	w.t.Helper()
	out := tree{}
	root, err := filepath.EvalSymlinks(filepath.Join(w.dir, "www"))
	if errors.Is(err, fs.ErrNotExist) {
		return out
	}
	require.NoError(w.t, err)
	require.NoError(w.t, filepath.WalkDir(root, func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		path, err := filepath.Rel(root, name)
		if err != nil || path == "." {
			return err
		}
		switch entry.Type() {
		case fs.ModeDir:
			if list, err := os.ReadDir(name); err != nil || len(list) == 0 {
				out[path+"/"] = ""
			}
			return nil
		case fs.ModeSymlink:
			target, err := os.Readlink(name)
			out[path] = "->" + target
			return err
		}
		content, err := os.ReadFile(name)
		out[path] = string(content)
		return err
	}))
	return out
}

func (w *world) verify(c tree) {
	w.t.Helper()
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	recorded, err := s.Recorded(w.t.Context())
	require.NoError(w.t, err)
	require.Equal(w.t, (&manifest.Manifest{Entries: w.entries(c)}).Tree(), recorded.Tree())
	survey, err := s.Survey(w.t.Context(), true)
	require.NoError(w.t, err)
	require.Equal(w.t, recorded.Tree(), survey.Tree(), "the tree digest that is written down is that of what is")
	report, err := s.Verify(w.t.Context(), recorded, true, nil)
	require.NoError(w.t, err)
	require.True(w.t, report.Matches(), "%+v", report)
}

func (w *world) incoming() (names []string) {
	w.t.Helper()
	require.NoError(w.t, filepath.WalkDir(filepath.Join(w.dir, ".www.tartine", "incoming"), func(name string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			names = append(names, filepath.Base(name))
		}
		return err
	}))
	return names
}

var first = tree{"index.html": "<h1>", "css/a.css": "a", "css/b.css": "a", "cgi/tide.sh": "#!", "home": "->index.html", "empty/": "", "old/page.html": "old", "old/x.css": "x"}
var second = tree{"index.html": "<h2>", "css/a.css": "a", "css/c.css": "c", "cgi/tide.sh": "#!2", "home": "->css/a.css", "empty/now": "filled", "news": "->index.html"}

func TestDeployMakesTheSiteEqualAndRecordsIt(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		out := w.mustDeploy(first)
		require.Equal(t, 1, out.Number)
		require.Equal(t, 5, out.SentFiles)
		require.Equal(t, 1, out.Reused, "identical files travel once")
		require.Equal(t, first, w.stands())
		w.verify(first)

		out = w.mustDeploy(second)
		require.Equal(t, 2, out.Number)
		require.Equal(t, 4, out.SentFiles)
		require.Equal(t, second, w.stands(), "emptied folders go, others stay")
		w.verify(second)
		require.Empty(t, w.incoming())
		_, err := os.Stat(filepath.Join(w.dir, ".www.tartine", "publish.json"))
		require.ErrorIs(t, err, fs.ErrNotExist)
	})
}

func TestKindsChangePlaces(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		one := tree{"a": "file", "b/c": "in a folder", "d": "->a", "e/": "", "f/g/h": "deep", "k": "x"}
		two := tree{"a/x": "now a folder", "b": "now a file", "d/y": "a folder", "e": "->a", "f": "->b", "k/": ""}
		w.mustDeploy(one)
		w.mustDeploy(two)
		require.Equal(t, two, w.stands())
		w.mustDeploy(one)
		require.Equal(t, one, w.stands())
		w.verify(one)
	})
}

func TestPublishOrder(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	var mu sync.Mutex
	var order []string
	w.between.Before = func(op string, names ...string) error {
		mu.Lock()
		defer mu.Unlock()
		if len(names) == 0 {
			return nil
		}
		if path, ok := strings.CutPrefix(names[0], "www/"); ok && op == "rename" {
			order = append(order, "remove "+path) // it is kept
			return nil
		}
		to := names[len(names)-1]
		if path, ok := strings.CutPrefix(to, "www/"); ok && (op == "rename" || op == "remove" || op == "mkdir") {
			order = append(order, op+" "+path)
		}
		return nil
	}
	w.mustDeploy(tree{"index.html": "new", "new/page.html": "new", "css/a.css": "new", "zz.css": "new"})
	at := func(step string) int {
		i := slices.Index(order, step)
		require.GreaterOrEqual(t, i, 0, "%s in %v", step, order)
		return i
	}
	for _, page := range []string{"rename index.html", "rename new/page.html"} {
		require.Less(t, at("mkdir new"), at(page))
		require.Less(t, at("rename css/a.css"), at(page))
		require.Less(t, at("rename zz.css"), at(page), "assets before pages")
		require.Less(t, at(page), at("remove old/x.css"), "removals after pages")
	}
	require.Less(t, at("remove old/page.html"), at("remove old"))
}

func TestEveryFileArrivesUnderAPrivateName(t *testing.T) {
	w := newWorld(t)
	w.between.Before = func(op string, names ...string) error {
		if op == "put" && strings.HasPrefix(names[0], "www/") {
			t.Errorf("%s is written where visitors see it", names[0])
		}
		return nil
	}
	w.mustDeploy(first)
	w.mustDeploy(second)
}

func TestAFileThatFailsKeepsTheSiteAsItWasAndARerunSendsOnlyThat(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(first)
		out, err := w.deploy(second, unreadable("css/c.css"))
		require.NoError(t, err)
		require.Equal(t, 3, out.SentFiles)
		require.Zero(t, out.Number)
		require.False(t, out.Verified)
		require.Len(t, out.Failed, 1)
		require.Equal(t, "css/c.css", out.Failed[0].Path)
		require.ErrorContains(t, out.Failed[0].Err, "no right to read")
		require.Equal(t, first, w.stands())

		out = w.mustDeploy(second)
		require.Equal(t, 1, out.SentFiles)
		require.Equal(t, 3, out.Resumed)
		w.verify(second)
	})
}

func TestPublishPartialBringsWhatArrivedAndRecordsWhatStands(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(first)
		partial := func(p *site.Plan) { p.Partial = true }
		out, err := w.deploy(second, partial, unreadable("index.html", "css/c.css"))
		require.NoError(t, err)
		require.Len(t, out.Failed, 2)
		require.Equal(t, 2, out.Number)
		stands := w.stands()
		require.Equal(t, "<h1>", stands["index.html"])
		require.Equal(t, "#!2", stands["cgi/tide.sh"])
		require.NotContains(t, stands, "css/c.css")
		w.verify(stands)
		require.Equal(t, 2, w.mustDeploy(second).SentFiles)
		w.verify(second)
	})
}

func TestContentThatChangedSinceTheScanIsNotPublished(t *testing.T) {
	w := newWorld(t)
	out, err := w.deploy(first, func(p *site.Plan) {
		p.Open = func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("other")), nil }
	})
	require.NoError(t, err)
	require.Len(t, out.Failed, 6)
	require.ErrorIs(t, out.Failed[0].Err, site.ErrChangedSinceScan)
	require.Empty(t, w.stands())
	require.Empty(t, w.incoming(), "nothing partial stays behind")

	// Also when the size is what it was.
	out, err = w.deploy(tree{"a": "abc"}, func(p *site.Plan) {
		p.Open = func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("xyz")), nil }
	})
	require.NoError(t, err)
	require.ErrorIs(t, out.Failed[0].Err, site.ErrChangedSinceScan)
}

// noting keeps the owners whom files are given when they are written.
type noting struct {
	*osfs.FS
	mu   *sync.Mutex
	seen *[]manifest.Owner
}

func (n noting) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	if attr.Owner != nil {
		n.mu.Lock()
		*n.seen = append(*n.seen, *attr.Owner)
		n.mu.Unlock()
	}
	return n.FS.Put(ctx, name, content, attr)
}

func TestAttributesTravel(t *testing.T) {
	w := newWorld(t)
	var seen []manifest.Owner
	w.between.FS = noting{w.between.FS.(*osfs.FS), new(sync.Mutex), &seen}
	warden := manifest.Owner{User: strconv.Itoa(os.Getuid()), Group: strconv.Itoa(os.Getgid())}
	w.mustDeploy(tree{"index.html": "<h1>", "log/2026.txt": "gannets"}, func(p *site.Plan) {
		for i := range p.Want {
			p.Want[i].Owner = &warden
		}
	})
	require.Equal(t, []manifest.Owner{warden, warden}, seen, "what a manifest says of a file gets to the place without a line of the engine")
}

// lossy reports success and loses the tail.
type lossy struct{ fsys.FS }

func (l lossy) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	all, err := io.ReadAll(content)
	if err != nil || len(all) < 2 || !staging(name) {
		return l.FS.Put(ctx, name, strings.NewReader(string(all)), attr)
	}
	_, err = l.FS.Put(ctx, name, strings.NewReader(string(all[:len(all)-1])), attr)
	return int64(len(all)), err
}

func TestAFarEndThatLosesBytesIsFoundOut(t *testing.T) {
	w := newWorld(t)
	w.between.FS = lossy{w.between.FS}
	out, err := w.deploy(first)
	require.NoError(t, err)
	require.NotEmpty(t, out.Failed)
	require.ErrorIs(t, out.Failed[0].Err, site.ErrWrongBytes)
	require.Empty(t, w.stands())
}

// TestWhatIsWrongIsNotPutInPlace loses a byte of each file that changes.
func TestWhatIsWrongIsNotPutInPlace(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "one", "log/may.html": "may", "log/june.html": "june"}
	w.mustDeploy(c)
	w.between.FS = lossy{w.between.FS}
	out, err := w.deploy(tree{"index.html": "two", "log/may.html": "May", "log/june.html": "june", "x": "y"}, func(p *site.Plan) { p.Partial = true })
	require.NoError(t, err)
	require.Len(t, out.Failed, 2, "each once")
	for _, f := range out.Failed {
		require.ErrorIs(t, f.Err, site.ErrWrongBytes)
	}
	c["x"] = "y" // too small to lose anything
	require.Equal(t, c, w.stands())
	w.verify(c)
}

// TestACopyIsPutInPlaceFromWhereItIs has two new files with one content, beside another one.
func TestACopyIsPutInPlaceFromWhereItIs(t *testing.T) {
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		w := newWorld(t)
		w.mustDeploy(tree{"index.html": "1"})
		c := tree{"index.html": "2", "plates/gannet.svg": "plate", "plates/tern.svg": "plate", "plates/new.svg": "plate"}
		out := w.mustDeploy(c)
		require.Equal(t, []int{2, 2}, []int{out.SentFiles, out.Reused})
		require.Equal(t, c, w.stands())
		w.verify(c)
	})
}

// TestCutAtEveryOperation cuts the connection at the n-th operation, for every n, and then deploys again.
func TestCutAtEveryOperation(t *testing.T) {
	t.Parallel()
	bothWays(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		points := 0
		for n := 0; ; n++ {
			w := newWorld(t)
			w.mustDeploy(first)
			count, restore := w.failWhen(func(count int) bool { return count > n }, farend.ErrLost)
			_, err := w.deploy(second)
			restore()
			ended := *count <= n
			if ended {
				require.NoError(t, err)
				break
			}
			points++
			for path, text := range w.stands() {
				require.True(t, text == first[path] || text == second[path] || strings.HasSuffix(path, "/"), "after %d operations %s is neither old nor new", n, path)
			}
			// The cut may have left the lock, and its holder, this very process, lives.
			require.NoError(t, os.RemoveAll(filepath.Join(w.dir, ".www.tartine", "lock")))
			w.mustDeploy(second)
			require.Equal(t, second, w.stands(), "after %d operations", n)
			w.verify(second)
		}
		t.Logf("cut at %d points", points)
		require.Greater(t, points, 40)
	})
}

func TestASecondDeploymentIsLockedOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.mustDeploy(first)
	s, plan, err := w.plan(t.Context(), second)
	require.NoError(t, err)
	inside := make(chan struct{})
	proceed := make(chan struct{})
	var once sync.Once
	open := plan.Open
	plan.Open = func(path string) (io.ReadCloser, error) {
		once.Do(func() { close(inside); <-proceed })
		return open(path)
	}
	done := make(chan error)
	go func() {
		_, err := s.Deploy(context.Background(), plan, &site.Watch{})
		done <- err
	}()
	<-inside
	_, err = w.deploy(first)
	var locked *site.LockedError
	require.ErrorAs(t, err, &locked)
	require.Equal(t, "warden", locked.Holder.User)
	close(proceed)
	require.NoError(t, <-done)
	w.verify(second)
}

func TestOvertakenByAnotherDeployment(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	s, plan, err := w.plan(t.Context(), tree{"index.html": "third"})
	require.NoError(t, err)
	w.mustDeploy(second)
	_, err = s.Deploy(t.Context(), plan, &site.Watch{})
	var overtaken *site.OvertakenError
	require.ErrorAs(t, err, &overtaken)
	w.verify(second)
}

func TestTheRecordGoesInsideTheRootWhereNothingMayBeWrittenBesideIt(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, os.Mkdir(filepath.Join(w.dir, "www"), 0o755))
	w.between.Before = func(op string, names ...string) error {
		if op == "mkdir" && names[0] == ".www.tartine" {
			return &fs.PathError{Op: op, Path: names[0], Err: fs.ErrPermission}
		}
		return nil
	}
	into := tree{".tartine/current": "7"}
	_, err := w.deploy(into)
	require.ErrorIs(t, err, site.ErrRecord, "it is known only when the record is made")
	w.mustDeploy(first)
	_, err = os.Stat(filepath.Join(w.dir, "www", ".tartine", "deployments", "1.json"))
	require.NoError(t, err)
	_, _, err = w.plan(t.Context(), into)
	require.ErrorIs(t, err, site.ErrRecord, "a trial says so, too")
	s, err := w.open(t.Context())
	require.NoError(t, err)
	_, err = s.ReadPath(t.Context(), ".tartine/current")
	require.ErrorIs(t, err, site.ErrRecord)
	_, err = s.List(t.Context(), &site.Listing{Paths: []string{".tartine"}})
	require.ErrorIs(t, err, site.ErrRecord)
	list, err := s.List(t.Context(), &site.Listing{Recursive: true})
	require.NoError(t, err)
	for _, l := range list {
		require.NotContains(t, l.Path, ".tartine")
	}
	w.verify(first)
	w.mustDeploy(second)
	w.verify(second)
}

func TestTheRecordIsAsPrivateAsTheRootAllows(t *testing.T) {
	for mode, record := range map[fs.FileMode]fs.FileMode{0o755: 0o700, 0o775: 0o770} {
		w := newWorld(t)
		root := filepath.Join(w.dir, "www")
		require.NoError(t, os.Mkdir(root, 0o755))
		require.NoError(t, os.Chmod(root, mode))
		w.mustDeploy(first)
		w.mustDeploy(second)
		require.NoError(t, filepath.WalkDir(filepath.Join(w.dir, ".www.tartine"), func(name string, entry fs.DirEntry, err error) error {
			if err != nil || strings.Contains(name, "/kept/") {
				return err // what is kept has the mode that it had
			}
			info, err := entry.Info()
			if err == nil && entry.IsDir() {
				require.Equal(t, record, info.Mode().Perm(), name)
			} else if err == nil {
				require.Equal(t, record&0o660, info.Mode().Perm(), name)
			}
			return err
		}))
	}
}

func TestRootThatCannotBeWritten(t *testing.T) {
	w := newWorld(t)
	w.between.Before = func(op string, names ...string) error {
		if op == "mkdir" {
			return &fs.PathError{Op: op, Path: names[0], Err: fs.ErrPermission}
		}
		return nil
	}
	_, err := w.deploy(first)
	var wrong *site.RootError
	require.ErrorAs(t, err, &wrong)
	require.ErrorIs(t, err, fs.ErrPermission)
	require.Contains(t, err.Error(), filepath.Join(w.dir, "www"))
}

func TestNamesTheFarSideCannotHoldAreFoundBeforeAnythingIsSent(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	long := strings.Repeat("x", 300) + ".html"
	out, err := w.deploy(tree{"index.html": "<h1>", "log/" + long: "x"})
	require.NoError(t, err)
	require.Len(t, out.Failed, 1)
	require.Contains(t, out.Failed[0].Err.Error(), "cannot hold a name of this length")
	require.Zero(t, out.SentFiles)
	require.Equal(t, first, w.stands())
}

// folding ignores case, as the usual file systems of two of the three systems do. It is in for them here.
type folding struct{ fsys.FS }

func (f folding) Lstat(ctx context.Context, name string) (fsys.Info, error) {
	return f.FS.Lstat(ctx, strings.ToLower(name))
}

func TestAPlaceThatIgnoresCaseIsFoundOutWithoutWriting(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	folds := func() bool {
		_, plan, err := w.plan(t.Context(), first)
		require.NoError(t, err)
		return plan.Survey.FoldsCase
	}
	require.False(t, folds())
	w.between.FS = folding{w.between.FS}
	require.True(t, folds())
}

func TestNamesThatDifferOnlyInCaseDoNotGetToAPlaceThatIgnoresIt(t *testing.T) {
	clashing := tree{"Readme": "1", "readme": "2"}
	w := newWorld(t)
	w.between.FS = folding{w.between.FS}
	_, err := w.deploy(clashing)
	var clash *site.CaseError
	require.ErrorAs(t, err, &clash)
	require.Equal(t, []manifest.CaseClash{{First: "Readme", Second: "readme"}}, clash.Clashes)
	require.Empty(t, w.stands())
	require.Empty(t, w.incoming())
	newWorld(t).mustDeploy(clashing)
}

func TestADamagedRecordIsNamedAndNotBelieved(t *testing.T) {
	for name, damage := range map[string]func(record string) error{
		"manifest": func(record string) error {
			return os.WriteFile(filepath.Join(record, "deployments", "1.json"), []byte("{"), 0o600)
		},
		"number": func(record string) error { return os.WriteFile(filepath.Join(record, "current"), []byte("one"), 0o600) },
		"journal": func(record string) error {
			return os.WriteFile(filepath.Join(record, "publish.json"), []byte(`{"number":2,"phases":[[{"do":"remove","path":"../x"}]]}`), 0o600)
		},
	} {
		w := newWorld(t)
		w.mustDeploy(first)
		require.NoError(t, damage(filepath.Join(w.dir, ".www.tartine")))
		_, err := w.deploy(second)
		var wrong *site.RecordError
		require.ErrorAs(t, err, &wrong, name)
		require.Contains(t, err.Error(), ".www.tartine/")
	}
}

func TestManyDeploymentsKeepTheLastFive(t *testing.T) {
	w := newWorld(t)
	for i := range 8 {
		w.mustDeploy(tree{"index.html": fmt.Sprint("edition ", i)})
	}
	list, err := filepath.Glob(filepath.Join(w.dir, ".www.tartine", "deployments", "*.json"))
	require.NoError(t, err)
	require.Len(t, list, 5)
	require.Len(t, w.kept(), 4, "what the four before the one that stands put there")
}

func (w *world) kept() (names []string) {
	w.t.Helper()
	names, err := filepath.Glob(filepath.Join(w.dir, ".www.tartine", "kept", "*", "*"))
	require.NoError(w.t, err)
	return names
}

func TestWhatTheSiteHoldsIsNotSentAgain(t *testing.T) {
	w := newWorld(t)
	before := tree{"index.html": "<h1>", "plates/a.svg": "aaa", "plates/b.svg": "bbb", "plates/c.svg": "ccc"}
	after := tree{"index.html": "<h1>", "img/plates/a.svg": "aaa", "img/plates/b.svg": "bbb", "img/plates/c.svg": "ccc", "copy.svg": "aaa"}
	w.mustDeploy(before)
	out := w.mustDeploy(after)
	require.Zero(t, out.SentBytes, "a renamed folder of pictures costs no bytes")
	require.Equal(t, 4, out.Reused)
	w.verify(after)
	require.Equal(t, after, w.stands())

	// An edit of one must not show in the other.
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "www", "copy.svg"), []byte("edited"), 0o644))
	require.Equal(t, "aaa", w.stands()["img/plates/a.svg"])

	// What was replaced is kept, and comes back without being sent.
	w.mustDeploy(tree{"index.html": "<h2>"})
	out = w.mustDeploy(after)
	require.Zero(t, out.SentBytes)
	w.verify(after)
}

func TestBorrowedWhereTheFarEndCannotCopy(t *testing.T) {
	w := newWorld(t)
	w.between.FS = noCopies{w.between.FS}
	w.mustDeploy(tree{"plates/a.svg": "aaa", "stays.svg": "sss"})
	out := w.mustDeploy(tree{"img/a.svg": "aaa", "stays.svg": "sss", "again.svg": "sss"})
	require.Equal(t, 1, out.SentFiles, "one that stays must not share its bytes with another name")
	require.Equal(t, 1, out.Reused)
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "www", "again.svg"), []byte("x"), 0o644))
	require.Equal(t, "sss", w.stands()["stays.svg"])
}

// noCopies can link, but not copy.
type noCopies struct{ fsys.FS }

func (n noCopies) Link(ctx context.Context, from, to string) error {
	return n.FS.(fsys.Linker).Link(ctx, from, to)
}

func TestKeptContentThatWasDamagedIsSentInstead(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	w.mustDeploy(second)
	for _, name := range w.kept() {
		require.NoError(t, os.Chmod(name, 0o644))
		info, err := os.Stat(name)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, []byte(strings.Repeat("?", int(info.Size()))), 0o644))
	}
	w.mustDeploy(first)
	w.verify(first)
}

// TestALargeFileGoesOnFromWhereItWas holds for every byte that is stored, where the place writes them in order; where some
// requests are in flight at once, what may be missing before the end is sent again.
func TestALargeFileGoesOnFromWhereItWas(t *testing.T) {
	for _, unordered := range []int64{0, 64 << 10} {
		w := newWorld(t)
		w.between.Can = func(able fsys.Abilities) fsys.Abilities {
			able.Unordered = unordered
			return able
		}
		large := strings.Repeat("0123456789abcdef", 6<<16) // 6 MiB
		content := tree{"plate.tif": large}
		var sent []int64
		w.between.Cut = func(name string, in io.Reader) io.Reader {
			if !staging(name) {
				return in
			}
			left, _ := fsys.SizeOf(in)
			sent = append(sent, left)
			return io.MultiReader(io.LimitReader(in, 1<<20+1), cutReader{})
		}
		for range 3 {
			_, err := w.deploy(content)
			require.ErrorIs(t, err, farend.ErrLost)
			require.NoError(t, os.RemoveAll(w.lockFile()))
		}
		w.between.Cut = nil
		out := w.mustDeploy(content)
		stored := 3*(1<<20+1) - 2*unordered
		require.Equal(t, int64(len(large))-stored+unordered, out.SentBytes)
		require.Equal(t, []int64{6 << 20, 6<<20 - (1<<20 + 1) + unordered, 6<<20 - 2*(1<<20+1) + 2*unordered}, sent)
		w.verify(content)
	}
}

type cutReader struct{}

func (cutReader) Read([]byte) (int, error) { return 0, farend.ErrLost }

func TestTooLittleRoomIsFoundBeforeAnythingIsSent(t *testing.T) {
	w := newWorld(t)
	w.between.FS = crammed{w.between.FS.(*osfs.FS)}
	_, err := w.deploy(first)
	var space *site.SpaceError
	require.ErrorAs(t, err, &space)
	require.Equal(t, int64(3), space.Free)
	require.Empty(t, w.incoming())
}

// crammed is nearly full.
type crammed struct{ *osfs.FS }

func (crammed) FreeSpace(context.Context) (fsys.Space, error) {
	return fsys.Space{Bytes: 3, Files: -1}, nil
}

var errLost = fmt.Errorf("cut: %w", farend.ErrLost)

// staging tells whether a name of the record is one under which content is staged.
func staging(name string) bool {
	return strings.Contains(name, "/incoming/") || strings.Contains(name, "/fresh/")
}

// TestFoldersOfWhatWasStagedGo has each deployment leave no folder that the next one would look into.
func TestFoldersOfWhatWasStagedGo(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	in := filepath.Join(w.dir, ".www.tartine", "incoming")
	require.NoError(t, os.MkdirAll(filepath.Join(in, "ab"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(in, "ab", strings.Repeat("ab", 32)), []byte("left"), 0o600))
	w.mustDeploy(second)
	left, err := os.ReadDir(in)
	require.NoError(t, err)
	require.Empty(t, left)
	w.verify(second)
}
