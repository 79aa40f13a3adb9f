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
	if !s.exists {
		return nil, &RootError{Root: s.label, Reason: "does not exist", Err: fs.ErrNotExist}
	}
	var recorded *manifest.Manifest
	bare := asked.Bare && len(asked.Words) == 0
	if !bare && !asked.Record {
		number, err := s.current(ctx)
		if err != nil {
			return nil, err
		}
		if recorded, _, err = s.recordedTree(ctx, number); err != nil {
			return nil, err
		}
	}
	found := &lister{site: s, asked: asked, at: s.at, bare: bare}
	if asked.Record {
		if s.record == "" {
			return nil, nil
		}
		found.at = s.inRecord
	}
	if recorded != nil {
		found.recorded = recorded.Entries
	}
	for _, pattern := range asked.Names {
		rule, err := filter.NewRule(pattern, "")
		if err != nil {
			return nil, err
		}
		found.names = append(found.names, rule)
	}
	paths := asked.Paths
	if len(paths) == 0 {
		paths = []string{"."}
	}
	group, walking := errgroup.WithContext(ctx)
	found.group = group
	found.group.SetLimit(s.jobs)
	for _, path := range paths {
		if err := found.start(walking, path); err != nil {
			_ = found.group.Wait() // the first error is the one to tell
			return nil, err
		}
	}
	if err := found.group.Wait(); err != nil {
		return nil, err
	}
	if err := found.settle(ctx); err != nil {
		return nil, err
	}
	slices.SortFunc(found.out, func(a, b Listed) int { return strings.Compare(a.Path, b.Path) })
	return slices.CompactFunc(found.out, func(a, b Listed) bool { return a.Path == b.Path }), nil
}

// lister lists.
type lister struct {
	site     *Site
	asked    *Listing
	at       func(path string) string // the name of a path
	recorded []manifest.Entry
	names    []*filter.Rule
	bare     bool
	group    *errgroup.Group

	mu    sync.Mutex
	out   []Listed
	dated []int // those of which the time alone is not as recorded
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
	l.add(path, info)
	return nil
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
	for _, info := range list {
		path := fsys.Join(dir, info.Name)
		if manifest.CheckPath(path) != nil || dir == "." && s.isInside() && s.at(info.Name) == s.record {
			continue
		}
		l.add(path, info)
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
func (l *lister) add(path string, info fsys.Info) {
	found := describe(path, info)
	item := Listed{Entry: *found.Entry, Other: found.Other, User: info.User}
	if namer, ok := l.site.fs.(fsys.Namer); ok && info.User.Known {
		item.Owner = namer.UserName(info.User.ID)
	}
	open := false
	if !l.asked.Record && !l.bare {
		item.Word, open = l.word(&found)
	}
	if !l.wanted(&item, open) {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.out = append(l.out, item); open {
		l.dated = append(l.dated, len(l.out)-1)
	}
}

// word gives how a name stands to the record; open, whether its content decides.
func (l *lister) word(f *diff.Found) (word string, open bool) {
	i, recorded := manifest.Find(l.recorded, f.Path)
	if f.Kind == manifest.Dir && f.Other == 0 {
		if _, filled := manifest.FindBelow(l.recorded, f.Path); recorded || filled {
			return AsRecorded, false
		}
		return AsStray, false
	}
	if !recorded {
		return AsStray, false
	}
	r, able := &l.recorded[i], l.site.Abilities()
	word = AsRecorded
	if r.Hand {
		word = AsHand
	}
	switch {
	case r.Kind != f.Kind, f.Other != 0, r.Link != f.Link, r.Kind == manifest.File && r.Size != f.Size,
		able.Modes && r.Kind == manifest.File && r.Mode != f.Mode:
		return AsDrifted, false
	case r.Kind == manifest.File && !able.NoTimes && !able.UnsetTimes &&
		!diff.SameTime(r.ModTime, f.ModTime, timeStep(able)):
		return word, true
	}
	return word, false
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

// settle reads what only its content can tell of.
func (l *lister) settle(ctx context.Context) error {
	s := l.site
	names := make([]string, len(l.dated))
	for i, at := range l.dated {
		names[i] = s.at(l.out[at].Path)
	}
	if _, err := fsys.Digests(ctx, s.fs, names, s.jobs, func(i int, digest manifest.Digest, err error) {
		item := &l.out[l.dated[i]]
		at, _ := manifest.Find(l.recorded, item.Path)
		if err != nil || digest != l.recorded[at].Digest {
			item.Word = AsDrifted
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
