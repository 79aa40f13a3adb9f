package content

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"maps"
	"slices"
	"time"

	"tartine/internal/manifest"
)

// A large file that no cache knows need not be digested before it is sent: it takes as long as sending it. Scan looks at
// its beginning alone, which is where the guard looks, and leaves its digest open; whoever sends it has read it to its end
// then, and knows. Where the digest decides whether it is sent at all, Content.Resolve finds it out.

// later is a file whose digest is open.
type later struct {
	source  int32
	id      identity
	verdict verdict
	readAt  int64           // when it was opened last, in nanoseconds since 1970
	digest  manifest.Digest // that was found out by reading it then; zero: it was not
}

// peek does what read does but for the digest.
func (d *digester) peek(source *Source, r *reading) error {
	file, err := source.open(r.entry.Path)
	if err != nil {
		return err
	}
	defer file.Close()
	facts, err := file.facts()
	if err != nil {
		return err
	}
	if !facts.mode.IsRegular() {
		return errors.New("it is no longer a file")
	}
	n, err := io.ReadFull(file, d.buf)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return err
	}
	r.verdict, r.id = sniff(d.buf[:n]), facts.id
	e := r.entry
	e.Size, e.ModTime, e.Mode = facts.id.size, facts.id.modTime(), fileMode(facts.mode, d.keepModes)
	return nil
}

// digesting is a file that is digested while it is read.
type digesting struct {
	opened
	of    *later
	hash  hash.Hash
	at    int64
	ended bool // and was the same all the time
}

func (d *digesting) Read(p []byte) (int, error) {
	n, err := d.opened.Read(p)
	d.hash.Write(p[:n])
	d.at += int64(n)
	if err == io.EOF {
		after, failed := d.facts()
		if d.ended = failed == nil && after.id == d.of.id && d.at == after.id.size; d.ended {
			d.hash.Sum(d.of.digest[:0])
		}
	}
	return n, err
}

// Seek goes to a place by reading what is before it.
func (d *digesting) Seek(offset int64, whence int) (int64, error) {
	if whence == io.SeekCurrent {
		offset += d.at
	}
	seeker, ok := d.opened.(io.Seeker)
	if !ok || whence == io.SeekEnd {
		return d.at, errors.ErrUnsupported
	}
	if offset < d.at {
		if _, err := seeker.Seek(0, io.SeekStart); err != nil {
			return d.at, err
		}
		d.hash.Reset()
		d.at, d.ended = 0, false
	}
	_, err := io.CopyN(io.Discard, struct{ io.Reader }{d}, offset-d.at)
	return d.at, err
}

// Digest implements fsys.Digested.
func (d *digesting) Digest() (digest manifest.Digest, known bool) {
	if d.ended {
		digest = d.of.digest
	}
	return digest, d.ended
}

// openLater opens a file whose digest is open.
func (t *Tree) openLater(path string, l *later) (opened, error) {
	l.readAt = time.Now().UnixNano()
	if cache := t.scanned.Cache; cache != nil {
		l.readAt = cache.clock().UnixNano()
	}
	file, err := t.Sources[l.source].open(path)
	if err != nil {
		return nil, err
	}
	return &digesting{opened: file, of: l, hash: sha256.New()}, nil
}

// openDigests gives the paths of the files whose digests are open, sorted.
func (t *Tree) openDigests() []string { return slices.Sorted(maps.Keys(t.later)) }

// resolve finds out some of the digests that are open. A file that cannot be read is named among those that failed, and
// is no longer part of the content.
func (t *Tree) resolve(ctx context.Context, paths []string, opt Options) error {
	unread := make([]reading, len(paths))
	for i, path := range paths {
		unread[i] = reading{entry: &manifest.Entry{Path: path}, id: t.later[path].id, source: t.later[path].source}
	}
	if err := t.readAll(ctx, unread, opt); err != nil {
		return err
	}
	t.folding.Lock()
	defer t.folding.Unlock()
	failed := map[*manifest.Entry]bool{}
	for i := range unread {
		r := &unread[i]
		delete(t.later, r.entry.Path)
		if r.err != nil {
			t.Failed = append(t.Failed, Failure{r.entry.Path, t.Sources[r.source].local(r.entry.Path), cause(r.err)})
		} else {
			t.learn(r.source, r.entry.Path, r.entry.Digest, r.id, r.verdict, opt)
		}
		if t.folds != nil {
			t.folds.resolve(r.entry, r.err != nil)
			continue
		}
		at, _ := manifest.Find(t.entries, r.entry.Path)
		e := &t.entries[at]
		failed[e] = r.err != nil
		e.Digest, e.Size, e.ModTime = r.entry.Digest, r.entry.Size, r.entry.ModTime // it keeps its mode
	}
	t.drop(failed)
	t.sortFindings()
	return nil
}

// learned notes the digests that were found out by sending.
func (t *Tree) learned(opt Options) {
	t.folding.Lock()
	defer t.folding.Unlock()
	for path, l := range t.later {
		if l.digest.IsZero() {
			continue
		}
		if t.folds == nil {
			if at, found := manifest.Find(t.entries, path); found {
				t.entries[at].Digest = l.digest
			}
		} else {
			t.folds.resolve(&manifest.Entry{Path: path, Digest: l.digest, Size: l.id.size, Attributes: manifest.Attributes{ModTime: l.id.modTime()}}, false)
		}
		if l.id.settled(l.readAt) {
			t.learn(l.source, path, l.digest, l.id, l.verdict, opt)
		}
	}
}

// learn writes a digest into the cache; they are few.
func (t *Tree) learn(from int32, path string, digest manifest.Digest, id identity, v verdict, opt Options) {
	if id == (identity{}) {
		return
	}
	source := &t.Sources[from]
	cache := opt.Cache.load(source.Path)
	cache.store(source.relative(path), cached{id: id, verdict: v, digest: digest})
	_ = cache.save() // see there
}
