package content

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"tartine/internal/manifest"
)

// Content is what should be at a site, whatever it comes from: entries, and a way to open them.
type Content struct {
	entries []manifest.Entry // sorted by path
	folded  *Tree            // that they are of, which has them folded; nil: they are here
	dated   time.Time        // the time of files that have none; zero: none was given

	// Open opens the content of a file; nil: the site holds it all. Whoever reads it compares the digest.
	Open func(path string) (io.ReadCloser, error)

	Lacks func() error // see Broken; nil: it cannot be
	// Later gives the paths of files whose digests are open, and Resolve finds some of them out. What is sent tells them, too
	// (see fsys.Digested), and Learned is called when that is done. All are nil where no digest is open.
	Later   []string
	Resolve func(ctx context.Context, paths []string) error
	Learned func()

	// Want is told the paths that will be opened, before any is; may be nil.
	Want func(paths []string)

	Promoted *manifest.Promoted // the deployment of another site that it is; nil: it is none
	Origin   *manifest.Origin   // what it comes from, where the content itself tells; nil: it does not

	Failed     []Failure   // wanted, and could not be read
	Objections []Objection // reasons not to deploy it
	Left       []string    // paths that the site keeps as they are, with all below them
	Gone       []string    // paths of those that do not stay, with all below them
	Rollback   int         // the earlier deployment of the same site that it is; 0: none
	// Whole is what there is to say of all entries, where those here are only the ones that are not at the site as they are; else nil.
	Whole *Whole
}

// Whole is all entries of a content.
type Whole struct {
	Len, Contents int // see Content
	Tree          manifest.Digest
}

// Of is a content of entries that are sorted by path.
func Of(entries []manifest.Entry) *Content { return &Content{entries: entries} }

// Entries gives all entries, sorted by path.
func (c *Content) Entries() []manifest.Entry {
	if c.folded != nil {
		c.entries, c.folded = c.folded.Entries(), nil
		manifest.Each(c.entries, c.date)
	}
	return c.entries
}

// Set puts other entries in the place of those that there are.
func (c *Content) Set(entries []manifest.Entry) { c.entries, c.folded = entries, nil }

// Folded tells whether the entries are folded up: whoever can do without a list of all of them leaves them so.
func (c *Content) Folded() bool { return c.folded != nil && c.folded.isFolded() }

// Broken gives why Each or Entries has not given all entries: some could not be read again. Nil: that is not so.
func (c *Content) Broken() error {
	if c.Lacks == nil {
		return nil
	}
	return c.Lacks()
}

// Len gives how many entries there are.
func (c *Content) Len() int {
	switch {
	case c.Whole != nil:
		return c.Whole.Len
	case c.folded != nil:
		return c.folded.count()
	}
	return len(c.entries)
}

// Each calls visit with one entry after the other, in the order of their paths, until it tells that that is enough.
// Visit must not keep them, nor ask the content for anything.
func (c *Content) Each(visit func(e *manifest.Entry) bool) { c.each(nil, visit) }

// EachIn is Each for what is directly in some folders, where the entries are folded up.
func (c *Content) EachIn(dirs map[string]bool, visit func(e *manifest.Entry) bool) {
	c.each(dirs, visit)
}

func (c *Content) each(dirs map[string]bool, visit func(e *manifest.Entry) bool) {
	if c.folded != nil {
		c.folded.each(dirs, func(e *manifest.Entry) bool { return c.date(e) && visit(e) })
		return
	}
	manifest.Each(c.entries, visit)
}

// Tree gives the tree digest.
func (c *Content) Tree() manifest.Digest {
	tree, _ := c.TreeSince(manifest.Digest{}, func(each manifest.Walk) { each(func(*manifest.Entry) bool { return true }) })
	return tree
}

// TreeSince is Tree. It also gives the folders in which alone an earlier content, of which it is given the tree digest, may be another one; nil: it is not
// known, as is where that was not scanned here, or where they are many. There may be folders among them that are in one of both only, or the same in both.
// Where they are not known isNew is called if a digest of what was scanned must be computed: where that is as in a scan before it need not
// be. IsNew is to go through all entries with the walk that it is given, which computes the digest.
func (c *Content) TreeSince(earlier manifest.Digest, isNew func(each manifest.Walk)) (tree manifest.Digest, in map[string]bool) {
	if c.Whole != nil {
		return c.Whole.Tree, nil
	}
	if c.folded != nil {
		return c.folded.tree(earlier, c.date, isNew)
	}
	return manifest.TreeOf(c.Each), nil
}

// Contents counts the entries that are not of a person's hand, as manifest.Contents does.
func (c *Content) Contents() int {
	switch {
	case c.Whole != nil:
		return c.Whole.Contents
	case c.Folded(): // what is scanned is of nobody's hand
		return c.Len()
	}
	return manifest.Contents(c.Entries())
}

// Date gives files that have no time, since what they come from has none, the one that is given.
func (c *Content) Date(now time.Time) {
	if c.dated.IsZero() {
		c.dated = now.Truncate(time.Second)
	}
	if c.folded == nil {
		manifest.Each(c.entries, c.date)
	}
}

// date gives a file that has no time the one that was given, if one was. It is never enough.
func (c *Content) date(e *manifest.Entry) bool {
	if e.Kind == manifest.File && e.ModTime.IsZero() {
		e.ModTime = c.dated
	}
	return true
}

// Reasons not to deploy a content.
var (
	ErrGuard = errors.New("the content holds what does not belong on a server")
	ErrLinks = errors.New("links lead out of the tree")
	ErrKinds = errors.New("an archive holds what is never sent")
)

// Objection is a reason not to deploy a content, and the paths that it is about, sorted.
type Objection struct {
	Reason error
	Paths  []string // each with a reason of its own behind it where there is one
	Kept   []string // those that the site keeps as they are
}

// Content gives what was scanned as the content of a site.
func (t *Tree) Content() *Content {
	out := &Content{folded: t, Lacks: t.broken, Failed: t.Failed, Open: t.open}
	if slices.ContainsFunc(t.Sources, func(s Source) bool { return s.Want != nil || s.Entries != nil }) {
		out.Want = t.want
	}
	if paths := t.openDigests(); len(paths) > 0 {
		out.Later, out.Learned = paths, func() { t.learned(t.scanned) }
		out.Resolve = func(ctx context.Context, paths []string) error {
			err := t.resolve(ctx, paths, t.scanned)
			if !t.isFolded() {
				out.Set(t.entries)
			}
			out.Failed, out.Later = t.Failed, t.openDigests()
			return err
		}
	}
	guard, links, kinds := Objection{Reason: ErrGuard}, Objection{Reason: ErrLinks}, Objection{Reason: ErrKinds}
	for _, f := range t.Findings {
		name := f.Path
		if f.Folder {
			name += "/"
		}
		guard.Paths = append(guard.Paths, fmt.Sprintf("%s  (%s)", name, f.Why))
	}
	for _, f := range t.Refused {
		if !errors.Is(f.Err, ErrLeadsOut) {
			kinds.Paths = append(kinds.Paths, fmt.Sprintf("%s  (%v)", f.Path, f.Err))
			continue
		}
		links.Paths = append(links.Paths, fmt.Sprintf("%s  (%v)", f.Path, f.Err))
		links.Kept = append(links.Kept, f.Path)
	}
	for _, o := range []Objection{guard, links, kinds} {
		if len(o.Paths) > 0 {
			out.Objections = append(out.Objections, o)
		}
	}
	return out
}

func (t *Tree) open(path string) (io.ReadCloser, error) {
	source, ok := t.feeding(path)
	if !ok {
		return nil, fmt.Errorf("%s is not part of the content", path)
	}
	return t.openOf(path, source)
}

// Scanning is a scan that goes on while other things are done.
type Scanning struct {
	stop context.CancelFunc
	done chan struct{}
	tree *Tree
	err  error
}

// Begin begins a Scan. Stop must be called in the end.
func Begin(ctx context.Context, sources []Source, opt Options) *Scanning {
	ctx, stop := context.WithCancel(ctx)
	s := &Scanning{stop: stop, done: make(chan struct{})}
	go func() {
		defer close(s.done)
		s.tree, s.err = Scan(ctx, sources, opt)
	}()
	return s
}

// Stop ends the scan, if it has not ended yet.
func (s *Scanning) Stop() {
	s.stop()
	<-s.done
}

// Wait gives what was scanned.
func (s *Scanning) Wait(ctx context.Context) (*Tree, error) {
	select {
	case <-s.done:
		return s.tree, s.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
