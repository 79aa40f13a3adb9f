package site_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/diff"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// TestACheckByFoldersIsThatOfLists takes random trees that somebody alters, and compares a check with a comparison of whole lists.
func TestACheckByFoldersIsThatOfLists(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(r *rapid.T) {
		w := newWorld(t)
		w.mustDeploy(anyTree().Draw(r, "tree"))
		for _, a := range alterations().Draw(r, "alterations") {
			w.alter(a)
		}
		if rapid.Bool().Draw(r, "odd") {
			_ = os.MkdirAll(filepath.Join(w.dir, "www", "n\xff"), 0o755)
		}
		s, err := w.open(t.Context())
		require.NoError(t, err)
		recorded, err := s.Recorded(t.Context())
		require.NoError(t, err)
		require.Equal(t, listed(t.Context(), t, s, recorded), checked(t.Context(), t, s, nil))
		other := &manifest.Manifest{Entries: anyTree().Draw(r, "another").entries()}
		require.Equal(t, listed(t.Context(), t, s, other), checked(t.Context(), t, s, other))
	})
}

// checked gives what a check finds, in the order of the paths.
func checked(ctx context.Context, t *testing.T, s *site.Site, m *manifest.Manifest) (out []string) {
	var files, bytes, told int64
	r, err := s.Verify(ctx, m, true, &site.Watch{Phase: func(_ string, n int, size int64) { files, bytes = int64(n), size }, Bytes: func(n int64) { told += n }})
	require.NoError(t, err)
	require.Equal(t, bytes, told, "what is told comes to its end")
	require.LessOrEqual(t, files, int64(r.Checked))
	for _, e := range r.Missing {
		out = append(out, e.Path+" is missing")
	}
	for _, e := range r.Strays {
		out = append(out, e.Path+" is a stray")
	}
	for _, e := range r.Links {
		out = append(out, fmt.Sprintf("%s is a link, %q %q", e.Path, e.Want, e.Found))
	}
	for _, e := range r.Altered {
		out = append(out, e.Path+" is altered")
	}
	for _, e := range r.Modes {
		out = append(out, fmt.Sprint(e.Path, " has another mode ", e.Want, e.Found))
	}
	slices.Sort(out)
	return append(out, r.Tree.Hex(), fmt.Sprint(r.Checked))
}

// listed gives the same as lists of everything tell it.
func listed(ctx context.Context, t *testing.T, s *site.Site, m *manifest.Manifest) (out []string) {
	survey, err := s.Survey(ctx, false)
	require.NoError(t, err)
	result, err := s.Compare(ctx, survey, &site.Wanted{Entries: m.Entries}, nil)
	require.NoError(t, err)
	for i := range result.Changes {
		c := &result.Changes[i]
		switch {
		case c.Status == diff.New:
			out = append(out, c.Path()+" is missing")
		case c.Status != diff.Changed:
			out = append(out, c.Path()+" is a stray")
		case c.Want.Kind == manifest.Link || c.Found.Kind == manifest.Link:
			out = append(out, fmt.Sprintf("%s is a link, %q %q", c.Path(), c.Want.Link, c.Found.Link))
		default:
			if !c.ModeOnly {
				out = append(out, c.Path()+" is altered")
			}
			if c.Want.Kind == c.Found.Kind && c.Want.Mode != c.Found.Mode {
				out = append(out, fmt.Sprint(c.Path(), " has another mode ", c.Want.Mode, c.Found.Mode))
			}
		}
	}
	for _, odd := range survey.Odd {
		out = append(out, odd+" is a stray")
	}
	slices.Sort(out)
	return append(out, m.Tree().Hex(), fmt.Sprint(len(m.Entries)))
}

func TestACheckReadsMoreFilesThanItHoldsAtOnce(t *testing.T) {
	w, c := newWorld(t), tree{}
	for i := range 2*site.AtOnce + 10 {
		c[fmt.Sprintf("species/s%03d/%05d.html", i/300, i)] = fmt.Sprint("species ", i)
	}
	w.mustDeploy(c)
	w.verify(c)
	for _, path := range []string{"species/s000/00002.html", "species/s054/16390.html"} {
		w.alter(alteration{path, "same"})
	}
	w.alter(alteration{"species/s030/09001.html", "remove"})
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "www", "species", "s010")))
	s, err := w.open(t.Context())
	require.NoError(t, err)
	r, err := s.Verify(t.Context(), nil, true, nil)
	require.NoError(t, err)
	require.Equal(t, []site.Alteration{{Path: "species/s000/00002.html", Size: 9, Reason: "other content"}, {Path: "species/s054/16390.html", Size: 13, Reason: "other content"}}, r.Altered)
	require.Len(t, r.Missing, 301)
	require.True(t, slices.IsSortedFunc(r.Missing, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) }))
	require.Empty(t, r.Strays)
}

func TestACheckTellsOfAFolderThatMayNotBeRead(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(tree{"a/1": "1", "b/2": "2", "b/c/3": "3", "d/": "", "index.html": "x"})
	w.between.Before = func(op string, names ...string) error {
		if op == "list" && (names[0] == "www/b" || names[0] == "www/d") {
			return &fs.PathError{Op: op, Path: names[0], Err: fs.ErrPermission}
		}
		return nil
	}
	s, err := w.open(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{"b is a stray", "b/2 is missing", "b/c/3 is missing", "d is a stray", "d is missing"}, checked(t.Context(), t, s, nil)[:5])
	r, err := s.Verify(t.Context(), nil, false, nil)
	require.NoError(t, err)
	require.Empty(t, r.Strays, "they were not asked for")
	require.Len(t, r.Missing, 3)
}

func TestACheckOfADamagedRecordNamesItsFile(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	name := filepath.Join(w.dir, ".www.tartine", "deployments", "1.blocks")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	text[len(text)/2] ^= 1
	require.NoError(t, os.WriteFile(name, text, 0o644))
	s, err := w.open(t.Context())
	require.NoError(t, err)
	_, err = s.Verify(t.Context(), nil, true, nil)
	require.ErrorContains(t, err, "1.blocks")
}
