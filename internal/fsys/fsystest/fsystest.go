// Package fsystest is the conformance suite of fsys.FS: an implementation is done when it passes.
package fsystest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Run runs the suite. Open gives an FS over an empty folder; it is called once for each test.
func Run(t *testing.T, open func(t *testing.T) fsys.FS) {
	for _, test := range []struct {
		name string
		run  func(t *testing.T, f *tested)
	}{
		{"PutWritesTheWholeFileWithItsModeAndTime", putWhole},
		{"PutReplacesAndPutNewRefuses", putReplaces},
		{"PutHandsOnTheErrorOfItsContent", putError},
		{"RenameReplacesFilesAndLinks", renameReplaces},
		{"RemoveTakesFilesLinksAndEmptyFolders", removes},
		{"ListDescribesWithoutFollowing", lists},
		{"MissingAndExistingNamesAreToldApart", errorsMatch},
		{"AwkwardNamesSurvive", awkwardNames},
		{"LinksAreNotOpened", noEscape},
		{"DigestsAgreeWithTheBytes", digests},
		{"SetAttrChangesModeAndTime", setAttr},
		{"LinkGivesASecondName", links},
		{"CopiesAreWholeAndTheirOwn", copies},
		{"ExtendLeavesWhatIsBefore", extends},
		{"AFolderThatIsKeptOpen", folders},
		{"WhatOnlyAsksIsAnswered", asks},
		{"ChangesShow", tellsChanges},
		{"ManyAtOnce", manyAtOnce},
		{"LargeFile", largeFile},
		{"NamesTooLongFail", tooLong},
		{"CancelledWorkFails", cancelled},
	} {
		t.Run(test.name, func(t *testing.T) {
			f := open(t)
			t.Cleanup(func() { f.Close() })
			test.run(t, &tested{FS: f, ctx: t.Context()})
		})
	}
}

type tested struct {
	fsys.FS
	ctx context.Context
}

var anHour = time.Date(2026, 5, 1, 6, 30, 15, 0, time.UTC)

func (f *tested) put(t *testing.T, name, content string) {
	t.Helper()
	size, err := f.Put(f.ctx, name, strings.NewReader(content), fsys.Attributes{Mode: 0o644, ModTime: anHour})
	require.NoError(t, err)
	require.Equal(t, int64(len(content)), size)
}

// dated checks the time of a file that was put.
func (f *tested) dated(t *testing.T, info fsys.Info) {
	t.Helper()
	if !f.Abilities().NoTimes {
		require.True(t, info.ModTime.Equal(anHour), info.ModTime)
	}
}

// awkward gives the awkward names that the place can hold.
func (f *tested) awkward(t *testing.T) (names []string) {
	t.Helper()
	spelling := &fsys.Spelling{}
	if f.Abilities().OddNames {
		require.NoError(t, f.Mkdir(f.ctx, "spelling", 0o755))
		var err error
		spelling, err = fsys.TrySpelling(f.ctx, f, "spelling", Awkward)
		require.NoError(t, err)
		require.NoError(t, f.Remove(f.ctx, "spelling"), "nothing is left in it")
	}
	for _, name := range Awkward {
		if f.Abilities().OneLine && strings.ContainsAny(name, "\r\n") {
			require.True(t, !f.Abilities().OddNames || spelling.Refuses(name) != "", name)
			continue
		}
		if spelling.Refuses(name) == "" {
			names = append(names, name)
		}
	}
	require.Greater(t, len(names), len(Awkward)/2)
	return names
}

func (f *tested) read(t *testing.T, name string) string {
	t.Helper()
	file, err := f.Open(f.ctx, name)
	require.NoError(t, err)
	defer file.Close()
	content, err := io.ReadAll(file)
	require.NoError(t, err)
	return string(content)
}

func putWhole(t *testing.T, f *tested) {
	for i, mode := range []fs.FileMode{0o644, 0o755, 0o600, 0o444} {
		name := fmt.Sprintf("f%d", i)
		_, err := f.Put(f.ctx, name, strings.NewReader("gannet"), fsys.Attributes{Mode: mode, ModTime: anHour})
		require.NoError(t, err)
		info, err := f.Lstat(f.ctx, name)
		require.NoError(t, err)
		require.Equal(t, int64(6), info.Size)
		require.True(t, info.Mode.IsRegular())
		f.dated(t, info)
		if f.Abilities().Modes {
			require.Equal(t, mode, info.Mode.Perm())
		}
	}
	f.put(t, "none", "")
	require.Empty(t, f.read(t, "none"))
}

func putReplaces(t *testing.T, f *tested) {
	f.put(t, "a", "long and old")
	f.put(t, "a", "new")
	require.Equal(t, "new", f.read(t, "a"))
	_, err := f.Create(f.ctx, "a", strings.NewReader("x"), fsys.Attributes{Mode: 0o644})
	require.ErrorIs(t, err, fs.ErrExist)
	require.Equal(t, "new", f.read(t, "a"))
	_, err = f.Create(f.ctx, "b", strings.NewReader("x"), fsys.Attributes{Mode: 0o644})
	require.NoError(t, err)
	_, err = f.Put(f.ctx, "nowhere/b", strings.NewReader("x"), fsys.Attributes{Mode: 0o644})
	require.ErrorIs(t, err, fs.ErrNotExist)
}

func putError(t *testing.T, f *tested) {
	broken := io.MultiReader(strings.NewReader("half"), errorReader{})
	_, err := f.Put(f.ctx, "a", broken, fsys.Attributes{Mode: 0o644})
	require.ErrorIs(t, err, errBroken)
}

var errBroken = fmt.Errorf("the source broke")

type errorReader struct{}

func (errorReader) Read([]byte) (int, error) { return 0, errBroken }

func renameReplaces(t *testing.T, f *tested) {
	require.NoError(t, f.Mkdir(f.ctx, "d", 0o755))
	f.put(t, "new", "new")
	f.put(t, "d/old", "old")
	require.NoError(t, f.Rename(f.ctx, "new", "d/old"))
	require.Equal(t, "new", f.read(t, "d/old"))
	_, err := f.Lstat(f.ctx, "new")
	require.ErrorIs(t, err, fs.ErrNotExist)

	if f.Abilities().Links {
		require.NoError(t, f.Symlink(f.ctx, "nowhere", "link"))
		f.put(t, "file", "file")
		require.NoError(t, f.Rename(f.ctx, "file", "link"))
		require.Equal(t, "file", f.read(t, "link"))
	}
	require.ErrorIs(t, f.Rename(f.ctx, "missing", "x"), fs.ErrNotExist)
	f.put(t, "file", "file")
	require.Error(t, f.Rename(f.ctx, "file", "d"), "a folder is not replaced")
	require.NoError(t, f.Rename(f.ctx, "d", "e"))
	require.Equal(t, "new", f.read(t, "e/old"))
}

func removes(t *testing.T, f *tested) {
	require.NoError(t, f.Mkdir(f.ctx, "d", 0o755))
	f.put(t, "d/a", "x")
	require.Error(t, f.Remove(f.ctx, "d"), "a folder with content stays")
	require.NoError(t, f.Remove(f.ctx, "d/a"))
	if f.Abilities().Links {
		f.put(t, "d/a", "x")
		require.NoError(t, f.Symlink(f.ctx, "d", "link"))
		require.NoError(t, f.Remove(f.ctx, "link"))
		require.Equal(t, "x", f.read(t, "d/a"))
		require.NoError(t, f.Remove(f.ctx, "d/a"))
	}
	require.NoError(t, f.Remove(f.ctx, "d"))
	require.ErrorIs(t, f.Remove(f.ctx, "d"), fs.ErrNotExist)
}

func lists(t *testing.T, f *tested) {
	require.NoError(t, f.Mkdir(f.ctx, "d", 0o750))
	require.NoError(t, f.Mkdir(f.ctx, "d/sub", 0o700))
	f.put(t, "d/a", "12345")
	if f.Abilities().Links {
		require.NoError(t, f.Symlink(f.ctx, "../d/a", "d/link"))
		require.NoError(t, f.Symlink(f.ctx, "no where", "d/broken"))
	}
	found, err := f.List(f.ctx, "d")
	require.NoError(t, err)
	byName := map[string]fsys.Info{}
	for _, info := range found {
		byName[info.Name] = info
	}
	require.Equal(t, int64(5), byName["a"].Size)
	f.dated(t, byName["a"])
	require.True(t, byName["sub"].Mode.IsDir())
	if f.Abilities().Modes {
		require.Equal(t, fs.FileMode(0o700), byName["sub"].Mode.Perm())
	}
	if f.Abilities().Links {
		require.Len(t, byName, 4)
		require.Equal(t, "../d/a", byName["link"].Link)
		require.Equal(t, "no where", byName["broken"].Link)
		require.Equal(t, fs.ModeSymlink, byName["link"].Mode.Type())
	}
	all, err := f.List(f.ctx, ".")
	require.NoError(t, err)
	require.Len(t, all, 1)
}

func errorsMatch(t *testing.T, f *tested) {
	_, err := f.Lstat(f.ctx, "missing")
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.Open(f.ctx, "missing")
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = f.List(f.ctx, "missing")
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, f.Mkdir(f.ctx, "d", 0o755))
	require.ErrorIs(t, f.Mkdir(f.ctx, "d", 0o755), fs.ErrExist)
	require.ErrorIs(t, f.Mkdir(f.ctx, "no/d", 0o755), fs.ErrNotExist)
	_, err = f.Open(f.ctx, "d")
	require.Error(t, err)
	if f.Abilities().Links {
		require.ErrorIs(t, f.Symlink(f.ctx, "x", "d"), fs.ErrExist)
	}
}

// Awkward holds names that a file system of this kind must carry.
var Awkward = []string{"a b", "-rf", "it's \"q\"", "back\\slash", "new\nline", "épée", "砂", "*?[x]", "$HOME;`x`", "#x",
	" x ", "tab\t", "cr\r"}

func awkwardNames(t *testing.T, f *tested) {
	names := f.awkward(t)
	for _, name := range names {
		f.put(t, name, name)
		require.Equal(t, name, f.read(t, name))
	}
	found, err := f.List(f.ctx, ".")
	require.NoError(t, err)
	require.Len(t, found, len(names))
	_, err = fsys.Digests(f.ctx, f.FS, names, 4, func(i int, d manifest.Digest, err error) {
		require.NoError(t, err)
		require.Equal(t, manifest.Digest(sha256.Sum256([]byte(names[i]))), d, names[i])
	})
	require.NoError(t, err)
	if f.Abilities().OneLine {
		_, err = f.Put(f.ctx, "new\nline", strings.NewReader("x"), fsys.Attributes{Mode: 0o644})
		require.Error(t, err)
	}
}

func noEscape(t *testing.T, f *tested) {
	if !f.Abilities().Links {
		t.Skip("no links here")
	}
	require.NoError(t, f.Symlink(f.ctx, "/etc/hostname", "out"))
	_, err := f.Open(f.ctx, "out")
	require.Error(t, err)
	f.put(t, "inside", "x")
	require.NoError(t, f.Symlink(f.ctx, "inside", "in"))
	_, err = f.Open(f.ctx, "in")
	require.Error(t, err, "not even one that leads to a file")
}

func folders(t *testing.T, f *tested) {
	opener, ok := f.FS.(fsys.FolderOpener)
	if !ok {
		t.Skip("folders are not kept open")
	}
	require.NoError(t, f.Mkdir(f.ctx, "d", 0o755))
	folder, err := opener.OpenFolder(f.ctx, "d")
	if errors.Is(err, farend.ErrUnsupported) {
		t.Skip("it finds out that it keeps no folder open")
	}
	require.NoError(t, err)
	defer folder.Close()
	f.put(t, "d/old", "old")
	linker := f.FS.(fsys.Linker)
	require.NoError(t, linker.Link(f.ctx, "d/old", "second"))
	for name, text := range map[string]string{"a": "", "old": "new"} {
		require.NoError(t, folder.Put(name, []byte(text), fsys.Attributes{Mode: 0o640, ModTime: anHour}))
		require.Equal(t, text, f.read(t, "d/"+name))
		info, err := f.Lstat(f.ctx, "d/"+name)
		require.NoError(t, err)
		require.Equal(t, fs.FileMode(0o640), info.Mode.Perm())
		f.dated(t, info)
	}
	require.Equal(t, "old", f.read(t, "second"), "another name of what was replaced")
	require.Error(t, folder.Put("no/where", nil, fsys.Attributes{Mode: 0o644}))
	require.Error(t, folder.Put("", nil, fsys.Attributes{Mode: 0o644}))
	_, err = opener.OpenFolder(f.ctx, "missing")
	require.ErrorIs(t, err, fs.ErrNotExist)

	for most, text := range map[int64]string{3: "new", 4: "new", 1 << 20: "new"} {
		got, err := folder.Read("old", most, []byte("before "))
		require.NoError(t, err)
		require.Equal(t, "before "+text, string(got))
	}
	got, err := folder.Read("a", 0, nil)
	require.NoError(t, err)
	require.Empty(t, got)
	got, err = folder.Read("old", 2, []byte("before"))
	require.ErrorIs(t, err, fsys.ErrTooLong)
	require.Equal(t, "before", string(got))
	_, err = folder.Read("none", 9, nil)
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, f.Mkdir(f.ctx, "d/in", 0o755))
	require.NoError(t, f.Symlink(f.ctx, "old", "d/l"))
	for _, name := range []string{"in", "l", "../second", "", "."} {
		_, err = folder.Read(name, 9, nil)
		require.Error(t, err, name)
	}

	inner, err := opener.OpenFolder(f.ctx, "d/in")
	require.NoError(t, err)
	defer inner.Close()
	require.NoError(t, inner.Link(folder, "old", "third"))
	require.Equal(t, "new", f.read(t, "d/in/third"))
	require.NoError(t, folder.Put("old", []byte("newer"), fsys.Attributes{Mode: 0o640}))
	require.Equal(t, "new", f.read(t, "d/in/third"), "another name of what was replaced")
	require.ErrorIs(t, inner.Link(folder, "old", "third"), fs.ErrExist)
	require.ErrorIs(t, inner.Link(folder, "none", "fourth"), fs.ErrNotExist)
	require.Error(t, inner.Link(folder, "../second", "fourth"))
	require.Error(t, inner.Link(folder, "old", "../fourth"))
}

// asks tries what only asks: room, rights, who one is, and what it takes to make all durable.
func asks(t *testing.T, f *tested) {
	require.NoError(t, f.Mkdir(f.ctx, "d", 0o755))
	f.put(t, "d/a", "x")
	if syncer, ok := f.FS.(fsys.Syncer); ok {
		require.NoError(t, syncer.Sync(f.ctx))
	}
	if prober, ok := f.FS.(fsys.Prober); ok {
		require.NoError(t, prober.Writable(f.ctx, "d"))
	}
	if spacer, ok := f.FS.(fsys.Spacer); ok {
		if room, err := spacer.FreeSpace(f.ctx); !errors.Is(err, farend.ErrUnsupported) {
			require.NoError(t, err)
			require.Positive(t, room.Bytes)
		}
	}
	if selfer, ok := f.FS.(fsys.Selfer); ok {
		if self, known := selfer.Self(f.ctx); known {
			info, err := f.Lstat(f.ctx, "d/a")
			require.NoError(t, err)
			require.Equal(t, fsys.User{ID: self, Known: true}, info.User)
		}
	}
}

// tellsChanges holds where the place tells when anything about a file changed, which no setting of its time hides.
func tellsChanges(t *testing.T, f *tested) {
	f.put(t, "a", "one")
	before, err := f.Lstat(f.ctx, "a")
	require.NoError(t, err)
	if before.Changed.IsZero() {
		t.Skip("the place does not tell")
	}
	// Its clock goes in steps.
	require.Eventually(t, func() bool {
		f.put(t, "a", "two")
		after, err := f.Lstat(f.ctx, "a")
		require.NoError(t, err)
		require.True(t, after.ModTime.Equal(before.ModTime))
		return after.Changed.After(before.Changed)
	}, time.Minute, time.Millisecond)
	list, err := f.List(f.ctx, ".")
	require.NoError(t, err)
	now, err := f.Lstat(f.ctx, "a")
	require.NoError(t, err)
	require.True(t, list[0].Changed.Equal(now.Changed), "a listing tells the same")
	require.Equal(t, now.User, list[0].User)
}

func digests(t *testing.T, f *tested) {
	var names []string
	for i := range 50 {
		names = append(names, fmt.Sprintf("f%d", i))
		f.put(t, names[i], strings.Repeat("x", i*100))
	}
	names = append(names, "missing")
	var mu sync.Mutex
	seen := map[int]bool{}
	_, err := fsys.Digests(f.ctx, f.FS, names, 4, func(i int, d manifest.Digest, err error) {
		mu.Lock()
		defer mu.Unlock()
		require.False(t, seen[i])
		seen[i] = true
		if names[i] == "missing" {
			require.ErrorIs(t, err, fs.ErrNotExist)
			return
		}
		require.NoError(t, err)
		require.Equal(t, manifest.Digest(sha256.Sum256(bytes.Repeat([]byte("x"), i*100))), d)
	})
	require.NoError(t, err)
	require.Len(t, seen, len(names))
}

func setAttr(t *testing.T, f *tested) {
	f.put(t, "a", "x")
	later := anHour.Add(time.Hour)
	require.NoError(t, f.SetAttr(f.ctx, "a", fsys.Attributes{Mode: 0o755}))
	info, err := f.Lstat(f.ctx, "a")
	require.NoError(t, err)
	f.dated(t, info)
	if f.Abilities().Modes {
		require.Equal(t, fs.FileMode(0o755), info.Mode.Perm())
	}
	require.NoError(t, f.SetAttr(f.ctx, "a", fsys.Attributes{Mode: 0o644, ModTime: later}))
	info, err = f.Lstat(f.ctx, "a")
	require.NoError(t, err)
	if !f.Abilities().NoTimes {
		require.True(t, info.ModTime.Equal(later))
	}
}

func links(t *testing.T, f *tested) {
	linker, ok := f.FS.(fsys.Linker)
	if !ok {
		t.Skip("cannot link")
	}
	f.put(t, "a", "old")
	err := linker.Link(f.ctx, "a", "kept")
	if errors.Is(err, farend.ErrUnsupported) {
		t.Skip("it finds out that it cannot link")
	}
	require.NoError(t, err)
	require.ErrorIs(t, linker.Link(f.ctx, "a", "kept"), fs.ErrExist)
	require.ErrorIs(t, linker.Link(f.ctx, "missing", "b"), fs.ErrNotExist)
	f.put(t, "new", "new")
	require.NoError(t, f.Rename(f.ctx, "new", "a"))
	require.Equal(t, "old", f.read(t, "kept"))
	require.Equal(t, "new", f.read(t, "a"))
}

func copies(t *testing.T, f *tested) {
	copier, ok := f.FS.(fsys.Copier)
	if !ok {
		t.Skip("cannot copy")
	}
	require.NoError(t, f.Mkdir(f.ctx, "to", 0o755))
	var pairs []fsys.Pair
	for i, name := range Awkward {
		f.put(t, name, name)
		pairs = append(pairs, fsys.Pair{From: name, To: fmt.Sprintf("to/%d", i)})
	}
	pairs = append(pairs, fsys.Pair{From: "missing", To: "to/missing"})
	count := 0
	require.NoError(t, copier.Copies(f.ctx, pairs, func(i int) {
		count++
		require.Less(t, i, len(Awkward))
	}))
	if count == 0 {
		return // it may find out that it cannot
	}
	require.Equal(t, len(Awkward), count)
	f.put(t, Awkward[0], "altered since")
	for i, name := range Awkward {
		require.Equal(t, name, f.read(t, fmt.Sprintf("to/%d", i)))
	}
}

func extends(t *testing.T, f *tested) {
	extender, ok := f.FS.(fsys.Extender)
	if !ok {
		t.Skip("cannot extend")
	}
	f.put(t, "a", "Gannet Rack")
	size, err := extender.Extend(f.ctx, "a", 8, strings.NewReader("ock, 2026"),
		fsys.Attributes{Mode: 0o600, ModTime: anHour})
	if errors.Is(err, farend.ErrUnsupported) {
		t.Skip("it finds out that it cannot extend")
	}
	require.NoError(t, err)
	require.Equal(t, int64(9), size)
	require.Equal(t, "Gannet Rock, 2026", f.read(t, "a"))
	info, err := f.Lstat(f.ctx, "a")
	require.NoError(t, err)
	require.True(t, info.ModTime.Equal(anHour))
	_, err = extender.Extend(f.ctx, "missing", 1, strings.NewReader("x"), fsys.Attributes{})
	require.ErrorIs(t, err, fs.ErrNotExist)
}

func manyAtOnce(t *testing.T, f *tested) {
	var done sync.WaitGroup
	errs := make(chan error, 200)
	for i := range 200 {
		done.Go(func() {
			from, to := fmt.Sprintf("t%d", i), fmt.Sprintf("f%d", i)
			_, err := f.Put(f.ctx, from, strings.NewReader(from), fsys.Attributes{Mode: 0o644, ModTime: anHour})
			if err == nil {
				err = f.Rename(f.ctx, from, to)
			}
			errs <- err
		})
	}
	done.Wait()
	for range 200 {
		require.NoError(t, <-errs)
	}
	found, err := f.List(f.ctx, ".")
	require.NoError(t, err)
	require.Len(t, found, 200)
}

func largeFile(t *testing.T, f *tested) {
	content := bytes.Repeat([]byte("Gannet Rock "), 1<<20) // 12 MiB
	size, err := f.Put(f.ctx, "large", bytes.NewReader(content), fsys.Attributes{Mode: 0o644, ModTime: anHour})
	require.NoError(t, err)
	require.Equal(t, int64(len(content)), size)
	digest, size, err := fsys.DigestOf(f.ctx, f.FS, "large")
	require.NoError(t, err)
	require.Equal(t, int64(len(content)), size)
	require.Equal(t, manifest.Digest(sha256.Sum256(content)), digest)
}

func tooLong(t *testing.T, f *tested) {
	_, err := f.Put(f.ctx, strings.Repeat("x", 300), strings.NewReader("x"), fsys.Attributes{Mode: 0o644})
	require.Error(t, err)
}

func cancelled(t *testing.T, f *tested) {
	ctx, cancel := context.WithCancel(f.ctx)
	cancel()
	_, err := f.Put(ctx, "a", strings.NewReader("x"), fsys.Attributes{Mode: 0o644})
	require.ErrorIs(t, err, context.Canceled)
}
