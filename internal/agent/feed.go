package agent

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// credit is the flow-control window of content: how much may still be sent.
type credit struct {
	mu      sync.Mutex
	left    int64
	changed chan struct{} // closed, and made anew, when there is more
	over    bool
}

func newCredit(left int64) *credit { return &credit{left: left, changed: make(chan struct{})} }

func (c *credit) add(bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.left += bytes
	close(c.changed)
	c.changed = make(chan struct{})
}

// end wakes all that wait: there will be no more.
func (c *credit) end() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.over = true
	close(c.changed)
	c.changed = make(chan struct{})
}

// spend waits until so many bytes may be sent.
func (c *credit) spend(ctx context.Context, bytes int64) error {
	for {
		c.mu.Lock()
		if c.over {
			c.mu.Unlock()
			return io.ErrClosedPipe
		}
		if c.left >= bytes {
			c.left -= bytes
			c.mu.Unlock()
			return nil
		}
		changed := c.changed
		c.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// feeder sends the content of files that the far end needs. Several files are read ahead at once, and sent in order.
type feeder struct {
	client *Client
	plan   *site.Plan
	need   *need
	each   manifest.Walk // the files of need, in their order
	lasts  bool          // and these last
	files  int           // how many there are

	packing
}

// batch is files that are read together: many small ones, or a large one. Its frames come in order.
type batch struct {
	first  int // position among all that is needed
	files  []*manifest.Entry
	bytes  int64
	frames chan frame
}

// takes tells whether a file goes with those that a batch has.
func (b *batch) takes(size int64) bool {
	return b.files[0].Size <= smallFile && size <= smallFile && b.bytes+size <= contentSize && len(b.files) < contentFiles
}

type frame struct {
	head, body []byte
	cost       int64
	buffer     []byte // that can be used again once it is sent; nil: there is none
}

// run sends everything, or until the connection is gone; then whoever waits for the answer is told.
func (f *feeder) run(ctx context.Context) {
	readers := runtime.GOMAXPROCS(0)
	ordered := make(chan *batch, 2*readers+2)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readers + 1) // and who lists; who sends must not wait for a place among them, as they wait for it
	group.Go(func() error {
		defer close(ordered)
		var b *batch
		begin := func() bool {
			next := b
			select {
			case ordered <- next:
			case <-ctx.Done():
				return false
			}
			group.Go(func() error { return f.fill(ctx, next) })
			return true
		}
		position := 0
		f.each(func(e *manifest.Entry) bool {
			if b != nil && !b.takes(e.Size) {
				if !begin() {
					b = nil
					return false
				}
				b = nil
			}
			if b == nil {
				b = &batch{first: position, frames: make(chan frame, 2)}
			}
			b.files, b.bytes = append(b.files, f.kept(e)), b.bytes+e.Size
			position++
			return true
		})
		if b != nil {
			begin()
		}
		if position != f.files && ctx.Err() == nil { // the far end would wait for what cannot come
			f.client.stream.Close()
		}
		return ctx.Err()
	})
	_ = f.sendAll(ctx, ordered) // a connection that is gone ends the call
	cancel()
	_ = group.Wait()
}

// kept gives an entry that lasts: digests that are found out are noted in it.
func (f *feeder) kept(e *manifest.Entry) *manifest.Entry {
	if f.lasts {
		return e
	}
	own := *e
	return &own
}

func (f *feeder) sendAll(ctx context.Context, ordered <-chan *batch) error {
	for b := range ordered {
		for {
			var (
				next frame
				more bool
			)
			select {
			case next, more = <-b.frames:
			case <-ctx.Done():
				return ctx.Err()
			}
			if !more {
				break
			}
			if err := f.send(ctx, next); err != nil {
				return err
			}
		}
	}
	return nil
}

func (f *feeder) send(ctx context.Context, next frame) error {
	if err := f.client.credit.spend(ctx, next.cost); err != nil {
		return err
	}
	began := time.Now()
	if err := f.client.sendContent(ctx, next.head, next.body); err != nil {
		return err
	}
	if f.client.lanes == nil { // else it is on its way still
		recycle(next.buffer)
	}
	f.took(len(next.body), time.Since(began))
	return nil
}

// fill reads a batch.
func (f *feeder) fill(ctx context.Context, b *batch) error {
	defer close(b.frames)
	if b.files[0].Size > smallFile {
		return f.fillLarge(ctx, b)
	}
	records := buffer(bufferSize)[:0]
	for i, e := range b.files {
		records = f.appendSmall(ctx, records, b.first+i, e)
		if len(records) > contentSize+smallFile { // files may have grown
			if err := f.put(ctx, b, records); err != nil {
				return err
			}
			records = buffer(bufferSize)[:0]
		}
	}
	return f.put(ctx, b, records)
}

// put packs records where that pays and hands them to who sends.
func (f *feeder) put(ctx context.Context, b *batch, records []byte) error {
	head, body, packed := f.pack(records)
	used := records
	if packed {
		recycle(records)
		used = nil
	}
	select {
	case b.frames <- frame{head, body, max(int64(len(records)), leastCost), used}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (f *feeder) open(ctx context.Context, position int, e *manifest.Entry) (io.ReadCloser, error) {
	content, err := f.plan.Open(e.Path)
	if err != nil {
		return nil, err
	}
	if offset := f.need.Offsets[position]; offset > 0 {
		if err := fsys.Skip(ctx, content, offset); err != nil {
			content.Close()
			return nil, err
		}
	}
	return content, nil
}

// appendSmall reads a small file into a record. One that has grown is cut: its digest will say so.
func (f *feeder) appendSmall(ctx context.Context, records []byte, position int, e *manifest.Entry) []byte {
	size := e.Size
	content, err := f.open(ctx, position, e)
	if err != nil {
		return appendRecord(records, failedRecord(position, err))
	}
	defer content.Close()
	// It is read to where it will be in its record, behind a head that is as long as the size makes it.
	head := appendRecordHead(records, position, recordLast, int(size))
	whole := slices.Grow(head, int(size)+1)
	n, err := io.ReadFull(content, whole[len(head):len(head)+int(size)+1])
	switch {
	case err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF):
		return appendRecord(records, failedRecord(position, err))
	case n == int(size):
		return whole[:len(head)+n]
	}
	data := slices.Clone(whole[len(head) : len(head)+n])
	return appendRecord(records, record{position, recordLast, data})
}

func failedRecord(position int, err error) record {
	var inner *fs.PathError
	if errors.As(err, &inner) {
		err = inner.Err
	}
	return record{position, recordFailed, []byte(err.Error())}
}

// fillLarge reads a file in parts, and one byte more than it should have, to find out that it has grown.
func (f *feeder) fillLarge(ctx context.Context, b *batch) error {
	content, err := f.open(ctx, b.first, b.files[0])
	if err != nil {
		return f.put(ctx, b, appendRecord(nil, failedRecord(b.first, err)))
	}
	defer content.Close()
	f.client.useWindow() // both ends digest it meanwhile, neither of which should wait for the other
	left := b.files[0].Size - f.need.Offsets[b.first] + 1
	if old := f.need.Old[b.first]; len(old) > 0 {
		return f.fillChanged(ctx, b, content, left, old)
	}
	for {
		// As with small files, it is read to where it will be.
		length := int(min(contentSize, left))
		whole := buffer(bufferSize)
		head := len(appendRecordHead(whole[:0], b.first, 0, length))
		data := whole[head : head+length]
		n, err := io.ReadFull(content, data)
		left -= int64(n)
		if err == nil && left > 0 {
			if err := f.put(ctx, b, whole[:head+length]); err != nil {
				return err
			}
			continue
		}
		r := record{b.first, 0, data[:n]}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), err == nil && left == 0:
			r.flags = recordLast
		case err != nil:
			r = failedRecord(b.first, err)
		}
		var before []byte
		if r.flags == recordLast {
			before = f.appendDigest(nil, b, content)
		}
		if err := f.put(ctx, b, appendRecord(before, r)); err != nil || r.flags != 0 {
			return err
		}
	}
}

// appendDigest says the digest of a file whose digest was open, which is known when all of it was read.
func (f *feeder) appendDigest(frame []byte, b *batch, content any) []byte {
	known, ok := content.(fsys.Digested)
	if !ok {
		return frame
	}
	digest, ok := known.Digest()
	if !ok {
		return frame // it has changed, which the far end finds out by this missing
	}
	b.files[0].Digest = digest
	return appendRecord(frame, record{b.first, recordDigest, digest[:]})
}

// fillChanged sends what is new of a file, and names what the old version has.
func (f *feeder) fillChanged(ctx context.Context, b *batch, content io.Reader, most int64, old packedChunks) error {
	places, err := old.places()
	if err != nil {
		return err
	}
	var (
		frame []byte
		run   span // of the old version, which goes on as long as chunks follow one another there
	)
	flush := func() {
		if run.length > 0 {
			frame = appendRecord(frame, record{b.first, recordCopy, appendSpan(nil, run)})
			run = span{}
		}
	}
	for chunks := newChunker(io.LimitReader(content, most)); ; {
		chunk, err := chunks.next()
		if err != nil {
			flush()
			r := record{b.first, recordLast, nil}
			if errors.Is(err, io.EOF) {
				frame = f.appendDigest(frame, b, content)
			} else {
				r = failedRecord(b.first, err)
			}
			return f.put(ctx, b, appendRecord(frame, r))
		}
		if at, known := places[nameOf(chunk)]; known && at.length == int64(len(chunk)) {
			if run.length > 0 && run.offset+run.length != at.offset {
				flush()
			}
			if run.length == 0 {
				run.offset = at.offset
			}
			run.length += at.length
			continue
		}
		flush()
		frame = appendRecord(frame, record{b.first, 0, chunk})
		if len(frame) >= contentSize {
			if err := f.put(ctx, b, frame); err != nil {
				return err
			}
			frame = nil
		}
	}
}
