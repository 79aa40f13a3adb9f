package agent

import (
	"encoding/binary"
	"fmt"
	"sync"

	"tartine/internal/calls"
	"tartine/internal/farend"
	"tartine/internal/manifest"
)

// The entries that a comparison is about come in frames of their own before it, some thousands in each, so that neither
// side holds the packed form of all of them, nor a message with it.

// frameEntries is how many entries one frame has at most, and entriesBytes from how many bytes of paths on it has no more.
const (
	frameEntries = 2048
	entriesBytes = 256 << 10
)

// sendEntries sends so many entries for a comparison, which each gives one after the other.
func (c *Client) sendEntries(as calls.ID, total int, each func(visit func(e *manifest.Entry) bool)) error {
	var (
		some  = make([]manifest.Entry, 0, min(total, frameEntries))
		bytes int
		err   error
		send  = func() bool {
			if err = c.send(entriesFrame, packEntries(as, total, some)); err != nil {
				err = fmt.Errorf("%w: %w", farend.ErrLost, err)
			}
			some, bytes = some[:0], 0
			return err == nil
		}
	)
	each(func(e *manifest.Entry) bool {
		some, bytes = append(some, *e), bytes+len(e.Path)+len(e.Link)
		return len(some) < frameEntries && bytes < entriesBytes || send()
	})
	if len(some) > 0 && err == nil {
		send()
	}
	return err
}

// packEntries gives what a frame holds: the ID of the comparison and how many entries come for it in all, both in eight
// bytes, the highest first, and some of the entries.
func packEntries(as calls.ID, total int, entries []manifest.Entry) []byte {
	head := binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, uint64(as)), uint64(total))
	return packer().EncodeAll(manifest.Pack(entries), head)
}

// mostRoom is for how many entries there is room from the beginning, if so many are to come: their list is one piece of
// memory, which is not copied then.
const mostRoom = 1 << 20

// coming is entries that have come and that their comparison has not taken yet.
type coming struct {
	mu      sync.Mutex
	as      calls.ID
	entries []manifest.Entry
}

// add takes a frame of them. Those of an earlier comparison, which was given up, go.
func (c *coming) add(packed []byte) error {
	if len(packed) < 16 {
		return fmt.Errorf("%w: entries for no comparison", ErrProtocol)
	}
	as, total := calls.ID(binary.BigEndian.Uint64(packed)), binary.BigEndian.Uint64(packed[8:])
	text, err := contentUnpacker().DecodeAll(packed[16:], nil)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrProtocol, err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.as != as {
		c.as, c.entries = as, make([]manifest.Entry, 0, min(total, mostRoom))
	}
	if c.entries, err = manifest.Packed(text).UnpackTo(c.entries); err != nil {
		return fmt.Errorf("%w: %w", ErrProtocol, err)
	}
	return nil
}

// take gives what has come for a comparison, which should be so many.
func (c *coming) take(as calls.ID, count int) (out []manifest.Entry, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.as == as {
		out = c.entries
	}
	if c.entries = nil; len(out) != count {
		return nil, fmt.Errorf("%w: %d entries in the place of %d", ErrProtocol, len(out), count)
	}
	return out, nil
}
