package site

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/filter"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Standing words of what is listed, by the record.
const (
	AsRecorded = "same"
	AsDrifted  = "drifted" // a deployment put it there, and it was altered since
	AsStray    = "stray"   // no deployment put it there
	AsHand     = "sent by hand"
)

// Listing asks what is at some paths of a site. Of what it says all must hold.
type Listing struct {
	Paths     []string  `cbor:"paths"` // none: the top
	Recursive bool      `cbor:"recursive,omitempty"`
	Record    bool      `cbor:"record,omitempty"` // what is in the record, and not what is at the site
	Bare      bool      `cbor:"bare,omitempty"`   // how it stands to the record is not asked, unless Words are
	Names     []string  `cbor:"names,omitempty"`  // patterns, as in filters; one of them must match
	Kinds     []string  `cbor:"kinds,omitempty"`  // file, link, folder, other
	Words     []string  `cbor:"words,omitempty"`  // see above
	Larger    int64     `cbor:"larger,omitempty"`
	Smaller   int64     `cbor:"smaller,omitempty"` // 0: that does not count
	After     time.Time `cbor:"after,omitzero"`
	Before    time.Time `cbor:"before,omitzero"`
	Contains  string    `cbor:"contains,omitempty"` // a text in a file
}

// Listed is one name at a site.
type Listed struct {
	manifest.Entry
	Other fs.FileMode // the type of what is not a file, link or folder; 0 otherwise
	User  fsys.User
	Owner string // what that user is called there; empty: not known
	Word  string
}

// kind gives the word for what it is.
func (l *Listed) kind() string {
	if l.Other != 0 {
		return "other"
	}
	return l.Kind.String()
}

// List lists what is at the site, sorted by path. Nothing is read but files whose time alone is not as recorded, and, where
// a text is looked for, those that may hold it. It fails with fs.ErrNotExist for a path at which nothing exists.
func (s *Site) List(ctx context.Context, asked *Listing) ([]Listed, error) {
	found := &listed{site: s, asked: asked}
	if err := s.list(ctx, asked, found.add); err != nil {
		return nil, err
	}
	if err := found.settle(ctx); err != nil {
		return nil, err
	}
	slices.SortFunc(found.out, func(a, b Listed) int { return strings.Compare(a.Path, b.Path) })
	return slices.CompactFunc(found.out, func(a, b Listed) bool { return a.Path == b.Path }), nil
}

// list calls take with all that is at the site and is asked for, in any order, one after the other. Where only the content of a file tells
// how it stands to the record, open says so, and recorded what it should be.
func (s *Site) list(ctx context.Context, asked *Listing, take func(item *Listed, open bool, recorded manifest.Digest)) error {
	if !s.exists {
		return &RootError{Root: s.label, Reason: "does not exist", Err: fs.ErrNotExist}
	}
	l := &lister{site: s, asked: asked, at: s.at, bare: asked.Record || asked.Bare && len(asked.Words) == 0, take: take}
	if asked.Record {
		if s.record == "" {
			return nil
		}
		l.at = s.inRecord
	}
	if !l.bare {
		number, err := s.current(ctx)
		if err != nil {
			return err
		}
		if l.recorded, err = s.openFolderRecord(ctx, number); err != nil {
			return err
		}
		defer l.recorded.close()
	}
	for _, pattern := range asked.Names {
		rule, err := filter.NewRule(pattern, "")
		if err != nil {
			return err
		}
		l.names = append(l.names, rule)
	}
	return l.run(ctx)
}

// lister lists.
type lister struct {
	site     *Site
	asked    *Listing
	at       func(path string) string // the name of a path
	recorded *folderRecord
	names    []*filter.Rule
	bare     bool // nothing is said of the record
	group    *errgroup.Group

	mu   sync.Mutex
	take func(item *Listed, open bool, recorded manifest.Digest)
	odd  int // names that no manifest can hold
}

func (l *lister) run(ctx context.Context) error {
	paths := l.asked.Paths
	if len(paths) == 0 {
		paths = []string{"."}
	}
	group, walking := errgroup.WithContext(ctx)
	l.group = group
	l.group.SetLimit(l.site.jobs)
	for _, path := range paths {
		if err := l.start(walking, path); err != nil {
			_ = l.group.Wait() // the first error is the one to tell
			return err
		}
	}
	return l.group.Wait()
}

// start lists one path that was asked for.
func (l *lister) start(ctx context.Context, path string) error {
	if path == "." {
		return l.enter(ctx, path)
	}
	if err := manifest.CheckPath(path); err != nil {
		return &fs.PathError{Op: "find", Path: path, Err: err}
	}
	s := l.site
	if err := s.apart("find", path); err != nil {
		return err
	}
	if err := s.checkWay(ctx, path); err != nil {
		return err
	}
	info, err := s.fs.Lstat(ctx, s.at(path))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, errNoFolder) {
		return &fs.PathError{Op: "find", Path: path, Err: fmt.Errorf("nothing is there: %w", fs.ErrNotExist)}
	}
	if err != nil {
		return err
	}
	if info.Mode.IsDir() {
		return l.enter(ctx, path)
	}
	dir, _ := fsys.Split(path)
	in, err := l.recordedIn(dir)
	if err == nil {
		l.add(path, info, in)
	}
	return err
}

// recordedIn gives what is recorded of a folder, where that is asked for; else nil.
func (l *lister) recordedIn(dir string) (*recordedIn, error) {
	if l.bare {
		return nil, nil
	}
	return l.recorded.in(dir)
}

// checkWay fails where a folder on the way to a path is a link: what is behind it does not belong to the site.
func (s *Site) checkWay(ctx context.Context, path string) error {
	for at := strings.IndexByte(path, '/'); at > 0; {
		info, err := s.fs.Lstat(ctx, s.at(path[:at]))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return &fs.PathError{Op: "find", Path: path, Err: fmt.Errorf("nothing is there: %w", fs.ErrNotExist)}
		case err != nil:
			return err
		case info.Mode&fs.ModeSymlink != 0:
			return &fs.PathError{Op: "find", Path: path,
				Err: fmt.Errorf("%s is a link, through which nothing is reached: %w", path[:at], fs.ErrNotExist)}
		}
		next := strings.IndexByte(path[at+1:], '/')
		if next < 0 {
			return nil
		}
		at += 1 + next
	}
	return nil
}

func (l *lister) enter(ctx context.Context, dir string) error {
	if strings.Count(dir, "/") >= deepest {
		return &fs.PathError{Op: "list", Path: dir[:100] + "…", Err: errors.New("folders lie too deep")}
	}
	s := l.site
	list, err := s.fs.List(ctx, l.at(dir))
	switch {
	case errors.Is(err, fs.ErrNotExist) && dir != ".", errors.Is(err, fs.ErrPermission) && dir != ".":
		return nil // removed since, or shut: what is above it names it
	case err != nil:
		return err
	}
	in, err := l.recordedIn(dir)
	if err != nil {
		return err
	}
	for _, info := range list {
		path := fsys.Join(dir, info.Name)
		if dir == "." && s.isInside() && s.at(info.Name) == s.record {
			continue
		}
		if manifest.CheckPath(path) != nil {
			l.mu.Lock()
			l.odd++
			l.mu.Unlock()
			continue
		}
		l.add(path, info, in)
		if !info.Mode.IsDir() || !l.asked.Recursive {
			continue
		}
		below := func() error { return l.enter(ctx, path) }
		if !l.group.TryGo(below) {
			if err := below(); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// add takes a name if it is one that was asked for.
func (l *lister) add(path string, info fsys.Info, in *recordedIn) {
	found := describe(path, info)
	item := Listed{Entry: *found.Entry, Other: found.Other, User: info.User}
	if namer, ok := l.site.fs.(fsys.Namer); ok && info.User.Known {
		item.Owner = namer.UserName(info.User.ID)
	}
	var (
		open     bool
		recorded manifest.Digest
	)
	if in != nil {
		item.Word, open, recorded = l.word(&found, info.Name, in)
	}
	if !l.wanted(&item, open) {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.take(&item, open, recorded)
}

// word gives how a name stands to the record; open, whether its content decides, which is then recorded so.
func (l *lister) word(f *diff.Found, name string, in *recordedIn) (word string, open bool, recorded manifest.Digest) {
	r := in.find(name)
	if f.Kind == manifest.Dir && f.Other == 0 {
		if r != nil || in.below(name) {
			return AsRecorded, false, recorded
		}
		return AsStray, false, recorded
	}
	if r == nil {
		return AsStray, false, recorded
	}
	able := l.site.Abilities()
	word = AsRecorded
	if r.Hand {
		word = AsHand
	}
	switch {
	case r.Kind != f.Kind, f.Other != 0, r.Link != f.Link, r.Kind == manifest.File && r.Size != f.Size,
		able.Modes && r.Kind == manifest.File && r.Mode != f.Mode:
		return AsDrifted, false, recorded
	case r.Kind == manifest.File && !able.NoTimes && !able.UnsetTimes &&
		!diff.SameTime(r.ModTime, f.ModTime, timeStep(able)):
		return word, true, r.Digest
	}
	return word, false, recorded
}

func (l *lister) wanted(item *Listed, open bool) bool {
	q := l.asked
	switch {
	case len(q.Names) > 0 && !slices.ContainsFunc(l.names, func(r *filter.Rule) bool { return r.Matches(item.Path, item.Kind == manifest.Dir) }):
		return false
	case len(q.Kinds) > 0 && !slices.Contains(q.Kinds, item.kind()):
		return false
	case len(q.Words) > 0 && !open && !slices.Contains(q.Words, item.Word):
		return false
	case (q.Larger > 0 || q.Smaller > 0 || q.Contains != "") && item.kind() != "file":
		return false
	case q.Larger > 0 && item.Size <= q.Larger, q.Smaller > 0 && item.Size >= q.Smaller:
		return false
	case !q.After.IsZero() && !item.ModTime.After(q.After), !q.Before.IsZero() && !item.ModTime.Before(q.Before):
		return false
	}
	return true
}

// listed is what was listed.
type listed struct {
	site  *Site
	asked *Listing
	out   []Listed
	dated []datedFile
}

// datedFile is a file of which the time alone is not as recorded, by its index.
type datedFile struct {
	at       int
	recorded manifest.Digest
}

func (l *listed) add(item *Listed, open bool, recorded manifest.Digest) {
	if l.out = append(l.out, *item); open {
		l.dated = append(l.dated, datedFile{len(l.out) - 1, recorded})
	}
}

// settle reads what only its content can tell of.
func (l *listed) settle(ctx context.Context) error {
	s := l.site
	names := make([]string, len(l.dated))
	for i, d := range l.dated {
		names[i] = s.at(l.out[d.at].Path)
	}
	if _, err := fsys.Digests(ctx, s.fs, names, s.jobs, func(i int, digest manifest.Digest, err error) {
		if err != nil || digest != l.dated[i].recorded {
			l.out[l.dated[i].at].Word = AsDrifted
		}
	}); err != nil {
		return err
	}
	holds := make([]bool, len(l.out))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(s.jobs)
	for i := range l.out {
		if len(l.asked.Words) > 0 && !slices.Contains(l.asked.Words, l.out[i].Word) {
			continue
		}
		if l.asked.Contains == "" {
			holds[i] = true
			continue
		}
		group.Go(func() (err error) {
			holds[i], err = s.holds(ctx, l.out[i].Path, []byte(l.asked.Contains))
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	kept := l.out[:0]
	for i := range l.out {
		if holds[i] {
			kept = append(kept, l.out[i])
		}
	}
	l.out = kept
	return nil
}

// holds tells whether a file holds a text. One that cannot be read does not.
func (s *Site) holds(ctx context.Context, path string, text []byte) (bool, error) {
	file, err := s.ReadPath(ctx, path)
	if err != nil {
		return false, ignoreAllButLost(err)
	}
	defer file.Close()
	in := fsys.WithContext(ctx, file)
	buf := make([]byte, 0, 128<<10+len(text))
	for {
		n, err := in.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if bytes.Contains(buf, text) {
			return true, nil
		}
		switch {
		case errors.Is(err, io.EOF):
			return false, nil
		case err != nil:
			return false, ignoreAllButLost(err)
		}
		tail := min(len(buf), len(text)-1)
		buf = buf[:copy(buf, buf[len(buf)-tail:])]
	}
}
