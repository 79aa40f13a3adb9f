package agent

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/manifest"
)

// TestEntriesComeInFramesOfTheirOwn compares a content of which one frame cannot hold all, and then what has changed of it.
func TestEntriesComeInFramesOfTheirOwn(t *testing.T) {
	client := session(t, t.TempDir())
	c := content{}
	for i := range frameEntries + 700 {
		c[fmt.Sprintf("d%d/%s%d.html", i/50, strings.Repeat("long ", i%40), i)] = fmt.Sprint("page ", i)
	}
	for range 2 { // for a comparison that was given up before it was asked for
		some := &unlisted{entries: c.entries()[:frameEntries+1]}
		require.NoError(t, client.sendEntries(calls.NewID(), some.Each))
	}
	require.Equal(t, len(c), c.deploy(t, client).SentFiles)
	for i := range 60 {
		c[fmt.Sprintf("d%d/more", i)] = "more"
	}
	require.Equal(t, 1, c.deploy(t, client).SentFiles, "it is the same in each folder")
}

func TestEntriesThatDoNotAddUpAreRefused(t *testing.T) {
	for name, frame := range map[string][]byte{
		"short":              {1, 2, 3},
		"not packed":         append(make([]byte, 8), 'x'),
		"of nothing":         packer().EncodeAll([]byte{9, 9}, make([]byte, 8)),
		"a path that climbs": packEntries(2, []manifest.Entry{{Path: "../x"}}),
	} {
		var c coming
		require.ErrorIs(t, c.add(frame), ErrProtocol, name)
	}
	var c coming
	require.NoError(t, c.add(packEntries(2, content{"a": "a", "b": "b"}.entries())))
	_, err := c.take(3, 2)
	require.ErrorIs(t, err, ErrProtocol, "they are of another comparison")
	require.NoError(t, c.add(packEntries(2, content{"a": "a", "b": "b"}.entries())))
	require.NoError(t, c.add(packEntries(4, content{"c": "c"}.entries())))
	some, err := c.take(4, 1)
	require.NoError(t, err)
	require.Equal(t, "c", some.At(0).Path)
	_, err = c.take(4, 1)
	require.ErrorIs(t, err, ErrProtocol, "they are taken once")
	none, err := c.take(5, 0)
	require.NoError(t, err)
	require.Zero(t, none.Len())
}

func TestEntriesThatNeverEndAreRefused(t *testing.T) {
	c := coming{as: 2, entries: manifest.Fold(make([]manifest.Entry, manifest.MostPacked))}
	require.ErrorIs(t, c.add(packEntries(2, content{"a": "a"}.entries())), ErrProtocol)
}

// TestALargeFileUsesTheWindow has less content under way as long as files are small, and never more than the far end takes.
func TestALargeFileUsesTheWindow(t *testing.T) {
	client := session(t, t.TempDir())
	credit := func() int64 {
		client.credit.mu.Lock()
		defer client.credit.mu.Unlock()
		return client.credit.left
	}
	c := content{"a": "a", "b": "b"}
	c.deploy(t, client)
	require.Eventually(t, func() bool { return credit() == narrow }, 5*time.Second, time.Millisecond)
	c["plate"], c["another"] = strings.Repeat("gannet", 1<<20), strings.Repeat("plate ", 1<<20)
	c.deploy(t, client)
	require.Eventually(t, func() bool { return credit() == window }, 5*time.Second, time.Millisecond)
}
