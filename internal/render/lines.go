package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"sync"
	"time"

	"tartine/internal/site"
)

// Lines writes JSON as a stream: one object a line, each of which says in "event" what it is.
type Lines struct {
	mu  sync.Mutex
	out io.Writer
}

// NewLines writes to a writer.
func NewLines(out io.Writer) *Lines { return &Lines{out: out} }

// Write lets whole lines pass.
func (l *Lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.out.Write(p)
}

// event writes an object, or any other value under "value".
func (l *Lines) event(kind string, value any) error {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(value); err != nil {
		return err
	}
	body := bytes.TrimSpace(text.Bytes())
	switch {
	case body[0] != '{':
		body = fmt.Appendf(nil, `{"event":%q,"value":%s}`, kind, body)
	case len(body) == 2:
		body = fmt.Appendf(nil, `{"event":%q}`, kind)
	default:
		body = fmt.Appendf(nil, `{"event":%q,%s`, kind, body[1:])
	}
	_, err := l.Write(append(safeJSON(body), '\n'))
	return err
}

// everyEvent is how often it is told at most how many bytes are done.
const everyEvent = time.Second

// Watch gives the functions that a deployment calls, and tells what they are told.
func (l *Lines) Watch() *site.Watch {
	var (
		mu           sync.Mutex
		phase        string
		files, done  int
		bytes, total int64
		last         time.Time
	)
	progress := func() {
		last = time.Now()
		_ = l.event("progress", struct { // whoever reads may have gone; what was done is told in the end
			Phase string `json:"phase"`
			Files int    `json:"files_done"`
			Of    int    `json:"files"`
			Bytes int64  `json:"bytes_done"`
			Total int64  `json:"bytes"`
		}{phase, done, files, bytes, total})
	}
	return &site.Watch{
		Phase: func(name string, count int, size int64) {
			mu.Lock()
			defer mu.Unlock()
			phase, files, total, done, bytes = name, count, size, 0, 0
			progress()
		},
		Bytes: func(n int64) {
			mu.Lock()
			defer mu.Unlock()
			if bytes += n; time.Since(last) >= everyEvent {
				progress()
			}
		},
		File: func(path string, size int64) {
			mu.Lock()
			defer mu.Unlock()
			done++
			_ = l.event("file", struct {
				Phase string `json:"phase"`
				Path  string `json:"path"`
				Size  int64  `json:"size"`
			}{phase, path, size})
		},
	}
}
