package calls

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/diff"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

func engine(t *testing.T, files ...string) *Here {
	t.Helper()
	dir := t.TempDir()
	for _, name := range files {
		full := filepath.Join(dir, "www", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(name), 0o644))
	}
	return engineOf(t, dir)
}

// engineOf gives an engine of the site in a folder.
func engineOf(t *testing.T, dir string) *Here {
	t.Helper()
	return engineWith(t, dir, site.Options{Brief: 1})
}

func engineWith(t *testing.T, dir string, opt site.Options) *Here {
	t.Helper()
	place, err := osfs.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { place.Close() })
	s, err := site.Open(t.Context(), place, "www", "www", opt)
	require.NoError(t, err)
	return NewHere(s)
}

// across makes a call as one that crosses a connection is made.
func across[Q, A any](t *testing.T, call *Call[Q, A], at *Here, question Q) (answer A, err error) {
	t.Helper()
	form, err := Encoding.Marshal(question)
	require.NoError(t, err)
	said, err := call.Answer(t.Context(), at, form, &site.Watch{})
	if err != nil {
		return answer, err
	}
	form, err = Encoding.Marshal(said)
	require.NoError(t, err)
	return answer, call.Take(form, &answer)
}

// TestAnOperationIsOneEntry adds one: what it takes is its name, its types, and what the engine does. It runs here and across a connection.
func TestAnOperationIsOneEntry(t *testing.T) {
	type asked struct{ Folder string }
	count := &Call[asked, int]{Name: "count", Run: func(ctx context.Context, h *Here, q asked, _ *site.Watch) (int, error) {
		found, err := h.Site.Stands(ctx, []string{q.Folder}, nil, nil)
		if err != nil {
			return 0, err
		}
		return found.Count, nil
	}}
	at := engine(t, "index.html", "log/may.html", "log/june.html")
	here, err := count.On(t.Context(), at, asked{"log"})
	require.NoError(t, err)
	require.Equal(t, 2, here)
	there, err := across(t, count, at, asked{"log"})
	require.NoError(t, err)
	require.Equal(t, here, there)
	_, err = count.Answer(t.Context(), at, []byte{0xff}, nil)
	require.ErrorIs(t, err, ErrProtocol)
	require.ErrorIs(t, count.Take([]byte{0xff}, &there), ErrProtocol)
}

func TestEveryCallHasANameOfItsOwnAndIsDescribed(t *testing.T) {
	described, err := os.ReadFile("../../docs/agent-protocol.md")
	require.NoError(t, err)
	for _, call := range table {
		require.Same(t, call, Find(call.Title()))
		require.Contains(t, string(described), "`"+call.Title()+"`")
	}
	require.Nil(t, Find("no such"))
}

func TestWhatALaterCallRestsOnIsKnownByItsID(t *testing.T) {
	at := engine(t, "stray.txt")
	entries := []manifest.Entry{{Path: "index.html", Size: 1, Attributes: manifest.Attributes{Mode: 0o644}}}
	compare := func(as, survey ID) error {
		_, err := Compare.On(t.Context(), at, &Comparing{As: as, Survey: survey, Wanted: site.Wanted{Entries: entries}})
		return err
	}
	require.ErrorIs(t, compare(2, 1), ErrForgotten)
	_, err := Survey.On(t.Context(), at, Surveying{As: 1})
	require.NoError(t, err)
	require.ErrorIs(t, compare(2, 7), ErrForgotten, "another survey")
	require.NoError(t, compare(2, 1))
	want, result, err := at.comparison(t.Context(), 2)
	require.NoError(t, err)
	require.Len(t, want, 1)
	require.Len(t, result.Changes, 2)
	_, err = Held.On(t.Context(), at, 3)
	require.ErrorIs(t, err, ErrForgotten, "another comparison")
	_, err = Stage.On(t.Context(), at, &Staging{As: 5, Comparison: 3})
	require.ErrorIs(t, err, ErrForgotten)
	_, err = Survey.On(t.Context(), at, Surveying{As: 4})
	require.NoError(t, err)
	_, err = Held.On(t.Context(), at, 2)
	require.ErrorIs(t, err, ErrForgotten, "it rests on an earlier survey")
}

func TestAnswersCrossAConnectionWhole(t *testing.T) {
	at := engine(t, "index.html", "log/may.html")
	here, err := Stands.On(t.Context(), at, nil)
	require.NoError(t, err)
	there, err := across(t, Stands, at, nil)
	require.NoError(t, err)
	require.Equal(t, []int{2, 2, 2}, []int{here.Count, here.Entries.Len(), there.Count})
	var passed []string
	at.Passed = func(entries []manifest.Entry) error {
		for i := range entries {
			passed = append(passed, entries[i].Path)
		}
		return nil
	}
	there, err = Stands.On(t.Context(), at, nil)
	require.NoError(t, err)
	require.Nil(t, there.Entries, "they were handed on")
	require.Equal(t, []string{"index.html", "log/may.html"}, passed)
	at.Passed = nil

	part, err := across(t, Read, at, Range{"index.html", 6})
	require.NoError(t, err)
	require.Equal(t, Content{[]byte("html"), true}, part)

	long := strings.Repeat("x", 2*MostSaid)
	checks := []site.Check{{Name: "\x1b[2J", Found: long}}
	form, err := Encoding.Marshal(checks)
	require.NoError(t, err)
	require.NoError(t, Examine.Take(form, &checks))
	require.NotContains(t, checks[0].Name, "\x1b")
	require.LessOrEqual(t, len(checks[0].Found), MostSaid+len("…"))

	failed := Wire(&site.UnfinishedError{Number: 7, Failed: []site.Failure{{Path: "a", Err: errors.New("disk full")}}}).Err()
	require.ErrorContains(t, failed, "7")
}

// TestTheSiteIsLockedFromStagingToPublishing has another engine come between, and gives up once.
func TestTheSiteIsLockedFromStagingToPublishing(t *testing.T) {
	dir := t.TempDir()
	stage := func(h *Here) error {
		text := "<h1>"
		_, err := Survey.On(t.Context(), h, Surveying{As: 1})
		require.NoError(t, err)
		_, err = Compare.On(t.Context(), h, &Comparing{As: 2, Survey: 1, Wanted: site.Wanted{Entries: []manifest.Entry{{Path: "index.html", Size: int64(len(text)), Attributes: manifest.Attributes{Mode: 0o644}, Digest: sha256.Sum256([]byte(text))}}}})
		require.NoError(t, err)
		_, err = Stage.On(t.Context(), h, &Staging{As: 3, Comparison: 2, Plan: site.Plan{Open: func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }}})
		return err
	}
	first, second := engineOf(t, dir), engineOf(t, dir)
	require.NoError(t, stage(first))
	require.NoDirExists(t, filepath.Join(dir, "www"), "nothing shows yet")
	var locked *site.LockedError
	require.ErrorAs(t, stage(second), &locked)
	_, err := Abandon.On(t.Context(), first, 7)
	require.ErrorIs(t, err, ErrForgotten)
	_, err = Abandon.On(t.Context(), first, 3)
	require.NoError(t, err)
	_, err = Publish.On(t.Context(), first, 3)
	require.ErrorIs(t, err, ErrForgotten)

	require.NoError(t, stage(second))
	require.NoError(t, second.End(t.Context()), "an engine that ends abandons")
	require.NoError(t, stage(first))
	out, err := Publish.On(t.Context(), first, 3)
	require.NoError(t, err)
	require.Equal(t, 1, out.Number)
	require.FileExists(t, filepath.Join(dir, "www", "index.html"))
	holder, err := Locked.On(t.Context(), first, None{})
	require.NoError(t, err)
	require.Nil(t, holder)
}

// TestASiteThatIsAsItIsRecordedIsToldInBrief compares a content with a site that nobody has touched.
func TestASiteThatIsAsItIsRecordedIsToldInBrief(t *testing.T) {
	dir, text := t.TempDir(), "<h1>"
	entries := []manifest.Entry{{Path: "index.html", Size: int64(len(text)), Digest: sha256.Sum256([]byte(text)),
		Attributes: manifest.Attributes{Mode: 0o644, ModTime: time.Unix(1777617015, 0)}}}
	h := engineOf(t, dir)
	_, err := Survey.On(t.Context(), h, Surveying{As: 1})
	require.NoError(t, err)
	_, err = Compare.On(t.Context(), h, &Comparing{As: 2, Survey: 1, Wanted: site.Wanted{Entries: entries}})
	require.NoError(t, err)
	_, err = Stage.On(t.Context(), h, &Staging{As: 3, Comparison: 2, Plan: site.Plan{Open: func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }}})
	require.NoError(t, err)
	_, err = Publish.On(t.Context(), h, 3)
	require.NoError(t, err)

	tree := (&manifest.Manifest{Entries: entries}).Tree()
	asked := func() *Comparing { return &Comparing{As: 5, Survey: 4, Tree: tree} }
	_, same := h.SameAsRecorded(asked(), 1)
	require.False(t, same, "there is no such survey")
	_, err = Survey.On(t.Context(), h, Surveying{As: 4, Believe: true})
	require.NoError(t, err)
	for name, change := range map[string]func(*Comparing){
		"all of it is to be sent":   func(q *Comparing) { q.Rule.Nothing = true },
		"it is another tree":        func(q *Comparing) { q.Tree[3] ^= 1 },
		"it is of an older survey":  func(q *Comparing) { q.Survey = 1 },
		"its tree was not computed": func(q *Comparing) { q.Tree = manifest.Digest{} },
	} {
		q := asked()
		change(q)
		_, same := h.SameAsRecorded(q, 1)
		require.False(t, same, name)
	}
	_, same = h.SameAsRecorded(asked(), 2)
	require.False(t, same, "it has another path")
	byTime := asked()
	byTime.Rule.Times = true
	_, same = h.SameAsRecorded(byTime, 1)
	require.True(t, same, "what is known needs no time")
	result, same := h.SameAsRecorded(asked(), 1)
	require.True(t, same)
	require.Equal(t, &diff.Result{Same: 1, SameBytes: 4}, result)
	want, whole, err := h.comparison(t.Context(), 5)
	require.NoError(t, err)
	require.Len(t, want, 1, "what is wanted can be told all the same")
	require.Equal(t, result, whole)
	missing, err := Held.On(t.Context(), h, 5)
	require.NoError(t, err)
	require.Empty(t, missing)
}
