package content

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"io/fs"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/lanehash"
	"tartine/internal/manifest"
)

const (
	readTries  = 3         // how often a file that changes while it is read is read again
	readBuffer = 128 << 10 // bytes
	batch      = 32        // files that one worker takes at a time
)

// reading is a file whose digest is found out.
type reading struct {
	entry   *manifest.Entry // of the tree
	member  *member         // that it is; nil: it is in a list
	id      identity        // as it was when it was read
	source  int32
	verdict verdict
	err     error // why it could not be read
}

// digest finds out the digests of files in some folders that no cache knows. Those that could not be read are marked.
func (g *gathering) digest(ctx context.Context, folders [][]member) error {
	var unread, unopened []reading
	for _, members := range folders {
		for i := range members {
			m := &members[i]
			if m.Kind != manifest.File || !m.Digest.IsZero() {
				continue
			}
			r := reading{entry: &m.Entry, member: m, source: m.source}
			if g.opt.Later > 0 && m.Size >= g.opt.Later && !g.Sources[r.source].isListed() {
				unopened = append(unopened, r)
			} else {
				unread = append(unread, r)
			}
		}
	}
	if err := g.readAll(ctx, unread, *g.opt); err != nil {
		return err
	}
	g.peekAll(unopened, *g.opt)
	for i := range unread {
		g.learn(&unread[i])
	}
	for _, r := range append(unread, unopened...) {
		if r.err != nil {
			g.Failed = append(g.Failed, Failure{r.entry.Path, g.Sources[r.source].local(r.entry.Path), cause(r.err)})
			r.member.source = failed
		} else if r.verdict != harmless {
			g.suspect(r.entry.Path, r.source, r.verdict)
		}
	}
	return nil
}

// judge notes what the guard says of files whose content is known.
func (g *gathering) judge() {
	for b, v := range g.suspects {
		if at, found := g.Find(b.path); found && g.from[at] == b.source {
			g.suspect(b.path, b.source, v)
		}
	}
}

func (g *gathering) saveCaches() {
	for _, cache := range g.caches {
		if g.opt.memory == nil {
			_ = cache.save() // see there
		}
	}
}

// learn keeps a digest that was found out, or that it was not.
func (g *gathering) learn(r *reading) {
	cache, name := g.caches[r.source], g.Sources[r.source].relative(r.entry.Path)
	if r.err != nil || r.id == (identity{}) {
		cache.forget(name)
	} else {
		cache.store(name, cached{id: r.id, verdict: r.verdict, digest: r.entry.Digest})
	}
}

// suspicious tells whether the guard has something to say of a file's content that is not allowed.
func (t *Tree) suspicious(path string, source int32, v verdict) bool {
	return v != harmless && !allowed(t.Sources[source].relative(path), false, t.scanned.Allow)
}

// suspect notes what the guard says of a file's content, unless that is allowed.
func (t *Tree) suspect(path string, source int32, v verdict) {
	if t.suspicious(path, source, v) {
		t.Findings = append(t.Findings, Finding{Path: path, Why: v.why()})
	}
}

// drop takes entries out.
func (t *Tree) drop(which map[*manifest.Entry]bool) {
	if len(which) == 0 {
		return
	}
	kept := 0
	for i := range t.entries {
		if !which[&t.entries[i]] {
			t.entries[kept], t.from[kept] = t.entries[i], t.from[i]
			kept++
		}
	}
	t.entries, t.from = t.entries[:kept], t.from[:kept]
}

// peekAll looks at the beginnings of files whose digests stay open.
func (t *Tree) peekAll(unopened []reading, opt Options) {
	d := digester{buf: make([]byte, readBuffer), keepModes: opt.KeepModes}
	for i := range unopened {
		r := &unopened[i]
		if r.err = d.peek(&t.Sources[r.source], r); r.err != nil {
			continue
		}
		if t.later == nil {
			t.later = map[string]*later{}
		}
		t.later[r.entry.Path] = &later{source: r.source, id: r.id, verdict: r.verdict}
	}
}

// cause gives an error without the operation and the name around it.
func cause(err error) error {
	var inner *fs.PathError
	if errors.As(err, &inner) {
		return inner.Err
	}
	return err
}

// sortFindings keeps one finding for each path.
func (t *Tree) sortFindings() {
	slices.SortStableFunc(t.Findings, func(a, b Finding) int { return compare(a.Path, b.Path) })
	t.Findings = slices.CompactFunc(t.Findings, func(a, b Finding) bool { return a.Path == b.Path })
	slices.SortFunc(t.Failed, func(a, b Failure) int { return compare(a.Path, b.Path) })
	slices.SortStableFunc(t.Refused, func(a, b Failure) int { return compare(a.Path, b.Path) })
	slices.SortFunc(t.LeftOut, func(a, b LeftOut) int { return compare(a.Path, b.Path) })
}

// readAll reads files on all processors.
func (t *Tree) readAll(ctx context.Context, unread []reading, opt Options) error {
	var next atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	for range min(opt.Jobs, (len(unread)+batch-1)/batch) {
		group.Go(func() error {
			d := digester{hash: sha256.New(), buf: make([]byte, readBuffer), keepModes: opt.KeepModes, told: opt.Read,
				clock: time.Now}
			if opt.Cache != nil {
				d.clock = opt.Cache.clock
			}
			for {
				start := int(next.Add(batch)) - batch
				if start >= len(unread) {
					return nil
				}
				some := unread[start:min(start+batch, len(unread))]
				for i := range some {
					some[i].err = d.read(ctx, &t.Sources[some[i].source], &some[i])
					if ctx.Err() != nil {
						return ctx.Err()
					}
					if d.small.Full() {
						d.small.Sum()
					}
				}
				d.small.Sum()
			}
		})
	}
	return group.Wait()
}

// digester reads one file after the other with one hash and one buffer. Small files are digested together, some at a
// time, once they are read.
type digester struct {
	hash      hash.Hash
	small     lanehash.Batch
	buf       []byte
	keepModes bool
	told      func(int64)
	clock     func() time.Time
}

// read fills in the digest of a file, of a small one with the next sum of the batch, and its size, mode and times as they
// were when it was read whole. The identity is left zero when the digest must not be cached.
func (d *digester) read(ctx context.Context, source *Source, r *reading) error {
	for range readTries {
		readAt := d.clock().UnixNano()
		file, err := source.open(r.entry.Path)
		if err != nil {
			return err
		}
		steady, err := d.readOnce(ctx, file, r)
		file.Close()
		if err != nil {
			return err
		}
		if steady {
			if !r.id.settled(readAt) {
				r.id = identity{}
			}
			return nil
		}
	}
	return ErrChanging
}

// readOnce tells whether the file stayed as it was while it was read.
func (d *digester) readOnce(ctx context.Context, file opened, r *reading) (bool, error) {
	before, err := file.facts()
	if err != nil {
		return false, err
	}
	if !before.mode.IsRegular() {
		return false, errors.New("it is no longer a file")
	}
	var size int64
	isSmall := before.id.size <= lanehash.Longest
	if isSmall {
		size, err = d.readSmall(file, before.id.size, &r.verdict)
	} else {
		size, err = d.readLarge(ctx, file, &r.verdict)
	}
	if err != nil {
		return false, err
	}
	after, err := file.facts()
	if err != nil {
		return false, err
	}
	r.id = after.id
	if r.id != before.id || size != after.id.size {
		return false, nil
	}
	e := r.entry
	if isSmall {
		d.small.Add(int(size), (*[lanehash.Size]byte)(&e.Digest))
	} else {
		d.hash.Sum(e.Digest[:0])
	}
	e.Size, e.ModTime, e.Mode = size, r.id.modTime(), fileMode(after.mode, d.keepModes)
	return true, nil
}

// readLarge digests a file while it is read.
func (d *digester) readLarge(ctx context.Context, file io.Reader, v *verdict) (size int64, err error) {
	d.hash.Reset()
	for {
		n, err := file.Read(d.buf)
		if size == 0 && n > 0 {
			*v = sniff(d.buf[:n])
		}
		size += int64(n)
		d.hash.Write(d.buf[:n])
		d.tell(n)
		if err == io.EOF {
			return size, nil
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return size, err
		}
	}
}

// readSmall reads a file into the batch, up to a byte more than it should have.
func (d *digester) readSmall(file io.Reader, size int64, v *verdict) (int64, error) {
	room := d.small.Room(int(size) + 1)
	n, err := io.ReadFull(file, room)
	if err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	*v = sniff(room[:n])
	d.tell(n)
	return int64(n), err
}

func (d *digester) tell(bytes int) {
	if d.told != nil {
		d.told(int64(bytes))
	}
}
