package agent

import (
	"context"
	"encoding/binary"
	"fmt"
	"sync"
	"time"

	"tartine/internal/calls"
	"tartine/internal/site"
)

// Many small files that are read at the far end come in content frames, while others are read; the answer tells only of those that
// cannot be read. Before each frame is the number of the call (uvarint), since a call may be given up; the records are as on the way
// there, each a whole file, in any order. No credit is needed: no more comes than was asked for.

// gatherAnswer is the answer to a call for many files.
type gatherAnswer struct {
	Failed []gatherFailed `cbor:"failed,omitempty"`
}

// gatherFailed is a file that could not be read, by its position among those that were asked for.
type gatherFailed struct {
	_     struct{} `cbor:",toarray"`
	At    int
	Error *calls.Error
}

// mostFrames is how much may come in the frames of one call, in bytes: all content, and what is around it.
const mostFrames = 2 * calls.GatherLimit

// doGather sends files.
func (s *server) doGather(ctx context.Context, m *message) (any, error) {
	var paths []string
	if err := decoding.Unmarshal(m.Body, &paths); err != nil {
		return nil, err
	}
	var (
		mu      sync.Mutex
		answer  gatherAnswer
		size    int
		lost    error
		records = buffer(bufferSize)[:0]
		number  = binary.AppendUvarint(nil, m.Call)
	)
	flush := func() {
		if len(records) == 0 || lost != nil {
			return
		}
		head, body, _ := s.packing.pack(records)
		began := time.Now()
		lost = s.send(contentFrame, number, head, body)
		s.packing.took(len(body), time.Since(began))
		records = records[:0]
	}
	err := s.here.Site.Gather(ctx, paths, func(i int, content []byte, err error) {
		mu.Lock()
		defer mu.Unlock()
		if size += len(content); err == nil && size > calls.GatherLimit {
			err = calls.ErrTooMuch
		}
		if err != nil {
			answer.Failed = append(answer.Failed, gatherFailed{At: i, Error: calls.Wire(err)})
			return
		}
		if records = appendRecord(records, record{i, recordLast, content}); len(records) >= contentSize {
			flush()
		}
	})
	if err != nil {
		return nil, err
	}
	flush()
	recycle(records)
	return answer, lost
}

// gathering is what has come of the files that a call asked for.
type gathering struct {
	mu     sync.Mutex
	call   uint64
	frames [][]byte
	size   int64
}

// begin waits for the frames of a call.
func (g *gathering) begin(call uint64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.call, g.frames, g.size = call, nil, 0
}

// add takes a frame. One of another call has nobody who wants it.
func (g *gathering) add(payload []byte) error {
	call, n := binary.Uvarint(payload)
	if n <= 0 {
		return fmt.Errorf("%w: content of no call", ErrProtocol)
	}
	cost, err := costOf(payload[n:])
	if err != nil {
		return err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if call != g.call {
		return nil
	}
	if g.size += cost; g.size > mostFrames {
		return fmt.Errorf("%w: more content than was asked for", ErrProtocol)
	}
	g.frames = append(g.frames, payload[n:])
	return nil
}

// end gives the frames that have come.
func (g *gathering) end() [][]byte {
	g.mu.Lock()
	defer g.mu.Unlock()
	frames := g.frames
	g.call, g.frames = 0, nil
	return frames
}

// gather reads many small files whole.
func (c *Client) gather(ctx context.Context, paths []string, watch *site.Watch) ([]calls.Gathered, error) {
	c.gathering.begin(c.calls + 1)
	var answer gatherAnswer
	err := c.call(ctx, calls.Gather.Name, paths, into(&answer), listener(watch))
	frames := c.gathering.end()
	if err != nil {
		return nil, err
	}
	out, came := make([]calls.Gathered, len(paths)), make([]bool, len(paths))
	took := func(at int, file calls.Gathered) error {
		if at < 0 || at >= len(out) || came[at] {
			return fmt.Errorf("%w: file %d of those that were asked for", ErrProtocol, at)
		}
		out[at], came[at] = file, true
		return nil
	}
	for _, frame := range frames {
		content, err := unpackContent(frame)
		if err != nil {
			return nil, err
		}
		records, err := parseRecords(content)
		if err != nil {
			return nil, err
		}
		for _, r := range records {
			if err := took(r.position, calls.Gathered{Content: r.data}); err != nil {
				return nil, err
			}
		}
	}
	for _, f := range answer.Failed {
		if err := took(f.At, calls.Gathered{Err: f.Error.Err()}); err != nil {
			return nil, err
		}
	}
	for at := range came {
		if !came[at] {
			return nil, fmt.Errorf("%w: no answer about file %d of those that were asked for", ErrProtocol, at)
		}
	}
	return out, nil
}
