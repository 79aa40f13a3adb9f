package agent

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/manifest"
)

// TestEntriesOfAnAnswerAreThoseThatWereAskedFor has a far end say what is there, and send what it should not.
func TestEntriesOfAnAnswerAreThoseThatWereAskedFor(t *testing.T) {
	entry := func(path string) []manifest.Entry {
		return []manifest.Entry{{Path: path, Size: 1, Attributes: manifest.Attributes{Mode: 0o644}}}
	}
	of := func(call calls.ID, path string) []byte { return frameOf(entriesFrame, packEntries(call, entry(path))) }
	answer := func(count int) []byte {
		return messageOf(message{Call: 2, Body: must(encoding.Marshal(map[string]int{"count": count}))})
	}
	stands, err := calls.Stands.On(t.Context(), hearing(t, of(1, "of a call that was given up"), of(2, "a"), of(2, "b"), answer(2)), nil)
	require.NoError(t, err)
	require.Equal(t, append(entry("a"), entry("b")...), stands.Entries.Entries())
	stands, err = calls.Stands.On(t.Context(), hearing(t, answer(0)), nil)
	require.NoError(t, err)
	require.Empty(t, stands.Entries.Entries())
	now, err := calls.Current.On(t.Context(), hearing(t, of(2, "a"), answer(1)), calls.None{})
	require.NoError(t, err)
	require.Equal(t, entry("a"), now.Entries.Entries())
	for name, said := range map[string][][]byte{
		"fewer than it says":   {of(2, "a"), answer(2)},
		"more than it says":    {of(2, "a"), of(2, "b"), answer(1)},
		"out of the root":      {of(2, "../a"), answer(1)},
		"what is not packed":   {frameOf(entriesFrame, append(packEntries(2, nil)[:8], 1, 2, 3)), answer(0)},
		"after such a frame":   {of(2, "../a"), of(2, "b"), answer(1)},
		"of no call":           {frameOf(entriesFrame, []byte{1}), answer(0)},
		"of another call only": {of(3, "a"), answer(1)},
	} {
		_, err := calls.Stands.On(t.Context(), hearing(t, said...), nil)
		require.ErrorIs(t, err, ErrProtocol, name)
	}
}

// TestManyEntriesOfAnAnswerComeInOrder takes more than one frame has, and what is said of the record.
func TestManyEntriesOfAnAnswerComeInOrder(t *testing.T) {
	c := content{}
	for i := range 2*frameEntries + 7 {
		c[fmt.Sprintf("species/%02d/%05d.html", i/1000, i)] = fmt.Sprint("species ", i)
	}
	dir := t.TempDir()
	client := session(t, dir)
	c.deploy(t, client)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "species", "00", "00001.html"), []byte("altered"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(dir, "www", "species", "04", "04000.html")))
	now, err := calls.Current.On(t.Context(), client, calls.None{})
	require.NoError(t, err)
	require.Equal(t, []int{1, len(c), len(c)}, []int{now.Number, now.Count, now.Entries.Len()})
	require.True(t, now.Entries.InOrder())
	require.True(t, client.Recorded().IsZero(), "nothing was when it was opened")
	require.Equal(t, manifest.TreeOf(now.Entries.Each), session(t, dir).Recorded())
	require.Equal(t, []string{"species/00/00001.html"}, now.Altered)
	require.Equal(t, []string{"species/04/04000.html"}, now.Missing)
	stands, err := calls.Stands.On(t.Context(), client, nil)
	require.NoError(t, err)
	require.Equal(t, len(c)-1, stands.Entries.Len())
	require.True(t, stands.Entries.InOrder())
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = calls.Stands.On(ctx, client, nil)
	require.ErrorIs(t, err, context.Canceled)
	_, err = calls.Stands.On(t.Context(), client, []string{"none"})
	require.Error(t, err)
	stands, err = calls.Stands.On(t.Context(), client, []string{"species/04"})
	require.NoError(t, err)
	require.Equal(t, len(c)-4001, stands.Count)
}
