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

// The same is done in the other direction with the entries of an answer. The number of the call is in the place of an ID.

// sendEntries sends entries for a comparison, which each gives one after the other.
func (l *link) sendEntries(as calls.ID, each manifest.Walk) error {
	var (
		some  = make([]manifest.Entry, 0, frameEntries)
		bytes int
		err   error
		send  = func() bool {
			if err = l.send(entriesFrame, packEntries(as, some)); err != nil {
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

// packEntries gives what a frame holds: the ID of the comparison, in eight bytes, the highest first, and some of the entries.
func packEntries(as calls.ID, entries []manifest.Entry) []byte {
	head := binary.BigEndian.AppendUint64(nil, uint64(as))
	return packer().EncodeAll(manifest.Pack(entries), head)
}

// coming is entries that have come and that their comparison has not taken yet.
type coming struct {
	mu      sync.Mutex
	as      calls.ID
	asked   bool             // no others than those that were asked for are wanted
	entries *manifest.Folded // nil: none have come
	room    []manifest.Entry // for those of a frame
	wrong   error            // with those that were asked for
}

// ask has those of one answer be wanted.
func (c *coming) ask(as calls.ID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.as, c.asked, c.entries, c.wrong = as, true, &manifest.Folded{}, nil
}

// add takes a frame of them. Those of an earlier comparison, which was given up, go.
func (c *coming) add(packed []byte) error {
	if len(packed) < 8 {
		return fmt.Errorf("%w: entries for no comparison", ErrProtocol)
	}
	as := calls.ID(binary.BigEndian.Uint64(packed))
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.asked {
		if as == c.as && c.entries != nil && c.wrong == nil {
			c.wrong = c.unpack(packed[8:])
		}
		return nil
	}
	if c.as != as || c.entries == nil {
		c.as, c.entries = as, &manifest.Folded{}
	}
	return c.unpack(packed[8:])
}

func (c *coming) unpack(packed []byte) error {
	text, err := contentUnpacker().DecodeAll(packed, nil)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrProtocol, err)
	}
	if c.room, err = manifest.Packed(text).UnpackTo(c.room[:0]); err != nil {
		return fmt.Errorf("%w: %w", ErrProtocol, err)
	}
	c.entries.Add(c.room)
	clear(c.room) // the texts of their paths go
	if c.entries.Len() > manifest.MostPacked {
		return fmt.Errorf("%w: more than %d entries", ErrProtocol, manifest.MostPacked)
	}
	return nil
}

// take gives what has come for a comparison, which should be so many.
func (c *coming) take(as calls.ID, count int) (*manifest.Folded, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := &manifest.Folded{}
	if c.as == as && c.entries != nil {
		out = c.entries
	}
	wrong := c.wrong
	c.entries, c.room, c.wrong = nil, nil, nil
	switch {
	case wrong != nil:
		return nil, wrong
	case out.Len() != count:
		return nil, fmt.Errorf("%w: %d entries in the place of %d", ErrProtocol, out.Len(), count)
	}
	return out, nil
}
