package deploy

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
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
	of      map[string]int  // the batch of each small file that is wanted
	gone    map[string]bool // what was recorded and is no longer there
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

// Entries gives it as a source. Listing it fails with a *DriftError or an *UnrecordedError.
func (p *Promotion) Entries() *content.Entries {
	return &content.Entries{List: p.list, Open: p.open, Want: p.want}
}

// list lists what the site should hold.
func (p *Promotion) list(ctx context.Context) (*manifest.Folded, error) {
	if p.engine == nil {
		var err error
		if p.engine, err = p.Open(ctx); err != nil {
			return nil, err
		}
		p.reading, p.stop = context.WithCancel(context.WithoutCancel(ctx))
	}
	p.mu.Lock()
	p.batches, p.of, p.gone = nil, nil, nil
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
	return p.settle(ctx, now)
}

// settle applies what is to become of drift.
func (p *Promotion) settle(ctx context.Context, now *site.Current) (*manifest.Folded, error) {
	drifted := slices.Concat(now.Missing, now.Altered)
	slices.Sort(drifted)
	switch {
	case len(drifted) == 0:
		return now.Entries, nil
	case p.Drifted == "":
		return nil, &DriftError{p.From, drifted}
	}
	gone := map[string]bool{}
	for _, path := range drifted {
		gone[path] = true
	}
	if p.Drifted != TakeStanding {
		p.gone = gone
		return now.Entries, nil
	}
	stands := &site.Standing{Entries: &manifest.Folded{}}
	if len(now.Altered) > 0 {
		var err error
		if stands, err = calls.Stands.On(ctx, p.engine, now.Altered); err != nil {
			return nil, err
		}
	}
	return manifest.FoldAll(func(visit func(e *manifest.Entry) bool) {
		others := stands.Entries.Entries() // what drifted
		now.Entries.Each(func(e *manifest.Entry) bool {
			for len(others) > 0 && others[0].Path < e.Path {
				visit(&others[0])
				others = others[1:]
			}
			return gone[e.Path] || visit(e)
		})
		manifest.Each(others, visit)
	}), nil
}

// unrecorded gives all that is at a site that has no record, where that is asked for.
func (p *Promotion) unrecorded(ctx context.Context) (*manifest.Folded, error) {
	if p.Drifted != TakeStanding {
		return nil, &UnrecordedError{p.From}
	}
	stands, err := calls.Stands.On(ctx, p.engine, nil)
	if err != nil {
		return nil, err
	}
	p.Promoted = &manifest.Promoted{From: p.From, Tree: manifest.TreeOf(stands.Entries.Each)}
	return stands.Entries, nil
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

// want says which files will be opened, so that small ones can be read many at a time, ahead of those who ask.
func (p *Promotion) want(files []manifest.Entry) {
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
	slices.SortFunc(files, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	for i := range files {
		e := &files[i]
		if _, twice := p.of[e.Path]; twice || e.Size > site.MostGathered || p.gone[e.Path] {
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
	batches, gone := p.batches, p.gone[path]
	p.mu.Unlock()
	if gone {
		return nil, errRecordedGone
	}
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
