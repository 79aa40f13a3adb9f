package site

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// ErrChangedSinceScan tells that a file of the content no longer has the bytes that were scanned.
var ErrChangedSinceScan = errors.New("the file was changed after it was scanned")

// ErrWrongBytes tells that the far end does not hold the bytes that were sent.
var ErrWrongBytes = errors.New("the bytes that arrived are not the ones that were sent")

// staging brings content to the site.
type staging struct {
	site  *Site
	plan  *Plan
	watch *Watch
	out   *Outcome

	fresh       bool // the whole tree is staged
	folders     *folders
	sameContent map[manifest.Digest]int32 // how many parcels have the same content
	tree        *marked                   // of what is wanted; nil: some digests are open, and it is computed later

	proved atomic.Bool // files were read back as they were written
	proof  marks       // of what there is no list of: which files were

	mu     sync.Mutex
	bad    map[string]bool // paths that failed
	staged places          // all whose bytes are in place; not of a tree that is staged whole
}

// places is where the content of changes is staged, by the index of a change.
type places struct {
	staged marks
	others map[int32]string // names in the record of what is not where a step looks for it
}

func (pl *places) add(p *parcel) {
	pl.staged.set(int(p.at))
	if name := p.name(); name != usualPlace(&p.change.Want.Digest) {
		pl.others[p.at] = name
	}
}

// of gives where the content of a change is staged, as a step says it.
func (pl *places) of(change int) (from string, is bool) {
	return pl.others[int32(change)], pl.staged.has(change)
}

// parcel is one file to stage. It is small: there may be very many.
type parcel struct {
	change *diff.Change
	at     int32 // its index, unless the tree is staged whole
	part   int64 // bytes that an earlier deployment may have brought
	copy   int32 // which of the paths with this content, from 1
	lies   lies  // see name
	there  bool  // an earlier deployment may have brought all of it
	reused bool  // taken from what the site or its kept store holds

	checked bool // its digest was computed from the bytes as they were written
}

// lies says where a parcel is staged.
type lies uint8

const (
	inFreshTree lies = iota // a tree that is staged whole
	inIncoming
	inIncomingOpen // its digest is open
	inKept
)

// name gives the name in the record: in incoming, or, once it was found there, in kept; of a tree that is staged whole, its
// place in that.
func (p *parcel) name() string {
	switch p.lies {
	case inIncoming:
		return storeName(incoming, p.change.Want.Digest, int(p.copy))
	case inIncomingOpen:
		return laterName(p.change.Want)
	case inKept:
		return storeName(kept, p.change.Want.Digest, 1)
	}
	return freshTree + "/" + p.change.Path()
}

func (st *staging) run(ctx context.Context) error {
	st.sameContent = map[manifest.Digest]int32{}
	if !st.fresh {
		st.staged = places{make(marks, len(st.plan.Result.Changes)/64+1), map[int32]string{}}
	}
	st.folders = st.site.openFolders()
	if err := st.probeNames(ctx); err != nil {
		return err
	}
	if !st.fresh {
		if err := st.probeRights(ctx); err != nil {
			return err
		}
	}
	defer st.folders.close()
	var left map[string]*diff.Found // of an interrupted deployment
	if st.fresh {
		var err error
		if left, err = st.prepareFresh(ctx); err != nil {
			return err
		}
	}
	if st.plan.Unlisted != nil {
		return st.stageUnlisted(ctx)
	}
	parcels, err := st.prepareParcels(ctx, left)
	if err != nil {
		return err
	}
	if !st.plan.SendAll && !st.fresh {
		_, known := splitOpen(parcels)
		if err := st.reuse(ctx, known); err != nil {
			return err
		}
	}
	missing, err := st.resume(ctx, parcels)
	if err != nil {
		return err
	}
	all := missing
	if missing, err = st.takeBeside(ctx, missing); err != nil {
		return err
	}
	firsts, doubles := missing, map[*parcel][]*parcel{}
	if !st.plan.SendAll {
		firsts, doubles = splitDoubles(missing)
	}
	if err := st.checkSpace(ctx, missing); err != nil {
		return err
	}
	if err := st.sendMeasured(ctx, firsts); err != nil {
		return err
	}
	unmade, err := st.double(ctx, doubles)
	if err != nil {
		return err
	}
	if len(unmade) > 0 {
		if err := st.sendMeasured(ctx, unmade); err != nil {
			return err
		}
	}
	return st.check(ctx, all)
}

func (st *staging) prepareParcels(ctx context.Context, left map[string]*diff.Found) ([]*parcel, error) {
	if st.fresh {
		return st.freshParcels(left), nil
	}
	return st.parcels(ctx)
}

// sendMeasured tells what lies ahead and sends.
func (st *staging) sendMeasured(ctx context.Context, parcels []*parcel) error {
	var bytes int64
	for _, p := range parcels {
		bytes += p.change.Want.Size
	}
	st.watch.phase("stage", len(parcels), bytes)
	return st.sendAll(ctx, parcels)
}

// parcels names what must be staged, and finds what is staged already.
func (st *staging) parcels(ctx context.Context) ([]*parcel, error) {
	var out []*parcel
	for i := range st.plan.Result.Changes {
		c := &st.plan.Result.Changes[i]
		if !c.Sends() || st.failed(c.Path()) {
			continue
		}
		p := &parcel{change: c, at: int32(i)}
		if p.isOpen() {
			p.lies = inIncomingOpen
		} else {
			st.sameContent[c.Want.Digest]++
			p.copy, p.lies = st.sameContent[c.Want.Digest], inIncoming
		}
		out = append(out, p)
	}
	there, err := st.site.storeSizes(ctx, incoming, shelvesOf(out))
	if err != nil {
		return nil, err
	}
	if err := st.site.makeShelves(ctx, func(needs func(name string) bool) {
		for _, p := range out {
			needs(p.name())
		}
	}); err != nil {
		return nil, err
	}
	for _, p := range out {
		if p.change.Want.Size >= LaterFrom {
			if err := st.takeLater(ctx, p, there); err != nil {
				return nil, err
			}
		}
		if size, stands := there[p.name()]; stands {
			p.stands(size)
		}
	}
	return out, nil
}

// stands notes that so many bytes exist under a parcel's name. One whose digest is open is read to its end in any case, to
// find it out: its last byte is sent again.
func (p *parcel) stands(size int64) {
	want := p.change.Want.Size
	switch {
	case p.isOpen():
		p.part = max(min(size, want-1), 0)
	case size == want:
		p.there = true
	case size < want:
		p.part = size
	}
}

// shelvesOf gives the folders of a store that parcels are in, or would be.
func shelvesOf(parcels []*parcel) map[string]bool {
	out := map[string]bool{}
	for _, p := range parcels {
		out[shelfOf(p.name())] = true
		if p.change.Want.Size >= LaterFrom {
			out[shelfOf(laterName(p.change.Want))] = true
		}
	}
	return out
}

func (st *staging) fail(path string, err error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	st.out.Failed = append(st.out.Failed, Failure{path, err})
	if st.bad == nil {
		st.bad = map[string]bool{}
	}
	st.bad[path] = true
}

func (st *staging) failed(path string) bool {
	st.mu.Lock()
	defer st.mu.Unlock()
	return st.bad[path]
}

// sendAll sends the parcels, several at once. One that fails does not stop the others.
func (st *staging) sendAll(ctx context.Context, parcels []*parcel) error {
	if st.plan.Supply != nil && st.plan.Rollback == 0 {
		return st.receive(ctx, parcels)
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(st.site.jobs)
	for _, p := range parcels {
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			return st.arrived(ctx, p, st.send(ctx, p))
		})
	}
	return group.Wait()
}

// arrived notes that a parcel is in place, or why it is not. It fails when no others can come either.
func (st *staging) arrived(ctx context.Context, p *parcel, err error) error {
	switch {
	case errors.Is(err, farend.ErrLost), err != nil && ctx.Err() != nil:
		return err
	case err != nil:
		st.fail(p.change.Path(), err)
		return nil
	}
	st.isStaged(p)
	return nil
}

// isStaged notes that a parcel's bytes are in place.
func (st *staging) isStaged(p *parcel) {
	if st.fresh { // all that has not failed is
		return
	}
	st.mu.Lock()
	defer st.mu.Unlock()
	st.staged.add(p)
}

// inPlace tells whether a parcel's bytes are.
func (st *staging) inPlace(p *parcel) bool {
	st.mu.Lock()
	defer st.mu.Unlock()
	if st.fresh {
		return !st.bad[p.change.Path()]
	}
	return st.staged.staged.has(int(p.at))
}

// sent counts a file that was sent.
func (st *staging) sent(p *parcel, bytes int64) {
	st.mu.Lock()
	st.out.SentFiles++
	st.out.SentBytes += bytes
	st.mu.Unlock()
	st.watch.file(p.change.Path(), bytes)
}

func (st *staging) send(ctx context.Context, p *parcel) error {
	want := p.change.Want
	f, name := st.site.fs, st.site.inRecord(p.name())
	content, err := st.plan.Open(want.Path)
	if err != nil {
		return fmt.Errorf("read it here: %w", err)
	}
	defer content.Close()
	offset := st.resumesAt(p)
	if offset > 0 {
		if err := fsys.Skip(ctx, content, offset); err != nil {
			return fmt.Errorf("read it here: %w", err)
		}
		st.watch.bytes(offset)
	}
	sent, proved, err := st.putFrom(ctx, name, offset, content, want)
	if err == nil && proved == want.Digest && !p.isOpen() { // else it is looked at once more, and found out
		p.checked = true
		st.proved.Store(true)
	}
	if err == nil && offset+sent != want.Size {
		err = ErrChangedSinceScan
	}
	if err == nil && p.isOpen() {
		err = st.close(ctx, p, content)
	}
	if err != nil {
		if !errors.Is(err, farend.ErrLost) && ctx.Err() == nil {
			_ = f.Remove(ctx, name) // it would be found out by its bytes
		}
		return err
	}
	st.sent(p, sent)
	return nil
}

// WhyWrong finds out why the bytes that arrived are not those that were scanned: the file here may have changed since.
func (plan *Plan) WhyWrong(ctx context.Context, path string, want manifest.Digest, err error) error {
	if !errors.Is(err, ErrWrongBytes) || plan.Open == nil {
		return err
	}
	content, failed := plan.Open(path)
	if failed != nil {
		return ErrChangedSinceScan
	}
	defer content.Close()
	hash := sha256.New()
	if _, failed := fsys.Copy(ctx, hash, content); failed != nil || manifest.Digest(hash.Sum(nil)) != want {
		return ErrChangedSinceScan
	}
	return err
}

// putFrom writes a file from an offset on. Where the place reads back what it has written it gives the digest of that.
func (st *staging) putFrom(ctx context.Context, name string, offset int64, source io.Reader,
	want *manifest.Entry) (sent int64, proved manifest.Digest, err error) {
	attr := want.Attributes
	content := &measured{in: source, start: offset, size: want.Size - offset, told: st.watch.bytes}
	if offset > 0 {
		if extender, ok := st.site.fs.(fsys.Extender); ok {
			sent, err = extender.Extend(ctx, name, offset, content, attr)
			return sent, proved, err
		}
		return 0, proved, farend.ErrUnsupported
	}
	sent, err = st.site.fs.Put(ctx, name, content, attr)
	return sent, content.proved, err
}

// measured is a file from an offset on. It tells of bytes as they are read, and how many there should be; there are
// more where the file has grown since it was scanned.
type measured struct {
	in          io.Reader
	start, size int64
	told        func(int64)
	read        int64
	proved      manifest.Digest // see fsys.Proved
}

// Proved implements fsys.Proved.
func (m *measured) Proved(digest manifest.Digest) { m.proved = digest }

func (m *measured) Read(p []byte) (int, error) {
	n, err := m.in.Read(p)
	m.read += int64(n)
	m.told(int64(n))
	return n, err
}

// Resume implements redial.Resumer: what is written is checked by its digest.
func (m *measured) Resume(from int64) error {
	seeker, ok := m.in.(io.Seeker)
	if !ok {
		return fs.ErrInvalid
	}
	if _, err := seeker.Seek(m.start+from, io.SeekStart); err != nil {
		return err
	}
	m.told(from - m.read)
	m.read, m.proved = from, manifest.Digest{}
	return nil
}

// Size gives how many bytes there should be.
func (m *measured) Size() int64 { return m.size }

// check compares what arrived with what was wanted, and takes back what is wrong.
func (st *staging) check(ctx context.Context, sent []*parcel) error {
	arrived := slices.DeleteFunc(slices.Clone(sent), func(p *parcel) bool { return !st.inPlace(p) })
	in := len(arrived)
	arrived = slices.DeleteFunc(arrived, func(p *parcel) bool { return p.checked })
	st.methodOf(in, len(arrived))
	st.checks(arrived)
	return st.prove(ctx, arrived)
}

// checks tells that the digests of parcels are going to be computed.
func (st *staging) checks(parcels []*parcel) {
	var bytes int64
	for _, p := range parcels {
		bytes += p.change.Want.Size
	}
	if len(parcels) > 0 {
		st.watch.phase("check", len(parcels), bytes)
	}
}

// methodOf notes how the digests were computed of what arrived, less what is open still.
func (st *staging) methodOf(arrived, open int) {
	if open == arrived {
		return
	}
	switch program := st.site.Abilities().FarDigests; {
	case !st.proved.Load():
		st.out.Method = WhileWriting
	case program != "":
		st.out.Method, st.out.Program = ByProgram, program
	default:
		st.out.Method = ReadBack
	}
}

// prove has the digests of parcels computed, and takes back what is wrong.
func (st *staging) prove(ctx context.Context, arrived []*parcel) error {
	wrong, err := st.digests(ctx, arrived)
	if err != nil {
		return err
	}
	for i, err := range wrong {
		if err == nil {
			continue
		}
		st.fail(arrived[i].change.Path(), st.plan.WhyWrong(ctx, arrived[i].change.Path(), arrived[i].change.Want.Digest,
			err))
		if !st.fresh {
			st.staged.staged.clear(int(arrived[i].at))
		}
		if err := st.site.discard(ctx, []string{arrived[i].name()}); err != nil {
			return err
		}
	}
	return nil
}

// digests has the digests of parcels computed, by the far end or by reading back, and tells for each what is wrong.
func (st *staging) digests(ctx context.Context, parcels []*parcel) ([]error, error) {
	var (
		names = make([]string, len(parcels))
		wrong = make([]error, len(parcels))
	)
	for i, p := range parcels {
		names[i] = st.site.inRecord(p.name())
	}
	if len(parcels) == 0 {
		return nil, nil
	}
	far, err := fsys.Digests(ctx, st.site.fs, names, st.site.jobs, func(i int, digest manifest.Digest, err error) {
		if err == nil && digest != parcels[i].change.Want.Digest {
			err = ErrWrongBytes
		}
		wrong[i] = err
		st.watch.bytes(parcels[i].change.Want.Size)
	})
	if st.out.Method == WhileWriting || st.proved.Load() {
		return wrong, err // of by far the most
	}
	st.out.Method = ReadBack
	if far > 0 {
		st.out.Method, st.out.Program = ByProgram, st.site.Abilities().FarDigests
	}
	return wrong, err
}
