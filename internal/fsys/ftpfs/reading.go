package ftpfs

import (
	"context"
	"io"
	"io/fs"

	"tartine/internal/connect/ftpline"

	"github.com/jlaffaye/ftp"
)

// reading is a file that is read. When its connection is lost it goes on over another one.
type reading struct {
	fs      *FS
	ctx     context.Context
	name    string
	size    int64
	at      int64
	line    *ftpline.Conn // nil: none at present
	content *ftp.Response
	stop    func() bool
	ended   bool
}

// open begins, or goes on where reading left off.
func (r *reading) open() error {
	return r.fs.do(r.ctx, "open", r.name, nil, func(line *ftpline.Conn) error {
		content, err := line.RetrFrom(r.fs.full(r.name), uint64(r.at))
		if err != nil {
			return err
		}
		r.line, r.content = line, content
		r.stop = context.AfterFunc(r.ctx, func() { line.Close() })
		return errKept
	})
}

func (r *reading) Read(p []byte) (int, error) {
	for empty := 0; ; empty++ {
		if empty == mostEmpty { // it has been cut short at the server
			return 0, &fs.PathError{Op: "read", Path: r.fs.full(r.name), Err: io.ErrUnexpectedEOF}
		}
		if r.line == nil {
			if err := r.open(); err != nil {
				return 0, err
			}
		}
		n, err := r.content.Read(p)
		r.at += int64(n)
		switch {
		case err == nil:
			return n, nil
		case err == io.EOF && r.at >= r.size: // a connection that is cut looks like the end, too
			r.ended = true
			return n, err
		case r.ctx.Err() != nil:
			return n, r.ctx.Err()
		}
		r.drop(true)
		if n > 0 {
			return n, nil
		}
	}
}

// mostEmpty is how often reading may end without anything more, although there should be more.
const mostEmpty = 5

// drop gives the connection back.
func (r *reading) drop(broken bool) {
	if !r.stop() {
		broken = true
	}
	r.fs.lines.give(r.line, broken)
	r.line = nil
}

func (r *reading) Close() error {
	if r.line != nil {
		r.drop(!r.ended || r.content.Close() != nil)
	}
	return nil
}
