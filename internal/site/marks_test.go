package site_test

import (
	"encoding/json"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
	"tartine/internal/site"
)

// marksFile is the file of marks as site/marks.go describes it.
type marksFile struct {
	Version int             `json:"version"`
	Tree    manifest.Digest `json:"tree"`
	Marks   json.RawMessage `json:"marks"`
	Sum     uint32          `json:"sum"`
}

func (w *world) marks() (file marksFile, marks []manifest.Mark) {
	w.t.Helper()
	text, err := os.ReadFile(filepath.Join(w.dir, ".www.tartine", "marks"))
	require.NoError(w.t, err)
	require.NoError(w.t, json.Unmarshal(text, &file))
	require.NoError(w.t, json.Unmarshal(file.Marks, &marks))
	require.Equal(w.t, crc32.Checksum(file.Marks, crc32.MakeTable(crc32.Castagnoli)), file.Sum)
	return file, marks
}

func (w *world) setMarks(file marksFile, marks []manifest.Mark, sum bool) {
	w.t.Helper()
	var err error
	file.Marks, err = json.Marshal(marks)
	require.NoError(w.t, err)
	if sum {
		file.Sum = crc32.Checksum(file.Marks, crc32.MakeTable(crc32.Castagnoli))
	}
	text, err := json.Marshal(file)
	require.NoError(w.t, err)
	require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, ".www.tartine", "marks"), text, 0o600))
}

// TestATreeDigestIsGoneOnWithFromMarks changes the last file of a site again and again, with marks that are right, of another tree, damaged,
// or wrong.
func TestATreeDigestIsGoneOnWithFromMarks(t *testing.T) {
	w, c := newWorld(t), tree{}
	for i := range 300 {
		c[fmt.Sprintf("species/%02d/%03d.html", i/10, i)] = fmt.Sprint(i)
	}
	w.mustDeploy(c)
	known := false // what the tree digest must be
	deploy := func(path, text string) {
		t.Helper()
		w.settled()
		c[path] = text
		s, plan, _ := w.planParts(t.Context(), c)
		require.NotNil(t, plan)
		if !known {
			plan.Tree = manifest.Digest{}
		}
		out, err := s.Deploy(t.Context(), plan, &site.Watch{})
		require.NoError(t, err)
		require.True(t, out.Verified)
	}
	recorded := func() manifest.Digest {
		s, err := w.open(t.Context())
		require.NoError(t, err)
		return s.RecordedDigest(t.Context())
	}
	first, before := w.marks()
	require.Equal(t, recorded(), first.Tree)
	require.Greater(t, len(before), 60)
	require.LessOrEqual(t, len(before), 128)
	last, middle := "species/29/299.html", "species/15/150.html"
	deploy(last, "new")
	second, marks := w.marks()
	require.Equal(t, manifest.TreeOf(manifest.Listed(c.entries())), second.Tree)
	require.Equal(t, second.Tree, recorded())
	require.Equal(t, before[:len(before)-1], marks[:len(before)-1], "what is before the change is as it was")
	deploy(middle, "new")
	third, marks := w.marks()
	require.Equal(t, manifest.TreeOf(manifest.Listed(c.entries())), third.Tree)
	for _, mark := range marks[len(marks)/2+2:] {
		require.NotContains(t, before, mark)
	}

	right := func() { t.Helper(); require.Equal(t, manifest.TreeOf(manifest.Listed(c.entries())), recorded()) }
	forge := func(state []byte, version int, sum bool) {
		t.Helper()
		file, marks := w.marks()
		file.Version = version
		for i := range marks {
			marks[i].State = state
		}
		w.setMarks(file, marks, sum)
	}
	w.setMarks(first, before, true) // of another tree
	deploy(last, "of another tree")
	right()
	forge(before[0].State, 1, false)
	deploy(last, "damaged")
	right()
	forge([]byte("none"), 1, true)
	deploy(last, "not a state")
	right()
	forge(before[0].State, 2, true)
	deploy(last, "of another version")
	right()
	forge(before[0].State, 1, true)
	deploy(last, "believed")
	require.NotEqual(t, manifest.TreeOf(manifest.Listed(c.entries())), recorded(), "marks that are right are believed")

	known = true
	forge(before[0].State, 1, true)
	deploy(last, "led to another tree")
	right()
	deploy(last, "anew")
	right()
}
