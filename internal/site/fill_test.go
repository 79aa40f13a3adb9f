package site_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/site"
)

// newSwitched gives a place with a site that is switched.
func newSwitched(t *testing.T) *world {
	w := newWorld(t)
	w.switched = true
	return w
}

// steps gives what the steps of a journal do, and with which paths.
func (j journalText) steps() (out []string) {
	for _, phase := range j["runs"].([]any) {
		for _, each := range phase.([]any) {
			run := each.(map[string]any)
			for _, st := range run["steps"].([]any) {
				out = append(out, fmt.Sprint(run["do"], " ", filepath.Join(run["in"].(string), st.(map[string]any)["name"].(string))))
			}
		}
	}
	return out
}

// onceAt has something done before an operation that when tells of.
func (w *world) onceAt(when func(op string, names []string) bool, do func()) {
	var done atomic.Bool
	w.between.Before = func(op string, names ...string) error {
		if when(op, names) && done.CompareAndSwap(false, true) {
			do()
		}
		return nil
	}
}

func TestWhatStaysIsOneStepOfTheJournal(t *testing.T) {
	w, c := newSwitched(t), many(20, 30)
	c["home"], c["private/"], c["private/x"] = "->index.html", "0700", "x"
	w.cutWhen(c, renamedTo(".www.tartine/publish.json"))
	require.Equal(t, []string{"appear .", "switch ."}, w.journal().steps(), "the first tree was staged whole")
	w.mustDeploy(c)
	w.verify(c)
	c["index.html"] = "another"
	uploads := filepath.Join(w.dir, "www/uploads")
	require.NoError(t, os.MkdirAll(uploads, 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(uploads, "tern.jpg"), []byte("tern"), 0o644))
	w.cutWhen(c, renamedTo(".www.tartine/publish.json"))
	j := w.journal()
	require.Equal(t, []string{"folder .", "fill .", "carry uploads/tern.jpg", "place index.html", "switch ."}, sortedFiles(j.steps()))
	require.EqualValues(t, 3, j["version"], "an older program does not know the step")
	s, err := w.open(t.Context())
	require.NoError(t, err)
	number, err := s.Recover(t.Context(), "warden")
	require.NoError(t, err)
	require.Equal(t, 3, number)
	for name, mode := range map[string]fs.FileMode{"private": 0o700, "uploads": 0o750, "species/s003": 0o755} {
		info, err := os.Stat(filepath.Join(w.dir, ".www.trees/3", name))
		require.NoError(t, err)
		require.Equal(t, mode, info.Mode().Perm(), name)
	}
	require.FileExists(t, filepath.Join(uploads, "tern.jpg"))
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "www/uploads")))
	w.verify(c)
}

// sortedFiles has the steps for files be in the order of what they do.
func sortedFiles(steps []string) []string {
	slices.SortStableFunc(steps, func(a, b string) int {
		isFile := func(st string) bool { return strings.HasPrefix(st, "carry") || strings.HasPrefix(st, "place") }
		if isFile(a) && isFile(b) {
			return strings.Compare(a, b)
		}
		return 0
	})
	return steps
}

// TestWhatStaysIsListedFolderByFolder has no name of a large folder looked at by itself.
func TestWhatStaysIsListedFolderByFolder(t *testing.T) {
	w, c := newSwitched(t), many(3, 40)
	w.mustDeploy(c)
	c["index.html"] = "another"
	s, plan, err := w.plan(t.Context(), c)
	require.NoError(t, err)
	var mu sync.Mutex
	looked := 0
	w.between.Before = func(op string, names ...string) error {
		mu.Lock()
		defer mu.Unlock()
		if op == "lstat" && strings.HasPrefix(names[0], ".www.trees/1/") {
			looked++
		}
		return nil
	}
	_, err = s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Less(t, looked, 20, "120 files in few folders")
	w.verify(c)
}

// TestNothingButWhatWasFoundIsCarriedOver has somebody alter the tree that is there between the survey and the publish.
func TestNothingButWhatWasFoundIsCarriedOver(t *testing.T) {
	for name, alter := range map[string]func(t *testing.T, tree string) (fails []string){
		"a file is gone": func(t *testing.T, tree string) []string {
			require.NoError(t, os.Remove(filepath.Join(tree, "css/a.css")))
			return []string{"css/a.css"}
		},
		"a file is a link": func(t *testing.T, tree string) []string {
			require.NoError(t, os.Remove(filepath.Join(tree, "css/a.css")))
			require.NoError(t, os.Symlink("../../../other/css/a.css", filepath.Join(tree, "css/a.css")))
			return []string{"css/a.css"}
		},
		"a link says something else": func(t *testing.T, tree string) []string {
			require.NoError(t, os.Remove(filepath.Join(tree, "home")))
			require.NoError(t, os.Symlink("/etc", filepath.Join(tree, "home")))
			return []string{"home"}
		},
		"a folder is a link": func(t *testing.T, tree string) []string {
			require.NoError(t, os.RemoveAll(filepath.Join(tree, "css")))
			require.NoError(t, os.Symlink("../../other/css", filepath.Join(tree, "css")))
			return []string{"css/a.css", "css/b.css", "css/deep/c.css"}
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newSwitched(t)
			c := tree{"index.html": "1", "css/a.css": "a", "css/b.css": "b", "css/deep/c.css": "c", "home": "->index.html"}
			w.mustDeploy(c)
			require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "other/css/deep"), 0o755))
			for _, path := range []string{"a.css", "b.css", "deep/c.css"} {
				require.NoError(t, os.WriteFile(filepath.Join(w.dir, "other/css", path), []byte("x"), 0o644))
			}
			c["index.html"] = "2"
			s, plan, err := w.plan(t.Context(), c)
			require.NoError(t, err)
			var fails []string
			w.onceAt(renamedTo(".www.tartine/publish.json"), func() { fails = alter(t, filepath.Join(w.dir, ".www.trees/1")) })
			out, err := s.Deploy(t.Context(), plan, &site.Watch{})
			require.NoError(t, err)
			var failed []string
			for _, f := range out.Failed {
				var step *site.StepError
				require.ErrorAs(t, f.Err, &step)
				require.Equal(t, "carry", step.Do)
				failed = append(failed, f.Path)
			}
			require.Equal(t, fails, failed)
			require.Zero(t, out.Number, "nothing was published")
			leads, err := os.Readlink(filepath.Join(w.dir, "www"))
			require.NoError(t, err)
			require.Equal(t, ".www.trees/1", leads)
			require.NoError(t, filepath.WalkDir(filepath.Join(w.dir, ".www.trees/2"), func(name string, entry fs.DirEntry, err error) error {
				if err == nil && entry.Type().IsRegular() {
					text, err := os.ReadFile(name)
					require.NoError(t, err)
					require.NotEqual(t, "x", string(text), name)
				}
				return err
			}))
		})
	}
}

// TestALinkThatLeadsOutIsCarriedOverByWhoeverFinishes has somebody put it there, and the publish be interrupted.
func TestALinkThatLeadsOutIsCarriedOverByWhoeverFinishes(t *testing.T) {
	w := newSwitched(t)
	w.mustDeploy(first)
	require.NoError(t, os.Symlink("/srv/uploads", filepath.Join(w.dir, "www/uploads")))
	w.cutWhen(second, renamedTo(".www.trees/2/css/c.css"))
	s, err := w.open(t.Context())
	require.NoError(t, err)
	number, err := s.Recover(t.Context(), "warden")
	require.NoError(t, err)
	require.Equal(t, 2, number)
	link, err := os.Readlink(filepath.Join(w.dir, "www/uploads"))
	require.NoError(t, err)
	require.Equal(t, "/srv/uploads", link)
}

// TestWhatIsMissingIsStillToldAfterAChangeByHand has a person put one file beside a site from which somebody removed others.
func TestWhatIsMissingIsStillToldAfterAChangeByHand(t *testing.T) {
	w := newSwitched(t)
	w.mustDeploy(first)
	for _, name := range []string{"css/a.css", "empty"} {
		require.NoError(t, os.Remove(filepath.Join(w.dir, "www", name)))
	}
	s, plan, err := w.plan(t.Context(), tree{"note.txt": "by hand"}, func(q *site.Wanted) { q.Kept = []string{"."} })
	require.NoError(t, err)
	plan.Hand = true
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Empty(t, out.Failed)
	require.NoDirExists(t, filepath.Join(w.dir, "www/empty"))
	report, err := s.Verify(t.Context(), nil, true, nil)
	require.NoError(t, err)
	require.Equal(t, []string{"css/a.css", "empty"}, paths(report.Missing))
	require.FileExists(t, filepath.Join(w.dir, "www/note.txt"))
}

// TestATreeIsFilledFromNowhereElse has whoever can write in the record say where what stays is.
func TestATreeIsFilledFromNowhereElse(t *testing.T) {
	for name, text := range map[string]string{
		"a neighbour":       `{"do":"fill","in":".","steps":[{"name":".","from":"other"}]}`,
		"the tree itself":   `{"do":"fill","in":".","steps":[{"name":".","from":".www.trees/2"}]}`,
		"above the trees":   `{"do":"fill","in":".","steps":[{"name":".","from":".www.trees/../other"}]}`,
		"a folder of a one": `{"do":"fill","in":".","steps":[{"name":".","from":".www.trees/1/css"}]}`,
		"a part of it":      `{"do":"fill","in":".","steps":[{"name":"css","from":".www.trees/1"}]}`,
	} {
		t.Run(name, func(t *testing.T) {
			w := newSwitched(t)
			w.mustDeploy(first)
			w.refusesJournal(`{"version":3,"number":2,"tree":".www.trees/2","runs":[[` + text + `]]}`)
		})
	}
	t.Run("no tree", func(t *testing.T) {
		w := newWorld(t)
		w.mustDeploy(first)
		w.refusesJournal(`{"version":2,"number":2,"runs":[[{"do":"fill","in":".","steps":[{"name":"."}]}]]}`)
	})
}

// TestATreeWithoutARecordIsNotFilled has the record of a deployment be removed while it is published.
func TestATreeWithoutARecordIsNotFilled(t *testing.T) {
	w := newSwitched(t)
	w.mustDeploy(first)
	w.cutWhen(second, renamedTo(".www.trees/2/css/c.css"))
	require.NoError(t, os.Remove(w.inRecord("deployments/2.json")))
	s, err := w.open(t.Context())
	require.NoError(t, err)
	_, err = s.Recover(t.Context(), "warden")
	var record *site.RecordError
	require.ErrorAs(t, err, &record)
	require.ErrorContains(t, err, "deployments/2.json")
	require.Equal(t, first, w.stands())
}

// TestATreeThatAnOlderProgramBeganIsFinished has a journal of version 2, which has a step for each path.
func TestATreeThatAnOlderProgramBeganIsFinished(t *testing.T) {
	w := newSwitched(t)
	w.mustDeploy(first)
	w.cutWhen(second, renamedTo(".www.trees/2/css/c.css"))
	j := w.journal()
	var phases []any
	for _, phase := range j["runs"].([]any) {
		if run := phase.([]any)[0].(map[string]any); run["do"] != "fill" {
			phases = append(phases, phase)
			continue
		}
		for _, text := range []string{
			`[{"do":"folder","in":".","steps":[{"name":"css","mode":493},{"name":"cgi","mode":493},{"name":"empty","mode":493}]}]`,
			`[{"do":"carry","in":"css","steps":[{"name":"a.css","from":".www.trees/1/css/a.css","mode":420,"size":1}]}]`,
		} {
			var old any
			require.NoError(t, json.Unmarshal([]byte(text), &old))
			phases = append(phases, old)
		}
	}
	j["runs"], j["version"] = phases, 2
	text, err := json.Marshal(j)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.inRecord("publish.json"), text, 0o600))
	s, err := w.open(t.Context())
	require.NoError(t, err)
	number, err := s.Recover(t.Context(), "warden")
	require.NoError(t, err)
	require.Equal(t, 2, number)
	require.Equal(t, second, w.stands())
	w.verify(second)
}

// TestWhatStaysThoughItWasAlteredIsCarriedAsItIs has somebody put other things in the place of files that are kept.
func TestWhatStaysThoughItWasAlteredIsCarriedAsItIs(t *testing.T) {
	w := newSwitched(t)
	w.mustDeploy(tree{"index.html": "1", "log/may.html": "may", "log/june.html": "june", "log/old/": "0700"})
	at := filepath.Join(w.dir, "www/log")
	require.NoError(t, os.Remove(filepath.Join(at, "may.html")))
	require.NoError(t, os.Symlink("june.html", filepath.Join(at, "may.html")))
	require.NoError(t, os.Chmod(filepath.Join(at, "old"), 0o750))
	s, plan, err := w.plan(t.Context(), tree{"index.html": "2"}, func(q *site.Wanted) { q.Kept = []string{"log"} })
	require.NoError(t, err)
	var steps []string
	w.onceAt(renamedTo(".www.tartine/current"), func() { steps = w.journal().steps() })
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	require.Empty(t, out.Failed)
	require.Equal(t, tree{"index.html": "2", "log/may.html": "->june.html", "log/june.html": "june", "log/old/": ""}, w.stands())
	info, err := os.Stat(filepath.Join(at, "old"))
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o750), info.Mode().Perm())
	require.Contains(t, steps, "carry log/may.html")
	require.NotContains(t, steps, "carry log/june.html", "it stays as it is recorded")
}

// TestAFolderByHandGivesWay has a file be wanted above a folder that a person made.
func TestAFolderByHandGivesWay(t *testing.T) {
	w := newSwitched(t)
	w.mustDeploy(first)
	s, plan, err := w.plan(t.Context(), tree{"log/notes/": ""}, func(q *site.Wanted) { q.Kept = []string{"."} })
	require.NoError(t, err)
	plan.Hand = true
	_, err = s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	w.mustDeploy(tree{"log": "a file now"}, func(p *site.Plan) { p.RemoveStrays = true })
	require.Equal(t, tree{"log": "a file now"}, w.stands())
}

// TestATreeWithoutWhatStaysIsNotSeen has the new tree take no file, as where a place is full, and a part be wanted all the same.
func TestATreeWithoutWhatStaysIsNotSeen(t *testing.T) {
	w, c := newSwitched(t), many(20, 30)
	w.mustDeploy(c)
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "www/stray.html"), []byte("stray"), 0o644))
	c["index.html"] = "new"
	for name, full := range map[string]func(path string) bool{
		"all of it":       func(path string) bool { return path != "index.html" },
		"a file":          func(path string) bool { return path == "species/s003/plate-07.svg" },
		"what is a stray": func(path string) bool { return path == "stray.html" },
	} {
		t.Run(name, func(t *testing.T) {
			w.between.Before = func(op string, names ...string) error {
				for _, name := range names {
					if path, in := strings.CutPrefix(name, ".www.trees/2/"); in && (op == "link" || op == "put") && full(path) {
						return syscall.ENOSPC
					}
				}
				return nil
			}
			out, err := w.deploy(c, func(p *site.Plan) { p.Partial = true })
			require.NoError(t, err)
			require.Zero(t, out.Number)
			require.NotEmpty(t, out.Failed)
			require.Less(t, len(out.Failed), 120, "they are not all named")
			leads, err := os.Readlink(filepath.Join(w.dir, "www"))
			require.NoError(t, err)
			require.Equal(t, ".www.trees/1", leads)
		})
	}
	w.between.Before = func(string, ...string) error { return nil }
	out := w.mustDeploy(c)
	require.Equal(t, 2, out.Number)
	require.FileExists(t, filepath.Join(w.dir, "www/stray.html"))
}

// TestNothingIsCarriedFromBesideTheSite has whoever can write in the record say that there is no tree before, and that a neighbour's file
// stays.
func TestNothingIsCarriedFromBesideTheSite(t *testing.T) {
	w, c := newSwitched(t), tree{"index.html": "2", "other/secret": "x"}
	w.mustDeploy(first)
	w.cutWhen(c, renamedTo(".www.tartine/publish.json"))
	require.NoError(t, os.Mkdir(filepath.Join(w.dir, "other"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "other/secret"), []byte("neighbour"), 0o644))
	j := w.journal()
	for _, phase := range j["runs"].([]any) {
		for _, each := range phase.([]any) {
			run := each.(map[string]any)
			if run["do"] == "fill" {
				delete(run["steps"].([]any)[0].(map[string]any), "from")
			}
			if run["in"] == "other" {
				run["do"], run["steps"] = "clear", []any{map[string]any{"name": "nothing"}}
			}
		}
	}
	text, err := json.Marshal(j)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.inRecord("publish.json"), text, 0o600))
	var outside atomic.Bool
	w.between.Before = func(_ string, names ...string) error {
		for _, name := range names {
			if strings.HasPrefix(name, "/") || strings.HasPrefix(name, "other") { // which some places take for a name of the system
				outside.Store(true)
			}
		}
		return nil
	}
	s, err := w.open(t.Context())
	require.NoError(t, err)
	_, err = s.Recover(t.Context(), "warden")
	require.False(t, outside.Load())
	var unfinished *site.UnfinishedError
	require.ErrorAs(t, err, &unfinished)
	require.Equal(t, "other/secret", unfinished.Failed[0].Path)
	require.NoFileExists(t, filepath.Join(w.dir, ".www.trees/2/other/secret"))
	require.Equal(t, first, w.stands())
}

// TestAConnectionThatIsLostWhileATreeIsFilledIsToldAsThat has the connection be lost with the first file that is carried.
func TestAConnectionThatIsLostWhileATreeIsFilledIsToldAsThat(t *testing.T) {
	w, c := newSwitched(t), many(300, 3)
	w.mustDeploy(c)
	c["index.html"] = "new"
	w.between.Before = func(op string, names ...string) error {
		if op == "link" && strings.HasPrefix(names[len(names)-1], ".www.trees/2/") {
			return farend.ErrLost
		}
		return nil
	}
	_, err := w.deploy(c)
	require.ErrorIs(t, err, farend.ErrLost)
	w.between.Before = func(string, ...string) error { return nil }
	w.mustDeploy(c)
	w.verify(c)
}

// countFolders counts how often a folder is opened whose name begins so.
func (w *world) countFolders(prefix string) *atomic.Int64 {
	var opened atomic.Int64
	w.between.Before = func(op string, names ...string) error {
		if op == "open folder" && strings.HasPrefix(names[0], prefix) {
			opened.Add(1)
		}
		return nil
	}
	return &opened
}

// TestWhatStaysIsLinkedBetweenOpenFolders counts those that are opened, in the tree before and in the new one.
func TestWhatStaysIsLinkedBetweenOpenFolders(t *testing.T) {
	w, c := newSwitched(t), many(40, 9)
	w.mustDeploy(c)
	c["index.html"] = "new"
	opened := w.countFolders(".www.trees/")
	w.mustDeploy(c)
	folders := map[string]bool{}
	for path := range c {
		dir, _ := fsys.Split(path)
		folders[dir] = true
	}
	require.Positive(t, opened.Load())
	require.LessOrEqual(t, opened.Load(), int64(2*len(folders)), "each once")
	w.verify(c)
}

// TestSmallFilesAreReadThroughOpenFolders counts them likewise.
func TestSmallFilesAreReadThroughOpenFolders(t *testing.T) {
	w, c := newWorld(t), many(4, 80)
	w.mustDeploy(c)
	s, err := w.open(t.Context())
	require.NoError(t, err)
	opened := w.countFolders("www")
	paths := slices.Sorted(maps.Keys(c))
	got := make([]string, len(paths))
	require.NoError(t, s.Gather(t.Context(), paths, func(i int, content []byte, err error) {
		require.NoError(t, err)
		got[i] = string(content)
	}))
	for i, path := range paths {
		require.Equal(t, c[path], got[i])
	}
	require.Positive(t, opened.Load())
	require.LessOrEqual(t, opened.Load(), int64(20), "and not one for each file")
}
