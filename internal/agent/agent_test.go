package agent

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// openIn opens sites below a folder.
func openIn(dir string) Opener {
	return func(ctx context.Context, root Root) (*site.Site, string, io.Closer, error) {
		f, err := osfs.Open(dir)
		if err != nil {
			return nil, "", nil, err
		}
		s, err := site.Open(ctx, f, root.Path, filepath.Join(dir, root.Path), site.Options{Jobs: 4, Switch: root.Switch, Brief: 1})
		return s, root.Path, f, err
	}
}

// session begins a session in one process. The server must have ended in order when the test does.
func session(t *testing.T, dir string) *Client {
	t.Helper()
	near, far := net.Pipe()
	return sessionOver(t, dir, near, far)
}

func sessionOver(t *testing.T, dir string, near, far net.Conn) *Client {
	t.Helper()
	served := make(chan error, 1)
	go func() {
		served <- Serve(context.Background(), far, far, "test", openIn(dir))
		far.Close()
	}()
	c, err := Connect(t.Context(), near, near, near, "test", Root{Path: "www"})
	require.NoError(t, err)
	t.Cleanup(func() {
		require.NoError(t, c.Close())
		if err := <-served; err != nil {
			require.ErrorIs(t, err, io.ErrClosedPipe)
		}
	})
	return c
}

type content map[string]string

func (c content) entries() (out []manifest.Entry) {
	for path, text := range c {
		out = append(out, manifest.Entry{Path: path, Attributes: manifest.Attributes{Mode: 0o644, ModTime: time.Unix(1777617015, 0)}, Size: int64(len(text)), Digest: sha256.Sum256([]byte(text))})
	}
	slices.SortFunc(out, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out
}

func (c content) open(path string) (io.ReadCloser, error) {
	return io.NopCloser(bytes.NewReader([]byte(c[path]))), nil
}

func (c content) compare(t *testing.T, client *Client) *calls.Staging {
	t.Helper()
	survey, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1, Believe: true})
	require.NoError(t, err)
	entries := c.entries()
	compared, err := calls.Compare.On(t.Context(), client, &calls.Comparing{As: 2, Survey: 1, Recorded: survey.Number > 0, Wanted: site.Wanted{Entries: entries}})
	require.NoError(t, err)
	return &calls.Staging{As: 3, Comparison: 2, Plan: site.Plan{Want: entries, Result: compared.Result, Open: c.open, Last: []string{"*.html"}, Origin: &manifest.Origin{User: "warden"}}}
}

// deployed stages and publishes.
func deployed(ctx context.Context, client *Client, staging *calls.Staging, watch *site.Watch) (*site.Outcome, error) {
	if _, err := calls.Stage.Watched(ctx, client, staging, watch); err != nil {
		return nil, err
	}
	return calls.Publish.Watched(ctx, client, staging.As, watch)
}

func (c content) deploy(t *testing.T, client *Client) *site.Outcome {
	t.Helper()
	var staged int64
	out, err := deployed(t.Context(), client, c.compare(t, client), &site.Watch{Bytes: func(n int64) { staged += n }})
	require.NoError(t, err)
	require.Empty(t, out.Failed)
	require.True(t, out.Verified)
	return out
}

func stands(t *testing.T, dir string) content {
	out := content{}
	require.NoError(t, filepath.WalkDir(filepath.Join(dir, "www"), func(name string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() {
			return err
		}
		text, err := os.ReadFile(name)
		relative, _ := filepath.Rel(filepath.Join(dir, "www"), name)
		out[filepath.ToSlash(relative)] = string(text)
		return err
	}))
	return out
}

func site1() content {
	c := content{"index.html": "<h1>", "empty.txt": "", "img/plate.tif": strings.Repeat("plate ", 200_000), "css/site.css": "h1 {}"}
	for i := range 700 {
		c[fmt.Sprintf("tides/%02d/%03d.html", i%7, i)] = strings.Repeat(fmt.Sprint("tide ", i), 40)
	}
	return c
}

func TestDeploymentsThroughAnAgent(t *testing.T) {
	dir := t.TempDir()
	client := session(t, dir)
	first := site1()
	out := first.deploy(t, client)
	require.Equal(t, len(first), out.SentFiles)
	require.Equal(t, 1, out.Number)
	require.Equal(t, first, stands(t, dir))

	plan := first.compare(t, client)
	require.Empty(t, plan.Result.Changes)
	require.Equal(t, len(first), plan.Result.Same)
	require.False(t, plan.Result.Stale)

	second := maps.Clone(first)
	second["tides/03/010.html"], second["new/deep/page.html"] = "changed", "new"
	delete(second, "css/site.css")
	require.Equal(t, 2, second.deploy(t, client).SentFiles)
	require.Equal(t, second, stands(t, dir))

	// Drift is seen, though the tree digest of what is wanted is the recorded one.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "tides", "01", "001.html"), []byte("edited"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "stray.txt"), nil, 0o644))
	plan = second.compare(t, client)
	require.Len(t, plan.Result.Changes, 2)
	require.Equal(t, diff.Stray, plan.Result.Changes[0].Status)
	require.True(t, plan.Result.Changes[1].Drifted)
	require.Equal(t, "tides/01/001.html", plan.Result.Changes[1].Want.Path)
	report, err := calls.Verify.On(t.Context(), client, calls.VerifyingAgainst(nil, true))
	require.NoError(t, err)
	require.Len(t, report.Altered, 1)
	require.Len(t, report.Strays, 1)
	report, err = calls.Verify.On(t.Context(), client, calls.VerifyingAgainst(&manifest.Manifest{Entries: first.entries()}, false))
	require.NoError(t, err)
	require.Len(t, report.Missing, 1)

	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "tides", "01", "001.html"), []byte(second["tides/01/001.html"]), 0o644))
	past, err := calls.History.On(t.Context(), client, calls.None{})
	require.NoError(t, err)
	require.Equal(t, 2, past[0].Number)
	require.Equal(t, "warden", past[0].User)
	m, err := calls.Deployment.On(t.Context(), client, 1)
	require.NoError(t, err)
	plan = content(first).compare(t, client)
	require.Len(t, m.Entries, len(plan.Want))
	missing, err := calls.Held.On(t.Context(), client, plan.Comparison)
	require.NoError(t, err)
	require.Empty(t, missing)
	plan.Rollback, plan.Open = 1, nil
	back, err := deployed(t.Context(), client, plan, &site.Watch{})
	require.NoError(t, err)
	require.Zero(t, back.SentFiles)
	now := stands(t, dir)
	delete(now, "stray.txt")
	require.Equal(t, first, now)

	large := bytes.Repeat([]byte("gannet"), 1<<20) // three ranges
	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "img", "large.tif"), large, 0o644))
	file, err := calls.Open(t.Context(), client, "img/large.tif")
	require.NoError(t, err)
	text, err := io.ReadAll(file)
	require.NoError(t, err)
	require.True(t, bytes.Equal(large, text))
	paths := []string{"index.html", "no/such", "img/plate.tif", "../out"}
	got, err := calls.Gather.On(t.Context(), client, paths)
	require.NoError(t, err)
	require.NoError(t, got[0].Err)
	require.Equal(t, first["index.html"], string(got[0].Content))
	require.ErrorIs(t, got[1].Err, fs.ErrNotExist)
	require.ErrorContains(t, got[2].Err, fsys.ErrTooLong.Error())
	require.Error(t, got[3].Err)
	checks, err := calls.Examine.On(t.Context(), client, calls.None{})
	require.NoError(t, err)
	require.Equal(t, "root", checks[0].Name)
}

func TestANoOpSendsAFewHundredBytes(t *testing.T) {
	dir := t.TempDir()
	c := site1()
	c.deploy(t, session(t, dir))
	client := session(t, dir)
	counted := &counter{Writer: client.out}
	client.out.Reset(counted)
	// The buffered writer writes to the counter, which writes to the pipe.
	counted.Writer = client.stream.(*closeOnce).Closer.(net.Conn)
	c.compare(t, client)
	require.Less(t, counted.bytes, 600)
}

// TestANoOpReadsNoRecord takes the blocks of the record away, once the site was surveyed.
func TestANoOpReadsNoRecord(t *testing.T) {
	dir := t.TempDir()
	c := site1()
	c.deploy(t, session(t, dir))
	client := session(t, dir)
	survey, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1, Believe: true})
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(dir, ".www.tartine", "deployments", "1.blocks")))
	compare := func(as calls.ID, entries []manifest.Entry) (*calls.Compared, error) {
		return calls.Compare.On(t.Context(), client, &calls.Comparing{As: as, Survey: 1, Recorded: survey.Number > 0, Wanted: site.Wanted{Entries: entries}})
	}
	compared, err := compare(2, c.entries())
	require.NoError(t, err)
	require.Equal(t, len(c), compared.Result.Same)
	require.Empty(t, compared.Result.Changes)
	_, err = compare(3, c.entries()[1:])
	require.ErrorContains(t, err, "1.blocks", "else it is read")
}

// unlisted is entries that count how often somebody asks for a list of all of them.
type unlisted struct {
	entries []manifest.Entry
	lists   int
}

func (u *unlisted) Len() int { return len(u.entries) }

func (u *unlisted) Folded() bool { return true }

func (u *unlisted) Each(visit func(e *manifest.Entry) bool) {
	for _, e := range u.entries {
		if !visit(&e) {
			return
		}
	}
}

func (u *unlisted) Entries() []manifest.Entry {
	u.lists++
	return u.entries
}

// TestALittleChangeTakesNoListOfAll changes some files of many: who sends them does without a list of all.
func TestALittleChangeTakesNoListOfAll(t *testing.T) {
	dir := t.TempDir()
	client := session(t, dir)
	c := content{}
	for i := range fewEntries + 100 {
		c[fmt.Sprintf("tides/%03d/%05d.html", i%150, i)] = fmt.Sprint(i)
	}
	var all *unlisted
	deploy := func() (*diff.Result, *site.Outcome) {
		all = &unlisted{entries: c.entries()}
		survey, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1, Believe: true})
		require.NoError(t, err)
		compared, err := calls.Compare.On(t.Context(), client, &calls.Comparing{As: 2, Survey: 1, Recorded: survey.Number > 0, Content: all,
			Tree: (&manifest.Manifest{Entries: all.entries}).Tree()})
		require.NoError(t, err)
		if !compared.Result.Publishes(false) {
			return compared.Result, nil
		}
		out, err := deployed(t.Context(), client, &calls.Staging{As: 3, Comparison: 2, Content: all, Plan: site.Plan{Result: compared.Result, Open: c.open}}, nil)
		require.NoError(t, err)
		require.Empty(t, out.Failed)
		require.Equal(t, c, stands(t, dir))
		return compared.Result, out
	}
	result, out := deploy()
	require.Empty(t, result.Changes)
	require.Equal(t, len(c), out.SentFiles)
	require.Zero(t, all.lists, "neither where all is new")
	result, out = deploy()
	require.Nil(t, out)
	require.Equal(t, len(c), result.Same)
	require.Zero(t, all.lists)

	c["tides/007/00007.html"], c["new.html"] = "low water", "new"
	delete(c, "tides/008/00008.html")
	_, out = deploy()
	require.Equal(t, 2, out.SentFiles)
	require.Zero(t, all.lists)
}

type counter struct {
	io.Writer
	bytes int
}

func (c *counter) Write(p []byte) (int, error) {
	c.bytes += len(p)
	return c.Writer.Write(p)
}

func TestFilesThatChangedOrCannotBeReadAreNamed(t *testing.T) {
	client := session(t, t.TempDir())
	c := content{"a.txt": "a", "b.txt": "b", "large.tif": strings.Repeat("x", 500_000), "page.html": "p"}
	plan := c.compare(t, client)
	plan.Partial = true
	plan.Open = func(path string) (io.ReadCloser, error) {
		switch path {
		case "b.txt":
			return io.NopCloser(strings.NewReader("other")), nil
		case "large.tif":
			return io.NopCloser(strings.NewReader(strings.Repeat("x", 400_000))), nil
		case "page.html":
			return nil, fs.ErrPermission
		}
		return c.open(path)
	}
	out, err := deployed(t.Context(), client, plan, &site.Watch{})
	require.NoError(t, err)
	var failed []string
	for _, f := range out.Failed {
		failed = append(failed, f.Path)
	}
	require.Equal(t, []string{"b.txt", "large.tif", "page.html"}, failed)
	require.ErrorIs(t, out.Failed[0].Err, site.ErrChangedSinceScan)
	require.ErrorIs(t, out.Failed[1].Err, site.ErrChangedSinceScan)
	require.ErrorContains(t, out.Failed[2].Err, "read it here: permission denied")
	require.Equal(t, 1, out.SentFiles)
}

func TestErrorsKeepTheirFactsAcrossTheLine(t *testing.T) {
	holder := site.Holder{Token: "t", User: "warden", Host: "rock.example", Process: 7, Since: time.Unix(1777617015, 0), Until: time.Unix(1777617115, 0)}
	for _, err := range []error{
		&site.RootError{Root: "/srv/www", Reason: "cannot be made", Parent: true, Err: fs.ErrPermission},
		&site.RecordError{File: "current", Err: errors.New("cut off")},
		&site.LockedError{Holder: holder}, &site.OvertakenError{Expected: 3, Found: 4}, &site.NotKeptError{Number: 1, Kept: []int{4, 5}},
		&site.SpaceError{Need: 7, Free: 3, Files: true}, &site.CaseError{Clashes: []manifest.CaseClash{{First: "a", Second: "A"}}},
		fmt.Errorf("open it: %w", fs.ErrNotExist), errors.New("anything else"),
		&site.LockLostError{Holder: &holder}, &site.LockLostError{}, &site.LockLostError{Err: fs.ErrPermission},
		&site.RecordError{File: "publish.json", Err: &site.UntrustedError{Reason: "it names a neighbour"}},
		&site.RecordError{File: "publish.json", Err: fmt.Errorf("version 9 is not known, and %w", site.ErrNewer)},
		&site.RecordError{File: "deployments/7.json", Err: site.ErrOtherTree},
		&site.UnfinishedError{Number: 7, Failed: []site.Failure{{Path: "img/a.svg", Err: &site.StepError{Do: "place", Err: fs.ErrPermission}}}},
	} {
		text := must(encoding.Marshal(calls.Wire(err)))
		var w calls.Error
		require.NoError(t, decoding.Unmarshal(text, &w))
		got := w.Err()
		require.Equal(t, err.Error(), got.Error())
		for _, cause := range []error{fs.ErrPermission, fs.ErrNotExist, site.ErrNewer, site.ErrOtherTree} {
			require.Equal(t, errors.Is(err, cause), errors.Is(got, cause), "%v", err)
		}
	}
	locked := &site.LockedError{}
	require.ErrorAs(t, calls.Wire(&site.LockedError{Holder: holder}).Err(), &locked)
	require.True(t, locked.Holder.Until.Equal(holder.Until))
	lost, unfinished, untrusted := &site.LockLostError{}, &site.UnfinishedError{}, &site.UntrustedError{}
	require.ErrorAs(t, calls.Wire(&site.LockLostError{Holder: &holder}).Err(), &lost)
	require.Equal(t, "warden", lost.Holder.User)
	require.ErrorAs(t, calls.Wire(&site.RecordError{File: "lock", Err: &site.UntrustedError{}}).Err(), &untrusted)
	require.ErrorAs(t, calls.Wire(&site.UnfinishedError{Number: 7, Failed: []site.Failure{{Path: "a", Err: &site.StepError{Do: "place", Err: fs.ErrPermission}}}}).Err(), &unfinished)
	require.Equal(t, 7, unfinished.Number)
	require.ErrorIs(t, unfinished.Failed[0].Err, fs.ErrPermission)
	require.Nil(t, calls.Wire(nil).Err())
	require.ErrorIs(t, (&calls.Error{Kind: "locked", Data: []byte{1}}).Err(), ErrProtocol)
}

func TestAnotherProgramIsRefused(t *testing.T) {
	near, far := net.Pipe()
	served := make(chan error, 1)
	go func() {
		served <- Serve(context.Background(), far, far, "version 2", nil)
		far.Close()
	}()
	_, err := Connect(t.Context(), near, near, near, "version 1", Root{Path: "www"})
	var why *UnavailableError
	require.ErrorAs(t, err, &why)
	require.ErrorContains(t, err, `"version 2"`)
	<-served
}

func TestALineThatIsLostEndsBothSides(t *testing.T) {
	dir := t.TempDir()
	near, far := net.Pipe()
	served := make(chan error, 1)
	go func() { served <- Serve(context.Background(), far, far, "test", openIn(dir)) }()
	client, err := Connect(t.Context(), near, near, near, "test", Root{Path: "www"})
	require.NoError(t, err)
	defer client.Close()
	c := site1()
	for i := range 2000 {
		c[fmt.Sprintf("log/%d.html", i)] = fmt.Sprint("log ", i)
	}
	plan := c.compare(t, client)
	var opened atomic.Int64
	told := make(chan struct{})
	once := sync.OnceFunc(func() { close(told) })
	plan.Open = func(path string) (io.ReadCloser, error) {
		if opened.Add(1) == 1500 { // what was sent before has arrived
			<-told
			near.Close()
		}
		return c.open(path)
	}
	_, err = deployed(t.Context(), client, plan, &site.Watch{Bytes: func(int64) { once() }})
	require.ErrorIs(t, err, farend.ErrLost)
	<-served
	require.NoDirExists(t, filepath.Join(dir, "www"))
	require.NoFileExists(t, filepath.Join(dir, ".www.tartine", "lock"), "it was given back")

	// What had come was kept, and is not sent again.
	again := session(t, dir)
	out := c.deploy(t, again)
	require.NotZero(t, out.Resumed)
	require.Equal(t, len(c), out.Resumed+out.SentFiles)
}

func TestACancelledCallEnds(t *testing.T) {
	client := session(t, t.TempDir())
	c := site1()
	plan := c.compare(t, client)
	ctx, cancel := context.WithCancel(t.Context())
	plan.Open = func(path string) (io.ReadCloser, error) {
		cancel()
		return c.open(path)
	}
	_, err := deployed(ctx, client, plan, &site.Watch{})
	require.ErrorIs(t, err, context.Canceled)
	require.NotEmpty(t, c.compare(t, client).Result.Changes, "the session goes on")
}

// TestNamesThatAreNoUTF8CrossTheLine holds for names, for what links say, and for the messages about them.
func TestNamesThatAreNoUTF8CrossTheLine(t *testing.T) {
	dir := t.TempDir()
	client := session(t, dir)
	c := content{"index.html": "1", "img/a.svg": "2"}
	c.deploy(t, client)
	odd := filepath.Join(dir, "www", "img", "b\xffd\n")
	require.NoError(t, os.WriteFile(odd, []byte("x"), 0o644))
	require.NoError(t, os.Symlink("t\xfe", filepath.Join(dir, "www", "link")))
	survey, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1, Believe: true})
	require.NoError(t, err)
	require.Equal(t, []string{`img/"b\xffd\n"`}, survey.Odd)
	c["index.html"] = "another"
	c.deploy(t, client)
	report, err := calls.Verify.On(t.Context(), client, calls.VerifyingAgainst(nil, true))
	require.NoError(t, err)
	require.Len(t, report.Strays, 2)
	require.Equal(t, `img/"b\xffd\n"`, report.Strays[0].Path)
	found, err := calls.Stands.On(t.Context(), client, nil)
	require.NoError(t, err)
	require.Len(t, found.Raw, 1)
	require.Equal(t, "img/b\xffd\n", found.Raw[0].Path)
	file, err := calls.Open(t.Context(), client, found.Raw[0].Path)
	require.NoError(t, err)
	text, err := io.ReadAll(file)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	require.Equal(t, "x", string(text))
	_, err = calls.Stands.On(t.Context(), client, []string{"none\xff"})
	require.Error(t, err)
	require.NotErrorIs(t, err, ErrProtocol)
	require.FileExists(t, odd, "it stays")
}
