package agent

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"sync"

	"golang.org/x/crypto/blake2b"
)

// A large file that changed is sent as what is new of it: both sides cut their version where its content says so, and
// what lies between two cuts and is known at the far end is named and not sent. Cuts move with what is inserted or
// removed before them, so that nothing behind it counts as new.
//
// A chunk has leastChunk bytes at least and mostChunk at most. Behind the least a sum runs over its bytes, h = 2h +
// gear[b] (mod 2^64), from 0 on; the chunk ends with the byte behind which the upper 16 bits of h are all zero. gear[b]
// is the first eight bytes, the highest first, of the SHA-256 of the one byte b. A chunk is named by the first 16 bytes
// of its BLAKE2b-256; that the whole file is right is found out by its own digest.
const (
	leastChunk = 16 << 10
	mostChunk  = 256 << 10
	cutMask    = 0xffff << 48
)

var gear = sync.OnceValue(func() *[256]uint64 {
	var table [256]uint64
	for b := range table {
		sum := sha256.Sum256([]byte{byte(b)})
		table[b] = binary.BigEndian.Uint64(sum[:])
	}
	return &table
})

type chunkName [16]byte

func nameOf(chunk []byte) chunkName {
	sum := blake2b.Sum256(chunk)
	return chunkName(sum[:16])
}

// chunker cuts a stream into chunks by content, with a gear hash.
type chunker struct {
	in    *bufio.Reader
	table *[256]uint64
}

func newChunker(in io.Reader) *chunker {
	return &chunker{bufio.NewReaderSize(in, 2*mostChunk), gear()}
}

// next gives the next chunk, which holds until the one after it is asked for; io.EOF at the end.
func (c *chunker) next() ([]byte, error) {
	ahead, err := c.in.Peek(mostChunk)
	if len(ahead) == 0 {
		if err == nil || err == bufio.ErrBufferFull {
			err = io.ErrNoProgress
		}
		return nil, err
	}
	if err != nil && err != io.EOF {
		return nil, err
	}
	end := len(ahead)
	var h uint64
	for i := leastChunk; i < len(ahead); i++ {
		h = h<<1 + c.table[ahead[i]]
		if h&cutMask == 0 {
			end = i + 1
			break
		}
	}
	chunk := ahead[:end]
	_, err = c.in.Discard(end)
	return chunk, err
}

// packedChunks is the chunks of a file, in order: the length of each (uvarint), and its name.
type packedChunks []byte

// mostChunks bounds how many chunks are named in one message.
const mostChunks = 1 << 18

// chunksOf cuts a whole file.
func chunksOf(ctx context.Context, in io.Reader) (packedChunks, error) {
	var out packedChunks
	c := newChunker(in)
	for range mostChunks {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		chunk, err := c.next()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		out = binary.AppendUvarint(out, uint64(len(chunk)))
		name := nameOf(chunk)
		out = append(out, name[:]...)
	}
	return nil, fmt.Errorf("it has more than %d chunks", mostChunks)
}

// span is a stretch of a file.
type span struct{ offset, length int64 }

// places gives where each chunk is.
func (p packedChunks) places() (map[chunkName]span, error) {
	out := map[chunkName]span{}
	at := int64(0)
	for rest := []byte(p); len(rest) > 0; {
		length, n := binary.Uvarint(rest)
		if n <= 0 || len(rest) < n+len(chunkName{}) {
			return nil, fmt.Errorf("%w: chunks", ErrProtocol)
		}
		name := rest[n : n+len(chunkName{})]
		rest = rest[n+len(name):]
		if length > mostChunk || len(out) == mostChunks || at > math.MaxInt64/2 {
			return nil, fmt.Errorf("%w: chunks", ErrProtocol)
		}
		out[chunkName(name)] = span{at, int64(length)}
		at += int64(length)
	}
	return out, nil
}

// A record that copies holds, in the place of bytes, which stretch of the old version exists there.

func appendSpan(out []byte, s span) []byte {
	return binary.AppendUvarint(binary.AppendUvarint(out, uint64(s.offset)), uint64(s.length))
}

func parseSpan(data []byte) (s span, err error) {
	offset, n := binary.Uvarint(data)
	length, m := binary.Uvarint(data[max(n, 0):])
	if n <= 0 || m <= 0 || n+m < len(data) || offset > math.MaxInt64/2 || length > math.MaxInt64/2 {
		return s, fmt.Errorf("%w: a copy from nowhere", ErrProtocol)
	}
	return span{int64(offset), int64(length)}, nil
}
