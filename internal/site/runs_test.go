package site_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/site"
)

// journalText is publish.json, in either version.
type journalText map[string]any

func (w *world) journal() (j journalText) {
	w.t.Helper()
	text, err := os.ReadFile(w.inRecord("publish.json"))
	require.NoError(w.t, err)
	require.NoError(w.t, json.Unmarshal(text, &j))
	return j
}

// asFirst gives a journal of version 2 as version 1 had it.
func (j journalText) asFirst() string {
	var phases [][]map[string]any
	for _, phase := range j["runs"].([]any) {
		var steps []map[string]any
		for _, each := range phase.([]any) {
			run := each.(map[string]any)
			for _, each := range run["steps"].([]any) {
				step := each.(map[string]any)
				step["do"], step["path"] = run["do"], path.Join(run["in"].(string), step["name"].(string))
				delete(step, "name")
				if digest, named := step["digest"].(string); named && step["from"] == nil {
					hex := strings.TrimPrefix(digest, "sha256:")
					step["from"] = "incoming/" + hex[:2] + "/" + hex
				}
				steps = append(steps, step)
			}
		}
		phases = append(phases, steps)
	}
	delete(j, "version")
	delete(j, "runs")
	j["phases"] = phases
	text, _ := json.Marshal(j)
	return string(text)
}

// asRuns gives steps of version 1 as a journal of version 2.
func asRuns(steps string) string {
	var all []map[string]any
	if err := json.Unmarshal([]byte("["+steps+"]"), &all); err != nil {
		panic(err)
	}
	var runs []string
	for _, step := range all {
		do, at := step["do"], step["path"].(string)
		in, name := "", at
		if slash := strings.LastIndexByte(at, '/'); slash >= 0 {
			in, name = at[:slash], at[slash+1:]
		} else if at != "" {
			in = "."
		}
		delete(step, "do")
		delete(step, "path")
		step["name"] = name
		text, _ := json.Marshal(step)
		runs = append(runs, fmt.Sprintf(`{"do":%q,"in":%q,"steps":[%s]}`, do, in, text))
	}
	return `{"version":2,"number":2,"runs":[[` + strings.Join(runs, ",") + `]]}`
}

func TestAJournalIsRunsOfStepsInOneFolder(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(tree{"index.html": "1", "old/x": "x"})
	many := tree{"index.html": "two pages"}
	for i := range 50 {
		many[fmt.Sprintf("img/plates/%02d.webp", i)] = fmt.Sprint(i)
		many[fmt.Sprintf("img/%02d.svg", i)] = fmt.Sprint("svg ", i)
	}
	w.cutWhen(many, renamedTo(".www.tartine/publish.json"))
	j := w.journal()
	require.EqualValues(t, 2, j["version"])
	runs := 0
	for _, phase := range j["runs"].([]any) {
		runs += len(phase.([]any))
	}
	require.Less(t, runs, 9, "100 files in two folders")
	text, err := os.ReadFile(w.inRecord("publish.json"))
	require.NoError(t, err)
	require.NotContains(t, string(text), "incoming/", "where a file is staged follows from its digest")
	w.mustDeploy(many)
	w.verify(many)
}

// TestAnOlderJournalIsFinished has one that an older program wrote, of everything that a publish may do.
func TestAnOlderJournalIsFinished(t *testing.T) {
	one := tree{"index.html": "1", "old/x": "x", "a": "->index.html", "cgi/tide.sh": "!sh", "same": "twice"}
	two := tree{"index.html": "2", "new/y": "y", "b": "->index.html", "cgi/tide.sh": "sh", "copy/same": "twice", "copy/more": "twice"}
	for name, after := range map[string]string{"before its first step": ".www.tartine/publish.json", "between two": "www/b"} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(one)
			w.cutWhen(two, renamedTo(after))
			require.NoError(t, os.WriteFile(w.inRecord("publish.json"), []byte(w.journal().asFirst()), 0o600))
			s, err := w.open(t.Context())
			require.NoError(t, err)
			number, err := s.Recover(t.Context(), "warden")
			require.NoError(t, err)
			require.Equal(t, 2, number)
			w.verify(two)
		})
	}
}

func TestAJournalOfANewerProgramIsNotFinished(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	w.cutWhen(second, renamedTo(".www.tartine/publish.json"))
	before := w.stands()
	text, err := os.ReadFile(w.inRecord("publish.json"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.inRecord("publish.json"), []byte(strings.Replace(string(text), `"version":2`, `"version":4`, 1)), 0o600))
	_, err = w.deploy(second)
	var record *site.RecordError
	require.ErrorAs(t, err, &record)
	require.ErrorIs(t, err, site.ErrNewer)
	require.ErrorContains(t, err, "version 4 is not known: this program reads versions 1 to 3, and a newer one wrote it")
	require.Equal(t, before, w.stands())
}
