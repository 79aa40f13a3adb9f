package site

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"sync"
)

// making takes a file of the record while it is made: into memory, or on to where it is written.
type making struct {
	site *Site
	ctx  context.Context
	name string

	text bytes.Buffer
	// streams has what comes from now on written at once. That is for a place on this machine, of which nothing else is
	// read until the file is complete: over a connection, what is written must be at hand should that be lost, and there
	// may be no second one.
	streams bool
	pipe    *io.PipeWriter // what is streamed goes into it, from the first byte on
	written chan error     // has an element once that is written, or could not be
}

func (w *making) Write(text []byte) (int, error) {
	if !w.streams {
		return w.text.Write(text)
	}
	if w.pipe == nil {
		var content *io.PipeReader
		content, w.pipe = io.Pipe()
		w.written = make(chan error, 1)
		go func() {
			many := gathered.Get().(*bufio.Reader)
			many.Reset(content)
			err := w.site.writeFrom(w.ctx, w.name, io.MultiReader(bytes.NewReader(w.text.Bytes()), many))
			many.Reset(nil)
			gathered.Put(many)
			content.CloseWithError(cmp.Or(err, io.ErrClosedPipe))
			w.written <- err
		}()
	}
	return w.pipe.Write(text)
}

// gathered is readers that have what is streamed be written in large pieces.
var gathered = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, 256<<10) }}

// end has the file written, which is complete.
func (w *making) end() error {
	if w.pipe == nil {
		return w.site.write(w.ctx, w.name, w.text.Bytes())
	}
	w.pipe.Close()
	err := <-w.written
	w.pipe = nil
	return err
}

// giveUp ends what goes on for a file that is not complete, and does nothing behind end. It gives why the file could not be
// written, if that is so.
func (w *making) giveUp() error {
	if w.pipe == nil {
		return nil
	}
	w.pipe.CloseWithError(errGivenUp)
	err := <-w.written
	if w.pipe = nil; errors.Is(err, errGivenUp) {
		return nil
	}
	return err
}

var errGivenUp = errors.New("it is given up")
