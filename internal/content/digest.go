package content

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"io/fs"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/manifest"
)

const (
	readTries  = 3         // how often a file that changes while it is read is read again
	readBuffer = 128 << 10 // bytes
	batch      = 32        // files that one worker takes at a time
)

// digest fills in the digests, from the cache or by reading, and drops the files that could not be read.
func (t *Tree) digest(ctx context.Context, all []*found, caches []*digests, opt Options) ([]*found, error) {
	verdicts := make([]verdict, len(all))
	var unread, unopened []int
	for i, f := range all {
		if f.Kind != manifest.File {
			continue
		}
		if digest, verdict, ok := t.Sources[f.source].known(f.Path); ok {
			f.Digest, verdicts[i] = digest, verdict
			continue
		}
		cache, name := caches[f.source], t.Sources[f.source].relative(f.Path)
		if hit, ok := cache.lookup(name, f.id); ok {
			f.Digest, verdicts[i] = hit.digest, hit.verdict
			t.CacheHits++
			continue
		}
		if opt.Later > 0 && f.Size >= opt.Later && t.Sources[f.source].Files == nil {
			unopened = append(unopened, i)
			continue
		}
		unread = append(unread, i)
	}
	failures, err := t.readAll(ctx, all, verdicts, unread, opt)
	if err != nil {
		return nil, err
	}
	t.peekAll(all, verdicts, unopened, failures, opt)
	for _, i := range unread {
		f := all[i]
		cache, name := caches[f.source], t.Sources[f.source].relative(f.Path)
		if _, failed := failures[i]; failed || f.id == (identity{}) {
			cache.forget(name)
		} else {
			cache.store(name, cached{id: f.id, verdict: verdicts[i], digest: f.Digest})
		}
	}
	for _, cache := range caches {
		if opt.memory == nil {
			_ = cache.save() // see there
		}
	}
	kept := all[:0]
	for i, f := range all {
		if err, failed := failures[i]; failed {
			t.Failed = append(t.Failed, Failure{f.Path, t.Sources[f.source].local(f.Path), err})
			continue
		}
		if v := verdicts[i]; v != harmless && !allowed(t.Sources[f.source].relative(f.Path), false, opt.Allow) {
			t.Findings = append(t.Findings, Finding{Path: f.Path, Why: v.why()})
		}
		kept = append(kept, f)
	}
	t.sortFindings()
	return kept, nil
}

// peekAll looks at the beginnings of files whose digests stay open.
func (t *Tree) peekAll(all []*found, verdicts []verdict, unopened []int, failures map[int]error, opt Options) {
	d := digester{buf: make([]byte, readBuffer), keepModes: opt.KeepModes}
	for _, i := range unopened {
		f := all[i]
		if err := d.peek(&t.Sources[f.source], f, &verdicts[i]); err != nil {
			failures[i] = cause(err)
			continue
		}
		if t.later == nil {
			t.later = map[string]*later{}
		}
		t.later[f.Path] = &later{source: f.source, id: f.id, verdict: verdicts[i]}
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
	slices.SortFunc(t.LeftOut, func(a, b LeftOut) int { return compare(a.Path, b.Path) })
}

// readAll reads the files that no cache knows, on all processors.
func (t *Tree) readAll(ctx context.Context, all []*found, verdicts []verdict, unread []int,
	opt Options) (map[int]error, error) {
	var (
		mu       sync.Mutex
		failures = map[int]error{}
		next     atomic.Int64
	)
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
				for _, i := range unread[start:min(start+batch, len(unread))] {
					f := all[i]
					err := d.read(ctx, &t.Sources[f.source], f, &verdicts[i])
					if ctx.Err() != nil {
						return ctx.Err()
					}
					if err != nil {
						mu.Lock()
						failures[i] = cause(err)
						mu.Unlock()
					}
				}
			}
		})
	}
	return failures, group.Wait()
}

// digester reads one file after the other with one hash and one buffer.
type digester struct {
	hash      hash.Hash
	buf       []byte
	keepModes bool
	told      func(int64)
	clock     func() time.Time
}

// read fills in the digest of a file, and its size, mode and times as they were when it was read whole. The identity
// is left zero when the digest must not be cached.
func (d *digester) read(ctx context.Context, source *Source, f *found, v *verdict) error {
	for range readTries {
		readAt := d.clock().UnixNano()
		file, err := source.open(f.Path)
		if err != nil {
			return err
		}
		steady, err := d.readOnce(ctx, file, f, v)
		file.Close()
		if err != nil {
			return err
		}
		if steady {
			if !f.id.settled(readAt) {
				f.id = identity{}
			}
			return nil
		}
	}
	return ErrChanging
}

// readOnce tells whether the file stayed as it was while it was read.
func (d *digester) readOnce(ctx context.Context, file opened, f *found, v *verdict) (bool, error) {
	before, err := file.facts()
	if err != nil {
		return false, err
	}
	if !before.mode.IsRegular() {
		return false, errors.New("it is no longer a file")
	}
	d.hash.Reset()
	var size int64
	for {
		n, err := file.Read(d.buf)
		if size == 0 && n > 0 {
			*v = sniff(d.buf[:n])
		}
		size += int64(n)
		d.hash.Write(d.buf[:n])
		if d.told != nil {
			d.told(int64(n))
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return false, err
		}
		if err := ctx.Err(); err != nil {
			return false, err
		}
	}
	after, err := file.facts()
	if err != nil {
		return false, err
	}
	f.id = after.id
	if f.id != before.id || size != after.id.size {
		return false, nil
	}
	d.hash.Sum(f.Digest[:0])
	f.Size, f.ModTime, f.Mode = size, f.id.modTime(), fileMode(after.mode, d.keepModes)
	return true, nil
}
