package agent

import "sync"

// Content goes through buffers that are used again and again: where gigabytes pass, what is allocated for each frame would
// keep the collector of garbage busy.

// bufferSize is how many bytes a buffer has: a frame of content, with what is around it. Most frames that come fit into a
// smaller one.
const (
	bufferSize = contentSize + smallFile + 4<<10
	usualSize  = contentSize + 16<<10
)

var (
	buffers      = sync.Pool{New: func() any { return new([bufferSize]byte) }}
	usualBuffers = sync.Pool{New: func() any { return new([usualSize]byte) }}
)

// buffer gives a slice of a length, which is part of a buffer where one is large enough.
func buffer(length int) []byte {
	switch {
	case length > bufferSize || length < bufferSize/8: // a short one would keep much memory busy
		return make([]byte, length)
	case length > usualSize:
		return buffers.Get().(*[bufferSize]byte)[:length]
	}
	return usualBuffers.Get().(*[usualSize]byte)[:length]
}

// recycle takes back what buffer gave. Nobody may use it any more.
func recycle(slice []byte) {
	switch cap(slice) {
	case bufferSize:
		buffers.Put((*[bufferSize]byte)(slice[:bufferSize]))
	case usualSize:
		usualBuffers.Put((*[usualSize]byte)(slice[:usualSize]))
	}
}
