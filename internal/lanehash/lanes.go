package lanehash

import (
	"crypto/sha256"
	"encoding/binary"
	"unsafe"
)

const (
	lanes     = 16
	blockSize = sha256.BlockSize
	fewest    = 5 // lanes from which on they take less time than one message after the other
)

var start = [8]uint32{0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a, 0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19}

// work is messages on their way through the lanes.
type work struct {
	state [8][lanes]uint32 // word by word, as the vectors hold it
	at    [lanes]unsafe.Pointer
	lane  [lanes]lane
}

// lane is what is left of the message in a lane.
type lane struct {
	body   []byte // whole blocks
	end    []byte // the padded end, behind the body
	padded [2 * blockSize]byte
	of     int // the message, by index; -1: the lane is empty
}

// run takes the messages through the lanes. A lane whose message ends gets the next one. In the end, once few lanes are
// taken, what is left is begun anew one by one.
func (w *work) run(messages [][]byte, digests []*[Size]byte) {
	for l := range w.lane {
		w.lane[l].of = -1
	}
	next := 0
	for {
		busy, blocks := 0, 0
		for l := range w.lane {
			in := &w.lane[l]
			for in.of < 0 && next < len(messages) {
				if m := messages[next]; len(m) > Longest {
					*digests[next] = sha256.Sum256(m)
				} else {
					w.enter(l, m, next)
				}
				next++
			}
			if in.of < 0 {
				continue
			}
			if n := in.blocks(); busy == 0 || n < blocks {
				blocks = n
			}
			busy++
		}
		switch {
		case busy == 0:
			return
		case busy < fewest && next == len(messages):
			for l := range w.lane {
				if of := w.lane[l].of; of >= 0 {
					*digests[of] = sha256.Sum256(messages[of])
				}
			}
			return
		}
		w.step(blocks)
		for l := range w.lane {
			if in := &w.lane[l]; in.of >= 0 && in.advance(blocks) {
				for word := range w.state {
					binary.BigEndian.PutUint32(digests[in.of][4*word:], w.state[word][l])
				}
				in.of = -1
			}
		}
	}
}

// enter puts a message into a lane.
func (w *work) enter(l int, message []byte, of int) {
	for word := range w.state {
		w.state[word][l] = start[word]
	}
	in, whole := &w.lane[l], len(message)/blockSize*blockSize
	in.of, in.body = of, message[:whole]
	in.padded = [2 * blockSize]byte{}
	rest := copy(in.padded[:], message[whole:])
	in.padded[rest] = 0x80
	end := blockSize
	if rest+1+8 > blockSize {
		end = 2 * blockSize
	}
	binary.BigEndian.PutUint64(in.padded[end-8:], uint64(len(message))*8)
	in.end = in.padded[:end]
}

// blocks gives how many blocks follow one another in memory.
func (in *lane) blocks() int {
	if len(in.body) > 0 {
		return len(in.body) / blockSize
	}
	return len(in.end) / blockSize
}

// advance passes over blocks and tells whether the message has ended.
func (in *lane) advance(blocks int) bool {
	if len(in.body) > 0 {
		in.body = in.body[blocks*blockSize:]
		return false
	}
	in.end = in.end[blocks*blockSize:]
	return len(in.end) == 0
}

// step takes all lanes on by so many blocks, of which each that has a message has as many. Those that have none go where
// another one goes, and what comes of that is not looked at.
func (w *work) step(blocks int) {
	var any unsafe.Pointer
	for l := range w.lane {
		in := &w.lane[l]
		switch {
		case in.of < 0:
			w.at[l] = nil
			continue
		case len(in.body) > 0:
			w.at[l] = unsafe.Pointer(&in.body[0])
		default:
			w.at[l] = unsafe.Pointer(&in.end[0])
		}
		any = w.at[l]
	}
	for l := range w.at {
		if w.at[l] == nil {
			w.at[l] = any
		}
	}
	compress(&w.state, &w.at, uint64(blocks))
}
