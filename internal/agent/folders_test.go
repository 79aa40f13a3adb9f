package agent

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/diff"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/treeparts"
)

// numberedFiles gives entries of so many files.
func numberedFiles(count int) []manifest.Entry {
	c := content{}
	for i := range count {
		c[fmt.Sprintf("%05d.svg", i)] = "x"
	}
	return c.entries()
}

// TestWhatIsWantedIsFoundByItsIndex has entries of which an answer names some, or nearly all.
func TestWhatIsWantedIsFoundByItsIndex(t *testing.T) {
	entries := numberedFiles(32)
	listed := wantedOf(&compareAnswer{New: []wireRun{{First: 3, Count: 1}}}, &calls.Comparing{As: 7, Wanted: site.Wanted{Entries: entries}}, nil)
	require.Same(t, &entries[3], listed.entry(7, 3), "digests that are open are noted in a list that there is")
	q := &calls.Comparing{As: 7, Content: &unlisted{entries: entries}}
	some := wantedOf(&compareAnswer{New: []wireRun{{First: 3, Count: 1}}, Changes: []wireChange{{Want: -1}, {Want: 20}}}, q, nil)
	require.Len(t, some.entries, 2)
	require.Equal(t, entries[20], *some.entry(7, 20))
	require.Equal(t, entries[3], *some.entry(7, 3))
	for _, at := range []int{-1, 4, 32, 1 << 40} {
		require.Nil(t, some.entry(7, at))
	}
	require.Nil(t, some.entry(8, 20))
	var none *wanted
	require.Nil(t, none.entry(7, 20))
	all := wantedOf(&compareAnswer{New: []wireRun{{First: 3, Count: 28}}}, q, nil)
	require.Len(t, all.entries, 32)
	require.Equal(t, entries[3], *all.entry(7, 3))
	require.Nil(t, all.entry(7, 32))
	for _, wrong := range [][]wireRun{{{First: -4, Count: 1}}, {{First: 1 << 62, Count: 1}}, {{First: 0, Count: 1 << 62}}, {{First: 9, Count: -1}}, {{First: 9, Count: 1}, {First: 3, Count: 1}}, {{First: 31, Count: 2}}} {
		a := &compareAnswer{New: wrong}
		_, err := a.changes(wantedOf(a, q, nil))
		require.ErrorIs(t, err, ErrProtocol, wrong)
	}
}

// TestWhatIsNeededIsGivenInItsOrder has a far end that needs some of what is all new, in any order, or what does not exist.
func TestWhatIsNeededIsGivenInItsOrder(t *testing.T) {
	all := &unlisted{entries: numberedFiles(6)}
	c := &Client{compared: wantedOf(&compareAnswer{New: []wireRun{{Count: 6}}}, &calls.Comparing{As: 7, Content: all}, nil)}
	for _, test := range []struct {
		runs []wireRun
		want []int // nil: it is refused
		list bool
	}{
		{[]wireRun{{First: 0, Count: 6}}, []int{0, 1, 2, 3, 4, 5}, false},
		{[]wireRun{{First: 1, Count: 1}, {First: 2, Count: 1}, {First: 4, Count: 1}}, []int{1, 2, 4}, false},
		{nil, []int{}, false},
		{[]wireRun{{First: 4, Count: 2}, {First: 1, Count: 1}}, []int{4, 5, 1}, true},
		{[]wireRun{{First: 2, Count: 1}, {First: 2, Count: 1}}, []int{2, 2}, true},
		{[]wireRun{{First: 5, Count: 2}}, nil, false},
		{[]wireRun{{First: -1, Count: 2}}, nil, false},
		{[]wireRun{{First: 6, Count: 1}}, nil, false},
		{[]wireRun{{First: 1, Count: -1}}, nil, false},
		{[]wireRun{{First: 1, Count: 0}}, nil, false},
		{[]wireRun{{First: 1, Count: 1 << 62}}, nil, false},
		{[]wireRun{{First: 0, Count: 6}, {First: 0, Count: 1}}, nil, false}, // more than there are
	} {
		all.lists = 0
		got := []int{}
		each, _, err := c.needed(&calls.Staging{Comparison: 7, Content: all}, &need{Runs: test.runs})
		if test.want == nil {
			require.ErrorIs(t, err, ErrProtocol, test.runs)
			continue
		}
		require.NoError(t, err)
		each(func(e *manifest.Entry) bool {
			got = append(got, slices.IndexFunc(all.entries, func(other manifest.Entry) bool { return other.Path == e.Path }))
			return true
		})
		require.Equal(t, test.want, got)
		require.Equal(t, test.list, all.lists > 0)
	}
	parts := &Client{compared: &wanted{as: 7, of: 2, sent: []int{1, 3}, entries: all.entries[1:2]}}
	_, _, err := parts.needed(&calls.Staging{Comparison: 7, Content: all}, &need{Runs: []wireRun{{First: 0, Count: 2}}})
	require.ErrorIs(t, err, ErrProtocol, "not all that were sent are here")
	visited := 0
	each, lasts, err := c.needed(&calls.Staging{Comparison: 7, Content: all}, &need{Runs: []wireRun{{First: 1, Count: 1}, {First: 3, Count: 1}}})
	require.NoError(t, err)
	each(func(*manifest.Entry) bool { visited++; return false })
	require.Equal(t, 1, visited, "whoever has enough is not called again")
	require.False(t, lasts)
}

// settled has what was deployed first be believed, as if all had been there for a while.
func settled(t *testing.T, dir string) {
	t.Helper()
	later, deployments := time.Now().Add(time.Hour), filepath.Join(dir, ".www.tartine", "deployments")
	require.NoError(t, os.Chtimes(filepath.Join(deployments, "1.json"), later, later))
	require.NoError(t, os.WriteFile(filepath.Join(deployments, "1.seen"), fmt.Appendf(nil, "%d\n", later.UnixNano()), 0o600))
}

// surveyed gives a far end that has surveyed a site.
func surveyed(t *testing.T, dir string) *server {
	t.Helper()
	opened, _, place, err := openIn(dir)(t.Context(), Root{Path: "www"})
	require.NoError(t, err)
	t.Cleanup(func() { place.Close() })
	far := &server{here: calls.NewHere(opened)}
	_, err = calls.Survey.On(t.Context(), far.here, calls.Surveying{As: 1, Believe: true})
	require.NoError(t, err)
	return far
}

// TestALittleIsComparedInParts changes a file of a large folder and of a small one, and takes others away: who deploys sends what is in
// those parts, and all goes by that.
func TestALittleIsComparedInParts(t *testing.T) {
	dir := t.TempDir()
	client, c := session(t, dir), content{}
	for i := range 2*treeparts.MostEntries + 500 {
		c[fmt.Sprintf("tides/%05d.html", i)] = fmt.Sprint("tide ", i)
	}
	for i := range 60 {
		c[fmt.Sprintf("species/%02d/text.html", i)] = fmt.Sprint("species ", i)
	}
	c.deploy(t, client)
	client = session(t, dir)
	settled(t, dir)
	c["tides/01500.html"], c["species/07/text.html"], c["species/new.html"] = "another", "another", "new"
	delete(c, "species/08/text.html")
	out := c.deploy(t, client)
	require.Equal(t, 2, out.SentFiles, "of two that have one content")
	require.Less(t, len(client.compared.sent), 1100)
	require.NotNil(t, client.compared.sent)
	require.Equal(t, c, stands(t, dir))
	report, err := calls.Verify.On(t.Context(), client, calls.VerifyingAgainst(&manifest.Manifest{Entries: c.entries()}, true))
	require.NoError(t, err)
	require.True(t, report.Matches())
}

// TestMuchThatChangesIsNarrowed changes half of the files of each folder, takes some away and puts some there.
func TestMuchThatChangesIsNarrowed(t *testing.T) {
	dir, c := t.TempDir(), content{}
	path := func(i int) string { return fmt.Sprintf("species/%02d/%04d.html", i/200, i) }
	for i := range 9000 {
		c[path(i)] = fmt.Sprint("species ", i)
	}
	c.deploy(t, session(t, dir))
	settled(t, dir)
	for i := range 9000 {
		switch {
		case i%2 == 0:
			c[path(i)] = fmt.Sprint("another ", i)
		case i%999 == 0:
			delete(c, path(i))
			c[path(i)+".new"] = fmt.Sprint("new ", i)
		}
	}
	client := session(t, dir)
	out := c.deploy(t, client)
	require.Equal(t, 4505, out.SentFiles)
	require.Len(t, client.compared.sent, 4505, "what is the same is left out")
	require.Equal(t, c, stands(t, dir))
	report, err := calls.Verify.On(t.Context(), client, calls.VerifyingAgainst(&manifest.Manifest{Entries: c.entries()}, true))
	require.NoError(t, err)
	require.True(t, report.Matches())
	m, err := calls.Deployment.On(t.Context(), client, 2)
	require.NoError(t, err)
	require.Len(t, m.Entries, 9000)

	answer, err := surveyed(t, dir).compareInParts(t.Context(), &compareCall{Survey: 1, Whole: true}, &calls.Comparing{As: 2, Survey: 1}, &manifest.Folded{}, &site.Watch{})
	require.NoError(t, err)
	require.NotNil(t, answer, "all that goes is no list of what stays")
	require.Len(t, answer.Changes, 9000)
	require.True(t, answer.Narrowed)
	require.Empty(t, answer.Left)
}

// TestAnEarlierDeploymentDoesNotCross goes back to a deployment of which few files are others than are there.
func TestAnEarlierDeploymentDoesNotCross(t *testing.T) {
	dir, c := t.TempDir(), content{}
	for i := range 3000 {
		c[fmt.Sprintf("species/%02d/%04d.html", i/100, i)] = fmt.Sprint("species ", i)
	}
	c.deploy(t, session(t, dir))
	first := maps.Clone(c)
	c["species/07/0707.html"], c["news.html"] = "another", "news"
	c.deploy(t, session(t, dir))
	settled(t, dir)
	client := session(t, dir)
	_, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1, Believe: true})
	require.NoError(t, err)
	compared, err := calls.Compare.On(t.Context(), client, &calls.Comparing{As: 2, Survey: 1, Recorded: true, Earlier: 1})
	require.NoError(t, err)
	require.NotNil(t, compared.Earlier)
	require.Len(t, compared.Earlier.Entries, 1, "all others are there")
	require.Equal(t, []int{3000, 3000}, []int{compared.Earlier.Paths, compared.Earlier.Contents})
	require.Equal(t, (&manifest.Manifest{Entries: first.entries()}).Tree(), compared.Earlier.Tree)
	require.Len(t, compared.Result.Changes, 2)
	require.Same(t, &compared.Earlier.Entries[0], compared.Result.Changes[1].Want)
	require.Equal(t, 2999, compared.Result.Same)
	missing, err := calls.Held.On(t.Context(), client, calls.ID(2))
	require.NoError(t, err)
	require.Empty(t, missing)
	out, err := deployed(t.Context(), client, &calls.Staging{As: 3, Comparison: 2, Plan: site.Plan{Result: compared.Result, Rollback: 1}}, &site.Watch{})
	require.NoError(t, err)
	require.Empty(t, out.Failed)
	require.Zero(t, out.SentFiles)
	require.Equal(t, first, stands(t, dir))

	_, err = calls.Survey.On(t.Context(), client, calls.Surveying{As: 4})
	require.NoError(t, err)
	none := &calls.Comparing{As: 5, Survey: 4, Recorded: true, Earlier: 1}
	none.Rule.Nothing = true
	compared, err = calls.Compare.On(t.Context(), client, none)
	require.NoError(t, err)
	require.Nil(t, compared.Result, "all of it is to be known for that")
	_, err = calls.Compare.On(t.Context(), client, &calls.Comparing{As: 6, Survey: 4, Recorded: true, Earlier: 9})
	var notKept *site.NotKeptError
	require.ErrorAs(t, err, &notKept)
}

// TestAnEarlierDeploymentIsInput has a far end tell of one that cannot be.
func TestAnEarlierDeploymentIsInput(t *testing.T) {
	some := numberedFiles(3)
	_, err := toWireEarlier(&site.Earlier{Entries: some, Paths: 3, Contents: 3}).earlier()
	require.NoError(t, err)
	for name, e := range map[string]*site.Earlier{
		"more than there are":      {Entries: some, Paths: 2, Contents: 2},
		"more of it than there is": {Entries: some, Paths: 3, Contents: 4},
		"less than nothing":        {Entries: some, Paths: 3, Contents: -1},
		"out of order":             {Entries: []manifest.Entry{some[1], some[0]}, Paths: 3, Contents: 3},
	} {
		_, err := toWireEarlier(e).earlier()
		require.ErrorIs(t, err, ErrProtocol, name)
	}
	_, err = (&wireEarlier{Entries: []byte("rubbish"), Paths: 3}).earlier()
	require.ErrorIs(t, err, ErrProtocol)
}

// TestWhatIsLeftIsOneOfThoseThatWereSent has a far end answer with what does not exist.
func TestWhatIsLeftIsOneOfThoseThatWereSent(t *testing.T) {
	sent := []int{3, 5, 8, 9}
	all, err := (&compareAnswer{Left: []wireRun{{First: 9, Count: 9}}}).leftOf(sent)
	require.NoError(t, err)
	require.Equal(t, sent, all, "nothing was narrowed")
	some, err := (&compareAnswer{Narrowed: true, Left: []wireRun{{First: 0, Count: 1}, {First: 2, Count: 2}}}).leftOf(sent)
	require.NoError(t, err)
	require.Equal(t, []int{3, 8, 9}, some)
	none, err := (&compareAnswer{Narrowed: true}).leftOf(sent)
	require.NoError(t, err)
	require.Equal(t, []int{}, none, "and not all")
	for _, wrong := range [][]wireRun{{{First: -1, Count: 1}}, {{First: 4, Count: 1}}, {{First: 3, Count: 2}}, {{First: 1, Count: -1}}, {{First: 1, Count: 2}, {First: 2, Count: 1}}, {{First: 1 << 62, Count: 1 << 62}}} {
		_, err := (&compareAnswer{Narrowed: true, Left: wrong}).leftOf(sent)
		require.ErrorIs(t, err, ErrProtocol)
	}
}

// TestASiteIsReadAndComparedInParts compares by the content of all files: as they were deployed, and with one that somebody has
// altered.
func TestASiteIsReadAndComparedInParts(t *testing.T) {
	dir, c := t.TempDir(), content{}
	for i := range 5000 {
		c[fmt.Sprintf("species/%03d/%04d.html", i/20, i)] = fmt.Sprint("species ", i)
	}
	c.deploy(t, session(t, dir))
	compare := func() (*Client, *diff.Result) {
		client := session(t, dir)
		_, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1})
		require.NoError(t, err)
		q := &calls.Comparing{As: 2, Survey: 1, Recorded: true, Content: &unlisted{entries: c.entries()}, Tree: (&manifest.Manifest{Entries: c.entries()}).Tree()}
		compared, err := calls.Compare.On(t.Context(), client, q)
		require.NoError(t, err)
		return client, compared.Result
	}
	client, result := compare()
	require.Equal(t, diff.Result{Changes: []diff.Change{}, Same: 5000, SameBytes: 5000*12 - 10*3 - 90*2 - 900}, *result)
	require.Equal(t, uint64(4), client.calls, "the site is opened, surveyed, and compared by the digests of its folders: not by its tree digest alone")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "species", "007", "0140.html"), []byte("SPECIES 140"), 0o644))
	client, result = compare()
	require.Len(t, result.Changes, 1)
	require.True(t, result.Changes[0].Drifted)
	require.Equal(t, 4999, result.Same)
	require.Len(t, client.compared.sent, 20, "of its folder")
}

// TestWhatGoesByHandIsComparedInParts wants nothing, has one file go, and leaves all else as it is.
func TestWhatGoesByHandIsComparedInParts(t *testing.T) {
	dir, c := t.TempDir(), content{}
	for i := range 9000 {
		c[fmt.Sprintf("species/%03d/%04d.html", i/20, i)] = "species"
	}
	c.deploy(t, session(t, dir))
	settled(t, dir)
	client := session(t, dir)
	_, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1, Believe: true})
	require.NoError(t, err)
	wanted := site.Wanted{Kept: []string{"."}, Gone: []string{"species/007/0140.html"}}
	compared, err := calls.Compare.On(t.Context(), client, &calls.Comparing{As: 2, Survey: 1, Recorded: true, Wanted: wanted})
	require.NoError(t, err)
	require.Len(t, compared.Result.Changes, 1)
	require.Zero(t, compared.Result.Same)

	answer, err := surveyed(t, dir).compareInParts(t.Context(), &compareCall{Survey: 1, Whole: true}, &calls.Comparing{As: 2, Survey: 1, Wanted: wanted}, &manifest.Folded{}, &site.Watch{})
	require.NoError(t, err)
	require.NotNil(t, answer, "it is enough to know parts")
	require.Len(t, answer.Changes, 1)
	_, err = calls.Stage.On(t.Context(), client, &calls.Staging{As: 3, Comparison: 2, Plan: site.Plan{Result: compared.Result, Hand: true, RemoveStrays: true,
		Kept: wanted.Kept, Gone: wanted.Gone}})
	require.NoError(t, err)
	out, err := calls.Publish.On(t.Context(), client, 3)
	require.NoError(t, err)
	require.True(t, out.Verified)
	delete(c, "species/007/0140.html")
	require.Equal(t, c, stands(t, dir))
	report, err := calls.Verify.On(t.Context(), client, calls.VerifyingAgainst(&manifest.Manifest{Entries: c.entries()}, true))
	require.NoError(t, err)
	require.True(t, report.Matches())
}

// TestASurveyIsForetold has the client tell, as the survey goes on or before it, that something else is wanted than is recorded.
func TestASurveyIsForetold(t *testing.T) {
	dir, c := t.TempDir(), content{}
	for i := range 9000 {
		c[fmt.Sprintf("species/%02d/%04d.html", i/200, i)] = fmt.Sprint("species ", i)
	}
	client := session(t, dir)
	c.deploy(t, client)
	settled(t, dir)
	opened, _, place, err := openIn(dir)(t.Context(), Root{Path: "www"})
	require.NoError(t, err)
	t.Cleanup(func() { place.Close() })
	far := &server{here: calls.NewHere(opened)}
	far.opened.Store(far.here)
	parts, _ := treeparts.Of(manifest.Listed(c.entries()))
	compared := func(as calls.ID) (asked int) {
		_, err = calls.Survey.On(t.Context(), far.here, calls.Surveying{As: as, Believe: true})
		require.NoError(t, err)
		survey, err := far.here.Survey(as)
		require.NoError(t, err)
		var mu sync.Mutex
		same := treeparts.SameAs(parts)
		different, err := opened.Differing(t.Context(), survey, &site.Wanted{}, treeparts.OfSite(parts), nil, func(some []int, recorded [][]manifest.Entry) []bool {
			mu.Lock()
			defer mu.Unlock()
			asked += len(some)
			return same(some, recorded)
		})
		require.NoError(t, err)
		require.Empty(t, different.Parts)
		return asked
	}
	var sent bytes.Buffer
	require.NoError(t, (&Client{link: newLink(nil, &sent)}).send(aheadFrame))
	tell := func() {
		far.link = newLink(bytes.NewReader(sent.Bytes()), io.Discard)
		far.over = make(chan struct{})
		far.receiveAll(make(chan *message), make(chan uint64), func(error) {})
	}
	require.Equal(t, 45, compared(1))
	tell()
	require.Zero(t, compared(2))
	require.Equal(t, 45, compared(3), "it is told of one survey")
}

// TestFoldersThatAreDigestedComeWithTheFirstQuestion compares where it is known before that another tree is recorded, and where that is not so
// after all.
func TestFoldersThatAreDigestedComeWithTheFirstQuestion(t *testing.T) {
	dir, c := t.TempDir(), content{}
	for i := range 3000 {
		c[fmt.Sprintf("species/%02d/%04d.html", i/200, i)] = fmt.Sprint("species ", i)
	}
	c.deploy(t, session(t, dir))
	settled(t, dir)
	compared := func(early bool) (*diff.Result, uint64) {
		client := session(t, dir)
		survey, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1, Believe: true})
		require.NoError(t, err)
		all := &unlisted{entries: c.entries()}
		asked := &calls.Comparing{As: 2, Survey: 1, Recorded: survey.Number > 0, Content: all, Tree: manifest.TreeOf(all.Each)}
		if early {
			asked.Folders, asked.Of = treeparts.Of(all.Each)
		}
		before := client.calls
		out, err := calls.Compare.On(t.Context(), client, asked)
		require.NoError(t, err)
		return out.Result, client.calls - before
	}
	result, questions := compared(true)
	require.Equal(t, []int{3000, 0, 1}, []int{result.Same, len(result.Changes), int(questions)})
	c["species/07/1400.html"] = "another"
	for early, want := range map[bool]int{false: 3, true: 2} {
		result, questions = compared(early)
		require.Equal(t, []int{2999, 1, want}, []int{result.Same, len(result.Changes), int(questions)})
	}
}

// TestFoldersThatMayDifferAreEnough compares where it is known in which folders alone a content is another one than is recorded, or is thought to be.
func TestFoldersThatMayDifferAreEnough(t *testing.T) {
	path := func(i int) string { return fmt.Sprintf("species/%02d/%04d.html", i/200, i) }
	for name, test := range map[string]struct {
		change    func(t *testing.T, c content, dir string) // in folders 1 to 3
		in        []string
		since     byte // differs from what is recorded
		questions int
		folders   int // at last
		changes   []string
	}{
		"a file":    {func(t *testing.T, c content, dir string) { c[path(200)] = "another" }, []string{"species/01"}, 0, 2, 1, []string{path(200)}},
		"none":      {func(t *testing.T, c content, dir string) {}, []string{"species/01"}, 0, 1, 1, nil},
		"a new one": {func(t *testing.T, c content, dir string) { c["log/may.html"] = "may" }, []string{".", "log"}, 0, 2, 1, []string{"log/may.html"}},
		"in one":    {func(t *testing.T, c content, dir string) { c["species/01/new/may.html"] = "may" }, []string{".", "species", "species/01", "species/01/new"}, 0, 2, 2, []string{"species/01/new/may.html"}},
		"another":   {func(t *testing.T, c content, dir string) { c[path(200)] = "another" }, []string{"species/01"}, 1, 3, 15, []string{path(200)}},
		"is altered": {func(t *testing.T, c content, dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "www", path(400)), []byte("altered"), 0o644))
		},
			[]string{"species/01"}, 0, 3, 2, []string{path(400)}},
		"a stray": {func(t *testing.T, c content, dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "species", "02", "note.txt"), []byte("mine"), 0o644))
			c[path(200)] = "another"
		}, []string{"species/01"}, 0, 3, 2, []string{path(200), "species/02/note.txt"}},
		"much": {func(t *testing.T, c content, dir string) {
			for i := range 9000 {
				c[path(i)] = "another"
			}
		}, nil, 0, 3, 45, nil},
		"one goes": {func(t *testing.T, c content, dir string) {
			for i := range 200 {
				delete(c, path(200+i))
			}
		}, []string{".", "species", "species/01"}, 0, 1, 0, nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, c := t.TempDir(), content{}
			files := 3000
			if test.in == nil {
				files = 9000
			}
			for i := range files {
				c[path(i)] = fmt.Sprint("species ", i)
			}
			c.deploy(t, session(t, dir))
			settled(t, dir)
			since := manifest.TreeOf(manifest.Listed(c.entries()))
			since[0] ^= test.since
			test.change(t, c, dir)
			client := session(t, dir)
			survey, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1, Believe: true})
			require.NoError(t, err)
			all := &unlisted{entries: c.entries()}
			asked := &calls.Comparing{As: 2, Survey: 1, Recorded: survey.Number > 0, Content: all, Tree: manifest.TreeOf(all.Each)}
			in := map[string]bool{}
			for _, dir := range test.in {
				in[dir] = true
			}
			for i := 0; test.in == nil && i < 45; i++ {
				in[fmt.Sprintf("species/%02d", i)] = true
			}
			asked.DigestIn(in, since)
			before := client.calls
			out, err := calls.Compare.On(t.Context(), client, asked)
			require.NoError(t, err)
			require.Equal(t, test.questions, int(client.calls-before), "questions")
			require.Len(t, asked.Folders, test.folders)
			if test.changes != nil {
				var changes []string
				for i := range out.Result.Changes {
					changes = append(changes, out.Result.Changes[i].Path())
				}
				require.Equal(t, test.changes, changes)
			}
			_, err = calls.Stage.On(t.Context(), client, &calls.Staging{As: 3, Comparison: 2, Plan: site.Plan{RemoveStrays: true, Result: out.Result, Open: c.open}})
			require.NoError(t, err)
			_, err = calls.Publish.On(t.Context(), client, 3)
			require.NoError(t, err)
			require.Equal(t, c, stands(t, dir))
			report, err := calls.Verify.On(t.Context(), client, calls.VerifyingAgainst(&manifest.Manifest{Entries: c.entries()}, true))
			require.NoError(t, err)
			require.True(t, report.Matches())
		})
	}
}

// TestATreeThatIsAnotherIsNotRecorded has the far end be told of another tree digest than follows from what it has recorded.
func TestATreeThatIsAnotherIsNotRecorded(t *testing.T) {
	dir, c := t.TempDir(), content{}
	for i := range 3000 {
		c[fmt.Sprintf("species/%02d/%04d.html", i/200, i)] = fmt.Sprint("species ", i)
	}
	c.deploy(t, session(t, dir))
	settled(t, dir)
	before := stands(t, dir)
	c["species/01/0200.html"] = "another"
	for _, tree := range []manifest.Digest{{1}, manifest.TreeOf(manifest.Listed(c.entries()))} {
		client := session(t, dir)
		staging := c.compare(t, client)
		staging.Tree = tree
		_, err := deployed(t.Context(), client, staging, &site.Watch{})
		if tree == (manifest.Digest{1}) {
			require.ErrorIs(t, err, site.ErrOtherTree)
			require.Equal(t, before, stands(t, dir))
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c, stands(t, dir))
	}
}
