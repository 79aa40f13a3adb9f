package deploy

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"

	"tartine/internal/calls"
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

	entries *manifest.Folded // what is there, sorted by path, and behind it files whose paths are no UTF-8
	sorted  int              // how many are sorted
	links   map[string]string
	root    *os.Root
	same    int
	open    []int           // entries of files that are here with the same size, which nobody has read yet
	left    []site.Failure  // what is there and cannot be brought
	way     map[string]bool // names here that must go before anything can come, since folders and files are in each other's place
	gone    map[string]bool // folders that are not here
	folders *sync.Map       // those that are here, as far as is known
	syncs   bool            // all is made durable in one step at the end

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
	f.folders, f.way, f.gone, f.links = &sync.Map{}, map[string]bool{}, map[string]bool{}, map[string]string{}
	if err = f.takeAll(stands); err == nil {
		err = f.compare(ctx)
	}
	if err != nil {
		f.root.Close()
		return nil, err
	}
	return &f, nil
}

// takeAll takes what is at the site.
func (f *Fetch) takeAll(stands *site.Standing) (err error) {
	f.entries, f.sorted = stands.Entries, stands.Entries.Len()
	if !f.entries.InOrder() {
		return errors.New("what the site names is not in order")
	}
	f.entries.Add(stands.Raw)
	at := 0
	f.entries.Each(func(e *manifest.Entry) bool {
		if err = manifest.CheckBytes(e.Path); err != nil { // the far end is not trusted with this machine
			err = fmt.Errorf("the site names %q: %w", e.Path, err)
			return false
		}
		f.add(e, at)
		at++
		return true
	})
	return err
}

// name gives where an entry goes, below Into.
func (f *Fetch) name(e *manifest.Entry) string {
	if f.As == "" {
		return e.Path
	}
	return f.As + strings.TrimPrefix(e.Path, f.From[0])
}

// Close lets go of the folder.
func (f *Fetch) Close() error { return f.root.Close() }

// Path gives where an entry goes.
func (f *Fetch) Path(i int) string {
	e := f.entries.At(i)
	return filepath.Join(f.Into, filepath.FromSlash(f.name(&e)))
}

// Bytes gives how many bytes are to come.
func (f *Fetch) Bytes() (bytes int64) {
	for _, list := range [][]int{f.Missing, f.Replaced} {
		for _, i := range list {
			bytes += f.entries.At(i).Size
		}
	}
	return bytes
}

func (f *Fetch) add(e *manifest.Entry, at int) {
	name := f.name(e)
	if e.Kind == manifest.Link {
		f.links[strings.Clone(name)] = e.Link
	}
	switch stands, equal, open := f.here(e, name, f.lookAt(e.Kind, name)); {
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
		e := f.entries.At(at)
		names[i] = f.name(&e)
	}
	if _, err := fsys.Digests(ctx, here, names, f.Jobs, func(i int, digest manifest.Digest, err error) {
		equal[i] = err == nil && digest == f.entries.At(f.open[i]).Digest
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

// lookAt gives what is here under a name; nil: nothing. It notes what is in the place of a folder, or as a folder in the place of
// something else.
func (f *Fetch) lookAt(kind manifest.Kind, name string) fs.FileInfo {
	above := path.Dir(name)
	for dir := above; dir != "."; dir = path.Dir(dir) {
		if _, known := f.way[dir]; known {
			break
		}
		info, err := f.root.Stat(filepath.FromSlash(dir))
		dir := strings.Clone(dir) // it is part of a text with others
		f.way[dir], f.gone[dir] = err == nil && !info.IsDir(), errors.Is(err, fs.ErrNotExist)
	}
	if f.gone[above] {
		return nil
	}
	info, err := f.root.Lstat(filepath.FromSlash(name))
	if err != nil {
		return nil
	}
	if info.IsDir() != (kind == manifest.Dir) {
		f.way[strings.Clone(name)] = true
	}
	return info
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

// here tells whether anything is here, and whether that is what an entry says, which may be open as long as nobody has read it.
func (f *Fetch) here(e *manifest.Entry, name string, info fs.FileInfo) (stands, equal, open bool) {
	if info == nil {
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

// brings tells whether something is fetched that gets a name.
func (f *Fetch) brings(name string) bool {
	is := func(i int) int {
		e := f.entries.At(i)
		return strings.Compare(f.name(&e), name)
	}
	at := sort.Search(f.sorted, func(i int) bool { return is(i) >= 0 })
	if at < f.sorted && is(at) == 0 {
		return true
	}
	for i := f.sorted; i < f.entries.Len(); i++ {
		if is(i) == 0 {
			return true
		}
	}
	return false
}

// leadsOut tells whether a link would lead out of the folder: followed step by step, through the links that are
// fetched, and those that are here where nothing is fetched in their place.
func (f *Fetch) leadsOut(name string) bool {
	return manifest.LeadsOut(name, func(path string) (string, bool) {
		if link, fetched := f.links[path]; fetched {
			return link, true
		}
		if f.brings(path) {
			return "", false
		}
		target, err := f.root.Readlink(filepath.FromSlash(path))
		return filepath.ToSlash(target), err == nil
	})
}

// errLeads tells that a link is not made, since it leads out of the folder.
var errLeads = errors.New("a link that leads out of the folder is not made")
