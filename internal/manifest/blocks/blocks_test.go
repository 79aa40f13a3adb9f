package blocks_test

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// shelf keeps blocks in memory.
type shelf map[manifest.Digest][]byte

func (s shelf) build(entries []manifest.Entry) (top blocks.Ref, fresh int) {
	top = blocks.Build(manifest.Listed(entries), func(name manifest.Digest, block []byte) {
		if s[name] == nil {
			s[name] = bytes.Clone(block)
			fresh += len(block)
		}
	})
	return top, fresh
}

func (s shelf) find(name manifest.Digest) ([]byte, error) {
	if s[name] == nil {
		return nil, errors.New("it is missing")
	}
	return s[name], nil
}

// trees draws entries that can be a manifest.
func trees(t *rapid.T) []manifest.Entry {
	name := rapid.SampledFrom([]string{"a", "a-b", "a.b", "ab", "b", "é", "plates", "plates0", "\n"})
	depth := rapid.IntRange(1, 4)
	byPath := map[string]manifest.Entry{}
	for range rapid.IntRange(0, 40).Draw(t, "paths") {
		var names []string
		for range depth.Draw(t, "depth") {
			names = append(names, name.Draw(t, "name"))
		}
		e := manifest.Entry{Path: strings.Join(names, "/"), Kind: manifest.Kind(rapid.IntRange(0, 2).Draw(t, "kind"))}
		e.Mode = manifest.FileMode
		switch e.Kind {
		case manifest.Link:
			e.Link, e.Mode = "elsewhere", 0
		case manifest.Dir:
			e.Mode = rapid.SampledFrom([]manifest.Entry{{}, {}}).Draw(t, "-").Mode | 0o750
		default:
			e.Size, e.Digest[3] = int64(rapid.IntRange(0, 1<<40).Draw(t, "size")), rapid.Byte().Draw(t, "digest")
			e.ModTime = time.Unix(0, rapid.Int64Range(1, 1<<60).Draw(t, "time")).UTC()
		}
		byPath[e.Path] = e
	}
	var entries []manifest.Entry
	for _, e := range byPath {
		entries = append(entries, e)
	}
	slices.SortFunc(entries, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	// What lies below a file or link goes.
	return slices.DeleteFunc(entries, func(e manifest.Entry) bool {
		for i, c := range e.Path {
			if above, there := byPath[e.Path[:i]]; c == '/' && there && above.Kind != manifest.Dir {
				return true
			}
		}
		return false
	})
}

func TestATreeComesBackFromItsBlocks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		entries := trees(t)
		require.NoError(t, manifest.Check(entries))
		kept := shelf{}
		top, _ := kept.build(entries)
		require.Equal(t, len(entries), top.Entries)
		read, err := blocks.Read(top, 1<<20, kept.find)
		require.NoError(t, err)
		require.Equal(t, (&manifest.Manifest{Entries: entries}).Tree(), (&manifest.Manifest{Entries: read}).Tree())
		for i := range read {
			require.Equal(t, entries[i], read[i])
		}
		names, err := blocks.Names(top, kept.find)
		require.NoError(t, err)
		require.Len(t, names, len(kept))
	})
}

// folders gives a tree of files in many folders.
func folders(folders, files int) (out []manifest.Entry) {
	for d := range folders {
		for i := range files {
			e := manifest.Entry{Path: fmt.Sprintf("species/s%04d/plate-%05d.svg", d, i), Size: 7}
			e.Mode, e.Digest = manifest.FileMode, manifest.Digest{byte(d), byte(d >> 8), byte(i), byte(i >> 8)}
			out = append(out, e)
		}
	}
	return out
}

func TestAChangedFileMakesAFewBlocksAnew(t *testing.T) {
	for _, tree := range []struct {
		name           string
		folders, files int
		most           int // bytes
	}{{"many folders", 400, 50, 25_000}, {"one folder", 1, 20_000, 120_000}} {
		t.Run(tree.name, func(t *testing.T) {
			kept := shelf{}
			entries := folders(tree.folders, tree.files)
			_, all := kept.build(entries)
			require.Greater(t, all, 20_000*32)
			_, again := kept.build(entries)
			require.Zero(t, again)
			entries[7_000].Digest[9] = 9
			_, changed := kept.build(entries)
			require.Greater(t, changed, 0)
			require.Less(t, changed, tree.most)
			_, without := kept.build(slices.Delete(entries, 9_000, 9_001))
			require.Less(t, without, tree.most)
		})
	}
}

func TestAFileOfBlocksKeepsThem(t *testing.T) {
	var out bytes.Buffer
	w := blocks.NewWriter(&out)
	entries := folders(3, 2000)
	top := blocks.Build(manifest.Listed(entries), w.Add)
	require.NoError(t, w.Close())
	text := out.Bytes()
	file, err := blocks.ReadFile(text)
	require.NoError(t, err)
	find := func(name manifest.Digest) ([]byte, error) { return file.Block(name) }
	read, err := blocks.Read(top, 1<<20, find)
	require.NoError(t, err)
	require.Equal(t, entries, read)
	length, there := file.Index().Length(top.Name)
	require.True(t, there)
	block, err := file.Block(top.Name)
	require.NoError(t, err)
	require.Len(t, block, int(length))

	t.Run("damage anywhere is seen", func(t *testing.T) {
		for at := 0; at < len(text); at += 499 {
			spoilt := bytes.Clone(text)
			spoilt[at] ^= 4
			file, err := blocks.ReadFile(spoilt)
			if err == nil {
				_, err = blocks.Read(top, 1<<20, func(name manifest.Digest) ([]byte, error) { return file.Block(name) })
			}
			require.Error(t, err, "byte %d", at)
		}
		for _, length := range []int{0, 5, 17, 24, len(text) - 1} {
			_, err := blocks.ReadFile(text[:length])
			require.Error(t, err, "%d bytes", length)
		}
	})
}

func TestBlocksThatSomebodyMadeUpAreRefused(t *testing.T) {
	name, other := manifest.Digest{1}, manifest.Digest{2}
	file := func(name string) string { return "\x00" + string(rune(len(name))) + name + "\x00\x00\x00" }
	below := func(entries byte) string { return "\x03" + string(name[:]) + string(rune(entries)) }
	for what, block := range map[string]struct {
		text    string
		entries int
	}{
		"nothing":                       {"", 1},
		"another kind":                  {"\x07", 1},
		"a way out":                     {"\x01" + file(".."), 1},
		"two names in one":              {"\x01" + file("a/b"), 1},
		"no name":                       {"\x01" + file(""), 1},
		"no text":                       {"\x01" + file("\xff"), 1},
		"another order":                 {"\x01" + file("b") + file("a"), 2},
		"a name twice":                  {"\x01" + file("a") + file("a"), 2},
		"fewer entries":                 {"\x01" + file("a"), 2},
		"more entries":                  {"\x01" + file("a") + file("b"), 1},
		"a folder in itself":            {"\x01\x00\x01a" + below(1), 1},
		"a part of itself":              {"\x02" + below(1)[1:], 1},
		"a folder below a file":         {"\x01" + file("a") + "\x01\x00\x03" + string(other[:]) + "\x01", 2},
		"a folder with nothing in it":   {"\x01\x00\x01a" + below(0), 1},
		"a name that goes on too long":  {"\x01\x00\x7fa", 1},
		"something in common with none": {"\x01\x05\x01a\x00\x00\x00", 1},
	} {
		t.Run(what, func(t *testing.T) {
			find := func(asked manifest.Digest) ([]byte, error) {
				if asked == other {
					return []byte("\x01" + file("b")), nil
				}
				return []byte(block.text), nil
			}
			_, err := blocks.Read(blocks.Ref{Name: name, Entries: block.entries}, 100, find)
			var damage *blocks.DamageError
			require.ErrorAs(t, err, &damage)
		})
	}
}

// TestBlocksAreWhatTheyWere has a tree give the blocks that it has always given: else those that are recorded would be of no use.
func TestBlocksAreWhatTheyWere(t *testing.T) {
	for _, tree := range []struct {
		folders, files int
		top            string
	}{{1, 1024, "627398420c24386a"}, {2, 1025, "95063d96d723bce0"}, {1, 3000, "7618a6760fb66233"}, {1100, 2, "979afc685f8ea32d"}} {
		top, _ := shelf{}.build(folders(tree.folders, tree.files))
		require.Equal(t, tree.top, top.Name.Hex()[:16], "%d of %d", tree.folders, tree.files)
	}
}
