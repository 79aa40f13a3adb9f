package agent

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/farend"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/treeparts"
)

func frameOf(k kind, payload []byte) []byte {
	return append(append(binary.BigEndian.AppendUint32(nil, uint32(len(payload)+1)), byte(k)), payload...)
}

func messageOf(m message) []byte { return frameOf(messageFrame, must(encoding.Marshal(m))) }

var greeting = frameOf(helloFrame, must(encoding.Marshal(hello{Protocol, "test"})))

func callOf(call uint64, method string, body any) []byte {
	return messageOf(message{Call: call, Method: method, Body: must(encoding.Marshal(body))})
}

// FuzzServer has a hostile client say anything. The server must end, and must not touch anything outside of its folder.
func FuzzServer(f *testing.F) {
	open := callOf(1, methodOpen, Root{Path: "www"})
	survey := callOf(2, calls.Survey.Name, calls.Surveying{As: 1, Believe: true})
	entries := content{"a": "a"}.entries()
	compare := append(frameOf(entriesFrame, packEntries(2, entries)), callOf(3, calls.Compare.Name, compareCall{As: 2, Survey: 1, Whole: true, Paths: 1, Entries: 1})...)
	deploy := callOf(4, calls.Stage.Name, stageCall{As: 3, Comparison: 2})
	data := append([]byte{rawContent}, binary.AppendUvarint(nil, 4)...)
	data = appendRecord(data, record{0, recordLast, []byte("a")})
	f.Add(bytes.Join([][]byte{open, survey, compare, deploy, frameOf(contentFrame, data)}, nil))
	f.Add(bytes.Join([][]byte{open, callOf(2, calls.Verify.Name, calls.Verifying{Recorded: true}), callOf(3, calls.Read.Name, calls.Range{Path: "../x", Offset: -1})}, nil))
	f.Add(bytes.Join([][]byte{open, survey, callOf(3, calls.Compare.Name, compareCall{As: 2, Survey: 1, Folders: []treeparts.Part{{Path: "a"}}})}, nil))
	f.Add(frameOf(cancelFrame, nil))
	f.Add([]byte{0xff, 0xff, 0xff, 0xff, 'm'})
	f.Fuzz(func(t *testing.T, said []byte) {
		err := Serve(context.Background(), io.MultiReader(bytes.NewReader(greeting), bytes.NewReader(said)), io.Discard, "test", openIn(t.TempDir()))
		if err != nil && !errors.Is(err, ErrProtocol) && !errors.Is(err, io.ErrUnexpectedEOF) {
			t.Log(err) // of the engine, or of what is decoded
		}
	})
}

// nobody is a connection on which nothing more is said.
type nobody struct{}

func (nobody) Close() error { return nil }

// FuzzClient has a hostile far end say anything to a client that deploys.
func FuzzClient(f *testing.F) {
	answer := func(call uint64, body any) []byte {
		return messageOf(message{Call: call, Body: must(encoding.Marshal(body))})
	}
	c := content{"a": "a", "b": "b"}
	f.Add(bytes.Join([][]byte{answer(1, opened{}), answer(2, site.Summary{}), answer(3, compareAnswer{Done: true, New: []wireRun{{First: 0, Count: 2}}}),
		messageOf(message{Call: 4, Event: eventNeed, Body: must(encoding.Marshal(need{Runs: []wireRun{{First: 0, Count: 2}}}))}), answer(4, calls.Stage.Pack(&site.Outcome{Number: 1}))}, nil))
	f.Add(bytes.Join([][]byte{answer(1, opened{}), answer(2, site.Summary{Number: 1}), answer(3, compareAnswer{NeedDigests: true}), answer(4, compareAnswer{NeedFolders: []int{7}})}, nil))
	f.Add(bytes.Join([][]byte{answer(1, opened{}), answer(2, site.Summary{}), answer(3, compareAnswer{Done: true, New: []wireRun{{First: -1, Count: 9}}})}, nil))
	f.Add(frameOf(creditFrame, must(encoding.Marshal(int64(-1)))))
	f.Fuzz(func(t *testing.T, said []byte) {
		client, err := Connect(t.Context(), io.MultiReader(bytes.NewReader(greeting), bytes.NewReader(said)), io.Discard, nobody{}, "test", Root{Path: "www"})
		if err != nil {
			return
		}
		defer client.Close()
		survey, err := calls.Survey.On(t.Context(), client, calls.Surveying{As: 1, Believe: true})
		if err != nil {
			return
		}
		entries := c.entries()
		compared, err := calls.Compare.On(t.Context(), client, &calls.Comparing{As: 2, Survey: 1, Recorded: survey.Number > 0, Wanted: site.Wanted{Entries: entries}})
		if err != nil {
			return
		}
		for i := range compared.Result.Changes {
			require.NotEmpty(t, compared.Result.Changes[i].Path())
		}
		_, _ = deployed(t.Context(), client, &calls.Staging{As: 3, Comparison: 2, Plan: site.Plan{Want: entries, Result: compared.Result, Open: c.open}}, &site.Watch{})
	})
}

func TestBoundsAreHeld(t *testing.T) {
	serve := func(said ...[]byte) error {
		return Serve(context.Background(), io.MultiReader(bytes.NewReader(greeting), bytes.NewReader(bytes.Join(said, nil))), io.Discard, "test", openIn(t.TempDir()))
	}
	full := append([]byte{rawContent}, binary.AppendUvarint(nil, 1<<20-8)...)
	full = append(full, make([]byte, 1<<20-8)...)
	var flood [][]byte
	for range window/(1<<20) + 2 {
		flood = append(flood, frameOf(contentFrame, full))
	}
	require.ErrorContains(t, serve(flood...), "more content than there was credit for")
	require.ErrorContains(t, serve([]byte{0x7f, 0, 0, 0, 'm'}), "a frame of")
	require.ErrorContains(t, serve(callOf(1, calls.Survey.Name, calls.Surveying{As: 1})[:9]), "unexpected EOF")
	bomb := frameOf(packedFrame, packer().EncodeAll(make([]byte, 2*maxBody), nil))
	require.ErrorIs(t, serve(bomb), ErrProtocol)
	require.ErrorContains(t, serve(frameOf('?', nil)), "a frame of kind")
	packed := append([]byte{packedContent}, binary.AppendUvarint(nil, 100)...)
	_, err := unpackContent(append(packed, packer().EncodeAll(make([]byte, 4*maxFrame), nil)...))
	require.ErrorIs(t, err, ErrProtocol)
}

func TestContentOutOfOrderIsRefused(t *testing.T) {
	for name, records := range map[string][]record{
		"another file":             {{1, recordLast, []byte("a")}},
		"twice":                    {{0, recordLast, []byte("a")}, {0, recordLast, []byte("a")}},
		"in the middle of another": {{0, 0, []byte("a")}, {1, recordLast, []byte("b")}},
		"more than were asked for": {{0, recordLast, nil}, {1, recordLast, nil}, {2, recordLast, nil}},
	} {
		s := &supply{inbox: newInbox(), over: make(chan struct{}), ask: func(need) error { return nil }, grant: func(int64) {}}
		var frame []byte
		for _, r := range records {
			frame = appendRecord(frame, r)
		}
		head, body, _ := packContent(frame, false)
		require.NoError(t, s.inbox.push(append(head, body...)))
		err := s.Supply(t.Context(), site.Asked{Runs: []site.Run{{First: 0, Count: 2}}}, func(_ context.Context, _ int, in io.Reader, _ *site.Whole, _ error) error {
			if in != nil {
				_, err := io.Copy(io.Discard, in)
				return err
			}
			return nil
		})
		require.ErrorIs(t, err, ErrProtocol, name)
	}
}

func TestALineThatEndsAtOnceIsLost(t *testing.T) {
	near, far := net.Pipe()
	far.Close()
	_, err := Connect(t.Context(), near, near, near, "test", Root{Path: "www"})
	require.ErrorIs(t, err, farend.ErrLost)
}

// TestWhatIsSaidOfAFileOutlivesItsFrame has frames be used again once what they carried is read.
func TestWhatIsSaidOfAFileOutlivesItsFrame(t *testing.T) {
	digest := manifest.Digest{1, 2, 3}
	s := &supply{inbox: newInbox(), over: make(chan struct{}), ask: func(need) error { return nil }, grant: func(int64) {}}
	var frames [][]byte
	for _, records := range [][]record{{{0, 0, []byte("gannet")}}, {{0, recordDigest, digest[:]}, {0, recordLast, nil}}} {
		var frame []byte
		for _, r := range records {
			frame = appendRecord(frame, r)
		}
		head, body, _ := packContent(frame, false)
		frames = append(frames, append(head, body...))
		require.NoError(t, s.inbox.push(frames[len(frames)-1]))
	}
	require.NoError(t, s.Supply(t.Context(), site.Asked{Runs: []site.Run{{First: 0, Count: 1}}}, func(_ context.Context, _ int, in io.Reader, _ *site.Whole, _ error) error {
		text, err := io.ReadAll(in)
		require.NoError(t, err)
		require.Equal(t, "gannet", string(text))
		for _, frame := range frames {
			clear(frame)
		}
		said, known := in.(interface {
			Digest() (manifest.Digest, bool)
		}).Digest()
		require.True(t, known)
		require.Equal(t, digest, said)
		return nil
	}))
}
