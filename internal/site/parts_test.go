package site_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
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

// partEntries is how many entries of a folder are in one part, in these tests.
const partEntries = 3

// partsOf gives the parts of a content, and the entries of each.
func partsOf(entries []manifest.Entry) (parts []site.Part, of [][]manifest.Entry) {
	byDir, dirs := map[string][]manifest.Entry{}, []string{}
	for _, e := range entries {
		dir, _ := fsys.Split(e.Path)
		if byDir[dir] == nil {
			dirs = append(dirs, dir)
		}
		byDir[dir] = append(byDir[dir], e)
	}
	for _, dir := range dirs {
		for rest, from := byDir[dir], ""; len(rest) > 0; {
			n := min(partEntries, len(rest))
			p := site.Part{Dir: dir, From: from}
			of, rest = append(of, rest[:n]), rest[n:]
			if len(rest) > 0 {
				_, p.Until = fsys.Split(rest[0].Path)
				from = p.Until
			}
			all, _ := treeparts.Of(manifest.Listed(of[len(of)-1]))
			p.Digest = all[0].Digest
			parts = append(parts, p)
		}
	}
	return parts, of
}

// each asks about each part by itself.
func each(same func(part int, recorded []manifest.Entry) bool) func([]int, [][]manifest.Entry) []bool {
	return func(parts []int, recorded [][]manifest.Entry) []bool {
		out := make([]bool, len(parts))
		for i, part := range parts {
			out[i] = same(part, recorded[i])
		}
		return out
	}
}

// planParts plans for a content as an agent does; nil: all of the site must be compared.
func (w *world) planParts(ctx context.Context, c tree, change ...func(*site.Wanted)) (*site.Site, *site.Plan, *site.Survey) {
	w.t.Helper()
	s, err := w.open(ctx)
	require.NoError(w.t, err)
	if w.foretold {
		s.Foretell(&treeparts.Ahead{})
	}
	survey, err := s.SurveyBriefly(ctx, !w.doubts)
	require.NoError(w.t, err)
	require.NoError(w.t, s.ReadFiles(ctx, survey, nil))
	if w.young {
		require.NoError(w.t, s.ReadYoung(ctx, survey, nil))
	}
	want := w.entries(c)
	wanted := site.Wanted{}
	for _, f := range change {
		f(&wanted)
	}
	if !s.InParts(survey, &wanted) {
		return s, nil, survey
	}
	in := w.inSome(s, survey, want)
	if w.some = in != nil; w.some {
		w.inSomes++
	}
	among := slices.Clone(want)
	parts, of := partsOf(slices.DeleteFunc(among, func(e manifest.Entry) bool {
		dir, _ := fsys.Split(e.Path)
		return w.some && !in[dir]
	}))
	var mu sync.Mutex
	asked := map[int]bool{}
	different, err := s.Differing(ctx, survey, &wanted, parts, in, each(func(part int, entries []manifest.Entry) bool {
		mu.Lock()
		asked[part] = true
		mu.Unlock()
		return slices.EqualFunc(of[part], entries, func(want, is manifest.Entry) bool {
			_, want.Path = fsys.Split(want.Path)
			return want.Equal(is) && want.Hand == is.Hand
		})
	}))
	require.NoError(w.t, err)
	if different == nil {
		return s, nil, survey
	}
	if w.some && different.IsMuch() {
		w.since = false
		return w.planParts(ctx, c, change...)
	}
	for i := range parts {
		if !asked[i] && !slices.Contains(different.Parts, i) {
			require.True(w.t, w.foretold)
			w.passed++
		}
	}
	var some []manifest.Entry
	for _, i := range different.Parts {
		some = append(some, of[i]...)
	}
	slices.SortFunc(some, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	if different.IsMuch() {
		all, left, err := s.Narrow(ctx, different, &wanted, manifest.Listed(some))
		require.NoError(w.t, err)
		var those []manifest.Entry
		for _, r := range left {
			those = append(those, some[r.First:r.First+r.Count]...)
		}
		require.Equal(w.t, those, all)
		some = all
	}
	require.False(w.t, different.IsMuch())
	wanted.Entries = some
	found, result, err := s.CompareParts(ctx, survey, different, &wanted, len(want), nil)
	require.NoError(w.t, err)
	require.NotNil(w.t, found)
	return s, &site.Plan{Want: some, Tree: manifest.TreeOf(manifest.Listed(want)), Survey: found, Result: result, Kept: wanted.Kept, Gone: wanted.Gone, Last: []string{"*.html"}, Origin: &manifest.Origin{User: "warden"},
		Open: func(path string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(c[path])), nil }}, survey
}

// inSome gives the folders in which alone something else is wanted than is recorded, or is there, as whoever remembers what is recorded knows them; nil: all.
func (w *world) inSome(s *site.Site, survey *site.Survey, want []manifest.Entry) map[string]bool {
	if !w.since {
		return nil
	}
	was, err := s.Recorded(context.Background())
	require.NoError(w.t, err)
	held := func(entries []manifest.Entry) map[string]string {
		out := map[string]string{}
		for i := range entries {
			if e := entries[i]; !e.Hand { // which no content has, and no tree digest tells of
				dir, _ := fsys.Split(e.Path)
				out[dir] += fmt.Sprintln(e.Path, e.Kind, e.Mode, e.Digest, e.Link, e.Owner)
			}
		}
		return out
	}
	before, after, in := held(was.Entries), held(want), map[string]bool{}
	for _, one := range [][2]map[string]string{{before, after}, {after, before}} {
		for dir, holds := range one[0] {
			if holds == one[1][dir] {
				continue
			}
			for in[dir] = true; one[1][dir] == "" && dir != "."; in[dir] = true {
				dir, _ = fsys.Split(dir)
			}
		}
	}
	more, enough := survey.Outside(was.Tree(), in)
	if !enough {
		return nil
	}
	for _, dir := range more {
		in[dir] = true
	}
	return in
}

// settled has what is recorded be believed by size and time, although it was written just now.
func (w *world) settled() {
	w.t.Helper()
	require.NoError(w.t, filepath.WalkDir(filepath.Join(w.dir, ".www.tartine", "deployments"), func(name string, entry fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(name, ".json") {
			later := time.Now().Add(time.Hour)
			err = os.Chtimes(name, later, later)
		}
		return err
	}))
}

// saidOf gives what a result says, without what it points to.
func saidOf(r *diff.Result) (out []string) {
	for i := range r.Changes {
		c := &r.Changes[i]
		out = append(out, fmt.Sprint(c.Status, c.Path(), c.Size(), c.Drifted, c.Foreign, c.Hand, c.ModeOnly, c.Want != nil, c.Found != nil))
	}
	for _, l := range r.Leaving {
		out = append(out, "leaving "+l.Path)
	}
	return append(out, fmt.Sprint(r.Same, r.SameBytes, r.Stale))
}

// TestPartsAreComparedAndRecordedAsTheWholeIs takes random trees one after the other, and a site of which all is always compared
// beside one of which parts are.
func TestPartsAreComparedAndRecordedAsTheWholeIs(t *testing.T) {
	t.Parallel()
	inParts, byHand, switched, passed, inSome := 0, 0, 0, 0, 0
	rapid.Check(t, func(r *rapid.T) {
		whole, parts := newWorld(t), newWorld(t)
		whole.far, whole.switched = rapid.Bool().Draw(r, "far away"), rapid.Bool().Draw(r, "switched")
		whole.poor = anyPoor(r)
		parts.far, parts.switched, parts.poor = whole.far, whole.switched, whole.poor
		before := anyTree().Draw(r, "first")
		whole.owned = withOwners(r, whole, before, nil)
		parts.owned = whole.owned
		whole.mustDeploy(before)
		parts.mustDeploy(before)
		for range rapid.IntRange(1, 3).Draw(r, "deployments") {
			if rapid.Bool().Draw(r, "settled") {
				whole.settled()
				parts.settled()
			}
			whole.doubts = rapid.Bool().Draw(r, "reads")
			parts.doubts = whole.doubts
			parts.narrow = rapid.SampledFrom([]int{0, 1}).Draw(r, "narrow")
			parts.foretold, parts.young = rapid.Bool().Draw(r, "foretold"), rapid.Bool().Draw(r, "young are read")
			parts.since = rapid.Bool().Draw(r, "since")
			next := anyTree().Draw(r, "next")
			for _, path := range slices.Sorted(maps.Keys(before)) { // much of it stays
				text := before[path]
				if strings.HasSuffix(path, "/") && text != "" {
					continue
				}
				if _, there := next[path]; !there && rapid.IntRange(0, 3).Draw(r, "stays") > 0 && !clashes(next, path) {
					next[path] = text
				}
			}
			withModes(r, next)
			whole.owned = withOwners(r, whole, next, whole.owned)
			parts.owned = whole.owned
			for _, a := range alterations().Draw(r, "alterations") {
				whole.alter(a)
				parts.alter(a)
			}
			change := staying(r, next, whole.stands())
			all, want, err := whole.plan(t.Context(), next, change)
			require.NoError(t, err)
			s, plan, _ := parts.planParts(t.Context(), next, change)
			if plan == nil {
				strays := func(p *site.Plan) { p.RemoveStrays = true } // which may be in the way
				parts.mustDeploy(next, strays)
				whole.mustDeploy(next, strays)
				before = next
				continue
			}
			if inParts++; parts.switched {
				switched++
			}
			passed, inSome = passed+parts.passed, inSome+parts.inSomes
			require.Equal(t, saidOf(want.Result), saidOf(plan.Result))
			plan.RemoveStrays = rapid.Bool().Draw(r, "remove strays")
			if plan.Hand = len(plan.Kept) > 0 && plan.Kept[0] == "."; plan.Hand {
				plan.RemoveStrays = true
				byHand++
			}
			for _, blocker := range diff.Blockers(plan.Result, plan.RemoveStrays) {
				require.NotEmpty(t, blocker)
				plan.RemoveStrays = true
			}
			out, err := s.Deploy(t.Context(), plan, &site.Watch{})
			require.NoError(t, err)
			require.Empty(t, out.Failed)
			want.RemoveStrays, want.Hand = plan.RemoveStrays, plan.Hand
			other, err := all.Deploy(t.Context(), want, &site.Watch{})
			require.NoError(t, err)
			require.Equal(t, whole.recorded(), parts.recorded(), "what is recorded is the same")
			require.Equal(t, whole.outcome(), parts.outcome())
			require.Equal(t, []int{other.SentFiles, other.Reused, other.Number}, []int{out.SentFiles, out.Reused, out.Number})
			require.Equal(t, whole.stands(), parts.stands())
			before = next
		}
	})
	require.Positive(t, inParts)
	require.Positive(t, byHand)
	require.Positive(t, switched)
	require.Positive(t, passed, "parts of which it was foretold that they are the same")
	require.Positive(t, inSome, "some folders alone were looked into")
}

// anyPoor is what a place far away may not tell.
func anyPoor(r *rapid.T) poor {
	return rapid.SampledFrom([]poor{{}, {}, {modes: true}, {times: true}, {true, true, true}}).Draw(r, "not told")
}

// staying has some paths stay as they are, or all that is not wanted, as where a person puts single files beside it; and what is
// retired stay for a while, or not.
func staying(r *rapid.T, next, stands tree) func(*site.Wanted) {
	kept := rapid.SampledFrom([][]string{nil, nil, {"."}, {"a"}, {"a/b", "b"}, {"index.html"}}).Draw(r, "kept")
	var gone []string
	if len(kept) > 0 {
		gone = rapid.SampledFrom([][]string{nil, {"a/b"}, {"uploads", "index.html"}}).Draw(r, "gone")
	}
	for path := range stands { // nothing is wanted where something else stays
		path = strings.TrimSuffix(path, "/")
		for other := range next {
			if name := strings.TrimSuffix(other, "/"); len(kept) > 0 && (strings.HasPrefix(name, path+"/") || strings.HasPrefix(path, name+"/")) {
				delete(next, other)
			}
		}
	}
	for _, k := range kept {
		for _, path := range slices.Sorted(maps.Keys(next)) {
			name := strings.TrimSuffix(path, "/")
			if k == "." && rapid.IntRange(0, 3).Draw(r, "by hand") > 0 || name == k || strings.HasPrefix(name, k+"/") || strings.HasPrefix(k, name+"/") {
				delete(next, path)
			}
		}
	}
	retire := site.Retire{After: rapid.SampledFrom([]time.Duration{0, time.Hour}).Draw(r, "after"), Now: rapid.Bool().Draw(r, "now"), Last: []string{"*.html"}}
	byTime := rapid.Bool().Draw(r, "times")
	return func(w *site.Wanted) { w.Kept, w.Gone, w.Retire, w.Rule.Times = kept, gone, retire, byTime }
}

// withModes gives some folders with content a mode of their own, and an empty one.
func withModes(r *rapid.T, c tree) {
	for _, path := range slices.Sorted(maps.Keys(c)) {
		if dir, _ := fsys.Split(path); dir != "." && rapid.IntRange(0, 3).Draw(r, "own mode") == 0 {
			if _, is := c[dir+"/"]; !is {
				c[dir+"/"] = rapid.SampledFrom([]string{"0750", "0700"}).Draw(r, "mode")
			}
		}
	}
	if rapid.Bool().Draw(r, "empty") && !clashes(c, "private") {
		c["private/"] = "0750"
	}
}

// withOwners has some paths belong to others, where that can be: mostly those whom they belonged to before.
func withOwners(r *rapid.T, w *world, c tree, before map[string]*manifest.Owner) map[string]*manifest.Owner {
	if w.far || os.Getuid() != 0 || before == nil && rapid.IntRange(0, 2).Draw(r, "owners") > 0 {
		return nil
	}
	out := maps.Clone(before)
	if out == nil {
		out = map[string]*manifest.Owner{}
	}
	for _, path := range slices.Sorted(maps.Keys(c)) {
		path = strings.TrimSuffix(path, "/")
		if _, known := out[path]; known && rapid.IntRange(0, 5).Draw(r, "new owner") > 0 {
			continue
		}
		out[path] = rapid.SampledFrom([]*manifest.Owner{nil, {User: "1001", Group: "1001"}, {User: "1002"}, {Group: "1001"}}).Draw(r, "owner")
	}
	return out
}

// TestAFolderWithAModeOfItsOwnStaysWhenItsContentGoes has the entry of the folder be in a part that is the same.
func TestAFolderWithAModeOfItsOwnStaysWhenItsContentGoes(t *testing.T) {
	w, c := newWorld(t), tree{"log/": "0750", "log/may.html": "may", "x/old/": "0700", "x/old/1.html": "1", "x/y": "y", "index.html": "1"}
	w.mustDeploy(c)
	w.settled()
	delete(c, "log/may.html")
	delete(c, "x/old/1.html")
	s, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.True(t, out.Verified)
	for dir, mode := range map[string]fs.FileMode{"log": 0o750, "x/old": 0o700} {
		info, err := os.Stat(filepath.Join(w.dir, "www", dir))
		require.NoError(t, err)
		require.Equal(t, mode, info.Mode().Perm())
	}
	w.verify(c)
}

// alteration is something that somebody does to a site.
type alteration struct{ name, what string }

func alterations() *rapid.Generator[[]alteration] {
	names := []string{"a", "b", "a-", "a/b", "a/é", "b/a/b", "index.html", "uploads", "uploads/new", "private", "a/x y/b"}
	one := rapid.Custom(func(t *rapid.T) alteration {
		return alteration{rapid.SampledFrom(names).Draw(t, "name"), rapid.SampledFrom([]string{"write", "same", "remove", "folder", "link", "mode", "give"}).Draw(t, "what")}
	})
	return rapid.SliceOfN(one, 0, 2)
}

func (w *world) alter(a alteration) {
	name := filepath.Join(w.dir, "www", filepath.FromSlash(a.name))
	switch a.what {
	case "write":
		if os.MkdirAll(filepath.Dir(name), 0o755) == nil {
			_ = os.WriteFile(name, []byte("altered"), 0o644)
		}
	case "same": // its size and time stay
		if info, err := os.Stat(name); err == nil && info.Mode().IsRegular() && os.WriteFile(name, []byte(strings.Repeat("x", int(info.Size()))), 0o644) == nil {
			_ = os.Chtimes(name, info.ModTime(), info.ModTime())
		}
	case "remove":
		_ = os.RemoveAll(name)
	case "folder":
		_ = os.MkdirAll(name, 0o755)
	case "link":
		_ = os.Remove(name)
		_ = os.Symlink("nowhere", name)
	case "mode":
		_ = os.Chmod(name, 0o700)
	case "give":
		_ = os.Lchown(name, 65534, 65534) // where that can be
	}
}

// outcome gives what a check of all finds.
func (w *world) outcome() string {
	w.t.Helper()
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	report, err := s.Verify(w.t.Context(), nil, true, nil)
	require.NoError(w.t, err)
	out := fmt.Sprint(report.Tree, report.Checked, report.Bytes)
	for _, found := range [][]manifest.Entry{report.Missing, report.Strays} {
		for i := range found {
			out += fmt.Sprint(" ", found[i].Path, found[i].Kind)
		}
		out += ";"
	}
	return out + fmt.Sprint(report.Altered, report.Modes, report.Owners, report.Links)
}

// clashes tells whether a path cannot be in a tree beside what is in it.
func clashes(c tree, path string) bool {
	path = strings.TrimSuffix(path, "/")
	for other := range c {
		other = strings.TrimSuffix(other, "/")
		if other == path || strings.HasPrefix(other, path+"/") || strings.HasPrefix(path, other+"/") {
			return true
		}
	}
	return false
}

// recorded gives what is recorded, with the name of the block of its top.
func (w *world) recorded() (out []string) {
	w.t.Helper()
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	m, err := s.Recorded(w.t.Context())
	require.NoError(w.t, err)
	for _, e := range m.Entries {
		out = append(out, fmt.Sprint(e.Path, e.Kind, e.Mode, e.Owner, e.Digest, e.Link, e.Hand, e.ModTime.UnixNano()))
	}
	return append(out, m.Tree().Hex())
}

// TestContentThatIsNowhereIsNotLookedFor counts how often the record is opened for a file whose content is new, and for one whose content another
// one has.
func TestContentThatIsNowhereIsNotLookedFor(t *testing.T) {
	opened := func(text string, reused int) (count int32) {
		w, c := newWorld(t), tree{}
		for i := range 400 {
			c[fmt.Sprintf("species/s%02d/%03d.html", i/10, i)] = fmt.Sprint("species ", i)
		}
		w.mustDeploy(c)
		w.settled()
		c["species/s07/071.html"] = text
		var read atomic.Int32
		w.between.Before = func(op string, names ...string) error {
			if op == "open" && strings.HasSuffix(names[0], "1.blocks") {
				read.Add(1)
			}
			return nil
		}
		s, plan, _ := w.planParts(t.Context(), c)
		require.NotNil(t, plan)
		out, err := s.Deploy(t.Context(), plan, &site.Watch{})
		require.NoError(t, err)
		require.Equal(t, reused, out.Reused)
		w.verify(c)
		return read.Load()
	}
	require.Equal(t, opened("another", 0)+1, opened("species 5", 1))
}

func TestASmallChangeLeavesTheOtherBlocks(t *testing.T) {
	w, c := newWorld(t), tree{}
	for i := range 400 {
		c[fmt.Sprintf("species/s%02d/%03d.html", i/10, i)] = fmt.Sprint("species ", i)
	}
	w.mustDeploy(c)
	w.settled()
	c["species/s07/071.html"] = "another"
	c["log/may.html"] = "species 5" // of a file elsewhere, which is in no part that differs
	delete(c, "species/s09/099.html")
	s, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Less(t, len(plan.Want), 16, "what is the same is in no list")
	require.Equal(t, 398, plan.Result.Same)
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Equal(t, 1, out.SentFiles)
	require.Equal(t, 1, out.Reused, "content that is at the site is not sent")
	require.Equal(t, c, w.stands())
	w.verify(c)
	first, err := os.Stat(filepath.Join(w.dir, ".www.tartine", "deployments", "1.blocks"))
	require.NoError(t, err)
	second, err := os.Stat(filepath.Join(w.dir, ".www.tartine", "deployments", "2.blocks"))
	require.NoError(t, err)
	require.Less(t, 5*second.Size(), first.Size())
}

// TestAPartThatFailsIsRecordedAsItWas has a step fail, so that what was recorded of it stays, beside all that was not looked at.
func TestAPartThatFailsIsRecordedAsItWas(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "log/june.html": "june", "plates/tern.svg": "tern"}
	w.mustDeploy(c)
	w.settled()
	next := tree{"index.html": "2", "log/may.html": "May", "log/june.html": "june", "plates/tern.svg": "tern", "plates/gannet.svg": "gannet"}
	s, plan, _ := w.planParts(t.Context(), next)
	require.NotNil(t, plan)
	plan.Partial = true
	unreadable("log/may.html")(plan)
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Len(t, out.Failed, 1)
	next["log/may.html"] = "may"
	require.Equal(t, next, w.stands())
	w.verify(next)
	m, err := s.Recorded(t.Context())
	require.NoError(t, err)
	require.True(t, m.Deployment.Partial)
}

func TestARecordThatGoesMeanwhileIsNotTakenForAnother(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may"}
	w.mustDeploy(c)
	w.settled()
	next := tree{"index.html": "2", "log/may.html": "may"}
	s, plan, brief := w.planParts(t.Context(), next)
	require.NotNil(t, plan)
	for n := range 7 {
		w.mustDeploy(tree{"index.html": fmt.Sprint("other ", n)})
	}
	var overtaken *site.OvertakenError
	_, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.ErrorAs(t, err, &overtaken)
	_, err = s.Differing(t.Context(), brief, &site.Wanted{}, nil, nil, each(func(int, []manifest.Entry) bool { return true }))
	require.ErrorAs(t, err, &overtaken)
	require.Equal(t, tree{"index.html": "other 6"}, w.stands())
}

// TestWhatIsNotALittleIsNarrowed changes more than is compared as it is, and asks for what parts are not enough for.
func TestWhatIsNotALittleIsNarrowed(t *testing.T) {
	w, c := newWorld(t), tree{}
	for i := range 4200 {
		c[fmt.Sprintf("%d/%04d", i/20, i)] = "1"
	}
	w.mustDeploy(c)
	w.settled()
	_, plan, survey := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Empty(t, plan.Want)
	require.Equal(t, 4200, plan.Result.Same)
	s, err := w.open(t.Context())
	require.NoError(t, err)
	parts, _ := partsOf(c.entries())
	all, err := s.Differing(t.Context(), survey, &site.Wanted{}, parts, nil, each(func(int, []manifest.Entry) bool { return false }))
	require.NoError(t, err)
	require.True(t, all.IsMuch(), "all of it differs")
	require.False(t, s.InParts(survey, &site.Wanted{Rule: diff.Rule{Nothing: true}}), "all is sent")
	require.True(t, s.InParts(survey, &site.Wanted{}))
	different, err := s.Differing(t.Context(), survey, &site.Wanted{}, parts[:1], nil, each(func(int, []manifest.Entry) bool { return true }))
	require.NoError(t, err)
	require.True(t, different.IsMuch(), "nearly all of it is to go")
	different, err = s.Differing(t.Context(), survey, &site.Wanted{Kept: []string{"."}, Gone: []string{"7/0140"}}, parts[:1], nil, each(func(int, []manifest.Entry) bool { return false }))
	require.NoError(t, err)
	require.Equal(t, []int{0}, different.Parts, "the rest stays")
	require.NoError(t, s.Unfold(t.Context(), survey))
	require.False(t, s.InParts(survey, &site.Wanted{}), "all of it is known")
}

func TestPartsThatDoNotAddUpAreComparedWhole(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may"}
	w.mustDeploy(c)
	w.settled()
	s, err := w.open(t.Context())
	require.NoError(t, err)
	survey, err := s.SurveyBriefly(t.Context(), true)
	require.NoError(t, err)
	parts, _ := partsOf(c.entries())
	different, err := s.Differing(t.Context(), survey, &site.Wanted{}, parts, nil, each(func(part int, _ []manifest.Entry) bool { return part == 1 }))
	require.NoError(t, err)
	for _, paths := range []int{1, 3} {
		found, _, err := s.CompareParts(t.Context(), survey, different, &site.Wanted{Entries: c.entries()[:1]}, paths, nil)
		require.NoError(t, err)
		require.Nil(t, found)
	}
	found, result, err := s.CompareParts(t.Context(), survey, different, &site.Wanted{Entries: c.entries()[:1]}, 2, nil)
	require.NoError(t, err)
	require.NotNil(t, found)
	require.Equal(t, 2, result.Same)
	again, err := s.SurveyBriefly(t.Context(), true)
	require.NoError(t, err)
	found, _, err = s.CompareParts(t.Context(), again, different, &site.Wanted{Entries: c.entries()[:1]}, 2, nil)
	require.NoError(t, err)
	require.Nil(t, found, "they are of another survey")
	disorder, err := s.Differing(t.Context(), survey, &site.Wanted{}, []site.Part{{Dir: ".", From: "b"}, {Dir: "."}}, nil, each(func(int, []manifest.Entry) bool { return true }))
	require.NoError(t, err)
	require.Nil(t, disorder)
	require.NoError(t, s.Unfold(t.Context(), survey))
	found, _, err = s.CompareParts(t.Context(), survey, different, &site.Wanted{Entries: c.entries()[:1]}, 2, nil)
	require.NoError(t, err)
	require.Nil(t, found, "all of it is known meanwhile")
}

var errDamaged = errors.New("damaged")

// TestABlockThatCannotBeReadEndsADeployment has the record fail while a deployment is under way: nothing is published, and nothing is
// recorded.
func TestABlockThatCannotBeReadEndsADeployment(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "log/old/1.html": "1"}
	w.mustDeploy(c)
	w.settled()
	next := tree{"index.html": "2", "log/may.html": "may", "log/old/1.html": "1"}
	s, plan, _ := w.planParts(t.Context(), next)
	require.NotNil(t, plan)
	var fails atomic.Bool // from when the tree digest is still being computed
	w.between.Before = func(op string, names ...string) error {
		if fails.Load() && op == "open" && strings.HasSuffix(names[0], ".blocks") {
			return errDamaged
		}
		return nil
	}
	staged, err := s.Stage(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	fails.Store(true)
	_, err = staged.Publish(t.Context(), &site.Watch{})
	require.ErrorIs(t, err, errDamaged)
	fails.Store(false)
	require.Equal(t, c, w.stands())
	w.verify(c)
}

// TestADigestThatCouldNotBeComputedIsComputedAgain has the record fail while the tree digest is computed beside staging.
func TestADigestThatCouldNotBeComputedIsComputedAgain(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "log/june.html": "june"}
	w.mustDeploy(c)
	w.settled()
	delete(c, "log/june.html")
	s, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	failed, fails := make(chan struct{}, 100), atomic.Bool{}
	fails.Store(true)
	w.between.Before = func(op string, names ...string) error {
		if fails.Load() && op == "open" && strings.HasSuffix(names[0], ".blocks") {
			failed <- struct{}{}
			return errDamaged
		}
		return nil
	}
	staged, err := s.Stage(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	<-failed
	<-failed // it is tried in two ways
	fails.Store(false)
	_, err = staged.Publish(t.Context(), &site.Watch{})
	require.NoError(t, err)
	w.verify(c)
}

// TestAnAlterationJustAfterADeployment has somebody alter a file so that neither its size nor its time tells, when the record is too
// young to be believed; and then puts back what was there, with a time of its own.
func TestAnAlterationJustAfterADeployment(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may"}
	w.mustDeploy(c)
	name := filepath.Join(w.dir, "www", "log", "may.html")
	require.NoError(t, os.WriteFile(name, []byte("MAY"), 0o644))
	require.NoError(t, os.Chtimes(name, dated, dated))
	s, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Len(t, plan.Result.Changes, 1)
	require.True(t, plan.Result.Changes[0].Drifted)
	require.Equal(t, 1, plan.Result.Same)
	later := dated.Add(time.Hour)
	for i := range plan.Want {
		plan.Want[i].ModTime = later
	}
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.True(t, out.Verified)
	w.verify(c)
	m, err := s.Recorded(t.Context())
	require.NoError(t, err)
	at, _ := manifest.Find(m.Entries, "log/may.html")
	require.Equal(t, later, m.Entries[at].ModTime)
}

// TestWhatIsForetoldIsLookedAtWhereItMayBeAnother alters a file in a way that the survey sees, and in ways that it does not.
func TestWhatIsForetoldIsLookedAtWhereItMayBeAnother(t *testing.T) {
	for i, how := range []string{"altered", "lately", "read", "altered", "lately", "read"} {
		since := i > 2
		w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "log/june.html": "june", "tides/may.html": "tides"}
		w.foretold, w.since = !since, since
		w.mustDeploy(c)
		if how != "lately" {
			w.settled()
		}
		w.doubts = how == "read"
		name := filepath.Join(w.dir, "www", "log", "may.html")
		require.NoError(t, os.WriteFile(name, []byte(map[string]string{"altered": "altered", "lately": "MAY", "read": "MAY"}[how]), 0o644))
		require.NoError(t, os.Chtimes(name, dated, dated))
		_, plan, _ := w.planParts(t.Context(), c)
		require.NotNil(t, plan)
		require.Len(t, plan.Result.Changes, 1)
		require.Equal(t, "log/may.html", plan.Result.Changes[0].Path())
		require.True(t, plan.Result.Changes[0].Drifted)
		require.Equal(t, 3, plan.Result.Same)
		require.Equal(t, since && how != "read", w.some, "where all files are read all is compared")
		if how != "lately" && !since {
			require.Equal(t, 1, w.passed, "the folder of the tides is not looked at")
		}
	}
}

// TestContentOfAFolderThatIsPassedOverIsNotSent puts a copy of a file into another folder than that.
func TestContentOfAFolderThatIsPassedOverIsNotSent(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "tides/may.html": "tides"}
	w.foretold = true
	w.mustDeploy(c)
	w.settled()
	c["log/copy.html"] = "tides"
	s, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Equal(t, 1, w.passed)
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Equal(t, []int{0, 1}, []int{out.SentFiles, out.Reused})
	require.Equal(t, c, w.stands())
}

// TestAFolderAboveOneThatGoesStays removes what somebody put into a new folder, where it is known that nothing else is wanted.
func TestAFolderAboveOneThatGoesStays(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "tides/may.html": "tides", "tides/2026/may.html": "tides"}
	w.since = true
	w.mustDeploy(c)
	w.settled()
	require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "www", "log", "june"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "www", "log", "june", "note.txt"), []byte("mine"), 0o644))
	s, plan, _ := w.planParts(t.Context(), c)
	require.True(t, w.some)
	require.Equal(t, 4, plan.Result.Same)
	plan.RemoveStrays = true
	var removed []string
	w.between.Before = func(op string, names ...string) error {
		if op == "remove" && strings.HasPrefix(names[0], "www/") {
			removed = append(removed, names...)
		}
		return nil
	}
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Empty(t, out.Failed)
	require.Equal(t, []string{"www/log/june/note.txt", "www/log/june"}, removed)
	require.Equal(t, c, w.stands())

	w.settled() // and one in which there is another folder
	delete(c, "tides/may.html")
	removed = nil
	s, plan, _ = w.planParts(t.Context(), c)
	require.True(t, w.some)
	_, err = s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Equal(t, []string{"www/tides/may.html"}, removed)
	require.Equal(t, c, w.stands())
}

// TestARecordThatIsAnotherTreeThanItSaysIsNotGoneOnWith has what follows from the record not be what is wanted: nothing is published.
func TestARecordThatIsAnotherTreeThanItSaysIsNotGoneOnWith(t *testing.T) {
	for _, switched := range []bool{false, true} {
		w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may", "tides/may.html": "tides"}
		w.switched, w.since = switched, true
		w.mustDeploy(c)
		w.settled()
		before := w.stands()
		c["log/may.html"] = "another"
		s, plan, _ := w.planParts(t.Context(), c)
		require.True(t, w.some)
		right := plan.Tree
		plan.Tree[0] ^= 1
		_, err := s.Deploy(t.Context(), plan, &site.Watch{})
		require.ErrorIs(t, err, site.ErrOtherTree)
		require.Contains(t, err.Error(), "deployments/1.json")
		require.Equal(t, before, w.stands())
		s, err = w.open(t.Context())
		require.NoError(t, err)
		unfinished, err := s.Unfinished(t.Context())
		require.NoError(t, err)
		require.False(t, unfinished)
		s, plan, _ = w.planParts(t.Context(), c)
		require.Equal(t, right, plan.Tree)
		out, err := s.Deploy(t.Context(), plan, &site.Watch{})
		require.NoError(t, err)
		require.Equal(t, 2, out.Number)
		require.Equal(t, c, w.stands())
	}
}

// TestAFolderInPartsKeepsItsBlocks changes one file after the other beside a folder of very many, and beside one with many folders: what is of use
// of the record is still there.
func TestAFolderInPartsKeepsItsBlocks(t *testing.T) {
	for _, path := range []string{"plates/%04d.svg", "tides/2026/%04d/text.html"} {
		w, c := newWorld(t), tree{}
		for i := range 2000 {
			c[fmt.Sprintf(path, i)] = fmt.Sprint(i)
		}
		for i := range 3 {
			c[fmt.Sprintf("species/%d/text.html", i)] = fmt.Sprint(i)
		}
		w.mustDeploy(c)
		w.since = true
		for i := range 6 {
			w.settled()
			c[fmt.Sprintf("species/%d/text.html", i%3)] = fmt.Sprint("edition ", i)
			s, plan, _ := w.planParts(t.Context(), c)
			require.True(t, w.some)
			require.Len(t, plan.Result.Changes, 1)
			_, err := s.Deploy(t.Context(), plan, &site.Watch{})
			require.NoError(t, err)
			m, err := s.Recorded(t.Context())
			require.NoError(t, err)
			require.Len(t, m.Entries, len(c))
		}
		w.verify(c)
	}
}

// TestAFolderThatSomebodyHasEmptiedIsFound takes away what is in a folder, which is wanted no longer.
func TestAFolderThatSomebodyHasEmptiedIsFound(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1", "log/may.html": "may"}
	w.mustDeploy(c)
	w.settled()
	require.NoError(t, os.Remove(filepath.Join(w.dir, "www", "log", "may.html")))
	delete(c, "log/may.html")
	_, want, err := w.plan(t.Context(), c)
	require.NoError(t, err)
	_, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Equal(t, saidOf(want.Result), saidOf(plan.Result))
	require.Equal(t, "log", plan.Result.Changes[0].Path())
}

// byHand puts a content beside what is there, and takes some paths away, with all of the site compared and with parts of it.
func byHand(t *testing.T, test func(t *testing.T, w *world, put func(c tree, gone ...string))) {
	for name, whole := range map[string]bool{"whole": true, "in parts": false} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			test(t, w, func(c tree, gone ...string) {
				w.settled()
				change := func(want *site.Wanted) { want.Kept, want.Gone = []string{"."}, gone }
				var (
					s    *site.Site
					plan *site.Plan
					err  error
				)
				if whole {
					s, plan, err = w.plan(t.Context(), c, change)
					require.NoError(t, err)
				} else {
					s, plan, _ = w.planParts(t.Context(), c, change)
					require.NotNil(t, plan)
				}
				plan.Hand, plan.RemoveStrays = true, true
				out, err := s.Deploy(t.Context(), plan, &site.Watch{})
				require.NoError(t, err)
				require.True(t, out.Verified)
			})
		})
	}
}

func TestAFolderOfItsOwnModeStaysWhenAPersonTakesItsLastFile(t *testing.T) {
	byHand(t, func(t *testing.T, w *world, put func(c tree, gone ...string)) {
		c := tree{"log/": "0750", "log/may.html": "may", "index.html": "1"}
		w.mustDeploy(c)
		put(tree{}, "log/may.html")
		delete(c, "log/may.html")
		w.verify(c)
	})
}

func TestWhatAPersonPutsInThePlaceOfAFolderThatIsGoneIsRecorded(t *testing.T) {
	byHand(t, func(t *testing.T, w *world, put func(c tree, gone ...string)) {
		w.mustDeploy(tree{"log/may.html": "may", "log/old/april.html": "april", "index.html": "1"})
		require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "www", "log")))
		put(tree{"log": "a file"})
		w.verify(tree{"log": "a file", "index.html": "1"})
	})
}

func TestAPersonFillsAFolderThatWasEmpty(t *testing.T) {
	byHand(t, func(t *testing.T, w *world, put func(c tree, gone ...string)) {
		c := tree{"log/": "", "index.html": "1"}
		w.mustDeploy(c)
		put(tree{"log/may/1.html": "may"})
		w.verify(tree{"log/may/1.html": "may", "index.html": "1"})
	})
}

// TestWhatAPersonPutIsReplacedByWhatIsDeployed has a folder of a person's, with a mode of its own, where a file is deployed.
func TestWhatAPersonPutIsReplacedByWhatIsDeployed(t *testing.T) {
	byHand(t, func(t *testing.T, w *world, put func(c tree, gone ...string)) {
		w.mustDeploy(tree{"index.html": "1"})
		put(tree{"log/may/": "0700", "log/may/1.html": "may"})
		next := tree{"log": "a file", "index.html": "1"}
		w.mustDeploy(next, func(p *site.Plan) { p.RemoveStrays = true })
		w.verify(next)
	})
}

// TestWhatAPersonDoesCostsWhatItIsAbout puts one file into a site of many.
func TestWhatAPersonDoesCostsWhatItIsAbout(t *testing.T) {
	w, c := newWorld(t), tree{}
	for i := range 9000 {
		c[fmt.Sprintf("%d/%04d", i/20, i)] = "1"
	}
	w.mustDeploy(c)
	w.settled()
	c["7/new"] = "new"
	delete(c, "8/0170")
	s, plan, _ := w.planParts(t.Context(), tree{"7/new": "new"}, func(want *site.Wanted) { want.Kept, want.Gone = []string{"."}, []string{"8/0170"} })
	require.NotNil(t, plan)
	require.Len(t, plan.Survey.Recorded.Entries, 21, "of the folder and what goes")
	require.Zero(t, plan.Result.Same, "as where all of it is compared")
	plan.Hand, plan.RemoveStrays = true, true
	_, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	w.verify(c)
}

func TestAPersonMakesAFolderThatIsThere(t *testing.T) {
	byHand(t, func(t *testing.T, w *world, put func(c tree, gone ...string)) {
		c := tree{"log/may/1.html": "may", "index.html": "1"}
		w.mustDeploy(c)
		put(tree{"log/may/": ""})
		w.verify(c)
		put(tree{"log/": ""})
		w.verify(c)
	})
}

func TestAFolderOfItsOwnModeStaysWhenAPersonPutsAFileThere(t *testing.T) {
	byHand(t, func(t *testing.T, w *world, put func(c tree, gone ...string)) {
		c := tree{"log/": "0750", "log/may.html": "may", "index.html": "1"}
		w.mustDeploy(c)
		put(tree{"log/may.html": "more"})
		c["log/may.html"] = "more"
		w.verify(c)
	})
}

// TestAFolderWhoseLastFolderIsGoneIsNoticed takes away all that was in a folder, but for the folder itself.
func TestAFolderWhoseLastFolderIsGoneIsNoticed(t *testing.T) {
	w, c := newWorld(t), tree{"a/b/c": "1", "index.html": "1"}
	w.mustDeploy(c)
	w.settled()
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "www", "a", "b")))
	_, plan, _ := w.planParts(t.Context(), tree{"index.html": "1"})
	require.NotNil(t, plan)
	require.Equal(t, []string{"straya0 false false false false false true"}, saidOf(plan.Result)[:1], "an empty folder")
}
