package manifest_test

import (
	"encoding/binary"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/manifest"
)

// longList gives so many entries of each kind.
func longList(t require.TestingT, count int) (out []manifest.Entry) {
	owner, err := manifest.NewOwner("www-data", "")
	require.NoError(t, err)
	for i := range count {
		e := manifest.Entry{Path: fmt.Sprintf("log/%06d.html", i), Kind: manifest.Kind(i % 3), Hand: i%5 == 0}
		switch e.Kind {
		case manifest.Link:
			e.Link = "elsewhere"
		case manifest.Dir:
			e.Mode, e.Owner = 0o750, owner
		default:
			e.Mode, e.Size, e.Digest[3], e.ModTime = 0o644, int64(i), 7, time.Unix(int64(i), 9).UTC()
		}
		out = append(out, e)
	}
	return out
}

func TestAFoldedListIsTheListThatWasFolded(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		entries, folded := longList(t, rapid.IntRange(0, 400).Draw(t, "count")), &manifest.Folded{}
		for rest := entries; len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "portion")
			some := append([]manifest.Entry{}, rest[:n]...)
			folded.Add(some)
			clear(some)
			rest = rest[n:]
		}
		require.Equal(t, len(entries), folded.Len())
		require.Equal(t, append([]manifest.Entry{}, entries...), folded.Entries())
		enough, visited := rapid.IntRange(0, 400).Draw(t, "enough"), 0
		folded.Each(func(e *manifest.Entry) bool {
			require.Equal(t, entries[visited], *e)
			visited++
			return visited < enough
		})
		require.Equal(t, min(len(entries), max(enough, 1)), visited)
		for range min(len(entries), 50) {
			at := rapid.IntRange(0, len(entries)-1).Draw(t, "at")
			require.Equal(t, entries[at], folded.At(at))
		}
	})
}

func TestAFoldedListIsReadBySeveralAtOnce(t *testing.T) {
	entries := longList(t, 3000)
	folded := manifest.Fold(entries)
	var working sync.WaitGroup
	for worker := range 4 {
		working.Go(func() {
			for i := range entries {
				at := (i*(worker+1) + worker*700) % len(entries)
				if got := folded.At(at); got.Path != entries[at].Path || got.Digest != entries[at].Digest {
					t.Errorf("entry %d is %s", at, got.Path)
				}
			}
			folded.Each(func(*manifest.Entry) bool { return true })
		})
	}
	working.Wait()
}

func TestAFoldedListTellsWhetherItIsInOrder(t *testing.T) {
	entries := longList(t, 300)
	for at := 1; at < len(entries); at += 37 {
		for _, cut := range []int{at - 1, at, 150} {
			folded := manifest.Fold(entries[:cut])
			folded.Add(entries[cut:])
			require.True(t, folded.InOrder())
			twice := append([]manifest.Entry{}, entries...)
			twice[at].Path = twice[at-1].Path
			folded = manifest.Fold(twice[:cut])
			folded.Add(twice[cut:])
			require.False(t, folded.InOrder(), "%d, in two parts at %d", at, cut)
		}
	}
}

func TestNumbersAreReadAsTheyAreWritten(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		value := rapid.Uint64().Draw(r, "value") >> rapid.IntRange(0, 63).Draw(r, "shift")
		text := append(binary.AppendUvarint(nil, value), rapid.SliceOfN(rapid.Byte(), 0, 12).Draw(r, "behind")...)
		text = text[:rapid.IntRange(0, len(text)).Draw(r, "length")]
		want, length := binary.Uvarint(text)
		is, n := manifest.Uvarint(text)
		require.Equal(r, want, is)
		require.Equal(r, length, n)
	})
	value, n := manifest.Uvarint(binary.AppendUvarint(nil, 1<<62|1<<57|5))
	require.Equal(t, uint64(1<<62|1<<57|5), value)
	require.Equal(t, 9, n)
	_, n = manifest.Uvarint([]byte{255, 255, 255, 255, 255, 255, 255, 255, 255, 2})
	require.Negative(t, n, "too large")
}
