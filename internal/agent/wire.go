package agent

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"tartine/internal/calls"
)

// A frame is a length in four bytes, the highest first, and as many bytes, of which the first says what kind it is.
type kind byte

// The kinds of frame.
const (
	helloFrame   kind = 'h' // who speaks; the first in each direction
	partFrame    kind = 'p' // a part of the body of the message that comes next
	messageFrame kind = 'm' // the last part of the body, and with it the message
	packedFrame  kind = 'z' // the same for a body that is packed with zstd (RFC 8878)
	entriesFrame kind = 'e' // entries that the next comparison is about, packed with zstd
	contentFrame kind = 'd' // content of files
	creditFrame  kind = 'w' // how many bytes of content more may be sent
	cancelFrame  kind = 'x' // the call is no longer wanted
	aliveFrame   kind = 'a' // a keep-alive
	aheadFrame   kind = 'f' // the next comparison will be with something else than is recorded
)

// link frames what goes to the other side and what comes from there. Frames may be sent from several goroutines at
// once; one receives.
type link struct {
	in *bufio.Reader

	mu  sync.Mutex
	out *bufio.Writer
}

func newLink(in io.Reader, out io.Writer) *link {
	return &link{in: bufio.NewReaderSize(in, 256<<10), out: bufio.NewWriterSize(out, 64<<10)}
}

// send sends one frame, whose payload may come in pieces.
func (l *link) send(k kind, pieces ...[]byte) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.write(k, pieces...); err != nil {
		return err
	}
	return l.out.Flush()
}

func (l *link) write(k kind, pieces ...[]byte) error {
	length := 1
	for _, p := range pieces {
		length += len(p)
	}
	if length > maxFrame {
		return fmt.Errorf("a frame of %d bytes is too long", length)
	}
	var head [5]byte
	binary.BigEndian.PutUint32(head[:], uint32(length))
	head[4] = byte(k)
	if _, err := l.out.Write(head[:]); err != nil {
		return err
	}
	for _, p := range pieces {
		if _, err := l.out.Write(p); err != nil {
			return err
		}
	}
	return nil
}

// receive gives the next frame. The payload is the caller's; that of content may be recycled.
func (l *link) receive() (kind, []byte, error) {
	var head [5]byte
	if _, err := io.ReadFull(l.in, head[:]); err != nil {
		return 0, nil, err
	}
	length := binary.BigEndian.Uint32(head[:])
	if length < 1 || length > maxFrame {
		return 0, nil, fmt.Errorf("%w: a frame of %d bytes", ErrProtocol, length)
	}
	var payload []byte
	if kind(head[4]) == contentFrame {
		payload = buffer(int(length - 1))
	} else {
		payload = make([]byte, length-1)
	}
	if _, err := io.ReadFull(l.in, payload); err != nil {
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		return 0, nil, err
	}
	return kind(head[4]), payload, nil
}

// partSize is how much of a body goes into one frame, in bytes; packFrom is from where on it is packed, and tryPacking how
// much of a longer one is packed first, to see whether that pays.
const (
	partSize   = 512 << 10
	packFrom   = 4 << 10
	tryPacking = 32 << 10
)

// packs tells whether a body becomes shorter when it is packed.
func packs(body []byte) bool {
	if len(body) < packFrom {
		return false
	}
	if len(body) < 4*tryPacking {
		return true
	}
	at := len(body) / 2
	tried := body[at : at+tryPacking]
	return len(packer().EncodeAll(tried, nil)) < tryPacking-tryPacking/16
}

// sendMessage sends a message whole, in as many frames as its body needs.
func (l *link) sendMessage(m *message) error {
	body, err := encoding.Marshal(m)
	if err != nil {
		return err
	}
	last := messageFrame
	if packs(body) {
		body, last = packer().EncodeAll(body, nil), packedFrame
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for len(body) > partSize {
		if err := l.write(partFrame, body[:partSize]); err != nil {
			return err
		}
		body = body[partSize:]
	}
	if err := l.write(last, body); err != nil {
		return err
	}
	return l.out.Flush()
}

// assembler puts messages together from their frames.
type assembler struct{ body []byte }

// add takes a frame and gives the message that is whole with it, or nil.
func (a *assembler) add(k kind, payload []byte) (*message, error) {
	if len(a.body)+len(payload) > maxBody {
		return nil, fmt.Errorf("%w: a message of more than %d bytes", ErrProtocol, maxBody)
	}
	if len(a.body) > 0 || k == partFrame {
		if len(a.body)+len(payload) > cap(a.body) {
			a.body = slices.Grow(a.body, len(a.body)+len(payload)) // to twice as much
		}
		a.body = append(a.body, payload...)
		payload = a.body
	}
	if k == partFrame {
		return nil, nil
	}
	a.body = nil
	if k == packedFrame {
		var err error
		if payload, err = unpacker().DecodeAll(payload, nil); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrProtocol, err)
		}
	}
	m := &message{}
	if err := decoding.Unmarshal(payload, m); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrProtocol, err)
	}
	return m, nil
}

var (
	encoding, decoding = calls.Encoding, calls.Decoding
	packer             = sync.OnceValue(func() *zstd.Encoder {
		return must(zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
			zstd.WithWindowSize(packedWindow))) // it takes twice as much memory
	})
	unpacker = sync.OnceValue(func() *zstd.Decoder {
		return must(zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxBody), zstd.WithDecoderConcurrency(1)))
	})
	contentUnpacker = sync.OnceValue(func() *zstd.Decoder {
		return must(zstd.NewReader(nil, zstd.WithDecoderMaxMemory(2*maxFrame), zstd.WithDecoderConcurrency(0)))
	})
)

// must is for options that are right or wrong for good.
func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}
