// Package content turns sources on this machine into the tree that should be at a target.
//
// Scan reads names, sizes and digests and never changes anything. It returns what was taken and, path by path, what
// was left out and why, so that explaining a decision costs nothing extra:
//
//   - what a filter rule excludes, or no include matches, is left out;
//   - devices, sockets, pipes and names that are not valid UTF-8 are left out, never sent, and named;
//   - links are kept as links, followed or skipped, as asked; a kept link must not lead out of the tree;
//   - a file that cannot be read, or that keeps changing while it is read, is named as failed;
//   - what looks like a secret is a finding (see guard.go), for the caller to stop at;
//   - where sources meet on one path the later one wins, and the collision is named.
//
// Digests come from a cache where a file has not changed since (see cache.go).
package content

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"tartine/internal/filter"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Links says what becomes of symbolic links.
type Links string

// The policies for symbolic links.
const (
	KeepLinks   Links = "keep"   // a link stays a link; refused when it leads out of the tree
	FollowLinks Links = "follow" // what a link leads to takes its place
	SkipLinks   Links = "skip"   // links are left out
)

// Source is a folder or a file that feeds the tree.
type Source struct {
	Path  string // on this machine; what people call it, where Files is set
	Dest  string // the folder of the tree in which it is, slash-separated; "." is the top
	Name  string // the name that a single file gets; empty: its own
	Rules *filter.Set
	// Files lists what is in a source that is not on this machine's disk; nil: it is.
	Files func(ctx context.Context) ([]File, error)
	// Want is told which of them will be opened, before any of them is; may be nil.
	Want func([]File)
	// Entries is in the place of both where entries say all that is known of a source; nil: they do not.
	Entries *Entries
	// Inside is the folder of what Files lists that is the top, for people; empty or ".": it is all.
	Inside string
	// Local is the file of this machine that Files reads; empty: there is none.
	Local string

	listing listedOrigin // what is in it, where that is not on the disk
}

// Options says how to scan.
type Options struct {
	Links      Links
	KeepModes  bool           // else files have 0644, executables 0755 and folders 0755
	Attributes []Attribute    // what files and folders get by their paths in the tree; the later one wins
	Cache      *Cache         // nil: read every file
	Allow      []*filter.Rule // what the guard lets pass, by paths relative to the source
	Jobs       int            // files read at once; 0: one for each processor
	Read       func(n int64)  // told of bytes as they are read for digests; may be nil
	Later      int64          // from how many bytes on a file's digest is left open; 0: none is (see later.go)
	Fold       int            // from how many entries on they may stay folded up; 0: they never do (see fold.go)

	memory *Watching // what was read before, and is read again only where it changed; nil: nothing
}

// Tree is the content: what should be at the site, and where its bytes are.
type Tree struct {
	Sources []Source

	folding sync.Mutex       // of those who may want the entries unfolded
	folds   *folds           // what they are folded up in; nil: they are here
	aside   *aside           // where that is, as far as it is not in memory
	recent  []*openFolder    // of them, while single files are opened
	entries []manifest.Entry // sorted by path
	from    []int32          // the source of each
	later   map[string]*later
	scanned Options

	Landings   []Landing   // one for each source, in their order
	LeftOut    []LeftOut   // by rule, by kind or by name
	Failed     []Failure   // wanted, and could not be read
	Refused    []Failure   // links that lead out of the tree, and devices in archives
	Findings   []Finding   // what the guard found
	Collisions []Collision // paths that several sources feed
	CacheHits  int         // files whose digest was known
}

// Landing says what a source brings and where it is.
type Landing struct {
	Source Source
	Single bool // a file, not a folder
	Files  int
	Bytes  int64
}

// LeftOut is a path that was not taken.
type LeftOut struct {
	Path   string           // in the tree, where it would be
	Source int              // index into Tree.Sources
	Folder bool             // with all below it
	By     *filter.Decision // the rule that decided; nil when it was not a rule
	Reason string           // when it was not a rule
}

// Failure is a path that cannot be part of the tree, and why.
type Failure struct {
	Path  string // in the tree
	Local string // on this machine
	Err   error
}

// Collision is a path that several sources feed. The last of them wins.
type Collision struct {
	Path    string
	Winner  int   // index into Tree.Sources
	Shadows []int // those that lose
}

// ClashError tells that one source has a file or link where another needs a folder.
type ClashError struct {
	Path, Below               string // the file's path, and one below it
	PathSource, BelowSource   string
	PathSourceIndex, BelowIdx int
}

func (e *ClashError) Error() string {
	return fmt.Sprintf("%s brings the file %q where %s needs a folder for %q", e.PathSource, e.Path, e.BelowSource,
		e.Below)
}

// SourceError tells that a source cannot be read at all.
type SourceError struct {
	Source string
	Err    error
}

func (e *SourceError) Error() string { return fmt.Sprintf("source %s: %v", e.Source, e.Err) }

func (e *SourceError) Unwrap() error { return e.Err }

// errors that a Failure may hold.
var (
	ErrChanging = errors.New("the file kept changing while it was read")
	ErrLeadsOut = errors.New("the link leads out of the tree")
	ErrSpecial  = errors.New("it is neither a file nor a folder nor a link")
)

// Scan reads the sources. Its error is a *SourceError, a *ClashError, or that of the context; all else is told in the
// tree.
func Scan(ctx context.Context, sources []Source, opt Options) (*Tree, error) {
	if opt.Jobs <= 0 {
		opt.Jobs = runtime.GOMAXPROCS(0)
	}
	tree := &Tree{Sources: slices.Clone(sources), scanned: opt}
	tree.aside = newAside(&opt)
	g := &gathering{Tree: tree, opt: &opt, said: newAttributing(opt.Attributes), suspects: map[brought]verdict{}}
	if opt.memory != nil {
		g.caches = opt.memory.digests()
	} else {
		g.caches = opt.Cache.loadAll(sources)
		defer func() {
			for _, cache := range g.caches {
				cache.close()
			}
		}()
	}
	for i := range tree.Sources {
		w := &walker{source: &tree.Sources[i], index: int32(i), opt: &opt, gathering: g}
		if err := w.source.load(ctx); err != nil {
			return nil, err
		}
		if err := w.walk(ctx); err != nil {
			return nil, err
		}
		tree.LeftOut = append(tree.LeftOut, w.leftOut...)
		tree.Failed = append(tree.Failed, w.failed...)
		tree.Refused = append(tree.Refused, w.refused...)
		tree.Findings = append(tree.Findings, w.findings...)
		tree.Landings = append(tree.Landings, Landing{Source: tree.Sources[i], Single: w.single})
	}
	taken, err := g.settle(ctx)
	if err != nil {
		return nil, err
	}
	g.saveCaches()
	if g.leave(taken) {
		tree.sortFindings()
		return tree, nil
	}
	tree.entries, tree.from = taken.list()
	g.judge()
	if err := tree.checkShape(); err != nil {
		return nil, err
	}
	tree.checkLinks()
	tree.tally()
	tree.sortFindings()
	return tree, nil
}

// checkShape drops folders that follow from what is below them, or of which nothing was taken, and finds files
// that are where a folder must be.
func (t *Tree) checkShape() error {
	kept := 0
	for i := range t.entries {
		e := t.entries[i]
		below, has := t.firstBelow(i)
		if has && e.Kind != manifest.Dir {
			return &ClashError{
				Path: e.Path, PathSource: t.Sources[t.from[i]].Path, PathSourceIndex: int(t.from[i]),
				Below: t.entries[below].Path, BelowSource: t.Sources[t.from[below]].Path, BelowIdx: int(t.from[below]),
			}
		}
		if isImplied(&e, has) {
			continue
		}
		if e.Kind == manifest.Dir {
			e.Size = 0
		}
		// Overwriting is safe: nothing that is still looked at lies before i.
		t.entries[kept], t.from[kept] = e, t.from[i]
		kept++
	}
	t.entries, t.from = t.entries[:kept], t.from[:kept]
	return nil
}

// firstBelow finds the first entry after i that lies below it. Between "a" and "a/b" may be "a-c".
func (t *Tree) firstBelow(i int) (int, bool) {
	prefix := t.entries[i].Path + "/"
	rest := t.entries[i+1:]
	if len(rest) == 0 || !strings.HasPrefix(rest[0].Path, t.entries[i].Path) {
		return 0, false
	}
	at, _ := slices.BinarySearchFunc(rest, prefix, func(e manifest.Entry, p string) int {
		return strings.Compare(e.Path,
			p)
	})
	if at < len(rest) && strings.HasPrefix(rest[at].Path, prefix) {
		return i + 1 + at, true
	}
	return 0, false
}

func (t *Tree) tally() {
	for i := range t.entries {
		if t.entries[i].Kind == manifest.File {
			t.Landings[t.from[i]].Files++
			t.Landings[t.from[i]].Bytes += t.entries[i].Size
		}
	}
}

// Find gives the index of an entry.
func (t *Tree) Find(path string) (int, bool) {
	return manifest.Find(t.Entries(), path)
}

// SourceOf gives the index into Sources of what feeds an entry.
func (t *Tree) SourceOf(i int) int { return int(t.from[i]) }

// Local gives the file on this machine that feeds an entry, or what people call it.
func (t *Tree) Local(i int) string {
	t.Entries()
	return t.Sources[t.from[i]].local(t.entries[i].Path)
}

// local turns a path of the tree into one on this machine, or into what people call it.
func (s *Source) local(path string) string {
	switch {
	case s.isListed():
		return s.Path + ": " + fsys.Join(cmp.Or(s.Inside, "."), s.relative(path))
	case s.Name != "":
		return s.Path
	}
	return filepath.Join(s.Path, filepath.FromSlash(s.relative(path)))
}

// Title says what a source is: its path, and the folder in it that is the top.
func (s *Source) Title() string {
	if !s.isListed() || s.Inside == "" || s.Inside == "." {
		return s.Path
	}
	return s.Path + ": " + s.Inside + "/"
}

// OnDisk gives the file or folder of this machine that a source is made of; empty: there is none.
func (s *Source) OnDisk() string {
	if s.isListed() {
		return s.Local
	}
	return s.Path
}

// isListed tells whether a source is not on this machine's disk.
func (s *Source) isListed() bool { return s.Files != nil || s.Entries != nil }

// open opens the file that feeds a path of the tree.
func (s *Source) open(path string) (opened, error) {
	if s.listing != nil {
		return s.listing.open(s.relative(path))
	}
	return disk{}.open(s.local(path))
}

// relative turns a path of the tree into one relative to the source.
func (s *Source) relative(path string) string {
	if s.Dest == "." {
		return path
	}
	return strings.TrimPrefix(path, s.Dest+"/")
}

// want tells the sources which files will be opened, by their paths.
func (t *Tree) want(paths []string) {
	files, entries := make([][]File, len(t.Sources)), make([][]manifest.Entry, len(t.Sources))
	for _, path := range paths {
		source, found := t.feeding(path)
		if !found {
			continue
		}
		s := &t.Sources[source]
		if s.listing == nil {
			continue
		}
		to, err := s.listing.resolve(s.relative(path))
		switch l := s.listing.(type) {
		case *listing:
			if err == nil && l.files[to] != nil {
				files[source] = append(files[source], l.files[to])
			}
		case *entryListing:
			if e, missing := l.find("want", to); err == nil && missing == nil {
				entries[source] = append(entries[source], *e)
			}
		}
	}
	for i := range t.Sources {
		switch s := &t.Sources[i]; {
		case s.Want != nil:
			s.Want(files[i])
		case s.Entries != nil:
			s.Entries.Want(entries[i])
		}
	}
}

// Open opens the bytes of a file entry. Whoever reads them compares the digest: the file may have changed since the
// scan.
func (t *Tree) Open(i int) (io.ReadCloser, error) {
	path := t.Entries()[i].Path
	return t.openOf(path, t.from[i])
}

func (t *Tree) openOf(path string, source int32) (io.ReadCloser, error) {
	var (
		file opened
		err  error
	)
	if l := t.later[path]; l != nil {
		file, err = t.openLater(path, l)
	} else {
		file, err = t.Sources[source].open(path)
	}
	if err != nil {
		return nil, err
	}
	info, err := file.facts()
	if err == nil && !info.mode.IsRegular() {
		err = &fs.PathError{Op: "open", Path: t.Sources[source].local(path), Err: errors.New("it is no longer a file")}
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}
