package agent

import (
	"bytes"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/site"
)

func random(seed uint64, size int) string {
	out := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{byte(seed)}).Read(out) // it never fails
	return string(out)
}

func TestOfALargeFileOnlyWhatIsNewIsSent(t *testing.T) {
	dir := t.TempDir()
	client := session(t, dir)
	plate := random(1, 24<<20)
	first := content{"plate.tif": plate, "index.html": "<h1>"}
	first.deploy(t, client)
	for name, changed := range map[string]string{
		"changed inside":  plate[:8<<20] + random(2, 1<<20) + plate[9<<20:],
		"inserted":        plate[:8<<20] + random(3, 1<<20) + plate[8<<20:],
		"at the front":    "a new head" + plate,
		"at the end":      plate + "a new tail",
		"removed":         plate[:3<<20] + plate[5<<20:],
		"moved":           plate[12<<20:] + plate[:12<<20],
		"doubled":         plate + plate,
		"wholly new":      random(4, 24<<20),
		"mostly repeated": bytes.NewBufferString(plate[:5<<20]).String(),
	} {
		next := maps.Clone(first)
		next["plate.tif"] = changed
		out := next.deploy(t, client)
		require.Equal(t, 1, out.SentFiles, name)
		require.Equal(t, next, stands(t, dir), name)
		if name != "wholly new" {
			require.Less(t, out.SentBytes, int64(2<<20), name)
		} else {
			require.Equal(t, int64(24<<20), out.SentBytes)
		}
		first.deploy(t, client)
	}
}

func TestAnOldVersionThatChangesMeanwhileIsFoundOut(t *testing.T) {
	dir := t.TempDir()
	client := session(t, dir)
	plate := random(1, 8<<20)
	first := content{"plate.tif": plate}
	first.deploy(t, client)
	next := content{"plate.tif": plate + "a new tail"}
	plan := next.compare(t, client)
	plan.Partial = true
	plan.Open = func(path string) (io.ReadCloser, error) { // once its chunks are known, somebody writes there
		require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "plate.tif"), []byte(random(9, 8<<20)), 0o644))
		return next.open(path)
	}
	out, err := deployed(t.Context(), client, plan, &site.Watch{})
	require.NoError(t, err)
	require.Len(t, out.Failed, 1)
	require.ErrorIs(t, out.Failed[0].Err, site.ErrWrongBytes)
}

func TestCutsMoveWithTheContent(t *testing.T) {
	text := random(5, 4<<20)
	cut := func(text string) (names map[chunkName]bool, count int) {
		names = map[chunkName]bool{}
		for c := newChunker(bytes.NewBufferString(text)); ; count++ {
			chunk, err := c.next()
			if err == io.EOF {
				return names, count
			}
			require.NoError(t, err)
			require.LessOrEqual(t, len(chunk), mostChunk)
			names[nameOf(chunk)] = true
		}
	}
	before, count := cut(text)
	require.InDelta(t, 4<<20/(80<<10), count, 25)
	after, _ := cut("x" + text)
	same := 0
	for name := range after {
		if before[name] {
			same++
		}
	}
	require.Greater(t, same, count-3)
}
