package site_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/farend"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

func treeOf(c tree) manifest.Digest { return (&manifest.Manifest{Entries: c.entries()}).Tree() }

// blockFiles gives the files of blocks that exist, and those that any N.json names.
func (w *world) blockFiles() (there, named []string) {
	names, err := filepath.Glob(w.inRecord("deployments/*"))
	require.NoError(w.t, err)
	for _, name := range names {
		switch filepath.Ext(name) {
		case ".blocks":
			there = append(there, filepath.Base(name))
		case ".json":
			text, err := os.ReadFile(name)
			require.NoError(w.t, err)
			var head struct {
				Version int
				Blocks  []struct{ Of int }
			}
			require.NoError(w.t, json.Unmarshal(text, &head))
			require.Equal(w.t, 2, head.Version)
			for _, f := range head.Blocks {
				if file := fmt.Sprintf("%d.blocks", f.Of); !slices.Contains(named, file) {
					named = append(named, file)
				}
			}
		}
	}
	slices.Sort(named)
	slices.Sort(there)
	return there, named
}

// TestTheRecordKeepsEachDeploymentOfAnyHistory compares the record with a list of all trees that were deployed.
func TestTheRecordKeepsEachDeploymentOfAnyHistory(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(r *rapid.T) {
		w := newWorld(t)
		last := tree{}
		deployed := map[int]manifest.Digest{}
		for range rapid.IntRange(1, 8).Draw(r, "deployments") {
			next := tree{}
			if rapid.Bool().Draw(r, "another tree") {
				next = anyTree().Draw(r, "tree")
			} else { // a file more in one of many folders
				for path, text := range last {
					next[path] = text
				}
				next[fmt.Sprintf("tides/%d/table.txt", rapid.IntRange(0, 9).Draw(r, "folder"))] = fmt.Sprint(len(deployed))
			}
			out := w.mustDeploy(next, func(p *site.Plan) { p.History = 3 })
			if last = next; out.Number > 0 {
				deployed[out.Number] = treeOf(next)
			}
			s, err := w.open(t.Context())
			require.NoError(t, err)
			past, err := s.History(t.Context())
			require.NoError(t, err)
			require.LessOrEqual(t, len(past), 3)
			for _, p := range past {
				require.Equal(t, deployed[p.Number], p.Tree)
				m, err := s.Deployment(t.Context(), p.Number)
				require.NoError(t, err)
				require.Equal(t, deployed[p.Number], m.Tree(), "deployment %d", p.Number)
			}
			there, named := w.blockFiles()
			require.Equal(t, named, there, "files of blocks that no deployment names are gone")
			require.LessOrEqual(t, len(there), 11)
		}
	})
}

// many is a tree of many files in many folders.
func many(folders, files int) tree {
	out := tree{}
	for d := range folders {
		for i := range files {
			out[fmt.Sprintf("species/s%03d/plate-%02d.svg", d, i)] = fmt.Sprint(d, i)
		}
	}
	return out
}

func TestTheRecordGrowsByWhatChanged(t *testing.T) {
	w := newWorld(t)
	content := many(60, 20)
	w.mustDeploy(content)
	first, err := os.Stat(w.inRecord("deployments/1.blocks"))
	require.NoError(t, err)
	for n := range 6 {
		content["species/s007/plate-03.svg"] = fmt.Sprint("changed ", n)
		content[fmt.Sprintf("species/s%03d/plate-04.svg", 10+n)] = "changed"
		out := w.mustDeploy(content)
		info, err := os.Stat(w.inRecord(fmt.Sprintf("deployments/%d.blocks", out.Number)))
		require.NoError(t, err)
		require.Less(t, info.Size(), first.Size()/4)
		w.verify(content)
	}
	there, _ := w.blockFiles()
	require.Contains(t, there, "1.blocks", "most of it is in use still")
	require.LessOrEqual(t, len(there), 6, "one, and those of the deployments that are kept at most")
}

// TestARecordIsWholeWhereItIsWrittenASecondTime cuts the connection between the blocks and the rest of a deployment that is
// recorded anew, because steps of it failed.
func TestARecordIsWholeWhereItIsWrittenASecondTime(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(many(4, 4))
	content := many(4, 5)
	content["species/s002/plate-04.svg"] = "fails"
	var (
		mu      sync.Mutex
		written int
		lost    bool
	)
	w.jobs = 1
	w.between.Before = func(op string, names ...string) error {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case lost:
			return farend.ErrLost
		case op == "rename" && names[1] == "www/species/s002/plate-04.svg":
			return os.ErrPermission
		case op == "rename" && names[1] == ".www.tartine/deployments/2.json":
			if written++; written == 2 {
				lost = true
				return farend.ErrLost
			}
		}
		return nil
	}
	_, err := w.deploy(content, func(p *site.Plan) { p.Partial = true })
	require.ErrorIs(t, err, farend.ErrLost)
	require.Equal(t, 2, written)
	w.between.Before = func(string, ...string) error { return nil }
	require.NoError(t, os.RemoveAll(w.lockFile()))
	s, err := w.open(t.Context())
	require.NoError(t, err)
	number, err := s.Recover(t.Context(), "warden")
	require.NoError(t, err)
	require.Equal(t, 2, number)
	m, err := s.Recorded(t.Context())
	require.NoError(t, err)
	require.Equal(t, treeOf(content), m.Tree())
	w.verify(content)
}

func TestARecordOfVersion1IsReadAndTurnedOver(t *testing.T) {
	w := newWorld(t)
	one := many(3, 3)
	w.mustDeploy(one)
	s, err := w.open(t.Context())
	require.NoError(t, err)
	m, err := s.Recorded(t.Context())
	require.NoError(t, err)
	var text bytes.Buffer
	require.NoError(t, m.WriteJSON(&text))
	require.NoError(t, os.WriteFile(w.inRecord("deployments/1.json"), text.Bytes(), 0o600))
	require.NoError(t, os.WriteFile(w.inRecord("deployments/1.index"), []byte("of version 1"), 0o600))
	require.NoError(t, os.Remove(w.inRecord("deployments/1.blocks")))

	w.verify(one)
	past, err := s.History(t.Context())
	require.NoError(t, err)
	require.Equal(t, treeOf(one), past[0].Tree)
	two := many(3, 4)
	w.mustDeploy(two)
	w.verify(two)
	there, named := w.blockFilesBeside("1.json")
	require.Equal(t, []string{"2.blocks"}, there)
	require.Equal(t, there, named)
	first, err := s.Deployment(t.Context(), 1)
	require.NoError(t, err)
	require.Equal(t, treeOf(one), first.Tree())
	w.mustDeploy(one, func(p *site.Plan) { p.History = 1 })
	require.NoFileExists(t, w.inRecord("deployments/1.json"))
	require.NoFileExists(t, w.inRecord("deployments/1.index"))
}

// TestARecordThatIsAnotherTreeThanItSaysIsNotVerified has a deployment say of itself that it is the one before.
func TestARecordThatIsAnotherTreeThanItSaysIsNotVerified(t *testing.T) {
	w, c := newWorld(t), many(3, 4)
	w.mustDeploy(c)
	s, err := w.open(t.Context())
	require.NoError(t, err)
	before := s.RecordedDigest(t.Context())
	c = many(3, 5)
	w.mustDeploy(c)
	s, err = w.open(t.Context())
	require.NoError(t, err)
	head := w.inRecord("deployments/2.json")
	text, err := os.ReadFile(head)
	require.NoError(t, err)
	spoilt := strings.Replace(string(text), s.RecordedDigest(t.Context()).String(), before.String(), 1)
	require.NotEqual(t, string(text), spoilt)
	require.NoError(t, os.WriteFile(head, []byte(spoilt), 0o600))
	verify := func(m *manifest.Manifest) error {
		s, err := w.open(t.Context())
		require.NoError(t, err)
		_, err = s.Verify(t.Context(), m, true, nil)
		return err
	}
	var record *site.RecordError
	require.ErrorAs(t, verify(nil), &record)
	require.ErrorIs(t, record, site.ErrOtherTree)
	require.Equal(t, ".www.tartine/deployments/2.json", record.File)
	require.NoError(t, verify(&manifest.Manifest{Entries: c.entries()}))
	require.NoError(t, os.WriteFile(head, text, 0o600))
	require.NoError(t, verify(nil))
}

// blockFilesBeside is blockFiles without an N.json that is not looked into.
func (w *world) blockFilesBeside(name string) (there, named []string) {
	aside := filepath.Join(w.t.TempDir(), "aside")
	require.NoError(w.t, os.Rename(w.inRecord("deployments/"+name), aside))
	there, named = w.blockFiles()
	require.NoError(w.t, os.Rename(aside, w.inRecord("deployments/"+name)))
	return there, named
}

func TestARecordThatCannotBeUsedIsNamed(t *testing.T) {
	for what, damage := range map[string]struct {
		file  string
		spoil func(text string) string
		says  string
	}{
		"of a newer version": {"deployments/1.json", func(text string) string { return strings.Replace(text, `"version":2`, `"version":3`, 1) },
			"version 3 is not known: this program reads versions 1 to 2, and a newer one wrote it"},
		"in a file of a later deployment": {"deployments/1.json", func(text string) string { return strings.Replace(text, `"of":1`, `"of":7`, 1) },
			"its entries are in a file of deployment 7"},
		"in one file twice": {"deployments/1.json", func(text string) string { return strings.Replace(text, `{"of":1`, `{"of":1,"bytes":1},{"of":1`, 1) },
			"its entries are in a file of deployment 1"},
		"with too many entries": {"deployments/1.json", func(text string) string { return strings.Replace(text, `"count":12`, `"count":4000000000`, 1) },
			"it has 4000000000 entries"},
		"with fewer entries": {"deployments/1.json", func(text string) string { return strings.Replace(text, `"count":12`, `"count":11`, 1) }, "block"},
		"cut short":          {"deployments/1.blocks", func(text string) string { return text[:len(text)-3] }, "it is damaged"},
		"with another byte":  {"deployments/1.blocks", func(text string) string { return text[:40] + "?" + text[41:] }, "it is damaged"},
		"of something else":  {"deployments/1.blocks", func(string) string { return "tartine blocks 2\n" }, "not a file of blocks of version 1"},
	} {
		t.Run(what, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(many(3, 4))
			text, err := os.ReadFile(w.inRecord(damage.file))
			require.NoError(t, err)
			spoilt := damage.spoil(string(text))
			require.NotEqual(t, string(text), spoilt)
			require.NoError(t, os.WriteFile(w.inRecord(damage.file), []byte(spoilt), 0o600))
			_, err = w.deploy(many(3, 5))
			var record *site.RecordError
			require.ErrorAs(t, err, &record)
			require.ErrorContains(t, err, damage.says)
			require.ErrorContains(t, err, ".www.tartine/deployments/1.")
		})
	}
}
