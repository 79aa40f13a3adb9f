package content

import (
	"context"
	"crypto/sha256"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/filter"
	"tartine/internal/manifest"
)

// entriesOf gives a source whose paths are the keys of texts: a text that begins with -> is a link, a path that ends in / a folder.
func entriesOf(texts map[string]string) (*Entries, []manifest.Entry) {
	var all []manifest.Entry
	for _, path := range slices.Sorted(maps.Keys(texts)) {
		e := manifest.Entry{Path: strings.TrimSuffix(path, "/"), Attributes: manifest.Attributes{Mode: 0o640, ModTime: time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)}, Size: int64(len(texts[path])),
			Digest: sha256.Sum256([]byte(texts[path]))}
		switch to, isLink := strings.CutPrefix(texts[path], "->"); {
		case isLink:
			e = manifest.Entry{Path: path, Kind: manifest.Link, Link: to}
		case strings.HasSuffix(path, "/"):
			e = manifest.Entry{Path: e.Path, Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: 0o750}}
		}
		all = append(all, e)
	}
	slices.SortFunc(all, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return &Entries{
		List: func(context.Context) (*manifest.Folded, error) { return manifest.Fold(all), nil },
		Open: func(path string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(texts[path])), nil },
		Want: func([]manifest.Entry) {},
	}, all
}

// TestEntriesAreASourceAsAListOfFilesIs takes random trees, from entries and from a list.
func TestEntriesAreASourceAsAListOfFilesIs(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(r *rapid.T) {
		texts, kinds := map[string]string{}, map[string]bool{} // whether a path is a folder
		name := rapid.SampledFrom([]string{"a", "a-b", "a.b", "a0", "b", "é"})
		for range rapid.IntRange(0, 25).Draw(r, "paths") {
			path := strings.Join(rapid.SliceOfN(name, 1, 4).Draw(r, "path"), "/")
			isFolder := rapid.IntRange(0, 5).Draw(r, "is folder") == 0
			clashes := kinds[path] && !isFolder
			for end, c := range path {
				is, known := kinds[path[:end]]
				clashes = clashes || c == '/' && known && !is
			}
			if is, known := kinds[path]; clashes || known && is != isFolder {
				continue
			}
			for end, c := range path {
				if c == '/' {
					kinds[path[:end]] = true
				}
			}
			if kinds[path] = isFolder; isFolder {
				texts[path+"/"] = ""
			} else {
				texts[path] = rapid.SampledFrom([]string{"", "gannet", "->a", "->b/a", "->../../../../out"}).Draw(r, "text")
			}
		}
		source, all := entriesOf(texts)
		var files []leaf
		for _, e := range all {
			data := []byte(texts[e.Path])
			mode := e.Mode
			switch e.Kind {
			case manifest.Link:
				data, mode = []byte(e.Link), fs.ModeSymlink
			case manifest.Dir:
				mode |= fs.ModeDir
			}
			files = append(files, leaf{e.Path, &fstest.MapFile{Data: data, Mode: mode, ModTime: e.ModTime}})
		}
		opt := Options{Links: rapid.SampledFrom([]Links{KeepLinks, FollowLinks, SkipLinks}).Draw(r, "links"), KeepModes: rapid.Bool().Draw(r, "modes")}
		rules := &filter.Set{}
		if rapid.Bool().Draw(r, "exclude") {
			rule, err := filter.NewRule("a-b", "")
			require.NoError(r, err)
			rules.Excludes = append(rules.Excludes, rule)
		}
		list, err := Scan(t.Context(), []Source{{Path: "there", Dest: "www", Rules: rules, Files: leaves(files...)}}, opt)
		require.NoError(r, err)
		opt.Fold = 1
		got, err := Scan(t.Context(), []Source{{Path: "there", Dest: "www", Rules: rules, Entries: source}}, opt)
		require.NoError(r, err)
		require.Equal(r, len(list.entries)+len(list.Refused) > 0, got.isFolded())
		for what, of := range map[string]func(t *Tree) any{
			"left out":   func(t *Tree) any { return t.LeftOut },
			"refused":    func(t *Tree) any { return t.Refused },
			"objections": func(t *Tree) any { return t.Content().Objections },
			"files":      func(t *Tree) any { return []any{t.Landings[0].Files, t.Landings[0].Bytes} },
		} {
			require.Equal(r, of(list), of(got), what)
		}
		require.Len(r, got.Failed, len(list.Failed))
		require.Equal(r, list.Entries(), got.Entries())
		for _, e := range got.Entries() {
			if e.Kind == manifest.File {
				in, err := got.Content().Open(e.Path)
				require.NoError(r, err)
				text, err := io.ReadAll(in)
				require.NoError(r, err)
				require.Equal(r, e.Digest, manifest.Digest(sha256.Sum256(text)))
			}
		}
	})
}

func TestEntriesThatAreNoTreeAreRefused(t *testing.T) {
	file := func(path string) manifest.Entry { return manifest.Entry{Path: path} }
	for why, all := range map[string][]manifest.Entry{
		"in it twice":                   {file("a"), file("a")},
		"or not in order":               {file("b"), file("a")},
		"a is a file and a folder":      {file("a"), file("a-b"), file("a/b")},
		`has the element ".."`:          {file("../a")},
		"is absolute":                   {file("/a")},
		"a/b is a file and a folder":    {file("a/b"), file("a/b/c/d")},
		"the connection was lost there": nil,
	} {
		source := &Entries{List: func(context.Context) (*manifest.Folded, error) {
			if all == nil {
				return nil, io.ErrUnexpectedEOF
			}
			return manifest.Fold(all), nil
		}}
		_, err := Scan(t.Context(), []Source{{Path: "there", Dest: ".", Rules: &filter.Set{}, Entries: source}}, Options{})
		var wrong *SourceError
		require.ErrorAs(t, err, &wrong, why)
		require.Equal(t, "there", wrong.Source)
		if all != nil {
			require.ErrorContains(t, err, why)
		}
	}
}

// TestWhatEntriesKnowIsNotRead has a source open nothing of what it knows the digest of, and tells it what will be opened.
func TestWhatEntriesKnowIsNotRead(t *testing.T) {
	source, all := entriesOf(map[string]string{"a.html": "<a>", "log/may.html": "may", "log/june.html": "june", "latest": "->log/may.html"})
	opened := 0
	var wanted []string
	open := source.Open
	source.Open = func(path string) (io.ReadCloser, error) {
		opened++
		return open(path)
	}
	source.Want = func(files []manifest.Entry) {
		for i := range files {
			wanted = append(wanted, files[i].Path)
		}
	}
	tree, err := Scan(t.Context(), []Source{{Path: "there", Dest: "www", Rules: &filter.Set{}, Entries: source}}, Options{Links: KeepLinks, KeepModes: true, Fold: 1})
	require.NoError(t, err)
	c := tree.Content()
	require.Zero(t, opened)
	require.True(t, c.Folded())
	c.Want([]string{"www/a.html", "www/log/june.html", "www/none"})
	require.True(t, c.Folded())
	require.Equal(t, []string{"a.html", "log/june.html"}, wanted)
	require.Equal(t, all[0].Digest, c.Entries()[0].Digest)
	require.Equal(t, all[0].Attributes, c.Entries()[0].Attributes)
	require.Equal(t, "there: log/may.html", tree.Local(3))
	_, err = c.Open("www/log")
	require.Error(t, err)
}
