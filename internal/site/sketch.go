package site

import (
	"encoding/binary"
	"sync/atomic"

	"tartine/internal/manifest"
)

// sketch tells which of some contents may be among very many, in two bytes for each of these: what it says is not among them is not. It
// is a Bloom filter (B. H. Bloom, "Space/time trade-offs in hash coding with allowable errors", 1970) whose hashes are parts of
// the digests. One of 200 others is taken for one of them. It may be added to by several goroutines at once.
type sketch []uint64

// newSketch makes one for so many contents.
func newSketch(contents int) sketch {
	words := 64
	for words*64 < 16*contents {
		words *= 2
	}
	return make(sketch, words)
}

// places gives where the bits of a content are.
func (s sketch) places(digest *manifest.Digest) (words, bits [3]uint64) {
	for i := range words {
		hash := binary.LittleEndian.Uint64(digest[8*i:])
		words[i], bits[i] = hash/64&uint64(len(s)-1), 1<<(hash%64)
	}
	return words, bits
}

func (s sketch) add(digest *manifest.Digest) {
	words, bits := s.places(digest)
	for i, at := range words {
		atomic.OrUint64(&s[at], bits[i])
	}
}

func (s sketch) mayHave(digest *manifest.Digest) bool {
	words, bits := s.places(digest)
	for i, at := range words {
		if s[at]&bits[i] == 0 {
			return false
		}
	}
	return true
}
