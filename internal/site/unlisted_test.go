package site_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/diff"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// stock supplies a content.
type stock struct {
	content tree
	entries []manifest.Entry
	spoil   map[string]string // what comes in the place of some files; empty: they cannot be read
	open    map[string]bool   // files whose digests it tells when they were sent
	asked   []site.Asked
}

func (s *stock) Supply(ctx context.Context, asked site.Asked,
	take func(ctx context.Context, i int, content io.Reader, whole *site.Whole, err error) error) error {
	s.asked = append(s.asked, asked)
	position := 0
	for _, r := range asked.Runs {
		for at := r.First; at < r.First+r.Count; at++ {
			path := s.entries[at].Path
			text, spoilt := s.spoil[path]
			whole, err := &site.Whole{}, error(nil)
			switch {
			case spoilt && text == "":
				whole, err = nil, errors.New("read it here: no right to read")
			case spoilt:
				whole.Bytes = []byte(text)
			default:
				whole.Bytes = []byte(s.content[path])
			}
			if whole != nil {
				whole.Digest = sha256.Sum256(whole.Bytes)
			}
			var content io.Reader
			if whole != nil && position%3 == 2 { // as a large one comes
				content, whole = bytes.NewReader(whole.Bytes), nil
			}
			if s.open[path] && whole == nil {
				content = &toldLater{content, sha256.Sum256([]byte(s.content[path])), true}
			} else if s.open[path] {
				content, whole = &toldLater{bytes.NewReader(whole.Bytes), whole.Digest, true}, nil
			}
			if err := take(ctx, position, content, whole, err); err != nil {
				return err
			}
			position++
		}
	}
	return nil
}

// unlisted plans for a content without a list of it, as an agent does.
func (w *world) unlisted(c tree, from *stock) (*site.Site, *site.Plan) {
	w.t.Helper()
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	survey, err := s.Survey(w.t.Context(), true)
	require.NoError(w.t, err)
	from.content, from.entries = c, w.entries(c)
	for i := range from.entries {
		if from.open[from.entries[i].Path] {
			from.entries[i].Digest = manifest.Digest{}
		}
	}
	folded := manifest.Fold(from.entries)
	result, err := s.CompareUnlisted(survey, folded)
	require.NoError(w.t, err)
	require.NotNil(w.t, result)
	return s, &site.Plan{Unlisted: folded, Survey: survey, Result: result, Supply: from, Last: []string{"*.html"}, Origin: &manifest.Origin{User: "warden"}}
}

func TestAnyTreeWithoutAList(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(r *rapid.T) {
		c := anyTree().Draw(r, "tree")
		with, without, from := newWorld(t), newWorld(t), &stock{}
		with.owned = withOwners(r, with, c, nil)
		without.owned = with.owned
		with.mustDeploy(c)
		from.open = map[string]bool{}
		for _, path := range slices.Sorted(maps.Keys(c)) {
			isFile := !strings.HasSuffix(path, "/") && !strings.HasPrefix(c[path], "->")
			from.open[path] = isFile && rapid.IntRange(0, 5).Draw(r, "is open") == 0
		}
		s, plan := without.unlisted(c, from)
		if rapid.Bool().Draw(r, "from here") {
			plan.Supply, plan.Open = nil, func(path string) (io.ReadCloser, error) {
				return &toldLater{strings.NewReader(c[path]), sha256.Sum256([]byte(c[path])), true}, nil
			}
		}
		out, err := s.Deploy(t.Context(), plan, &site.Watch{})
		require.NoError(t, err)
		require.NotNil(t, plan.Unlisted, "there was no list")
		require.True(t, out.Verified)
		require.Equal(t, c, without.stands())
		without.verify(c)
		contents, files := map[string]bool{}, 0
		for _, e := range c.entries() {
			if e.Kind == manifest.File {
				text := c[e.Path]
				if from.open[e.Path] { // what is in it is not known before
					text = "in " + e.Path
				}
				contents[text], files = true, files+1
			}
		}
		require.Equal(t, len(contents), out.SentFiles, "each content once")
		require.Equal(t, files-len(contents), out.Reused)
		one, err := s.Recorded(t.Context())
		require.NoError(t, err)
		other, err := with.open(t.Context())
		require.NoError(t, err)
		two, err := other.Recorded(t.Context())
		require.NoError(t, err)
		require.Equal(t, two.Entries, one.Entries)
		require.Equal(t, len(c), one.Deployment.New)
	})
}

// openHere has a plan open files here, in the place of a supply.
func openHere(plan *site.Plan, c tree) {
	plan.Supply, plan.Open = nil, func(path string) (io.ReadCloser, error) {
		text, there := c[path]
		if !there {
			return nil, fs.ErrPermission
		}
		return io.NopCloser(strings.NewReader(text)), nil
	}
}

// manyTwins gives more twins than are known at a time, which have three contents.
func manyTwins() tree {
	c := tree{"index.html": "<h1>", "latest": "->index.html", "empty/": ""}
	for i := range 2600 {
		c[fmt.Sprintf("tides/%d/%04d.html", i%7, i)] = fmt.Sprint("tide ", i%3)
	}
	return c
}

func TestTwinsOfAFileThatFailedAreAskedForThemselves(t *testing.T) {
	w, c, from := newWorld(t), manyTwins(), &stock{spoil: map[string]string{"tides/0/0000.html": "", "tides/0/0007.html": "tide X"}}
	s, plan := w.unlisted(c, from)
	plan.Partial = true
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Len(t, out.Failed, 2)
	require.ErrorContains(t, out.Failed[0].Err, "no right to read")
	require.Equal(t, "tides/0/0007.html", out.Failed[1].Path)
	require.False(t, out.Verified)
	require.Len(t, from.asked, 2, "what has the content of one that failed is asked for")
	delete(c, "tides/0/0000.html")
	delete(c, "tides/0/0007.html")
	require.Equal(t, c, w.stands())
	w.verify(c)
	recorded, err := s.Recorded(t.Context())
	require.NoError(t, err)
	require.True(t, recorded.Deployment.Partial)
}

// TestWhatIsOpenedHereWithoutAListIsChecked has more files than are known at a time: some cannot be read, some changed since they were
// scanned, and one arrives with other bytes.
func TestWhatIsOpenedHereWithoutAListIsChecked(t *testing.T) {
	w, c, is := newWorld(t), tree{"index.html": "<h1>"}, tree{}
	for i := range 2*site.SinglesAtOnce + 100 {
		c[fmt.Sprintf("tides/%d/%05d.html", i%7, i)] = fmt.Sprint("tide ", i)
	}
	maps.Copy(is, c)
	delete(is, "tides/0/00007.html")
	is["tides/1/00001.html"] = "tide X"
	is["tides/3/08193.html"] = "tide 8193 and more"
	s, plan := w.unlisted(c, &stock{})
	openHere(plan, is)
	plan.Partial = true
	w.between.Cut = func(name string, content io.Reader) io.Reader {
		if strings.HasSuffix(name, "tides/3/08200.html") {
			return strings.NewReader("tide Y200")
		}
		return content
	}
	phases := map[string]int{}
	out, err := s.Deploy(t.Context(), plan, &site.Watch{Phase: func(name string, files int, _ int64) { phases[name] += files }})
	require.NoError(t, err)
	require.NotNil(t, plan.Unlisted)
	require.Equal(t, site.ReadBack, out.Method)
	require.False(t, out.Verified)
	require.Equal(t, len(c), phases["stage"])
	require.Equal(t, len(c)-2, phases["check"], "each that arrived once")
	failed := map[string]string{}
	for _, f := range out.Failed {
		failed[f.Path] = f.Err.Error()
		delete(c, f.Path)
	}
	require.Equal(t, map[string]string{"tides/0/00007.html": "read it here: permission denied", "tides/1/00001.html": site.ErrChangedSinceScan.Error(),
		"tides/3/08193.html": site.ErrChangedSinceScan.Error(), "tides/3/08200.html": site.ErrWrongBytes.Error()}, failed)
	require.Equal(t, c, w.stands())
	w.verify(c)
}

func TestWhatIsLeftOfADeploymentWithoutAListIsUsed(t *testing.T) {
	w, c, from := newWorld(t), manyTwins(), &stock{spoil: map[string]string{"index.html": ""}}
	s, plan := w.unlisted(c, from)
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Len(t, out.Failed, 1)
	require.Zero(t, out.Number)
	require.Empty(t, w.stands(), "nothing is published")
	from = &stock{}
	s, plan = w.unlisted(c, from)
	out, err = s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Equal(t, 1, out.SentFiles)
	require.Equal(t, 2600, out.Resumed)
	require.Equal(t, c, w.stands())
	w.verify(c)
}

// TestADigestThatIsToldWithoutAList is of files among others, in the order of paths, of which one is sent again since it was told wrongly.
func TestADigestThatIsToldWithoutAList(t *testing.T) {
	c := tree{"index.html": "<h1>", "plates/z.tif": "a plate"}
	for i := range 200 {
		c[fmt.Sprintf("log/%03d.html", i)] = fmt.Sprint("day ", i)
	}
	w, from := newWorld(t), &stock{open: map[string]bool{"log/003.html": true, "plates/z.tif": true}}
	s, plan := w.unlisted(c, from)
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Equal(t, 202, out.SentFiles)
	require.NotNil(t, plan.Unlisted)
	require.Equal(t, manifest.Digest(sha256.Sum256([]byte("day 3"))), plan.Unlisted.At(4).Digest)
	w.verify(c)

	w, from = newWorld(t), &stock{open: map[string]bool{"plates/z.tif": true}}
	s, plan = w.unlisted(c, from)
	plan.Supply, plan.Open = nil, func(path string) (io.ReadCloser, error) {
		return &toldLater{strings.NewReader(c[path]), sha256.Sum256([]byte("other bytes")), true}, nil
	}
	out, err = s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Len(t, out.Failed, 1)
	require.ErrorIs(t, out.Failed[0].Err, site.ErrChangedSinceScan)
	require.Empty(t, w.stands(), "nothing is published")
}

// TestWhatNeedsAListHasOne takes each way that content can take other than being sent as it is.
func TestWhatNeedsAListHasOne(t *testing.T) {
	for name, change := range map[string]func(*site.Plan){
		"a tree beside it": func(p *site.Plan) { p.Beside = &site.Beside{Root: "other", Dest: "."} },
		"all is sent":      func(p *site.Plan) { p.SendAll = true },
		"by hand":          func(p *site.Plan) { p.Hand = true },
	} {
		t.Run(name, func(t *testing.T) {
			w, c := newWorld(t), tree{"index.html": "<h1>", "a": "twin", "b": "twin"}
			s, plan := w.unlisted(c, &stock{})
			change(plan)
			out, err := s.Deploy(t.Context(), plan, &site.Watch{})
			require.NoError(t, err)
			require.Nil(t, plan.Unlisted)
			require.Equal(t, c, w.stands())
			if name == "all is sent" {
				require.Equal(t, 3, out.SentFiles)
			}
			recorded, err := s.Recorded(t.Context())
			require.NoError(t, err)
			require.Equal(t, name == "by hand", recorded.Entries[0].Hand)
		})
	}
	w := newWorld(t)
	asked := func(change func(*manifest.Entry)) (*diff.Result, error) {
		s, err := w.open(t.Context())
		require.NoError(t, err)
		survey, err := s.Survey(t.Context(), true)
		require.NoError(t, err)
		entries := tree{"index.html": "<h1>"}.entries()
		change(&entries[0])
		return s.CompareUnlisted(survey, manifest.Fold(entries))
	}
	compare := func(change func(*manifest.Entry)) bool {
		result, err := asked(change)
		require.NoError(t, err)
		return result != nil
	}
	require.True(t, compare(func(*manifest.Entry) {}))
	_, err := asked(func(e *manifest.Entry) { e.Owner = &manifest.Owner{User: "no-such-user"} })
	var wrong *site.OwnerError
	require.ErrorAs(t, err, &wrong, "whom it is given to is looked up")
	place := w.between.FS.(*osfs.FS)
	w.between.FS = stingy{place}
	_, err = asked(func(e *manifest.Entry) { e.Owner = &manifest.Owner{User: "4711"} })
	require.ErrorAs(t, err, &wrong, "and whether it may be")
	require.Contains(t, wrong.Reason, "only the warden")
	w.between.FS = place
	require.NoError(t, os.Mkdir(filepath.Join(w.dir, "www"), 0o755))
	require.False(t, compare(func(*manifest.Entry) {}), "the root is there")
}

// stingy gives nothing away.
type stingy struct{ *osfs.FS }

func (stingy) MayGive(int, int) error { return errors.New("only the warden may") }

func TestAPlaceIsLookedAtBeforeAnythingIsSentWithoutAList(t *testing.T) {
	w, from := newWorld(t), &stock{}
	place := w.between.FS
	refused := func(c tree, in any) {
		t.Helper()
		s, plan := w.unlisted(c, from)
		_, err := s.Stage(t.Context(), plan, &site.Watch{})
		require.ErrorAs(t, err, in)
		require.Empty(t, from.asked)
	}
	w.between.FS = folding{place}
	var clash *site.CaseError
	refused(tree{"Index.html": "1", "index.html": "2"}, &clash)
	w.between.FS = crammed{place.(*osfs.FS)}
	var space *site.SpaceError
	refused(tree{"a": "tern", "b": "tern"}, &space)
	require.Equal(t, int64(8), space.Need)
	w.between.FS = place
	long := strings.Repeat("long", 60)
	w.between.Before = func(op string, names ...string) error {
		if op == "lstat" && strings.HasSuffix(names[0], long) {
			return errors.New("file name too long")
		}
		return nil
	}
	s, plan := w.unlisted(tree{long: "1", "short": "2"}, from)
	plan.Partial = true
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Len(t, out.Failed, 1)
	require.ErrorContains(t, out.Failed[0].Err, "a name of this length")
	require.Equal(t, site.Runs{{First: 1, Count: 1}}, from.asked[0].Runs)
	require.Equal(t, tree{"short": "2"}, w.stands())
}

// TestWhatIsCopiedThereWithoutAListIsChecked has a copy that somebody spoils.
func TestWhatIsCopiedThereWithoutAListIsChecked(t *testing.T) {
	for name, here := range map[string]bool{"supplied": false, "opened here": true} {
		t.Run(name, func(t *testing.T) {
			w, c := newWorld(t), manyTwins()
			for _, path := range []string{"img/a.tif", "img/b.tif", "img/c.tif"} { // which no bytes in memory are put for
				c[path] = strings.Repeat("gannet", site.MostGathered)
			}
			s, plan := w.unlisted(c, &stock{})
			if here {
				openHere(plan, c)
			}
			plan.Partial = true
			w.between.Before = func(op string, names ...string) error {
				if op == "setattr" && strings.HasSuffix(names[0], "img/c.tif") {
					require.NoError(t, os.WriteFile(filepath.Join(w.dir, filepath.FromSlash(names[0])), []byte("tide X"), 0o644))
				}
				return nil
			}
			out, err := s.Deploy(t.Context(), plan, &site.Watch{})
			require.NoError(t, err)
			require.NotNil(t, plan.Unlisted)
			require.Len(t, out.Failed, 1)
			require.Equal(t, "img/c.tif", out.Failed[0].Path)
			require.False(t, out.Verified)
			delete(c, "img/c.tif")
			w.verify(c)
		})
	}
}

// TestSmallTwinsAreWrittenFromBytesThatWereReadOnce counts what is read and copied; and has somebody spoil what is to be read.
func TestSmallTwinsAreWrittenFromBytesThatWereReadOnce(t *testing.T) {
	for _, name := range []string{"as it came", "spoilt", "one that cannot be put"} {
		t.Run(name, func(t *testing.T) {
			spoilt, refused := name == "spoilt", name == "one that cannot be put"
			w, c, from := newWorld(t), manyTwins(), &stock{}
			s, plan := w.unlisted(c, from)
			plan.Partial = true
			var read, copied atomic.Int64
			w.between.Before = func(op string, names ...string) error {
				switch op {
				case "open":
					read.Add(1)
					if spoilt && strings.HasSuffix(names[0], "tides/0/0000.html") {
						return os.WriteFile(filepath.Join(w.dir, filepath.FromSlash(names[0])), []byte("tide X"), 0o644)
					}
				case "put":
					if refused && strings.HasSuffix(names[0], "tides/6/1000.html") {
						return fs.ErrPermission
					}
				case "copies":
					copied.Add(1)
				}
				return nil
			}
			out, err := s.Deploy(t.Context(), plan, &site.Watch{})
			require.NoError(t, err)
			require.NotNil(t, plan.Unlisted)
			if spoilt {
				require.Len(t, out.Failed, 866, "all that have the content of the one that was spoilt")
				for path, text := range w.stands() {
					require.True(t, path == "tides/0/0000.html" || text != "tide X", path)
				}
				return
			}
			require.Empty(t, out.Failed)
			require.Equal(t, []int{4, 2597}, []int{out.SentFiles, out.Reused})
			require.LessOrEqual(t, read.Load(), int64(2597/64+100), "and not each")
			require.Equal(t, refused, copied.Load() > 0, "it can be copied, and is")
			w.verify(c)
		})
	}
}
