package agent

import "sync"

// Content goes through buffers that are used again and again: where gigabytes pass, what is allocated for each frame would
// keep the collector of garbage busy.

// bufferSize is how many bytes a buffer has: a frame of content, with what is around it.
const bufferSize = contentSize + smallFile + 4<<10

var buffers = sync.Pool{New: func() any { return new([bufferSize]byte) }}

// buffer gives a slice of a length, which is part of a buffer where one is large enough.
func buffer(length int) []byte {
	if length > bufferSize || length < bufferSize/8 { // a short one would keep much memory busy
		return make([]byte, length)
	}
	return buffers.Get().(*[bufferSize]byte)[:length]
}

// recycle takes back what buffer gave. Nobody may use it any more.
func recycle(slice []byte) {
	if cap(slice) == bufferSize {
		buffers.Put((*[bufferSize]byte)(slice[:bufferSize]))
	}
}
