package agent

import (
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
)

// heard tells of everything that is written.
type heard chan struct{}

func (h heard) Write(p []byte) (int, error) {
	h <- struct{}{}
	return len(p), nil
}

// hearing gives the client of a far end that says something when it is asked for the first time.
func hearing(t *testing.T, said ...[]byte) *Client {
	t.Helper()
	in, out := io.Pipe()
	asked := make(heard, 100)
	go func() {
		_, _ = out.Write(greeting)
		<-asked // who the client is
		<-asked // the site is to be opened
		_, _ = out.Write(messageOf(message{Call: 1, Body: must(encoding.Marshal(opened{}))}))
		<-asked
		for _, frame := range said {
			_, _ = out.Write(frame)
		}
		out.Close()
	}()
	client, err := Connect(t.Context(), in, asked, in, "test", Root{Path: "www"})
	require.NoError(t, err)
	t.Cleanup(func() { client.Close() })
	return client
}

// gathered asks a far end for the files a and b, which says so.
func gathered(t *testing.T, said ...[]byte) ([]calls.Gathered, error) {
	t.Helper()
	return calls.Gather.On(t.Context(), hearing(t, said...), []string{"a", "b"})
}

// filesOf is a frame with files in it, for a call.
func filesOf(call uint64, records ...record) []byte {
	var content []byte
	for _, r := range records {
		content = appendRecord(content, r)
	}
	head, body, _ := packContent(content, false)
	return frameOf(contentFrame, append(append(binary.AppendUvarint(nil, call), head...), body...))
}

func failedWith(failed ...gatherFailed) []byte {
	return messageOf(message{Call: 2, Body: must(encoding.Marshal(gatherAnswer{failed}))})
}

func TestFilesThatAreReadComeEachOnce(t *testing.T) {
	a, b := record{0, recordLast, []byte("an a")}, record{1, recordLast, []byte("a b")}
	none := &calls.Error{}
	*none = *calls.Wire(fs.ErrNotExist)
	files, err := gathered(t, filesOf(1, record{0, recordLast, []byte("of a call that was given up")}), filesOf(2, b), filesOf(2, a), failedWith())
	require.NoError(t, err)
	require.Equal(t, []calls.Gathered{{Content: []byte("an a")}, {Content: []byte("a b")}}, files)
	files, err = gathered(t, filesOf(2, a), failedWith(gatherFailed{At: 1, Error: none}))
	require.NoError(t, err)
	require.Equal(t, "an a", string(files[0].Content))
	require.ErrorIs(t, files[1].Err, fs.ErrNotExist)

	head := append(binary.AppendUvarint(nil, 2), packedContent)
	large := frameOf(contentFrame, append(binary.AppendUvarint(head, maxFrame), 0))
	var flood [][]byte
	for range mostFrames/maxFrame + 1 {
		flood = append(flood, large)
	}
	for name, said := range map[string][][]byte{
		"twice":                      {filesOf(2, a, b, a), failedWith()},
		"one that was not asked for": {filesOf(2, a, b, record{2, recordLast, nil}), failedWith()},
		"not all":                    {filesOf(2, a), failedWith()},
		"why there is not another":   {filesOf(2, a, b), failedWith(gatherFailed{At: 2, Error: none})},
		"one that has none":          {filesOf(2, a, b), failedWith(gatherFailed{At: -1, Error: none})},
		"one that failed, too":       {filesOf(2, a, b), failedWith(gatherFailed{At: 0, Error: none})},
		"of no call":                 {frameOf(contentFrame, nil), failedWith()},
		"more than there may be":     append(flood, failedWith()),
	} {
		_, err := gathered(t, said...)
		require.ErrorIs(t, err, ErrProtocol, name)
		if len(said) > 10 {
			require.ErrorContains(t, err, "more content than was asked for")
		}
	}
}

// TestManyFilesAreReadWhole reads more than goes into one frame, and as much as may be asked for.
func TestManyFilesAreReadWhole(t *testing.T) {
	dir := t.TempDir()
	client := session(t, dir)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "www", "log"), 0o755))
	var paths []string
	for i := range 300 {
		path := fmt.Sprintf("log/%d.html", i)
		if i%2 == 0 {
			path = fmt.Sprintf("%d.html", i)
		}
		paths = append(paths, path)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "www", path), make([]byte, i*100), 0o644))
	}
	files, err := calls.Gather.On(t.Context(), client, paths)
	require.NoError(t, err)
	for i := range paths {
		require.NoError(t, files[i].Err)
		require.Len(t, files[i].Content, i*100)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "www", "large.tif"), make([]byte, calls.GatherLimit/256), 0o644))
	paths = nil
	for range 300 { // of which 256 are as much as may be asked for
		paths = append(paths, "large.tif")
	}
	files, err = calls.Gather.On(t.Context(), client, paths)
	require.NoError(t, err)
	came, refused := 0, 0
	for _, f := range files {
		switch {
		case f.Err == nil:
			came++
		case f.Err.Error() == calls.ErrTooMuch.Error():
			refused++
		}
	}
	require.Equal(t, []int{256, 44}, []int{came, refused})
}
