package deploy

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Promotion is what is at another site, as a source of content: what its last deployment recorded there. Its bytes go
// through the memory of this machine, and only those that are asked for.
type Promotion struct {
	From string // the site, as a person calls it
	// Open opens that site. It is called once.
	Open    func(ctx context.Context) (calls.Engine, error)
	Drifted Drifted

	engine   calls.Engine
	Promoted *manifest.Promoted // what was found; nil before
	Origin   *manifest.Origin   // of that deployment; nil: it has none

	reading context.Context // while the promotion is open
	stop    context.CancelFunc
	portion portion
	mu      sync.Mutex
	batches []*batch
	of      map[string]int // the batch of each small file that is wanted
	under   sync.WaitGroup
}

// Drifted says what becomes of what drifted at the site that content comes from.
type Drifted string

// The answers. Without one, drift is an error.
const (
	TakeRecorded Drifted = "recorded" // what was deployed there counts
	TakeStanding Drifted = "standing" // what is there now counts
)

// DriftError tells that a site is not as it was deployed.
type DriftError struct {
	From  string
	Paths []string // sorted
}

func (e *DriftError) Error() string {
	return fmt.Sprintf("%s is not as it was deployed", e.From)
}

// UnrecordedError tells that no deployment is recorded at the site that content should come from.
type UnrecordedError struct{ From string }

func (e *UnrecordedError) Error() string {
	return fmt.Sprintf("no deployment is recorded at %s", e.From)
}

// errRecordedGone is why a file that drifted cannot be brought as it was.
var errRecordedGone = errors.New("what was deployed there was altered or removed since")

// Files lists what the site should hold, for content.Source. It fails with a *DriftError or an *UnrecordedError.
func (p *Promotion) Files(ctx context.Context) ([]content.File, error) {
	if p.engine == nil {
		var err error
		if p.engine, err = p.Open(ctx); err != nil {
			return nil, err
		}
		p.reading, p.stop = context.WithCancel(context.WithoutCancel(ctx))
	}
	p.mu.Lock()
	p.batches, p.of = nil, nil
	p.mu.Unlock()
	asked := time.Now()
	if _, err := calls.Unfinished.On(ctx, p.engine, calls.None{}); err != nil {
		return nil, err
	}
	if p.portion = near; time.Since(asked) > longLine {
		p.portion = far
	}
	now, err := calls.Current.On(ctx, p.engine, calls.None{})
	if err != nil {
		return nil, err
	}
	if now.Unfinished {
		return nil, &DriftError{p.From, []string{"a publish there was interrupted, or is under way"}}
	}
	if now.Number == 0 {
		return p.unrecorded(ctx)
	}
	tree, err := manifest.CheckedTree(now.Entries.Each) // the far end is not trusted with this machine
	if err != nil {
		return nil, fmt.Errorf("what is recorded at %s: %w", p.From, err)
	}
	p.Promoted, p.Origin = &manifest.Promoted{From: p.From, Deployment: now.Number, Tree: tree}, now.Origin
	return p.settle(ctx, now.Entries.Entries(), now)
}

// settle applies what is to become of drift.
func (p *Promotion) settle(ctx context.Context, entries []manifest.Entry, now *site.Current) ([]content.File, error) {
	drifted := slices.Concat(now.Missing, now.Altered)
	slices.Sort(drifted)
	if len(drifted) > 0 && p.Drifted == "" {
		return nil, &DriftError{p.From, drifted}
	}
	gone := map[string]bool{}
	for _, path := range drifted {
		gone[path] = true
	}
	var out []content.File
	for i := range entries {
		e := &entries[i]
		if !gone[e.Path] {
			out = append(out, &promoted{p, e, false})
		} else if p.Drifted == TakeRecorded {
			out = append(out, &promoted{p, e, true})
		}
	}
	if p.Drifted != TakeStanding {
		return out, nil
	}
	if len(now.Altered) == 0 {
		return out, nil
	}
	stands, err := calls.Stands.On(ctx, p.engine, now.Altered)
	if err != nil {
		return nil, err
	}
	return append(out, p.files(stands)...), nil
}

func (p *Promotion) files(stands *site.Standing) (out []content.File) {
	entries := stands.Entries.Entries()
	for i := range entries {
		out = append(out, &promoted{p, &entries[i], false})
	}
	return out
}

// unrecorded gives all that is at a site that has no record, where that is asked for.
func (p *Promotion) unrecorded(ctx context.Context) ([]content.File, error) {
	if p.Drifted != TakeStanding {
		return nil, &UnrecordedError{p.From}
	}
	stands, err := calls.Stands.On(ctx, p.engine, nil)
	if err != nil {
		return nil, err
	}
	p.Promoted = &manifest.Promoted{From: p.From, Tree: manifest.TreeOf(stands.Entries.Each)}
	return p.files(stands), nil
}

// promoted is an entry of the other site.
type promoted struct {
	from  *Promotion
	entry *manifest.Entry
	gone  bool // what was recorded is no longer there
}

func (f *promoted) Path() string                   { return f.entry.Path }
func (f *promoted) Lstat() (fs.FileInfo, error)    { return promotedInfo{f.entry}, nil }
func (f *promoted) Readlink() (string, error)      { return f.entry.Link, nil }
func (f *promoted) Known() (manifest.Digest, byte) { return f.entry.Digest, 0 }

func (f *promoted) Open() (io.ReadCloser, error) {
	if f.gone {
		return nil, errRecordedGone
	}
	return f.from.open(f.entry.Path)
}

type promotedInfo struct{ entry *manifest.Entry }

func (i promotedInfo) Name() string       { return path.Base(i.entry.Path) }
func (i promotedInfo) Size() int64        { return i.entry.Size }
func (i promotedInfo) ModTime() time.Time { return i.entry.ModTime }
func (i promotedInfo) IsDir() bool        { return i.entry.Kind == manifest.Dir }
func (i promotedInfo) Sys() any           { return nil }

func (i promotedInfo) Mode() fs.FileMode {
	switch i.entry.Kind {
	case manifest.Dir:
		return fs.ModeDir | i.entry.Mode
	case manifest.Link:
		return fs.ModeSymlink | 0o777
	}
	return i.entry.Mode
}

// batch is small files that are read in one call.
type batch struct {
	paths []string
	begun sync.Once
	done  chan struct{}
	err   error

	mu    sync.Mutex
	files map[string]calls.Gathered
}

// portion is how much is read ahead in one call. Two of them are in memory at a time, or a few where files are asked for in
// another order.
type portion struct {
	files int
	bytes int64
}

// Small portions are read faster, since they stay in a processor's cache; over a long line each costs a round trip.
var (
	near = portion{100, 512 << 10}
	far  = portion{500, 4 << 20}
)

// longLine is from which round trip on a line is a long one.
const longLine = 5 * time.Millisecond

// Want says which files will be opened, so that small ones can be read many at a time, ahead of those who ask.
func (p *Promotion) Want(files []content.File) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.of == nil { // else several sources are of one site
		p.of = map[string]int{}
	}
	var (
		last *batch
		size int64
	)
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b content.File) int { return strings.Compare(a.Path(), b.Path()) })
	for _, f := range files {
		e := f.(*promoted).entry
		if _, twice := p.of[e.Path]; twice || e.Size > site.MostGathered || f.(*promoted).gone {
			continue
		}
		if last == nil || len(last.paths) == p.portion.files || size+e.Size > p.portion.bytes {
			last, size = &batch{done: make(chan struct{})}, 0
			p.batches = append(p.batches, last)
		}
		last.paths, size = append(last.paths, e.Path), size+e.Size
		p.of[e.Path] = len(p.batches) - 1
	}
}

func (p *Promotion) open(path string) (io.ReadCloser, error) {
	p.mu.Lock()
	at, small := p.of[path]
	batches := p.batches
	p.mu.Unlock()
	if !small {
		return calls.Open(p.reading, p.engine, path)
	}
	p.begin(batches[at])
	if at+1 < len(batches) {
		p.begin(batches[at+1])
	}
	b := batches[at]
	<-b.done
	if b.err != nil {
		return nil, b.err
	}
	b.mu.Lock()
	file, there := b.files[path]
	delete(b.files, path) // it is asked for once; else it is read again
	b.mu.Unlock()
	switch {
	case !there:
		return calls.Open(p.reading, p.engine, path)
	case file.Err != nil:
		return nil, file.Err
	}
	return io.NopCloser(bytes.NewReader(file.Content)), nil
}

// begin has a batch read, once.
func (p *Promotion) begin(b *batch) {
	b.begun.Do(func() {
		p.under.Go(func() {
			defer close(b.done)
			files, err := calls.Gather.On(p.reading, p.engine, b.paths)
			if err == nil && len(files) != len(b.paths) {
				err = fmt.Errorf("%w: %d files for %d", calls.ErrProtocol, len(files), len(b.paths))
			}
			if b.err = err; err != nil {
				return
			}
			b.files = make(map[string]calls.Gathered, len(files))
			for i := range files {
				b.files[b.paths[i]] = files[i]
			}
		})
	})
}

// Close ends what is read ahead. The engine is the caller's to close.
func (p *Promotion) Close() {
	if p.stop != nil {
		p.stop()
	}
	p.under.Wait()
}
