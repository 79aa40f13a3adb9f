package farend

import (
	"bytes"
	"strings"
	"sync"
)

// Tail keeps the end of what is written to it.
type Tail struct {
	Most int // how much is kept, in bytes

	mu   sync.Mutex
	text []byte
}

// Write implements io.Writer.
func (t *Tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.text = append(t.text, p...)
	t.text = t.text[max(0, len(t.text)-t.Most):]
	return len(p), nil
}

// Bytes gives what is kept, as it was written.
func (t *Tail) Bytes() []byte {
	t.mu.Lock()
	defer t.mu.Unlock()
	return bytes.Clone(t.text)
}

// String gives what is kept, fit to be shown.
func (t *Tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return Said(strings.TrimSpace(string(t.text)), t.Most)
}
