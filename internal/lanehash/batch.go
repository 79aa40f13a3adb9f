package lanehash

import "slices"

// Batch collects short messages that are read one after the other, and digests them together.
type Batch struct {
	text    []byte // the messages, one behind the other
	ends    []int
	digests []*[Size]byte
}

// fullBatch is how many bytes of messages wait at most, but for the last of them.
const fullBatch = 512 << 10

// Room gives memory for the next message, until the next call.
func (b *Batch) Room(most int) []byte {
	b.text = slices.Grow(b.text, most)
	return b.text[len(b.text) : len(b.text)+most]
}

// Add takes the first bytes of what Room gave for a message. Its digest is there once Sum was called.
func (b *Batch) Add(length int, digest *[Size]byte) {
	b.text = b.text[:len(b.text)+length]
	b.ends, b.digests = append(b.ends, len(b.text)), append(b.digests, digest)
}

// Full tells whether enough has come for Sum to be called.
func (b *Batch) Full() bool { return len(b.text) >= fullBatch }

// Sum digests what was added since it was called last.
func (b *Batch) Sum() {
	messages, from := make([][]byte, len(b.ends)), 0
	for i, end := range b.ends {
		messages[i], from = b.text[from:end], end
	}
	Sum(messages, b.digests)
	b.text, b.ends, b.digests = b.text[:0], b.ends[:0], b.digests[:0]
}
