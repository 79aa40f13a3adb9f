package site_test

import (
	"io/fs"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/site"
)

func TestUsageAddsUpWhatFoldersHold(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(tree{"index.html": "12345", "log/may.html": "1", "log/2026/june.html": "12", "plates/gannet.svg": "123456789", "latest": "->log/may.html", "empty/": ""})
	w.mustDeploy(tree{"index.html": "1", "log/may.html": "1", "log/2026/june.html": "12", "plates/gannet.svg": "123456789", "latest": "->log/may.html", "empty/": ""})
	s, err := w.open(t.Context())
	require.NoError(t, err)
	use, err := s.Usage(t.Context(), ".")
	require.NoError(t, err)
	require.Equal(t, []site.Room{{Path: "plates", Files: 1, Bytes: 9}, {Path: "log", Files: 2, Bytes: 3}, {Path: ".", Files: 1, Bytes: 1}}, use.Folders)
	require.Equal(t, site.Room{Path: ".", Files: 4, Bytes: 13}, use.All)
	require.Greater(t, use.Record.Files, 3, "the record, with what is kept")
	require.Greater(t, use.Record.Bytes, int64(100))
	use, err = s.Usage(t.Context(), "log")
	require.NoError(t, err)
	require.Equal(t, []site.Room{{Path: "log/2026", Files: 1, Bytes: 2}, {Path: "log", Files: 1, Bytes: 1}}, use.Folders)
	_, err = s.Usage(t.Context(), "none")
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// TestWhatIsListedStandsToTheRecordFolderByFolder lists folders by themselves, and such that nothing is recorded of.
func TestWhatIsListedStandsToTheRecordFolderByFolder(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(tree{"index.html": "1", "log/2026/may.html": "1", "log/2026/june.html": "2", "empty/": ""})
	w.alter(alteration{"log/2026/may.html", "write"})
	w.alter(alteration{"uploads/new/a.txt", "write"})
	s, err := w.open(t.Context())
	require.NoError(t, err)
	said := func(asked *site.Listing) map[string]string {
		found, err := s.List(t.Context(), asked)
		require.NoError(t, err)
		out := map[string]string{}
		for i := range found {
			out[found[i].Path] = found[i].Word
		}
		require.Len(t, out, len(found))
		return out
	}
	all := map[string]string{"empty": "same", "index.html": "same", "log": "same", "log/2026": "same", "log/2026/june.html": "same", "log/2026/may.html": "drifted",
		"uploads": "stray", "uploads/new": "stray", "uploads/new/a.txt": "stray"}
	require.Equal(t, all, said(&site.Listing{Recursive: true}))
	require.Equal(t, all, said(&site.Listing{Recursive: true, Paths: []string{"log/2026", ".", "log"}}), "each once, whatever was looked into before")
	require.Equal(t, map[string]string{"log/2026/june.html": "same", "log/2026/may.html": "drifted"}, said(&site.Listing{Paths: []string{"log/2026"}}))
	require.Equal(t, map[string]string{"log/2026/may.html": "drifted"}, said(&site.Listing{Paths: []string{"log/2026/may.html"}}))
	require.Equal(t, map[string]string{"uploads/new/a.txt": "stray"}, said(&site.Listing{Paths: []string{"uploads/new"}}))
}
