package agent

import (
	"encoding/binary"
	"fmt"
	"sync"
	"sync/atomic"
	"time"
)

// A content frame carries records, each a part of a file or a small file whole: the file's position in what was asked
// for (uvarint), flags (a byte), a length (uvarint), and as many bytes. Before them is a byte that says whether they
// are packed with zstd, and their length unpacked (uvarint), which is what they cost of the credit. Files come in the
// order in which they were asked for, and a file's parts one after the other.

const (
	recordLast   = 1 << iota // the file ends here
	recordFailed             // the file cannot be read; the bytes say why
	recordCopy               // the bytes say which stretch of the old version exists here
	recordDigest             // the bytes are the digest of the whole file, which was open; before its last record
)

const (
	rawContent    = 0
	packedContent = 1
)

// Sizes of what goes into one content frame, in bytes, and in files.
const (
	contentSize  = 256 << 10
	contentFiles = 512
	smallFile    = 128 << 10 // up to this size a file is sent whole, in one record
	leastCost    = 256       // of a frame, however short
)

type record struct {
	position int
	flags    byte
	data     []byte
}

func appendRecord(frame []byte, r record) []byte {
	return append(appendRecordHead(frame, r.position, r.flags, len(r.data)), r.data...)
}

func appendRecordHead(frame []byte, position int, flags byte, length int) []byte {
	frame = binary.AppendUvarint(frame, uint64(position))
	frame = append(frame, flags)
	return binary.AppendUvarint(frame, uint64(length))
}

// parseRecords reads the records of a frame that is unpacked. Their data is not copied.
func parseRecords(content []byte) (out []record, err error) {
	for len(content) > 0 {
		position, n := binary.Uvarint(content)
		if n <= 0 || position > 1<<31 || len(content) < n+1 {
			return nil, fmt.Errorf("%w: a record without a position", ErrProtocol)
		}
		flags := content[n]
		content = content[n+1:]
		length, n := binary.Uvarint(content)
		if n <= 0 || length > uint64(len(content)-n) {
			return nil, fmt.Errorf("%w: a record that is cut off", ErrProtocol)
		}
		out = append(out, record{int(position), flags, content[n : n+int(length)]})
		content = content[n+int(length):]
	}
	return out, nil
}

// packContent gives the head of a frame and its records, packed where that is asked for and pays.
func packContent(records []byte, pack bool) (head, body []byte, packed bool) {
	body = records
	how := byte(rawContent)
	if pack {
		if small := packer().EncodeAll(records, nil); len(small) < len(records)-len(records)/16 {
			body, how = small, packedContent
		}
	}
	return binary.AppendUvarint([]byte{how}, uint64(len(records))), body, how == packedContent
}

// packing says whether content is packed: where the connection is what holds things up, and it shrinks.
type packing struct {
	slow  atomic.Bool
	plain atomic.Int64 // how many frames to send without trying to pack: those before would not shrink
	spent time.Duration
	sent  int64
}

// Packing: below which rate of the connection, in bytes a second, content is packed, and after how much is measured
// anew.
const (
	packBelow    = 16 << 20
	measureAfter = 1 << 20
	plainFrames  = 15 // are sent after one that packing did not shrink
)

// pack is packContent where that may pay. It may be called from several goroutines at once.
func (p *packing) pack(records []byte) (head, body []byte, packed bool) {
	try := p.slow.Load() && p.plain.Add(-1) < 0
	head, body, packed = packContent(records, try)
	if try && !packed {
		p.plain.Store(plainFrames)
	}
	return head, body, packed
}

// took notes how long it took to send so many bytes.
func (p *packing) took(bytes int, spent time.Duration) {
	p.spent += spent
	if p.sent += int64(bytes); p.sent >= measureAfter {
		p.slow.Store(float64(p.sent)/p.spent.Seconds() < packBelow)
		p.sent, p.spent = 0, 0
	}
}

// costOf gives what a frame costs, before it is unpacked.
func costOf(payload []byte) (cost int64, err error) {
	if len(payload) < 2 || payload[0] > packedContent {
		return 0, fmt.Errorf("%w: content without a head", ErrProtocol)
	}
	length, n := binary.Uvarint(payload[1:])
	if n <= 0 || length > maxFrame || payload[0] == rawContent && length != uint64(len(payload)-1-n) {
		return 0, fmt.Errorf("%w: content of a wrong length", ErrProtocol)
	}
	return max(int64(length), leastCost), nil
}

func unpackContent(payload []byte) ([]byte, error) {
	length, n := binary.Uvarint(payload[1:])
	content := payload[1+n:]
	if payload[0] == packedContent {
		var err error
		if content, err = contentUnpacker().DecodeAll(content, make([]byte, 0, length)); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrProtocol, err)
		}
	}
	if uint64(len(content)) != length {
		return nil, fmt.Errorf("%w: content of a wrong length", ErrProtocol)
	}
	return content, nil
}

// inbox is content that has come and is not taken yet. Its sender has credit for so much and no more.
type inbox struct {
	mu     sync.Mutex
	frames []*delivery
	held   int64
	come   chan struct{} // holds one when frames were added
}

// delivery is a content frame.
type delivery struct {
	payload []byte
	cost    int64
	refs    int    // records that are not done with
	buffer  []byte // that goes back when they are
}

func newInbox() *inbox { return &inbox{come: make(chan struct{}, 1)} }

func (b *inbox) push(payload []byte) error {
	cost, err := costOf(payload)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.held+cost > window {
		return fmt.Errorf("%w: more content than there was credit for", ErrProtocol)
	}
	b.held += cost
	b.frames = append(b.frames, &delivery{payload: payload, cost: cost, buffer: payload})
	select {
	case b.come <- struct{}{}:
	default:
	}
	return nil
}

// pop gives the next frame, or nil when none has come.
func (b *inbox) pop() *delivery {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.frames) == 0 {
		return nil
	}
	d := b.frames[0]
	b.frames = b.frames[1:]
	return d
}

// done notes that a record was taken, and gives the credit that is free again.
func (b *inbox) done(d *delivery) (credit int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if d.refs--; d.refs > 0 {
		return 0
	}
	b.held -= d.cost
	recycle(d.buffer)
	d.buffer = nil
	return d.cost
}
