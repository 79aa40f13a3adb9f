package blocks_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// editsBetween gives what makes one list of another one.
func editsBetween(from, to []manifest.Entry) (edits []blocks.Edit) {
	paths := map[string][2]*manifest.Entry{}
	for i := range from {
		paths[from[i].Path] = [2]*manifest.Entry{&from[i], nil}
	}
	for i := range to {
		paths[to[i].Path] = [2]*manifest.Entry{paths[to[i].Path][0], &to[i]}
	}
	for path, both := range paths {
		if both[0] == nil || both[1] == nil || *both[0] != *both[1] {
			edits = append(edits, blocks.Edit{Path: path, Entry: both[1]})
		}
	}
	slices.SortFunc(edits, func(a, b blocks.Edit) int { return strings.Compare(a.Path, b.Path) })
	return edits
}

// patched patches one list so that it is another one, and compares that with building it.
func patched(t require.TestingT, from, to []manifest.Entry) (read int) {
	kept := shelf{}
	was, _ := kept.build(from)
	want := shelf{}
	top, _ := want.build(to)
	find := func(name manifest.Digest) ([]byte, error) {
		read++
		return kept.find(name)
	}
	fresh := shelf{}
	got, err := blocks.Patch(was, editsBetween(from, to), find, func(name manifest.Digest, block []byte) { fresh[name] = slices.Clone(block) })
	require.NoError(t, err)
	require.Equal(t, top, got)
	for name, block := range want {
		if kept[name] == nil {
			require.Equal(t, block, fresh[name])
		}
	}
	var walked []manifest.Entry
	require.NoError(t, blocks.Walk(got, want.find, func(e *manifest.Entry) bool {
		walked = append(walked, *e)
		return true
	}))
	require.Equal(t, append([]manifest.Entry{}, to...), append([]manifest.Entry{}, walked...))
	return read
}

func TestATreeIsPatchedLikeItIsBuilt(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) { patched(t, trees(t), trees(t)) })
}

func TestAPatchReadsTheFoldersThatItIsAbout(t *testing.T) {
	from := folders(40, 20)
	to := slices.Clone(from)
	to[333].Size++
	require.Equal(t, 3, patched(t, from, to), "the top, the folder above, and its own")
	many := folders(2, 3000)
	for _, at := range []int{0, 1023, 1024, 2999, 3000, 5999} {
		other := slices.Clone(many)
		other[at].Digest[7] = 9
		patched(t, many, other)
		patched(t, many, slices.Delete(slices.Clone(many), at, at+1))
		patched(t, slices.Delete(slices.Clone(many), at, at+1), many)
	}
	patched(t, many, nil)
	patched(t, nil, many)
	patched(t, many, many)
}

func TestAWalkEndsWhenThatIsEnough(t *testing.T) {
	entries, kept := folders(3, 5), shelf{}
	top, _ := kept.build(entries)
	for enough := 1; enough <= len(entries); enough++ {
		visited := 0
		require.NoError(t, blocks.Walk(top, kept.find, func(*manifest.Entry) bool {
			visited++
			return visited < enough
		}))
		require.Equal(t, enough, visited)
	}
}

func TestWhatIsMissingIsNotPatched(t *testing.T) {
	entries, kept := folders(3, 5), shelf{}
	top, _ := kept.build(entries)
	gone := errors.New("gone")
	for name := range kept {
		find := func(asked manifest.Digest) ([]byte, error) {
			if asked == name {
				return nil, gone
			}
			return kept.find(asked)
		}
		edits := []blocks.Edit{}
		for i := range 3 {
			edits = append(edits, blocks.Edit{Path: fmt.Sprintf("species/s%04d/zz", i), Entry: &manifest.Entry{Path: fmt.Sprintf("species/s%04d/zz", i)}})
		}
		_, err := blocks.Patch(top, edits, find, func(manifest.Digest, []byte) {})
		require.ErrorIs(t, err, gone)
		require.ErrorIs(t, blocks.Walk(top, find, func(*manifest.Entry) bool { return true }), gone)
	}
}

func TestAWalkBeginsAnywhere(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		entries, kept := trees(r), shelf{}
		top, _ := kept.build(entries)
		from := rapid.SampledFrom([]string{"", "a", "a/", "a-b", "a-b/", "a/a/", "ab/", "b/a", "plates/", "\xff"}).Draw(r, "from")
		var got, want []string
		require.NoError(r, blocks.WalkFrom(from, top, kept.find, func(e *manifest.Entry) bool { got = append(got, e.Path); return true }))
		for _, e := range entries {
			if e.Path >= from {
				want = append(want, e.Path)
			}
		}
		require.Equal(r, want, got)
	})
	entries, kept := folders(10, 5), shelf{}
	top, _ := kept.build(entries)
	read := 0
	find := func(name manifest.Digest) ([]byte, error) { read++; return kept.find(name) }
	require.NoError(t, blocks.WalkFrom("species/s0007/", top, find, func(*manifest.Entry) bool { return true }))
	require.Equal(t, 5, read, "the top, the folder of all, and three in it")
}

func TestAFolderIsFoundByItsPath(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		entries, kept := trees(r), shelf{}
		top, _ := kept.build(entries)
		for _, path := range []string{".", "a", "a-b", "a/a", "a/a-b/b", "plates", "nowhere/a"} {
			got, err := blocks.FolderAt(top, path, kept.find)
			require.NoError(r, err)
			var names, want []string
			for _, e := range got {
				names = append(names, e.Path)
			}
			for _, e := range entries {
				if name, in := strings.CutPrefix("/"+e.Path, strings.TrimSuffix("/"+path, "/.")+"/"); in && !strings.Contains(name, "/") {
					want = append(want, name)
				}
			}
			require.Equal(r, want, names)
		}
	})
}
