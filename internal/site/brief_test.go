package site_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// told writes down everything that a survey found, with times as the place keeps them.
func (w *world) told(s *site.Survey) string {
	step := time.Nanosecond
	if w.far {
		step = time.Second
	}
	if w.poor.seconds {
		step = time.Minute
	}
	var out strings.Builder
	fmt.Fprintf(&out, "%+v\n", s.Summary)
	for _, e := range s.Entries() {
		fmt.Fprintf(&out, "recorded %s %s %o %s %d %s %s %d\n", e.Path, e.Kind, e.Mode, e.Owner, e.Size, e.Digest.Hex()[:8], e.Link, e.ModTime.UnixNano())
	}
	for _, f := range s.Found {
		mode := f.Mode
		if w.poor.modes {
			mode = 0
		}
		fmt.Fprintf(&out, "found %s %s %o %s %d %s %s %v %v %v %d %d", f.Path, f.Kind, mode, f.Owner, f.Size, f.Digest.Hex()[:8], f.Link, f.Other, f.Filled, f.Owned, f.User, f.Group)
		if f.Kind != manifest.Link && !w.poor.times { // whose time nobody asks for
			fmt.Fprint(&out, " ", f.ModTime.Truncate(step).UnixNano())
		}
		fmt.Fprintln(&out)
	}
	return out.String()
}

// everyWay is bothWays, and for a site far away.
func everyWay(t *testing.T, test func(t *testing.T, newWorld func(t *testing.T) *world)) {
	bothWays(t, test)
	for name, poor := range map[string]poor{"far away": {}, "no modes": {modes: true}, "no times": {times: true}, "neither": {true, true, false}, "to the minute": {seconds: true}, "nothing": {true, true, true}} {
		t.Run(name, func(t *testing.T) {
			test(t, func(t *testing.T) *world {
				w := newWorld(t)
				w.far, w.poor = true, poor
				return w
			})
		})
	}
}

// surveys gives the site as a brief survey tells it, and as a whole one does, whether the brief one was enough, and whether it was brief.
func (w *world) surveys() (brief, whole string, enough, wasBrief bool) {
	s, err := w.open(w.t.Context())
	require.NoError(w.t, err)
	all, err := s.Survey(w.t.Context(), !w.doubts)
	require.NoError(w.t, err)
	short, err := s.SurveyBriefly(w.t.Context(), !w.doubts)
	require.NoError(w.t, err)
	_, enough = short.IsRecorded(short.Tree(), short.Paths)
	wasBrief = short.IsBrief()
	require.NoError(w.t, s.Unfold(w.t.Context(), short))
	return w.told(short), w.told(all), enough, wasBrief
}

// TestABriefSurveyTellsWhatAWholeOneDoes alters a site in any way, or not at all.
func TestABriefSurveyTellsWhatAWholeOneDoes(t *testing.T) {
	t.Parallel()
	everyWay(t, func(t *testing.T, newWorld func(t *testing.T) *world) {
		content := tree{"index.html": "1", "css/a.css": "a", "css/deep/b.css": "b", "a-b": "c", "a/b": "d", "a.d/e": "f", "l": "->index.html", "empty/": "", "cgi/tide.sh": "!sh"}
		rapid.Check(t, func(r *rapid.T) {
			w := newWorld(t)
			w.owned = withOwners(r, w, content, nil)
			w.mustDeploy(content, func(p *site.Plan) {
				for i := range p.Want {
					p.Want[i].ModTime = p.Want[i].ModTime.Add(123456789) // which a place far away does not keep
				}
			})
			if w.poor.times { // and it was brought long before it was recorded
				w.settled()
			}
			brief, whole, enough, wasBrief := w.surveys()
			require.True(r, enough, "nobody has touched it")
			require.True(r, wasBrief)
			require.Equal(r, whole, brief)
			names := []string{"index.html", "css", "css/a.css", "css/deep", "css/deep/b.css", "a-b", "l", "empty", "cgi/tide.sh", "new", "css/new/x", "empty/x"}
			before := w.listed()
			for range rapid.IntRange(1, 3).Draw(r, "alterations") {
				name := filepath.Join(w.dir, "www", rapid.SampledFrom(names).Draw(r, "name"))
				switch rapid.SampledFrom([]string{"write", "remove", "folder", "link", "mode", "time", "give"}).Draw(r, "what") {
				case "write":
					if os.MkdirAll(filepath.Dir(name), 0o755) == nil {
						_ = os.WriteFile(name, []byte(rapid.SampledFrom([]string{"a", "1", "other"}).Draw(r, "text")), 0o644)
					}
				case "remove":
					_ = os.RemoveAll(name)
				case "folder":
					_ = os.MkdirAll(name, 0o755)
				case "link":
					_ = os.Remove(name)
					_ = os.Symlink(rapid.SampledFrom([]string{"index.html", "css"}).Draw(r, "to"), name)
				case "mode":
					_ = os.Chmod(name, 0o700)
				case "give":
					_ = os.Lchown(name, 65534, 65534)
				case "time":
					_ = os.Chtimes(name, dated.AddDate(1, 0, 0), dated.AddDate(1, 0, 0))
				}
			}
			brief, whole, enough, _ = w.surveys()
			require.Equal(r, whole, brief)
			if w.listed() != before && w.poor == (poor{}) {
				require.False(r, enough, "something was altered")
			}
			w.doubts = true
			brief, whole, enough, _ = w.surveys()
			require.Equal(r, whole, brief)
			require.False(r, enough, "nobody has read it")
		})
	})
}

// TestWhatAListingDoesNotDateExactlyIsAskedForInBrief has a content that was brought in the minute in which it was recorded.
func TestWhatAListingDoesNotDateExactlyIsAskedForInBrief(t *testing.T) {
	w := newWorld(t)
	w.far, w.poor = true, poor{modes: true, times: true, seconds: true}
	w.mustDeploy(first)
	_, _, enough, wasBrief := w.surveys()
	require.True(t, wasBrief)
	require.False(t, enough, "as late as its record")
	later := time.Now().Add(20 * time.Second)
	require.NoError(t, os.Chtimes(filepath.Join(w.dir, ".www.tartine", "deployments", "1.json"), later, later))
	brief, whole, enough, wasBrief := w.surveys()
	require.Equal(t, whole, brief)
	require.True(t, wasBrief)
	require.True(t, enough, "asked for, each is older")
	w.alter(alteration{"new.html", "write"})
	brief, whole, _, _ = w.surveys()
	require.Equal(t, whole, brief, "and what is in a folder that was altered, too")
}

// TestWhatIsDatedAsLateAsItsRecordIsNotBelieved has a content that was made right before it was deployed.
func TestWhatIsDatedAsLateAsItsRecordIsNotBelieved(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first, func(p *site.Plan) {
		for i := range p.Want {
			p.Want[i].ModTime = time.Now()
		}
	})
	brief, whole, enough, wasBrief := w.surveys()
	require.Equal(t, whole, brief)
	require.False(t, enough, "what is in them is to be read")
	require.True(t, wasBrief, "and nothing else")
}

// listed writes down what is at the site.
func (w *world) listed() string {
	var out strings.Builder
	root := filepath.Join(w.dir, "www") + "/"
	_ = filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil || path == root {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		to, _ := os.Readlink(path)
		text := ""
		if info.Mode().IsRegular() {
			all, _ := os.ReadFile(path)
			text = fmt.Sprint(string(all), info.ModTime().UnixNano())
		}
		if !slices.Contains([]string{"a", "a.d", "css", "css/deep", "cgi"}, path[len(root):]) { // of which no mode is recorded
			fmt.Fprintln(&out, path, info.Mode(), to, text)
		}
		return nil
	})
	return out.String()
}

func TestASurveyOfADeploymentThatIsNoLongerRecordedIsOvertaken(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	s, err := w.open(t.Context())
	require.NoError(t, err)
	survey, err := s.SurveyBriefly(t.Context(), true)
	require.NoError(t, err)
	require.True(t, survey.IsBrief())
	w.mustDeploy(second, func(p *site.Plan) { p.History = 1 })
	for _, text := range []string{"1", "2"} {
		w.mustDeploy(tree{"index.html": text}, func(p *site.Plan) { p.History = 1 })
	}
	require.NoFileExists(t, w.inRecord("deployments/1.json"))
	var overtaken *site.OvertakenError
	require.ErrorAs(t, s.Unfold(t.Context(), survey), &overtaken)
	require.Equal(t, 1, overtaken.Expected)
}

// TestWhatBelongsToSomebodyElseIsKept gives a file to somebody else.
func TestWhatBelongsToSomebodyElseIsKept(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root gives files away")
	}
	w := newWorld(t)
	w.mustDeploy(first)
	require.NoError(t, os.Chown(filepath.Join(w.dir, "www", "index.html"), 65534, 65534))
	brief, whole, _, wasBrief := w.surveys()
	require.Equal(t, whole, brief)
	require.True(t, wasBrief, "its folder is kept as it was found")
	for name := range first { // all of another folder
		if strings.HasPrefix(name, "css/") {
			require.NoError(t, os.Chown(filepath.Join(w.dir, "www", name), 65533, 65533))
		}
	}
	brief, whole, _, _ = w.surveys()
	require.Equal(t, whole, brief)
}

// undated is a place that tells whose files are, and not when anything about them changed.
type undated struct{ *osfs.FS }

func (f undated) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	list, err := f.FS.List(ctx, dir)
	for i := range list {
		list[i].Changed = time.Time{}
	}
	return list, err
}

// TestWhatIsSaidToBelongToOthersIsSurveyedInBrief gives away what is recorded to be somebody's, one after the other and all of it.
func TestWhatIsSaidToBelongToOthersIsSurveyedInBrief(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root gives files away")
	}
	c := tree{"index.html": "1", "log/may.html": "may", "log/june.html": "june", "cgi/tide.sh": "!sh", "cgi/": "0755", "empty/": "0700"}
	c["log/april.html"] = "april"
	look := func(w *world, give ...string) (enough bool) {
		for _, name := range give {
			require.NoError(t, os.Lchown(filepath.Join(w.dir, "www", name), 65534, 65534))
		}
		brief, whole, enough, wasBrief := w.surveys()
		require.True(t, wasBrief)
		require.Equal(t, whole, brief)
		return enough
	}
	someone := func(path string) *world {
		w := newWorld(t)
		w.at = undated{w.between.FS.(*osfs.FS)}
		w.owned = map[string]*manifest.Owner{"index.html": {User: "1001", Group: "1002"}, "log/april.html": {User: "1001", Group: "1002"}, "log/may.html": {User: "1001", Group: "1002"}, "log/june.html": {Group: "1001"},
			"cgi/tide.sh": {User: "1003"}, "cgi": {User: "1003"}, "empty": {User: "1003"}}
		if w.mustDeploy(c); path != "" {
			w.owned[path] = &manifest.Owner{User: "1009"}
		}
		return w
	}
	require.True(t, look(someone("")), "all belongs to whom it should")
	require.False(t, look(someone(""), "log/may.html"))
	require.False(t, look(someone(""), "index.html", "log/may.html", "log/april.html"), "all that is recorded to be one owner's")
	require.False(t, look(someone(""), "cgi/tide.sh"))
	require.False(t, look(someone(""), "cgi"))
	require.False(t, look(someone(""), "empty"))
	w := someone("log/may.html")
	_, plan, _ := w.planParts(t.Context(), c)
	require.NotNil(t, plan)
	require.Len(t, plan.Result.Changes, 1)
	require.Equal(t, "log/may.html", plan.Result.Changes[0].Path(), "it should be somebody else's now")
	require.True(t, plan.Result.Changes[0].ModeOnly)
}

// TestALargeFolderIsSurveyedInBrief has its block read while its names are, and either fail.
func TestALargeFolderIsSurveyedInBrief(t *testing.T) {
	w, c := newWorld(t), tree{"index.html": "1"}
	for i := range 9000 {
		c[fmt.Sprintf("species/%05d.html", i)] = fmt.Sprint("species ", i)
	}
	w.mustDeploy(c)
	w.settled()
	brief, whole, enough, wasBrief := w.surveys()
	require.True(t, enough)
	require.True(t, wasBrief)
	require.Equal(t, whole, brief)
	require.NoError(t, os.Remove(filepath.Join(w.dir, "www", "species", "04711.html")))
	brief, whole, enough, _ = w.surveys()
	require.False(t, enough)
	require.Equal(t, whole, brief)
	for op, suffix := range map[string]string{"list": "/species", "open": "1.blocks"} {
		s, err := w.open(t.Context())
		require.NoError(t, err)
		w.between.Before = func(did string, names ...string) error {
			if did == op && strings.HasSuffix(names[0], suffix) {
				return errors.New("damaged")
			}
			return nil
		}
		_, err = s.SurveyBriefly(t.Context(), true)
		require.ErrorContains(t, err, "damaged", op)
		w.between.Before = func(string, ...string) error { return nil }
	}
}

// TestWhatIsInAnOddFolderIsToldInBrief has a person put a file there, and somebody alter one just after the deployment, so that neither
// its size nor its time tells.
func TestWhatIsInAnOddFolderIsToldInBrief(t *testing.T) {
	w := newWorld(t)
	c := tree{"index.html": "1", "log/may.html": "may"}
	w.mustDeploy(c)
	c["log/june.html"] = "june"
	w.mustDeploy(c, func(p *site.Plan) { p.Hand = true })
	name := filepath.Join(w.dir, "www", "log", "may.html")
	require.NoError(t, os.WriteFile(name, []byte("MAY"), 0o644))
	require.NoError(t, os.Chtimes(name, dated, dated))
	brief, whole, _, wasBrief := w.surveys()
	require.True(t, wasBrief)
	require.Equal(t, whole, brief)
	require.Contains(t, brief, "Paths:2 ")
	require.Contains(t, brief, "Unsettled:1")
}

// TestASmallSiteIsSurveyedWhole has a site whose record is read sooner than it would be twice.
func TestASmallSiteIsSurveyedWhole(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	s, err := site.Open(t.Context(), w.between, "www", "www", site.Options{})
	require.NoError(t, err)
	survey, err := s.SurveyBriefly(t.Context(), true)
	require.NoError(t, err)
	require.False(t, survey.IsBrief())
	require.NotEmpty(t, survey.Found)
}

// TestABriefSurveyKeepsWhatIsOtherwise alters one thing of each kind.
func TestABriefSurveyKeepsWhatIsOtherwise(t *testing.T) {
	content := tree{"index.html": "1", "css/a.css": "a", "css/deep/b.css": "b", "empty/": "", "x/f": "x", "x-y/f": "y"}
	for name, alter := range map[string]func(root string) error{
		"a file is gone":          func(root string) error { return os.Remove(root + "/css/a.css") },
		"a folder is gone":        func(root string) error { return os.RemoveAll(root + "/css") },
		"an empty folder is gone": func(root string) error { return os.Remove(root + "/empty") },
		"a file is new":           func(root string) error { return os.WriteFile(root+"/css/new", nil, 0o644) },
		"a folder is new":         func(root string) error { return os.Mkdir(root+"/css/new", 0o755) },
		"an empty folder is not":  func(root string) error { return os.WriteFile(root+"/empty/new", nil, 0o644) },
		"a mode is another":       func(root string) error { return os.Chmod(root+"/empty", 0o700) },
		"nothing":                 func(string) error { return nil },
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(content)
			require.NoError(t, alter(filepath.Join(w.dir, "www")))
			brief, whole, enough, wasBrief := w.surveys()
			require.Equal(t, whole, brief)
			require.Equal(t, name == "nothing", enough)
			require.True(t, wasBrief)
		})
	}
}

// TestMuchThatIsOtherwiseIsSurveyedWhole puts more beside a site than a brief survey keeps.
func TestMuchThatIsOtherwiseIsSurveyedWhole(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	for i := range 4200 {
		name := filepath.Join(w.dir, "www", "uploads", fmt.Sprint(i/300), fmt.Sprint(i))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, nil, 0o644))
	}
	brief, whole, _, wasBrief := w.surveys()
	require.Equal(t, whole, brief)
	require.False(t, wasBrief)
}

// TestWhatNoManifestHoldsIsSurveyedWhole puts a name beside a site that is no text.
func TestWhatNoManifestHoldsIsSurveyedWhole(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	if err := os.WriteFile(filepath.Join(w.dir, "www", "\xff"), nil, 0o644); err != nil {
		t.Skip("this place takes no such name")
	}
	brief, whole, _, wasBrief := w.surveys()
	require.Equal(t, whole, brief)
	require.Contains(t, brief, "xff")
	require.False(t, wasBrief)
}

// TestTheRecordOfASiteFarAwayIsReadOnce deploys a change of a file, for which its record is asked for again and again.
func TestTheRecordOfASiteFarAwayIsReadOnce(t *testing.T) {
	w, c := newWorld(t), tree{}
	w.far = true
	for i := range 400 {
		c[fmt.Sprintf("species/s%02d/%03d.html", i/10, i)] = fmt.Sprint("species ", i)
	}
	w.mustDeploy(c)
	w.settled()
	c["species/s07/071.html"] = "another"
	var read atomic.Int32
	w.between.Before = func(op string, names ...string) error {
		if op == "open" && strings.HasSuffix(names[0], "1.blocks") {
			read.Add(1)
		}
		return nil
	}
	s, plan, survey := w.planParts(t.Context(), c)
	require.NotNil(t, plan, "it is compared in parts")
	require.True(t, survey.IsBrief())
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Equal(t, 1, out.SentFiles)
	require.Equal(t, int32(1), read.Load())
	w.verify(c)
}
