package calls

import (
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/treeparts"
)

// foldedUp is a content of which there is no list, until it is asked for one.
type foldedUp struct {
	entries []manifest.Entry
	lists   int
	passed  bool // some were passed over
}

func (f *foldedUp) Len() int                                { return len(f.entries) }
func (f *foldedUp) Folded() bool                            { return true }
func (f *foldedUp) Each(visit func(e *manifest.Entry) bool) { manifest.Each(f.entries, visit) }
func (f *foldedUp) Entries() []manifest.Entry               { f.lists++; return f.entries }

func (f *foldedUp) EachIn(dirs map[string]bool, visit func(e *manifest.Entry) bool) {
	f.Each(func(e *manifest.Entry) bool {
		dir, _ := fsys.Split(e.Path)
		f.passed = f.passed || !dirs[dir]
		return !dirs[dir] || visit(e)
	})
}

// TestSomeEntriesAreFoundByTheirIndexes asks for some of a tree, in whose folders there is more.
func TestSomeEntriesAreFoundByTheirIndexes(t *testing.T) {
	passed := 0
	rapid.Check(t, func(r *rapid.T) {
		texts := map[string]string{}
		name := rapid.SampledFrom([]string{"a", "a-b", "b"})
		for i := range rapid.IntRange(1, 30).Draw(r, "files") {
			dir := ""
			for range rapid.IntRange(0, 3).Draw(r, "depth") {
				dir += name.Draw(r, "folder") + "/"
			}
			texts[fmt.Sprintf("%s%02d.svg", dir, i)] = ""
		}
		c := foldedOf(texts)
		q := &Comparing{Content: c}
		q.Folders, q.Of = treeparts.Of(c.Each)
		var (
			indexes []int
			want    []manifest.Entry
		)
		for i := range c.entries {
			if rapid.Bool().Draw(r, "wanted") {
				indexes, want = append(indexes, i), append(want, c.entries[i])
			}
		}
		require.Equal(r, want, append([]manifest.Entry(nil), q.Some(indexes)...))
		if c.passed {
			passed++
		}
	})
	require.Positive(t, passed)
}

func foldedOf(texts map[string]string) *foldedUp {
	out := &foldedUp{}
	for path, text := range texts {
		out.entries = append(out.entries, manifest.Entry{Path: path, Size: int64(len(text)), Digest: sha256.Sum256([]byte(text)),
			Attributes: manifest.Attributes{Mode: 0o644, ModTime: time.Unix(1777617015, 0)}})
	}
	slices.SortFunc(out.entries, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// TestAContentThatIsHereIsDeployedWithoutAList deploys one for the first time, once more, and with a change.
func TestAContentThatIsHereIsDeployedWithoutAList(t *testing.T) {
	dir, texts := t.TempDir(), map[string]string{}
	for i := range 300 {
		texts[fmt.Sprintf("species/%02d/%03d.html", i/10, i)] = fmt.Sprint("species ", i)
	}
	open := func(path string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(texts[path])), nil }
	compareAs := func(h *Here, believe bool, change func(q *Comparing)) (*foldedUp, *diff.Result) {
		c := foldedOf(texts)
		found, err := Survey.On(t.Context(), h, Surveying{As: 1, Believe: believe})
		require.NoError(t, err)
		q := &Comparing{As: 2, Survey: 1, Content: c, Tree: manifest.TreeOf(c.Each), Recorded: found.Number > 0}
		change(q)
		out, err := Compare.On(t.Context(), h, q)
		require.NoError(t, err)
		return c, out.Result
	}
	compare := func(h *Here, change func(q *Comparing)) (*foldedUp, *diff.Result) { return compareAs(h, true, change) }
	deploy := func(h *Here) *site.Outcome {
		_, err := Stage.On(t.Context(), h, &Staging{As: 3, Comparison: 2, Plan: site.Plan{Open: open}})
		require.NoError(t, err)
		out, err := Publish.On(t.Context(), h, 3)
		require.NoError(t, err)
		require.True(t, out.Verified)
		return out
	}
	asIs := func(*Comparing) {}
	h := engineOf(t, dir)
	c, result := compare(h, asIs)
	require.NotNil(t, result.All, "all is new")
	require.Equal(t, 300, deploy(h).SentFiles)
	require.Zero(t, c.lists)

	later := time.Now().Add(time.Hour) // as if all had been there for a while
	require.NoError(t, os.Chtimes(filepath.Join(dir, ".www.tartine", "deployments", "1.json"), later, later))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".www.tartine", "deployments", "1.seen"), fmt.Appendf(nil, "%d\n", later.UnixNano()), 0o600))
	h = engineOf(t, dir)
	c, result = compare(h, asIs)
	require.Equal(t, 300, result.Same)
	require.NotNil(t, h.brief, "its tree digest is enough")
	require.False(t, result.Publishes(true))
	missing, err := Held.On(t.Context(), h, 2)
	require.NoError(t, err)
	require.Empty(t, missing, "what was compared in brief can be asked about")
	require.Zero(t, c.lists)

	texts["species/07/071.html"], texts["species/new.html"] = "another", "new"
	delete(texts, "species/08/080.html")
	h = engineOf(t, dir)
	c, result = compare(h, asIs)
	require.Len(t, result.Changes, 3)
	require.Equal(t, 298, result.Same)
	require.Less(t, len(h.want), 30, "what is the same is in no list")
	require.Equal(t, 2, deploy(h).SentFiles)
	require.Zero(t, c.lists)
	h = engineOf(t, dir)
	report, err := Verify.On(t.Context(), h, VerifyingAgainst(&manifest.Manifest{Entries: foldedOf(texts).entries}, true))
	require.NoError(t, err)
	require.True(t, report.Matches())

	c, result = compareAs(h, false, asIs)
	require.Equal(t, 300, result.Same)
	require.Nil(t, h.brief, "its tree digest is not enough where all files are read")
	require.Zero(t, c.lists)
	altered := filepath.Join(dir, "www", "species", "07", "072.html")
	require.NoError(t, os.WriteFile(altered, []byte("SPECIES 72"), 0o644))
	c, result = compareAs(h, false, asIs)
	require.Len(t, result.Changes, 1)
	require.True(t, result.Changes[0].Drifted)
	require.Less(t, len(h.want), 30, "what is the same is in no list")
	require.Zero(t, c.lists)
	require.Equal(t, 1, deploy(h).SentFiles)

	texts["species/07/071.html"] = "still another"
	h = engineWith(t, dir, site.Options{Brief: 1, Narrow: 1})
	c, result = compareAs(h, false, asIs) // since the record is young
	require.Len(t, result.Changes, 1)
	require.Equal(t, 299, result.Same)
	require.Len(t, h.want, 1, "what is the same in its folder is left out")
	require.Zero(t, c.lists)
	require.Equal(t, 1, deploy(h).SentFiles)

	h = engineOf(t, dir)
	was := manifest.TreeOf(foldedOf(texts).Each) // of which it is known in which folders alone there is something else
	texts["species/09/090.html"], texts["species/10/new.html"] = "edition 90", "edition 10"
	delete(texts, "species/11/110.html")
	three := map[string]bool{"species/09": true, "species/10": true, "species/11": true}
	inThree := func(q *Comparing) { q.DigestIn(three, was) }
	var asked *Comparing
	for i, since := range []manifest.Digest{was, {1}} {
		_, result = compare(h, func(q *Comparing) {
			asked = q
			q.DigestIn(three, since)
			require.Len(t, q.Folders, 3)
		})
		require.Len(t, result.Changes, 3)
		require.Equal(t, 298, result.Same)
		require.Equal(t, i == 0, len(asked.In) >= 3, "all are gone through where another tree is recorded")
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "species", "12", "note.txt"), []byte("mine"), 0o644))
	c, result = compare(h, inThree)
	require.Len(t, result.Changes, 4, "with what somebody put there")
	require.Zero(t, c.lists)
	require.NoError(t, os.Remove(filepath.Join(dir, "www", "species", "12", "note.txt")))
	c, result = compare(engineWith(t, dir, site.Options{Brief: 1, Narrow: 1}), inThree)
	require.Len(t, result.Changes, 3, "they are many")
	require.Zero(t, c.lists)
	_, _ = compare(h, inThree)
	require.Equal(t, 2, deploy(h).SentFiles)
	report, err = Verify.On(t.Context(), h, VerifyingAgainst(&manifest.Manifest{Entries: foldedOf(texts).entries}, true))
	require.NoError(t, err)
	require.True(t, report.Matches())

	c, result = compare(h, func(q *Comparing) {
		q.Content.(*foldedUp).entries[0].Digest, q.Tree = manifest.Digest{}, manifest.Digest{}
	})
	require.Zero(t, c.lists)
	require.Len(t, result.Changes, 1, "a digest that is open is none that is known")

	c, result = compare(h, func(q *Comparing) { q.Rule.Nothing = true })
	require.Len(t, result.Changes, 300, "all is to be sent")
	require.Equal(t, 1, c.lists)
}

// TestWhatWasJustDeployedIsComparedByItsTree compares right after a deployment, when files are read before they are believed.
func TestWhatWasJustDeployedIsComparedByItsTree(t *testing.T) {
	texts := map[string]string{}
	for i := range 30 {
		texts[fmt.Sprintf("species/%02d.html", i)] = fmt.Sprint("species ", i)
	}
	h, c := engineOf(t, t.TempDir()), foldedOf(texts)
	for i := range c.entries {
		c.entries[i].ModTime = time.Now()
	}
	for _, read := range []int64{0, 290} {
		found, err := Survey.On(t.Context(), h, Surveying{As: 1, Believe: true})
		require.NoError(t, err)
		is := int64(0)
		out, err := Compare.Watched(t.Context(), h, &Comparing{As: 2, Survey: 1, Content: c, Tree: manifest.TreeOf(c.Each), Recorded: found.Number > 0},
			&site.Watch{Bytes: func(n int64) { is += n }})
		require.NoError(t, err)
		require.Equal(t, read, is)
		if read > 0 {
			require.Equal(t, 30, out.Result.Same)
			require.NotNil(t, h.brief, "its tree digest is enough")
			return
		}
		_, err = Stage.On(t.Context(), h, &Staging{As: 3, Comparison: 2, Plan: site.Plan{Open: func(path string) (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader(texts[path])), nil
		}}})
		require.NoError(t, err)
		_, err = Publish.On(t.Context(), h, 3)
		require.NoError(t, err)
	}
}
