package site_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/farend"
	"tartine/internal/fsys/osfs"
	"tartine/internal/site"
)

func (w *world) inRecord(name string) string { return filepath.Join(w.dir, ".www.tartine", name) }

// cutWhen has the connection be cut once an operation has been done, and removes the lock that is left.
func (w *world) cutWhen(content tree, after func(op string, names []string) bool) {
	w.t.Helper()
	cut, next := false, false
	var mu sync.Mutex
	w.between.Before = func(op string, names ...string) error {
		mu.Lock()
		defer mu.Unlock()
		cut = cut || next
		next = next || after(op, names)
		if cut {
			return farend.ErrLost
		}
		return nil
	}
	w.jobs = 1
	_, err := w.deploy(content)
	require.ErrorIs(w.t, err, farend.ErrLost)
	w.between.Before = func(string, ...string) error { return nil }
	require.NoError(w.t, os.RemoveAll(w.lockFile()))
}

func renamedTo(name string) func(op string, names []string) bool {
	return func(op string, names []string) bool { return op == "rename" && names[1] == name }
}

func TestAFileThatBecomesAFolderIsRecoveredBehindItsFirstFile(t *testing.T) {
	for name, one := range map[string]tree{"a file": {"x": "file", "index.html": "1"}, "a link": {"x": "->index.html", "index.html": "1"}} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(one)
			two := tree{"x/y.css": "new", "x/z.css": "other", "index.html": "2"}
			w.cutWhen(two, renamedTo("www/x/y.css"))
			w.mustDeploy(two)
			require.Equal(t, two, w.stands())
			w.verify(two)
		})
	}
}

func TestAFolderThatBecomesALinkDoesNotTakeWhatTheLinkLeadsTo(t *testing.T) {
	w := newWorld(t)
	one := tree{"latest/index.html": "1", "latest/logo.css": "1", "v2/index.html": "2", "v2/logo.css": "2"}
	two := tree{"latest": "->v2", "v2/index.html": "2", "v2/logo.css": "2", "z.html": "z"}
	w.mustDeploy(one)
	w.cutWhen(two, renamedTo("www/latest"))
	w.mustDeploy(two)
	require.Equal(t, two, w.stands())
	w.verify(two)
}

// TestNothingIsDoneBelowALinkThatTakesTheWay has a folder of the site replaced by a link to a neighbour between survey and publish.
func TestNothingIsDoneBelowALinkThatTakesTheWay(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(tree{"css/a.css": "old", "css/b.css": "goes", "index.html": "1"})
	neighbour := filepath.Join(w.dir, "other")
	require.NoError(t, os.Mkdir(neighbour, 0o755))
	for _, name := range []string{"a.css", "b.css"} {
		require.NoError(t, os.WriteFile(filepath.Join(neighbour, name), []byte("neighbour"), 0o644))
	}
	done := false
	var mu sync.Mutex
	w.between.Before = func(op string, names ...string) error {
		mu.Lock()
		defer mu.Unlock()
		if op == "rename" && strings.HasSuffix(names[1], "/publish.json") && !done {
			done = true
			require.NoError(t, os.Rename(filepath.Join(w.dir, "www/css"), filepath.Join(w.dir, "aside")))
			return os.Symlink("../other", filepath.Join(w.dir, "www/css"))
		}
		return nil
	}
	out, err := w.deploy(tree{"css/a.css": "new", "css/c.css": "new", "index.html": "2"})
	require.NoError(t, err)
	require.Len(t, out.Failed, 2)
	require.ErrorContains(t, out.Failed[0].Err, "it is a link")
	list, err := os.ReadDir(neighbour)
	require.NoError(t, err)
	require.Len(t, list, 2)
	for _, name := range []string{"a.css", "b.css"} {
		text, err := os.ReadFile(filepath.Join(neighbour, name))
		require.NoError(t, err)
		require.Equal(t, "neighbour", string(text))
	}
}

// stuck is a publish that cannot be finished: a step of it fails each time. It gives what was there before and what is wanted.
func (w *world) stuck() (one, two tree) {
	one = tree{"css/a.css": "1", "css/gone.css": "1", "img/p.svg": "1", "index.html": "1"}
	two = tree{"css/a.css": "2", "css/new.css": "2", "img/p.svg": "2", "index.html": "2"}
	w.mustDeploy(one)
	w.cutWhen(two, renamedTo("www/css/a.css"))
	w.between.Before = func(op string, names ...string) error {
		if op == "rename" && names[1] == "www/img/p.svg" {
			return &fs.PathError{Op: "rename", Path: names[1], Err: fs.ErrPermission}
		}
		return nil
	}
	return one, two
}

func TestAPublishThatCannotBeFinishedNamesTheStepAndTheOthersGoOn(t *testing.T) {
	w := newWorld(t)
	one, two := w.stuck()
	_, err := w.deploy(two)
	var unfinished *site.UnfinishedError
	require.ErrorAs(t, err, &unfinished)
	require.Equal(t, 2, unfinished.Number)
	require.Len(t, unfinished.Failed, 1)
	require.Equal(t, "img/p.svg", unfinished.Failed[0].Path)
	require.ErrorIs(t, err.(*site.UnfinishedError).Failed[0].Err, fs.ErrPermission)
	require.Equal(t, "the interrupted publish of deployment 2 cannot be finished: img/p.svg: place: rename www/img/p.svg: permission denied", err.Error())
	require.Equal(t, "2", w.stands()["css/new.css"], "what can be placed is")
	require.Equal(t, "1", w.stands()["index.html"], "pages come after assets")

	// Whoever only reads can.
	s, err := w.open(t.Context())
	require.NoError(t, err)
	past, err := s.History(t.Context())
	require.NoError(t, err)
	require.Len(t, past, 1)
	report, err := s.Verify(t.Context(), nil, true, nil)
	require.NoError(t, err)
	require.False(t, report.Matches())

	// And once what is wrong is put right, it is finished.
	w.between.Before = func(string, ...string) error { return nil }
	w.mustDeploy(two)
	w.verify(two)
	require.NotEqual(t, one, two)
}

func TestGivingAPublishUpRecordsWhatStands(t *testing.T) {
	w := newWorld(t)
	one, two := w.stuck()
	_, err := w.deploy(two)
	require.Error(t, err)
	s, err := w.open(t.Context())
	require.NoError(t, err)
	given, err := s.GiveUp(t.Context(), "warden")
	require.NoError(t, err)
	require.Equal(t, &site.GivenUp{Number: 2, Stands: 2, Reached: []string{"css/a.css", "css/new.css"}, Before: []string{"css/gone.css", "img/p.svg", "index.html"}}, given)
	stands := w.stands()
	require.Equal(t, tree{"css/a.css": "2", "css/new.css": "2", "css/gone.css": "1", "img/p.svg": "1", "index.html": "1"}, stands)
	w.verify(stands)
	recorded, err := s.Recorded(t.Context())
	require.NoError(t, err)
	require.True(t, recorded.Deployment.Partial)
	_, err = w.rollback(1)
	require.NoError(t, err)
	w.between.Before = func(string, ...string) error { return nil }
	w.verify(one)
	out := w.mustDeploy(two)
	w.verify(two)
	require.Zero(t, out.SentBytes, "what was staged stayed")
	again, err := s.GiveUp(t.Context(), "warden")
	require.NoError(t, err)
	require.Nil(t, again)
}

func TestGivingUpATreeThatWasNotSwitchedToLeavesNothingOfIt(t *testing.T) {
	w := newWorld(t)
	w.switched = true
	w.mustDeploy(first)
	w.cutWhen(second, renamedTo(".www.trees/2/css/c.css"))
	s, err := w.open(t.Context())
	require.NoError(t, err)
	given, err := s.GiveUp(t.Context(), "warden")
	require.NoError(t, err)
	require.Equal(t, &site.GivenUp{Number: 2, Stands: 1, Undone: true}, given)
	require.Equal(t, first, w.stands())
	w.verify(first)
	require.NoDirExists(t, filepath.Join(w.dir, ".www.trees", "2"))
	out := w.mustDeploy(second)
	require.Equal(t, 2, out.Number)
	w.verify(second)
}

func TestGivingUpAFirstDeploymentThatNeverAppeared(t *testing.T) {
	w := newWorld(t)
	w.cutWhen(first, renamedTo(".www.tartine/publish.json"))
	s, err := w.open(t.Context())
	require.NoError(t, err)
	given, err := s.GiveUp(t.Context(), "warden")
	require.NoError(t, err)
	require.Equal(t, &site.GivenUp{Number: 1, Undone: true}, given)
	require.Empty(t, w.stands())
	w.mustDeploy(first)
	w.verify(first)
}

func TestWhatWasStagedAndIsGoneDoesNotHoldARecoveryUp(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	w.cutWhen(second, renamedTo("www/cgi/tide.sh"))
	require.NoError(t, os.RemoveAll(w.inRecord("incoming")))
	s, err := w.open(t.Context())
	require.NoError(t, err)
	number, err := s.Recover(t.Context(), "warden")
	require.NoError(t, err)
	require.Equal(t, 2, number)
	recorded, err := s.Recorded(t.Context())
	require.NoError(t, err)
	require.True(t, recorded.Deployment.Partial)
	for _, e := range recorded.Entries {
		require.NotContains(t, []string{"css/c.css", "index.html"}, e.Path, "it is not recorded as deployed")
	}
	w.mustDeploy(second)
	w.verify(second)
}

const digest = "9597d898814f165b7ed6118722c24271fec8c1254d46e437ad6ab24050763e2d"

// TestAJournalIsInput has whoever can write in the record try to have us move what is not the site's.
func TestAJournalIsInput(t *testing.T) {
	for name, text := range map[string]string{
		"a neighbour's file is placed":        `{"do":"place","path":"secret.html","from":"../other/secret","digest":"sha256:` + digest + `"}`,
		"an absolute name is placed":          `{"do":"place","path":"secret.html","from":"/etc/passwd","digest":"sha256:` + digest + `"}`,
		"another record file is placed":       `{"do":"place","path":"secret.html","from":"deployments/1.json","digest":"sha256:` + digest + `"}`,
		"other content is placed":             `{"do":"place","path":"x","from":"incoming/95/9597d898814f165b7ed6118722c24271fec8c1254d46e437ad6ab24050763e2e","digest":"sha256:` + digest + `"}`,
		"a copy is counted oddly":             `{"do":"place","path":"x","from":"incoming/95/` + digest + `-../../x","digest":"sha256:` + digest + `"}`,
		"no digest is named":                  `{"do":"place","path":"x","from":"incoming/95/` + digest + `"}`,
		"it is kept over a neighbour's page":  `{"do":"remove","path":"index.html","keep":"../other/index.html"}`,
		"it is kept over the record's number": `{"do":"remove","path":"index.html","keep":"current"}`,
		"it is kept on a wrong shelf":         `{"do":"remove","path":"index.html","keep":"kept/96/` + digest + `"}`,
		"a mode has more than rights":         `{"do":"mode","path":"index.html","mode":2541}`,
		"a folder is made elsewhere":          `{"do":"folder","path":"../x","mode":493}`,
		"a folder is made of the root":        `{"do":"folder","path":".","mode":493}`,
		"the root is removed":                 `{"do":"clear","path":"."}`,
		"a path is absolute":                  `{"do":"remove","path":"/etc/passwd"}`,
		"a path is empty":                     `{"do":"remove","path":""}`,
		"a link leads out":                    `{"do":"link","path":"x","from":"incoming/link-2-0","link":"../../etc"}`,
		"a link is absolute":                  `{"do":"link","path":"x","from":"incoming/link-2-0","link":"/etc/passwd"}`,
		"a link leads out through another":    `{"do":"link","path":"a/b/t","from":"incoming/link-2-0","link":"../../c"},{"do":"link","path":"a/b/x","from":"incoming/link-2-1","link":"t/../.."}`,
		"a link is staged elsewhere":          `{"do":"link","path":"x","from":"lock","link":"y"}`,
		"a link of another deployment":        `{"do":"link","path":"x","from":"incoming/link-3-0","link":"y"}`,
		"a neighbour is carried over":         `{"do":"carry","path":"secret","from":"other/secret"}`,
		"the record appears":                  `{"do":"appear","path":".","from":"kept"}`,
		"a switch without a tree":             `{"do":"switch","path":"."}`,
		"a step has what it does not need":    `{"do":"clear","path":"old","from":"incoming/95/` + digest + `"}`,
		"there is no such step":               `{"do":"run","path":"x"}`,
		"a size is negative":                  `{"do":"mode","path":"index.html","mode":420,"size":-1}`,
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(first)
			other := filepath.Join(w.dir, "other")
			require.NoError(t, os.Mkdir(other, 0o755))
			for _, file := range []string{"secret", "index.html"} {
				require.NoError(t, os.WriteFile(filepath.Join(other, file), []byte("neighbour"), 0o644))
			}
			w.refusesJournal(`{"number":2,"phases":[[` + text + `]]}`)
			w.refusesJournalOver(second, first, asRuns(text))
			for _, file := range []string{"secret", "index.html"} {
				text, err := os.ReadFile(filepath.Join(other, file))
				require.NoError(t, err)
				require.Equal(t, "neighbour", string(text))
			}
		})
	}
	for name, text := range map[string]string{
		"no steps":           `{"number":2,"phases":[]}`,
		"no number":          `{"phases":[[{"do":"clear","path":"old"}]]}`,
		"a number too large": `{"number":9999999999999,"phases":[[{"do":"clear","path":"old"}]]}`,
		"somebody's tree":    `{"number":2,"tree":"other","phases":[[{"do":"clear","path":"old"}]]}`,
		"a negative history": `{"number":2,"history":-5,"phases":[[{"do":"clear","path":"old"}]]}`,
		"no runs":            `{"version":2,"number":2,"runs":[]}`,
		"no runs but phases": `{"version":2,"number":2,"phases":[[{"do":"clear","path":"old"}]]}`,
		"a run of nowhere":   `{"version":2,"number":2,"runs":[[{"do":"clear","in":"","steps":[{"name":"old"}]}]]}`,
		"a run of elsewhere": `{"version":2,"number":2,"runs":[[{"do":"clear","in":"..","steps":[{"name":"old"}]}]]}`,
		"a run of nothing":   `{"version":2,"number":2,"runs":[[{"steps":[{"name":"old"}]}]]}`,
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(first)
			w.refusesJournal(text)
		})
	}
}

func (w *world) refusesJournal(text string) { w.refusesJournalOver(first, second, text) }

// refusesJournalOver has one tree there and another one deployed behind the journal.
func (w *world) refusesJournalOver(first, second tree, text string) {
	w.t.Helper()
	require.True(w.t, json.Valid([]byte(text)), text)
	require.NoError(w.t, os.WriteFile(w.inRecord("publish.json"), []byte(text), 0o600))
	_, err := w.deploy(second)
	var untrusted *site.UntrustedError
	require.ErrorAs(w.t, err, &untrusted)
	require.ErrorContains(w.t, err, ".www.tartine/publish.json")
	require.NotContains(w.t, err.Error(), "%!")
	require.Equal(w.t, first, w.stands())
	require.NoError(w.t, os.Remove(w.inRecord("publish.json")))
	w.mustDeploy(second)
}

// sparse makes a file that is large and takes no room.
func sparse(t *testing.T, name string, size int64) {
	file, err := os.Create(name)
	require.NoError(t, err)
	require.NoError(t, file.Truncate(size))
	require.NoError(t, file.Close())
}

func TestSizesOfTheRecordsFilesAreBoundedBeforeTheyAreRead(t *testing.T) {
	for _, name := range []string{"current", "publish.json", "lock", "deployments/1.json", "deployments/2.kept"} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(first)
			w.mustDeploy(second)
			if name == "deployments/1.json" {
				require.NoError(t, os.WriteFile(w.inRecord("current"), []byte("1\n"), 0o600))
			}
			sparse(t, w.inRecord(name), 3<<30)
			w.between.Before = func(op string, names ...string) error { return nil }
			_, err := w.deploy(first, func(p *site.Plan) { p.History = 1 })
			if name == "deployments/2.kept" {
				require.NoError(t, err, "it is only looked at to clear up")
				return
			}
			var untrusted *site.UntrustedError
			require.ErrorAs(t, err, &untrusted)
			require.ErrorContains(t, err, name)
		})
	}
}

func TestTheDepthOfFoldersIsBounded(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	root, err := os.OpenRoot(filepath.Join(w.dir, "www"))
	require.NoError(t, err)
	defer root.Close()
	at := root
	for range 1100 {
		require.NoError(t, at.Mkdir("d", 0o755))
		below, err := at.OpenRoot("d")
		require.NoError(t, err)
		if at != root {
			at.Close()
		}
		at = below
	}
	at.Close()
	_, err = w.deploy(second)
	require.ErrorContains(t, err, "deeper than")
}

func TestARecordThatSomebodyElseMadeIsRefused(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can give files away")
	}
	for name, make := range map[string]func(w *world, record string) error{
		"of another user": func(w *world, record string) error {
			return errors.Join(os.Mkdir(record, 0o700), os.Chown(record, 4711, 4711))
		},
		"open to all": func(w *world, record string) error {
			return errors.Join(os.Mkdir(record, 0o700), os.Chmod(record, 0o777))
		},
		"open to a group": func(w *world, record string) error {
			return errors.Join(os.Mkdir(record, 0o700), os.Chmod(record, 0o770))
		},
		"a link":            func(w *world, record string) error { return os.Symlink("other", record) },
		"a link to nowhere": func(w *world, record string) error { return os.Symlink("nowhere", record) },
		"a file":            func(w *world, record string) error { return os.WriteFile(record, nil, 0o600) },
		"its incoming a link": func(w *world, record string) error {
			return errors.Join(os.Mkdir(record, 0o700), os.Symlink("../other", filepath.Join(record, "incoming")))
		},
		"its kept a link": func(w *world, record string) error {
			return errors.Join(os.Mkdir(record, 0o700), os.Symlink("../other", filepath.Join(record, "kept")))
		},
		"its current a link": func(w *world, record string) error {
			return errors.Join(os.Mkdir(record, 0o700), os.Symlink("../other/secret", filepath.Join(record, "current")))
		},
		"its deployments a file": func(w *world, record string) error {
			return errors.Join(os.Mkdir(record, 0o700), os.WriteFile(filepath.Join(record, "deployments"), nil, 0o600))
		},
		"a shelf of incoming a link": func(w *world, record string) error {
			for _, dir := range []string{"", "incoming"} {
				if err := os.Mkdir(filepath.Join(record, dir), 0o700); err != nil {
					return err
				}
			}
			var failed error
			for i := range 256 {
				failed = errors.Join(failed, os.Symlink("../../other", filepath.Join(record, "incoming", fmt.Sprintf("%02x", i))))
			}
			return failed
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			require.NoError(t, os.Mkdir(filepath.Join(w.dir, "www"), 0o755))
			require.NoError(t, os.Mkdir(filepath.Join(w.dir, "other"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(w.dir, "other/secret"), []byte("neighbour"), 0o600))
			require.NoError(t, make(w, filepath.Join(w.dir, ".www.tartine")))
			_, err := w.deploy(first)
			var untrusted *site.UntrustedError
			require.ErrorAs(t, err, &untrusted)
			require.Empty(t, w.stands())
			list, err := os.ReadDir(filepath.Join(w.dir, "other"))
			require.NoError(t, err)
			require.Len(t, list, 1)
			_, err = os.Stat(filepath.Join(w.dir, "www/.tartine"))
			require.ErrorIs(t, err, fs.ErrNotExist, "the other place for a record is not a way around it")
		})
	}
}

func TestARecordOfTheRootsOwnerIsUsed(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can give files away")
	}
	w := newWorld(t)
	w.mustDeploy(first)
	for _, name := range []string{"www", ".www.tartine"} {
		require.NoError(t, os.Chown(filepath.Join(w.dir, name), 4711, 4711))
	}
	w.mustDeploy(second)
	w.verify(second)
}

// endless is a place where a file of the record has no end, and does not tell its size.
type endless struct {
	*osfs.FS
	name string
}

func (e endless) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	if name == e.name {
		return io.NopCloser(ones{}), nil
	}
	return e.FS.Open(ctx, name)
}

type ones struct{}

func (ones) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = '1'
	}
	return len(p), nil
}

func TestFilesOfTheRecordThatNeverEndAreRefused(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	w.between.FS = endless{w.between.FS.(*osfs.FS), ".www.tartine/current"}
	_, err := w.deploy(second)
	var untrusted *site.UntrustedError
	require.ErrorAs(t, err, &untrusted)
	require.Equal(t, first, w.stands())
}
