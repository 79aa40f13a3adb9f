package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/lanehash"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// supply asks the client for content and hands it to the engine, as a site.Supplier.
type supply struct {
	inbox  *inbox
	ask    func(need) error   // sends what is needed
	grant  func(bytes int64)  // gives credit back
	ended  func() (err error) // whether nothing more can come, and why
	over   <-chan struct{}    // closed when nothing more can come
	taking *atomic.Bool       // is set meanwhile
}

// Supply implements site.Supplier.
func (s *supply) Supply(ctx context.Context, asked site.Asked,
	take func(context.Context, int, io.Reader, *site.Whole, error) error) error {
	pieces := asked.Len()
	if pieces == 0 {
		return nil
	}
	n := need{Runs: wireRuns(asked.Runs), Offsets: asked.Offsets}
	var err error
	if n.Old, err = cutOld(ctx, asked.Old); err != nil {
		return err
	}
	if s.taking != nil { // content may come, and the connection be lost, before the next statement is reached
		s.taking.Store(true)
		defer s.taking.Store(false)
	}
	if err := s.ask(n); err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	d := &distributor{supply: s, take: take, group: group, old: asked.Old,
		slots: make(chan struct{}, 2*runtime.GOMAXPROCS(0)), pieces: pieces}
	group.Go(func() error { return d.run(ctx) })
	return group.Wait()
}

// cutOld cuts the old versions of pieces. One that cannot be read is none.
func cutOld(ctx context.Context, opens map[int]func() (io.ReadCloser, error)) (map[int]packedChunks, error) {
	out := map[int]packedChunks{}
	room := mostChunks * (1 + len(chunkName{}))
	for _, i := range slices.Sorted(maps.Keys(opens)) {
		if room <= 0 {
			break
		}
		old, err := opens[i]()
		if err != nil {
			continue
		}
		chunks, err := chunksOf(ctx, old)
		old.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if room -= len(chunks); err == nil && room > 0 {
			out[i] = chunks
		}
	}
	return out, nil
}

// distributor hands records to the engine: small files many at a time, a large one as a stream.
type distributor struct {
	*supply
	take   func(context.Context, int, io.Reader, *site.Whole, error) error
	group  *errgroup.Group
	slots  chan struct{} // how many frames of small files are worked on at once
	pieces int
	old    map[int]func() (io.ReadCloser, error) // opens old versions, by position
	next   int                                   // the position that comes next
	large  *large                                // the file that is under way, or nil
}

func (d *distributor) run(ctx context.Context) error {
	defer func() {
		if d.large != nil { // it ends early: what has come of it stays, for the next deployment to go on from
			d.large.cut.Store(true)
			close(d.large.parts)
		}
	}()
	for d.next < d.pieces || d.large != nil {
		frame := d.inbox.pop()
		if frame == nil {
			select {
			case <-d.inbox.come:
			case <-ctx.Done():
				return ctx.Err()
			case <-d.over:
				if frame = d.inbox.pop(); frame == nil {
					return d.ended()
				}
			}
			if frame == nil {
				continue
			}
		}
		if err := d.deliver(ctx, frame); err != nil {
			return err
		}
	}
	return nil
}

// deliver works on one frame.
func (d *distributor) deliver(ctx context.Context, frame *delivery) error {
	content, err := unpackContent(frame.payload)
	if err != nil {
		return err
	}
	frame.payload = nil
	records, err := parseRecords(content)
	if err != nil {
		return err
	}
	frame.refs = max(len(records), 1)
	if len(records) == 0 {
		d.release(frame)
	}
	var small []record
	for _, r := range records {
		if d.large != nil {
			if r.position != d.large.position {
				return fmt.Errorf("%w: a part of file %d in the middle of %d", ErrProtocol, r.position,
					d.large.position)
			}
			if err := d.part(ctx, frame, r); err != nil {
				return err
			}
			continue
		}
		if r.position != d.next || r.position >= d.pieces {
			return fmt.Errorf("%w: file %d in the place of %d", ErrProtocol, r.position, d.next)
		}
		d.next++
		if r.flags&(recordLast|recordFailed) != 0 && r.flags&recordCopy == 0 {
			small = append(small, r)
			continue
		}
		d.begin(ctx, r.position)
		if err := d.part(ctx, frame, r); err != nil {
			return err
		}
	}
	return d.takeSmall(ctx, frame, small)
}

func (d *distributor) release(frame *delivery) {
	if credit := d.inbox.done(frame); credit > 0 {
		d.grant(credit)
	}
}

// remoteReadError is why a file could not be read at the client.
func remoteReadError(text []byte) error {
	return fmt.Errorf("read it here: %s", strings.ToValidUTF8(string(text[:min(len(text), 1000)]), "?"))
}

func (d *distributor) takeSmall(ctx context.Context, frame *delivery, records []record) error {
	if len(records) == 0 {
		return nil
	}
	select {
	case d.slots <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	d.group.Go(func() error {
		defer func() { <-d.slots }()
		wholes := digestAll(records)
		for i, r := range records {
			var err error
			if r.flags&recordFailed != 0 {
				err = d.take(ctx, r.position, nil, nil, remoteReadError(r.data))
			} else {
				err = d.take(ctx, r.position, nil, &wholes[i], nil)
			}
			d.release(frame)
			if err != nil {
				return err
			}
		}
		return nil
	})
	return nil
}

// digestAll gives the files that records hold, with the digests of their bytes.
func digestAll(records []record) []site.Whole {
	wholes := make([]site.Whole, len(records))
	bytes, digests := make([][]byte, len(records)), make([]*[lanehash.Size]byte, len(records))
	for i := range records {
		wholes[i].Bytes, bytes[i] = records[i].data, records[i].data
		digests[i] = (*[lanehash.Size]byte)(&wholes[i].Digest)
	}
	lanehash.Sum(bytes, digests)
	return wholes
}

// large is a file that comes in parts.
type large struct {
	position int
	parts    chan part
	gone     chan struct{} // closed when nobody reads the parts any more
	cut      atomic.Bool   // the connection was lost before its end
}

type part struct {
	data  []byte
	copy  *span  // of the old version, in the place of data
	whole []byte // the digest of the file, in the place of data
	err   error
	frame *delivery
}

func (d *distributor) begin(ctx context.Context, position int) {
	l := &large{position: position, parts: make(chan part, 4), gone: make(chan struct{})}
	d.large = l
	d.group.Go(func() error {
		r := &partReader{parts: l.parts, cut: &l.cut, release: d.release, open: d.old[position]}
		defer r.close()
		err := d.take(ctx, position, r, nil, nil)
		close(l.gone)
		r.drain()
		return err
	})
}

// part hands over a part of the file that is under way.
func (d *distributor) part(ctx context.Context, frame *delivery, r record) error {
	p := part{data: r.data, frame: frame}
	switch {
	case r.flags&recordFailed != 0:
		p.data, p.err = nil, remoteReadError(r.data)
	case r.flags&recordCopy != 0:
		from, err := parseSpan(r.data)
		if err != nil {
			return err
		}
		p.data, p.copy = nil, &from
	case r.flags&recordDigest != 0:
		if len(r.data) != len(manifest.Digest{}) {
			return fmt.Errorf("%w: a digest of %d bytes", ErrProtocol, len(r.data))
		}
		p.data, p.whole = nil, bytes.Clone(r.data) // the frame is used again before it is asked for
	}
	select {
	case d.large.parts <- p:
	case <-d.large.gone:
		d.release(frame)
	case <-ctx.Done():
		return ctx.Err()
	}
	if r.flags&(recordLast|recordFailed) != 0 {
		close(d.large.parts)
		d.large = nil
	}
	return nil
}

// partReader reads the parts of a file.
type partReader struct {
	parts   chan part
	cut     *atomic.Bool
	now     part
	release func(*delivery)
	open    func() (io.ReadCloser, error) // the old version; nil: there is none
	old     io.ReadCloser
	copied  int64
	whole   []byte // the digest of all of it, as its sender says; nil: that is not said
}

// Digest gives the digest of the whole file, where that was open and it has come to its end.
func (r *partReader) Digest() (digest manifest.Digest, known bool) {
	copy(digest[:], r.whole)
	return digest, r.whole != nil
}

func (r *partReader) Read(p []byte) (int, error) {
	for len(r.now.data) == 0 && r.now.copy == nil {
		r.finish()
		if r.now.err != nil {
			return 0, r.now.err
		}
		next, ok := <-r.parts
		if !ok && r.cut.Load() {
			return 0, farend.ErrLost
		}
		if !ok {
			return 0, io.EOF
		}
		if r.now = next; next.whole != nil {
			r.whole = next.whole
		}
		if next.copy != nil {
			if err := r.seek(next.copy.offset); err != nil {
				return 0, err
			}
		}
	}
	if from := r.now.copy; from != nil {
		return r.readOld(p, from)
	}
	n := copy(p, r.now.data)
	r.now.data = r.now.data[n:]
	return n, nil
}

// seek goes to a place of the old version.
func (r *partReader) seek(offset int64) error {
	if r.old == nil {
		if r.open == nil {
			return fmt.Errorf("%w: a copy of a file that does not exist", ErrProtocol)
		}
		var err error
		if r.old, err = r.open(); err != nil {
			return err
		}
	}
	seeker, ok := r.old.(io.Seeker)
	if !ok {
		return farend.ErrUnsupported
	}
	_, err := seeker.Seek(offset, io.SeekStart)
	return err
}

func (r *partReader) readOld(p []byte, from *span) (int, error) {
	n, err := r.old.Read(p[:min(int64(len(p)), from.length)])
	r.copied += int64(n)
	if from.length -= int64(n); from.length == 0 {
		r.now.copy = nil
		return n, nil
	}
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF // it was cut while it was read
	}
	return n, err
}

// Copied gives how many bytes were taken from the old version.
func (r *partReader) Copied() int64 { return r.copied }

func (r *partReader) close() {
	if r.old != nil {
		r.old.Close()
	}
}

// finish gives the credit of a part back that was read.
func (r *partReader) finish() {
	if r.now.frame != nil {
		r.release(r.now.frame)
		r.now.frame = nil
	}
}

// drain passes over what is left, so that its sender is not held up.
func (r *partReader) drain() {
	r.finish()
	for p := range r.parts {
		r.release(p.frame)
	}
}
