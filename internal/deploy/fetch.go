package deploy

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/calls"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Fetch is what is to be fetched from a site into a folder of this machine.
type Fetch struct {
	Into string   // the folder; it is made when it is missing
	As   string   // another name for the one path that is fetched; empty: its own
	Jobs int      // files in flight at once
	From []string // paths of the site; none: everything

	entries []manifest.Entry
	names   []string // where each entry goes, below Into
	root    *os.Root
	same    int
	open    []int                 // entries of files that are here with the same size, which nobody has read yet
	left    []site.Failure        // what is there and cannot be brought
	way     map[string]bool       // names here that must go before anything can come, since folders and files are in each other's place
	at      func() map[string]int // entries by their names here, for those who ask
	folders *sync.Map             // those that are here, as far as is known
	syncs   bool                  // all is made durable in one step at the end

	Missing  []int // entries that do not exist here
	Replaced []int // entries that are here otherwise
}

// Fetched is what a fetch did.
type Fetched struct {
	Files  int
	Bytes  int64
	Same   int
	Failed []site.Failure // sorted by path
}

// NewFetch compares what is at the site with what is here. It makes the folder, and nothing else. It must be closed.
func NewFetch(ctx context.Context, s calls.Engine, f Fetch, told func(bytes int64)) (*Fetch, error) {
	for i, p := range f.From {
		f.From[i] = strings.Trim(path.Clean("/"+p), "/")
	}
	if len(f.From) == 1 && f.From[0] == "" {
		f.From = nil
	}
	if f.As != "" && (len(f.From) != 1 || strings.ContainsAny(f.As, `/\`) || f.As == "." || f.As == "..") {
		return nil, fmt.Errorf("another name is for one path, and has no folder in it, not %q", f.As)
	}
	stands, err := calls.Stands.Watched(ctx, s, f.From, &site.Watch{Bytes: told})
	if err != nil {
		return nil, err
	}
	f.left = stands.Left
	if err := os.MkdirAll(f.Into, 0o755); err != nil {
		return nil, err
	}
	if f.root, err = os.OpenRoot(f.Into); err != nil {
		return nil, err
	}
	f.folders, f.way, f.at = &sync.Map{}, map[string]bool{}, sync.OnceValue(f.byName)
	for _, e := range slices.Concat(stands.Entries, stands.Raw) {
		if err := manifest.CheckBytes(e.Path); err != nil { // the far end is not trusted with this machine
			f.root.Close()
			return nil, fmt.Errorf("the site names %q: %w", e.Path, err)
		}
		name := e.Path
		if f.As != "" {
			name = f.As + strings.TrimPrefix(e.Path, f.From[0])
		}
		f.add(e, name)
	}
	if err := f.compare(ctx); err != nil {
		f.root.Close()
		return nil, err
	}
	return &f, nil
}

// Close lets go of the folder.
func (f *Fetch) Close() error { return f.root.Close() }

// Path gives where an entry goes.
func (f *Fetch) Path(i int) string { return filepath.Join(f.Into, filepath.FromSlash(f.names[i])) }

// Bytes gives how many bytes are to come.
func (f *Fetch) Bytes() (bytes int64) {
	for _, list := range [][]int{f.Missing, f.Replaced} {
		for _, i := range list {
			bytes += f.entries[i].Size
		}
	}
	return bytes
}

func (f *Fetch) add(e manifest.Entry, name string) {
	at := len(f.entries)
	f.entries, f.names = append(f.entries, e), append(f.names, name)
	f.blocked(e.Kind, name)
	switch stands, equal, open := f.here(&e, name); {
	case open:
		f.open = append(f.open, at)
	case equal:
		f.same++
	case stands && !f.way[name]:
		f.Replaced = append(f.Replaced, at)
	default:
		f.Missing = append(f.Missing, at)
	}
}

// compare finds out which files that are here, and have the size that is wanted, have other bytes.
func (f *Fetch) compare(ctx context.Context) error {
	if len(f.open) == 0 {
		return ctx.Err()
	}
	here, err := osfs.Open(f.Into)
	if err != nil {
		return err
	}
	defer here.Close()
	names, equal := make([]string, len(f.open)), make([]bool, len(f.open))
	for i, at := range f.open {
		names[i] = f.names[at]
	}
	if _, err := fsys.Digests(ctx, here, names, f.Jobs, func(i int, digest manifest.Digest, err error) {
		equal[i] = err == nil && digest == f.entries[f.open[i]].Digest
	}); err != nil {
		return err
	}
	for i, at := range f.open {
		if equal[i] {
			f.same++
		} else {
			f.Replaced = append(f.Replaced, at)
		}
	}
	f.open = nil
	slices.Sort(f.Replaced)
	return nil
}

// blocked notes what is here in the place of a folder, or as a folder in the place of something else.
func (f *Fetch) blocked(kind manifest.Kind, name string) {
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		if _, known := f.way[dir]; known {
			break
		}
		info, err := f.root.Stat(filepath.FromSlash(dir))
		f.way[dir] = err == nil && !info.IsDir()
	}
	if info, err := f.root.Lstat(filepath.FromSlash(name)); err == nil && info.IsDir() != (kind == manifest.Dir) {
		f.way[name] = true
	}
}

// InTheWay gives, sorted, what is here in the place of a folder, and the folders in the place of a file or link. They
// go with all that is in them.
func (f *Fetch) InTheWay() (out []string) {
	for _, name := range slices.Sorted(maps.Keys(f.way)) {
		if f.way[name] {
			out = append(out, filepath.Join(f.Into, filepath.FromSlash(name)))
		}
	}
	return out
}

// clearWay removes that.
func (f *Fetch) clearWay() error {
	for _, name := range slices.Sorted(maps.Keys(f.way)) {
		if f.way[name] {
			if err := f.root.RemoveAll(filepath.FromSlash(name)); err != nil {
				return err
			}
		}
	}
	return nil
}

// sweep removes what fetches left in a folder that were killed.
func (f *Fetch) sweep(dir string) {
	folder, err := f.root.Open(filepath.FromSlash(dir))
	if err != nil {
		return
	}
	defer folder.Close()
	list, err := folder.ReadDir(-1)
	if err != nil {
		return
	}
	for _, entry := range list {
		made := asidePattern.FindStringSubmatch(entry.Name())
		if made == nil || entry.IsDir() {
			continue
		}
		if process, err := strconv.Atoi(made[1]); err == nil && process != os.Getpid() && !site.ProcessLives(process) {
			_ = f.root.Remove(filepath.Join(filepath.FromSlash(dir), entry.Name())) // the next one tries it again
		}
	}
}

// asidePattern is the name under which a file is written before it takes its place, with the number of the process.
var asidePattern = regexp.MustCompile(`^\.tartine-([0-9]+)-[0-9]+$`)

// here tells whether something exists under a name, and whether it is what an entry says, which may be open as long as nobody has read
// it.
func (f *Fetch) here(e *manifest.Entry, name string) (stands, equal, open bool) {
	info, err := f.root.Lstat(filepath.FromSlash(name))
	if err != nil {
		return false, false, false
	}
	switch e.Kind {
	case manifest.Dir:
		return true, info.IsDir(), false
	case manifest.Link:
		link, err := f.root.Readlink(filepath.FromSlash(name))
		return true, err == nil && link == e.Link, false
	}
	return true, false, info.Mode().IsRegular() && info.Size() == e.Size
}

func (f *Fetch) byName() map[string]int {
	out := make(map[string]int, len(f.names))
	for i, name := range f.names {
		out[name] = i
	}
	return out
}

// leadsOut tells whether a link would lead out of the folder: followed step by step, through the links that are
// fetched, and those that are here where nothing is fetched in their place.
func (f *Fetch) leadsOut(name string) bool {
	return manifest.LeadsOut(name, func(path string) (string, bool) {
		if i, fetched := f.at()[path]; fetched {
			return f.entries[i].Link, f.entries[i].Kind == manifest.Link
		}
		target, err := f.root.Readlink(filepath.FromSlash(path))
		return filepath.ToSlash(target), err == nil
	})
}

// errLeads tells that a link is not made, since it leads out of the folder.
var errLeads = errors.New("a link that leads out of the folder is not made")

// Run brings what is missing or is otherwise. Each file is written under another name, checked, and then renamed.
func (f *Fetch) Run(ctx context.Context, s calls.Engine, watch *site.Watch) (*Fetched, error) {
	out := &Fetched{Same: f.same, Failed: slices.Clone(f.left)}
	if err := f.clearWay(); err != nil {
		return nil, err
	}
	var (
		mu    sync.Mutex
		files atomic.Int64
		size  atomic.Int64
	)
	todo := append(append([]int{}, f.Missing...), f.Replaced...)
	if watch.Phase != nil {
		watch.Phase("fetch", len(todo), f.Bytes())
	}
	came := func(i int, err error) {
		if err != nil {
			mu.Lock()
			defer mu.Unlock()
			out.Failed = append(out.Failed, site.Failure{Path: f.entries[i].Path, Err: err})
			return
		}
		files.Add(1)
		size.Add(f.entries[i].Size)
		if watch.File != nil {
			watch.File(f.entries[i].Path, f.entries[i].Size)
		}
	}
	durable, done := f.syncer()
	defer done()
	f.syncs = durable != nil
	small, others := f.batches(todo)
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(f.Jobs, 1))
	for _, batch := range small {
		group.Go(func() error { return f.gather(ctx, s, batch, watch, came) })
	}
	for _, i := range others {
		group.Go(func() error {
			err := f.one(ctx, i, func() (io.ReadCloser, error) { return calls.Open(ctx, s, f.entries[i].Path) }, watch)
			if ctx.Err() != nil || errors.Is(err, farend.ErrLost) {
				return errors.Join(err, ctx.Err())
			}
			came(i, err)
			return nil
		})
	}
	err := group.Wait()
	if err == nil && f.syncs {
		err = durable.Sync(context.WithoutCancel(ctx))
	}
	slices.SortFunc(out.Failed, func(a, b site.Failure) int { return strings.Compare(a.Path, b.Path) })
	out.Files, out.Bytes = int(files.Load()), size.Load()
	return out, err
}

// syncer gives what makes all that is written durable in one step, where the system has that; else nil.
func (f *Fetch) syncer() (syncer fsys.Syncer, done func()) {
	opened, err := osfs.Open(f.Into)
	if err != nil {
		return nil, func() {}
	}
	syncer, _ = fsys.FS(opened).(fsys.Syncer)
	return syncer, func() { opened.Close() }
}

// How much is asked for at once.
const (
	batchBytes = 16 << 20
	batchFiles = 2000
)

// batches parts what is to come into small files, many of which come at once, and all else.
func (f *Fetch) batches(todo []int) (small [][]int, others []int) {
	var (
		batch []int
		size  int64
	)
	for _, i := range todo {
		e := &f.entries[i]
		if e.Kind != manifest.File || e.Size > site.MostGathered {
			others = append(others, i)
			continue
		}
		if len(batch) == batchFiles || size+e.Size > batchBytes {
			small = append(small, batch)
			batch, size = nil, 0
		}
		batch, size = append(batch, i), size+e.Size
	}
	if len(batch) > 0 {
		small = append(small, batch)
	}
	return small, others
}

// gather brings small files.
func (f *Fetch) gather(ctx context.Context, s calls.Engine, batch []int, watch *site.Watch,
	came func(i int, err error)) error {
	paths := make([]string, len(batch))
	for at, i := range batch {
		paths[at] = f.entries[i].Path
	}
	files, err := calls.Gather.On(ctx, s, paths)
	if err == nil && len(files) != len(paths) {
		err = fmt.Errorf("%w: %d files for %d", calls.ErrProtocol, len(files), len(paths))
	}
	if err != nil {
		return err
	}
	for at, i := range batch {
		err := files[at].Err
		if err == nil {
			err = f.one(ctx, i, func() (io.ReadCloser, error) {
				return io.NopCloser(bytes.NewReader(files[at].Content)),
					nil
			}, watch)
		}
		came(i, err)
	}
	return nil
}

// one puts an entry in its place. Open opens the content of a file.
func (f *Fetch) one(ctx context.Context, i int, open func() (io.ReadCloser, error), watch *site.Watch) error {
	e, name := &f.entries[i], filepath.FromSlash(f.names[i])
	if e.Kind == manifest.Dir {
		return f.root.MkdirAll(name, 0o755)
	}
	if err := f.makeFolder(filepath.Dir(name)); err != nil {
		return err
	}
	// No other name of the site ends so: a path element has 255 bytes at most, and this one is made up here.
	aside := filepath.Join(filepath.Dir(name), fmt.Sprintf(".tartine-%d-%d", os.Getpid(), i))
	if e.Kind == manifest.Link {
		if f.leadsOut(f.names[i]) {
			return errLeads
		}
		if err := f.root.Symlink(e.Link, aside); err != nil {
			return err
		}
	} else if err := f.file(ctx, e, open, aside, watch); err != nil {
		_ = f.root.Remove(aside) // nothing half-written stays
		return err
	}
	if err := f.root.Rename(aside, name); err != nil {
		_ = f.root.Remove(aside)
		return err
	}
	return nil
}

func (f *Fetch) makeFolder(dir string) error {
	if _, stands := f.folders.Load(dir); stands {
		return nil
	}
	if dir != "." {
		if err := f.root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	if _, swept := f.folders.Swap(dir, true); !swept {
		f.sweep(dir)
	}
	return nil
}

func (f *Fetch) file(ctx context.Context, e *manifest.Entry, open func() (io.ReadCloser, error), aside string,
	watch *site.Watch) error {
	content, err := open()
	if err != nil {
		return err
	}
	defer content.Close()
	mode := e.Mode.Perm() & 0o755
	if mode == 0 {
		mode = 0o644
	}
	file, err := f.root.OpenFile(aside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode|0o600)
	if err != nil {
		return err
	}
	hash := sha256.New()
	_, err = fsys.Copy(ctx, io.MultiWriter(file, hash, told(watch)), content)
	if err == nil && !f.syncs {
		err = file.Sync()
	}
	if closing := file.Close(); err == nil {
		err = closing
	}
	if err == nil && manifest.Digest(hash.Sum(nil)) != e.Digest {
		err = fmt.Errorf("digest mismatch: it was altered meanwhile, or could not be read")
	}
	if err == nil && !e.ModTime.IsZero() {
		err = f.root.Chtimes(aside, time.Time{}, e.ModTime)
	}
	return err
}

// told tells a watch of bytes that are written.
func told(watch *site.Watch) io.Writer {
	if watch.Bytes == nil {
		return io.Discard
	}
	return tellBytes(watch.Bytes)
}

type tellBytes func(int64)

func (t tellBytes) Write(p []byte) (int, error) {
	t(int64(len(p)))
	return len(p), nil
}
