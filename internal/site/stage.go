package site

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Content is staged as incoming/xx/DIGEST, where xx are the digest's first two digits. A name says what its content is
// to be, not that it has arrived: what an interrupted deployment left behind is checked by its bytes before it is
// taken for sent, and everything is checked before it is published. Where several paths have the same content the
// second is staged as DIGEST-2, and so on: a rename uses each of them up.

const incoming = "incoming"

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

	mu     sync.Mutex
	staged map[string]string // path to name in the record, for all whose bytes are in place
}

// parcel is one file to stage.
type parcel struct {
	change *diff.Change
	name   string // in the record
	there  bool   // an earlier deployment may have brought it
}

func (st *staging) run(ctx context.Context) error {
	st.staged = map[string]string{}
	if err := st.probeNames(ctx); err != nil {
		return err
	}
	parcels, err := st.parcels(ctx)
	if err != nil {
		return err
	}
	missing, err := st.resume(ctx, parcels)
	if err != nil {
		return err
	}
	if err := st.makeFolders(ctx, missing); err != nil {
		return err
	}
	var bytes int64
	for _, p := range missing {
		bytes += p.change.Want.Size
	}
	st.watch.phase("stage", len(missing), bytes)
	if err := st.sendAll(ctx, missing); err != nil {
		return err
	}
	return st.check(ctx, missing)
}

// resume takes what an interrupted deployment staged, if its bytes are right, and gives the parcels that are missing.
func (st *staging) resume(ctx context.Context, parcels []*parcel) (missing []*parcel, err error) {
	var there []*parcel
	for _, p := range parcels {
		if p.there {
			there = append(there, p)
		} else {
			missing = append(missing, p)
		}
	}
	wrong, err := st.digests(ctx, there)
	if err != nil {
		return nil, err
	}
	for i, p := range there {
		if wrong[i] == nil {
			attr := fsys.Attr{Mode: p.change.Want.Mode, ModTime: p.change.Want.ModTime}
			wrong[i] = st.site.fs.SetAttr(ctx, st.site.inRecord(p.name), attr)
		}
		switch {
		case errors.Is(wrong[i], fsys.ErrLost), ctx.Err() != nil:
			return nil, wrong[i]
		case wrong[i] != nil:
			missing = append(missing, p)
		default:
			st.staged[p.change.Path] = p.name
			st.out.Resumed++
		}
	}
	return missing, nil
}

// Only names that are long by some system's measure are worth a question (bytes).
const longName, longPath = 140, 900

// probeNames finds names that the far side cannot hold before anything is sent: looking one up fails in another way
// than for a name that is merely missing. Long elements are looked up at the top, since the folders above them may be
// missing too.
func (st *staging) probeNames(ctx context.Context) error {
	for i := range st.plan.Result.Changes {
		c := &st.plan.Result.Changes[i]
		if c.Status != diff.New {
			continue
		}
		var probes []string
		if len(c.Path) > longPath {
			probes = append(probes, c.Path)
		}
		for element := range strings.SplitSeq(c.Path, "/") {
			if len(element) > longName {
				probes = append(probes, element)
			}
		}
		for _, probe := range probes {
			_, err := st.site.fs.Lstat(ctx, st.site.at(probe))
			if errors.Is(err, fsys.ErrLost) || ctx.Err() != nil {
				return err
			}
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				st.fail(c.Path, fmt.Errorf("the far side cannot hold a name of this length: %s", cause(err)))
				break
			}
		}
	}
	return nil
}

// parcels names what must be staged, and finds what stands staged already.
func (st *staging) parcels(ctx context.Context) ([]*parcel, error) {
	there, err := st.site.incomingSizes(ctx)
	if err != nil {
		return nil, err
	}
	var (
		out    []*parcel
		copies = map[manifest.Digest]int{}
	)
	for i := range st.plan.Result.Changes {
		c := &st.plan.Result.Changes[i]
		if !c.Sends() || st.failed(c.Path) {
			continue
		}
		name := stagedName(c.Want.Digest, copies[c.Want.Digest]+1)
		copies[c.Want.Digest]++
		size, stands := there[name]
		out = append(out, &parcel{change: c, name: name, there: stands && size == c.Want.Size})
	}
	return out, nil
}

func stagedName(d manifest.Digest, copy int) string {
	digits := d.Hex()
	name := incoming + "/" + digits[:2] + "/" + digits
	if copy > 1 {
		name = fmt.Sprintf("%s-%d", name, copy)
	}
	return name
}

// incomingSizes lists what is staged.
func (s *Site) incomingSizes(ctx context.Context) (map[string]int64, error) {
	out := map[string]int64{}
	folders, err := s.fs.List(ctx, s.inRecord(incoming))
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(s.jobs)
	for _, folder := range folders {
		if !folder.Mode.IsDir() {
			continue
		}
		group.Go(func() error {
			dir := incoming + "/" + folder.Name
			files, err := s.fs.List(ctx, s.inRecord(dir))
			mu.Lock()
			defer mu.Unlock()
			for _, f := range files {
				out[dir+"/"+f.Name] = f.Size
			}
			return err
		})
	}
	return out, group.Wait()
}

// makeFolders makes the folders below incoming that the parcels need.
func (st *staging) makeFolders(ctx context.Context, parcels []*parcel) error {
	needed := map[string]bool{}
	for _, p := range parcels {
		dir, _ := fsys.Split(p.name)
		needed[dir] = true
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(st.site.jobs)
	for dir := range needed {
		group.Go(func() error {
			err := st.site.fs.Mkdir(ctx, st.site.inRecord(dir), 0o700)
			if errors.Is(err, fs.ErrExist) {
				return nil
			}
			return err
		})
	}
	return group.Wait()
}

func (st *staging) fail(path string, err error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	st.out.Failed = append(st.out.Failed, Failure{path, err})
}

func (st *staging) failed(path string) bool {
	st.mu.Lock()
	defer st.mu.Unlock()
	return slices.ContainsFunc(st.out.Failed, func(f Failure) bool { return f.Path == path })
}

// sendAll sends the parcels, several at once. One that fails does not stop the others.
func (st *staging) sendAll(ctx context.Context, parcels []*parcel) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(st.site.jobs)
	for _, p := range parcels {
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			err := st.send(ctx, p)
			switch {
			case errors.Is(err, fsys.ErrLost), ctx.Err() != nil:
				return err
			case err != nil:
				st.fail(p.change.Path, err)
				return nil
			}
			st.mu.Lock()
			defer st.mu.Unlock()
			st.staged[p.change.Path] = p.name
			return nil
		})
	}
	return group.Wait()
}

func (st *staging) send(ctx context.Context, p *parcel) error {
	want := p.change.Want
	attr := fsys.Attr{Mode: want.Mode, ModTime: want.ModTime}
	f, name := st.site.fs, st.site.inRecord(p.name)
	content, err := st.plan.Open(want.Path)
	if err != nil {
		return fmt.Errorf("read it here: %w", err)
	}
	defer content.Close()
	hash := sha256.New()
	tee := &measured{in: io.TeeReader(content, hash), size: want.Size, told: st.watch.bytes}
	size, err := f.Put(ctx, name, tee, attr)
	if err == nil && (size != want.Size || manifest.Digest(hash.Sum(nil)) != want.Digest) {
		err = ErrChangedSinceScan
	}
	if err != nil {
		if !errors.Is(err, fsys.ErrLost) && ctx.Err() == nil {
			_ = f.Remove(ctx, name) // it would be found out by its bytes
		}
		return err
	}
	st.mu.Lock()
	st.out.SentFiles++
	st.out.SentBytes += size
	st.mu.Unlock()
	st.watch.file(want.Path, size)
	return nil
}

// measured tells of bytes as they are read, and how many there should be.
type measured struct {
	in   io.Reader
	size int64
	told func(int64)
}

func (m *measured) Read(p []byte) (int, error) {
	n, err := m.in.Read(p)
	m.told(int64(n))
	return n, err
}

func (m *measured) Size() int64 { return m.size }

// check compares what arrived with what was wanted, and takes back what is wrong.
func (st *staging) check(ctx context.Context, sent []*parcel) error {
	arrived := slices.DeleteFunc(slices.Clone(sent), func(p *parcel) bool { return st.staged[p.change.Path] == "" })
	wrong, err := st.digests(ctx, arrived)
	if err != nil {
		return err
	}
	for i, err := range wrong {
		if err == nil {
			continue
		}
		st.fail(arrived[i].change.Path, err)
		delete(st.staged, arrived[i].change.Path)
		if err := st.site.fs.Remove(ctx, st.site.inRecord(arrived[i].name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
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
		bytes int64
	)
	for i, p := range parcels {
		names[i] = st.site.inRecord(p.name)
		bytes += p.change.Want.Size
	}
	if len(parcels) == 0 {
		return nil, nil
	}
	st.watch.phase("check", len(names), bytes)
	far, err := fsys.Digests(ctx, st.site.fs, names, st.site.jobs, func(i int, digest manifest.Digest, err error) {
		if err == nil && digest != parcels[i].change.Want.Digest {
			err = ErrWrongBytes
		}
		wrong[i] = err
		st.watch.bytes(parcels[i].change.Want.Size)
	})
	st.out.Method = "read back"
	if far > 0 {
		st.out.Method = st.site.Abilities().FarDigests + " at the far end"
	}
	return wrong, err
}

// clearIncoming removes staged content that nobody needs any more.
func (s *Site) clearIncoming(ctx context.Context) error {
	staged, err := s.incomingSizes(ctx)
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(s.jobs)
	for name := range staged {
		group.Go(func() error {
			if err := s.fs.Remove(ctx, s.inRecord(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			return nil
		})
	}
	return group.Wait()
}
