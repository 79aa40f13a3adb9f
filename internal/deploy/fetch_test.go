package deploy_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/deploy"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// shelf is a far end that says what it likes: a text that begins with -> is a link, a name that ends in / a folder.
type shelf map[string]string

func (s shelf) Abilities() fsys.Abilities { return fsys.Abilities{} }

func (s shelf) Do(_ context.Context, _ calls.Any, question, answer any, _ *site.Watch) error {
	switch a := answer.(type) {
	case **site.Standing:
		*a = s.standing()
	case *[]calls.Gathered:
		for _, path := range question.([]string) {
			*a = append(*a, calls.Gathered{Content: []byte(s[path])})
		}
	case *calls.Content:
		*a = calls.Content{Content: []byte(s[question.(calls.Range).Path]), End: true}
	}
	return nil
}

func (s shelf) standing() *site.Standing {
	var out []manifest.Entry
	for path, text := range s {
		target, isLink := strings.CutPrefix(text, "->")
		name, isDir := strings.CutSuffix(path, "/")
		switch {
		case isLink:
			out = append(out, manifest.Entry{Path: path, Kind: manifest.Link, Link: target})
		case isDir:
			out = append(out, manifest.Entry{Path: name, Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: manifest.DirMode}})
		default:
			out = append(out, manifest.Entry{Path: path, Attributes: manifest.Attributes{Mode: 0o644}, Size: int64(len(text)), Digest: sha256.Sum256([]byte(text))})
		}
	}
	slices.SortFunc(out, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return &site.Standing{Entries: manifest.Fold(out)}
}

// fetch brings everything into the folder "into" of a place.
func (p *place) fetch(s shelf) *deploy.Fetched {
	p.t.Helper()
	f, err := deploy.NewFetch(p.t.Context(), s, deploy.Fetch{Into: filepath.Join(p.dir, "into"), Jobs: 4}, nil)
	require.NoError(p.t, err)
	defer f.Close()
	out, err := f.Run(p.t.Context(), s, &site.Watch{})
	require.NoError(p.t, err)
	return out
}

func TestNothingIsFetchedOrLinkedOutOfTheFolder(t *testing.T) {
	for name, c := range map[string]struct {
		here   map[string]string // links that are in the folder already
		there  shelf
		failed []string
	}{
		"a link up":                       {nil, shelf{"x": "->../../.."}, []string{"x"}},
		"an absolute one":                 {nil, shelf{"x": "->/etc/passwd"}, []string{"x"}},
		"a file below one that leads out": {nil, shelf{"x": "->../../..", "y": "->x/../victim"}, []string{"x", "y"}},
		"one that leads out through another, which does not": {nil, shelf{"a/b/t": "->../../c", "a/b/x": "->t/../..", "c/": ""}, []string{"a/b/x"}},
		"one that leads out through what is here":            {map[string]string{"t": "."}, shelf{"a/x": "->../t/.."}, []string{"a/x"}},
		"one that stays in":                                  {nil, shelf{"a/b/t": "->../../c", "a/b/x": "->t/../a", "c/": ""}, nil},
		"a circle":                                           {nil, shelf{"x": "->y", "y": "->x"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t, "victim")
			require.NoError(t, os.Mkdir(filepath.Join(p.dir, "into"), 0o755))
			for link, target := range c.here {
				require.NoError(t, os.Symlink(target, filepath.Join(p.dir, "into", link)))
			}
			out := p.fetch(c.there)
			var failed []string
			for _, f := range out.Failed {
				failed = append(failed, f.Path)
			}
			require.Equal(t, c.failed, failed)
		})
	}
}

// TestALinkThatIsReplacedLeadsNothingAstray fetches a file in the place of a link, and a link that leads past it.
func TestALinkThatIsReplacedLeadsNothingAstray(t *testing.T) {
	p := newPlace(t)
	require.NoError(t, os.Mkdir(filepath.Join(p.dir, "into"), 0o755))
	require.NoError(t, os.Symlink(".", filepath.Join(p.dir, "into", "t")))
	require.Empty(t, p.fetch(shelf{"a/x": "->../t/..", "t": strings.Repeat("a large file now", site.MostGathered/16+1)}).Failed)
}

// unordered says what is on a shelf, the last one first.
type unordered struct{ shelf }

func (u unordered) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	stands := u.standing()
	all := stands.Entries.Entries()
	slices.Reverse(all)
	stands.Entries = manifest.Fold(all)
	*answer.(**site.Standing) = stands
	return nil
}

func TestASiteThatNamesThingsInNoOrderIsNotFetched(t *testing.T) {
	p := newPlace(t)
	_, err := deploy.NewFetch(t.Context(), unordered{shelf{"a": "1", "b": "2"}}, deploy.Fetch{Into: filepath.Join(p.dir, "into")}, nil)
	require.ErrorContains(t, err, "not in order")
}

func TestAFileIsNotFetchedThroughALinkThatLeadsOut(t *testing.T) {
	p := newPlace(t, "outside/victim")
	require.NoError(t, os.Mkdir(filepath.Join(p.dir, "into"), 0o755))
	require.NoError(t, os.Symlink("../outside", filepath.Join(p.dir, "into", "a")))
	out := p.fetch(shelf{"a/victim": "overwritten"})
	require.Len(t, out.Failed, 1)
	text, err := os.ReadFile(filepath.Join(p.dir, "outside/victim"))
	require.NoError(t, err)
	require.Equal(t, "outside/victim", string(text))
}

func TestFetchWritesBesideItsPlaceAndLeavesNothingElse(t *testing.T) {
	p := newPlace(t)
	there := shelf{"index.html": "1", "img/a.svg": "2", "empty/": "", "home": "->index.html"}
	require.Equal(t, 3, p.fetch(there).Files-1, "files, the link and the folder")
	var stands []string
	require.NoError(t, filepath.WalkDir(p.dir, func(name string, _ os.DirEntry, err error) error {
		path, _ := filepath.Rel(p.dir, name)
		stands = append(stands, path)
		return err
	}))
	require.Equal(t, []string{".", "into", "into/empty", "into/home", "into/img", "into/img/a.svg", "into/index.html"}, stands)
	require.Equal(t, 4, p.fetch(there).Same)
}

// TestFetchBringsWhatIsHereWithOtherBytes has files be here that have the size that is wanted.
func TestFetchBringsWhatIsHereWithOtherBytes(t *testing.T) {
	p, there := newPlace(t), shelf{"index.html": "one", "old.html": "old", "img/a.svg": "two"}
	p.fetch(there)
	there["index.html"], there["img/a.svg"] = "ONE", "twelve"
	f, err := deploy.NewFetch(t.Context(), there, deploy.Fetch{Into: filepath.Join(p.dir, "into"), Jobs: 4}, nil)
	require.NoError(t, err)
	defer f.Close()
	var replaced []string
	for _, i := range f.Replaced {
		path, err := filepath.Rel(filepath.Join(p.dir, "into"), f.Path(i))
		require.NoError(t, err)
		replaced = append(replaced, filepath.ToSlash(path))
	}
	require.Equal(t, []string{"img/a.svg", "index.html"}, replaced)
	require.Empty(t, f.Missing)
	out := p.fetch(there)
	require.Equal(t, []int{2, 1}, []int{out.Files, out.Same})
	text, err := os.ReadFile(filepath.Join(p.dir, "into/index.html"))
	require.NoError(t, err)
	require.Equal(t, "ONE", string(text))
}

// TestAFileThatComesHalfIsNotTaken has the far end give other bytes than it said.
func TestAFileThatComesHalfIsNotTaken(t *testing.T) {
	p := newPlace(t)
	there := shelf{"index.html": "whole", "img/plate.tif": strings.Repeat("gannet", 100_000)}
	f, err := deploy.NewFetch(t.Context(), there, deploy.Fetch{Into: filepath.Join(p.dir, "into"), Jobs: 1}, nil)
	require.NoError(t, err)
	defer f.Close()
	there["index.html"], there["img/plate.tif"] = "who", "gannet"
	out, err := f.Run(t.Context(), there, &site.Watch{})
	require.NoError(t, err)
	require.Len(t, out.Failed, 2)
	require.NoError(t, filepath.WalkDir(filepath.Join(p.dir, "into"), func(name string, entry os.DirEntry, err error) error {
		require.True(t, entry.IsDir(), name)
		return err
	}))
}

// TestFilesAndFoldersInEachOthersPlace are told of before anything is done, and go then.
func TestFilesAndFoldersInEachOthersPlace(t *testing.T) {
	p := newPlace(t, "into/css", "into/plate/notes.txt", "into/link", "into/other.txt")
	s := shelf{"css/rock.css": "h1 {}", "plate": "a file", "link/": "", "index.html": "<h1>"}
	f, err := deploy.NewFetch(t.Context(), s, deploy.Fetch{Into: filepath.Join(p.dir, "into"), Jobs: 4}, nil)
	require.NoError(t, err)
	defer f.Close()
	in := func(name string) string { return filepath.Join(p.dir, "into", name) }
	require.Equal(t, []string{in("css"), in("link"), in("plate")}, f.InTheWay())
	require.Empty(t, f.Replaced)
	require.FileExists(t, in("css"))
	out, err := f.Run(t.Context(), s, &site.Watch{})
	require.NoError(t, err)
	require.Empty(t, out.Failed)
	require.FileExists(t, in("css/rock.css"))
	require.FileExists(t, in("plate"))
	require.DirExists(t, in("link"))
	require.FileExists(t, in("other.txt"), "what is in nobody's way stays")
}

// TestAFetchSweepsWhatOthersLeft removes the temporary files of processes that live no more, and no others.
func TestAFetchSweepsWhatOthersLeft(t *testing.T) {
	dead := exec.Command("true")
	require.NoError(t, dead.Run())
	left := fmt.Sprintf("into/css/.tartine-%d-3", dead.Process.Pid)
	lives := fmt.Sprintf("into/.tartine-%d-3", os.Getppid())
	p := newPlace(t, left, lives, "into/.tartine-notes")
	p.fetch(shelf{"css/rock.css": "h1 {}", "index.html": "<h1>"})
	require.NoFileExists(t, filepath.Join(p.dir, left))
	require.FileExists(t, filepath.Join(p.dir, lives))
	require.FileExists(t, filepath.Join(p.dir, "into/.tartine-notes"))
}
