package cli

import (
	"errors"
	"io"
	"os"
	"sync"
	"syscall"
)

// told is standard output. It remembers that something could not be written: what was not told is not done, whatever
// else went well.
type told struct {
	io.Writer
	mu  sync.Mutex
	err error
}

func (t *told) Write(p []byte) (int, error) {
	n, err := t.Writer.Write(p)
	if err != nil {
		t.mu.Lock()
		t.err = errors.Join(t.err, err)
		t.mu.Unlock()
	}
	return n, err
}

// deaf tells whether nothing more can be written to standard output.
func (a *app) deaf() bool {
	failed, _ := a.said.failure()
	return failed != nil
}

// failure gives why something could not be written; nil: all was. Where whoever reads has gone, nothing is to be said
// about it.
func (t *told) failure() (err error, silent bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	var path *os.PathError
	if errors.As(t.err, &path) {
		return path.Err, errors.Is(path.Err, syscall.EPIPE)
	}
	return t.err, false
}
