// Package lanehash computes the SHA-256 (FIPS 180-4) of many short messages at once: each has a lane of its own in the
// processor's vectors, and all lanes take the same steps. A tree of many small files is digested several times as fast
// so, on processors that have wide vectors (AVX-512) and no instructions of their own for SHA-256. On all others, and
// for a long message, crypto/sha256 is the quickest, and Sum leaves the work to it.
package lanehash

import (
	"crypto/sha256"
	"sync"
)

// Longest is up to how many bytes a message is worth a lane: the lanes that have no message wait for the longest one.
const Longest = 64 << 10

// Size is the length of a digest in bytes.
const Size = sha256.Size

var spare = sync.Pool{New: func() any { return new(work) }}

// Sum gives the digest of each message, of any length, in the place of the same index, of which there must be as many.
func Sum(messages [][]byte, digests []*[Size]byte) {
	if !able { // one after the other is quicker
		for i, m := range messages {
			*digests[i] = sha256.Sum256(m)
		}
		return
	}
	w := spare.Get().(*work)
	w.run(messages, digests)
	*w = work{} // the messages are not kept
	spare.Put(w)
}
