// Package deploy is the way from content to a verified site: scan and survey at the same time, compare, refuse what
// is unsafe, stage, publish, verify, record.
//
// It prints nothing and asks nobody: what happens is told to a Watch, and what needs consent is returned.
package deploy

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/content"
	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Site is a site as a deployment sees it, wherever its engine runs.
type Site interface {
	Survey(ctx context.Context, believe bool) (*site.Survey, error)
	Compare(ctx context.Context, survey *site.Survey, want *site.Wanted, told func(bytes int64)) (*diff.Result, error)
	Recover(ctx context.Context, user string) (int, error)
	Affirm(ctx context.Context, number int, user string) error
	Deploy(ctx context.Context, plan *site.Plan, watch *site.Watch) (*site.Outcome, error)
	Deployment(ctx context.Context, number int) (*manifest.Manifest, error)
	Held(ctx context.Context, survey *site.Survey, result *diff.Result) (missing []string, err error)
	Abilities() fsys.Abilities
}

// Compare says by what files are compared.
type Compare string

// The ways to compare.
const (
	ByRecord Compare = ""     // by content, believing the record of files that stand with the recorded size and time
	ByHash   Compare = "hash" // by content, reading every file at the site
	ByTime   Compare = "time" // by size and time, which needs no look at the content
	Nothing  Compare = "none" // not at all: everything is sent
)

// Options says what a deployment may do.
type Options struct {
	Compare      Compare
	RemoveStrays bool
	MakeRoot     bool          // make the folders above the root too
	Partial      bool          // publish what arrived although some did not
	Last         []string      // patterns of what is published last; nil: DefaultLast
	History      int           // how many deployments can be rolled back to; 0: site.DefaultHistory
	Wait         time.Duration // how long to wait for another deployment to end
	Generator    string
	Origin       *manifest.Origin
	Started      time.Time
}

// Comparison is the content beside the site.
type Comparison struct {
	Tree   *content.Tree
	Survey *site.Survey
	Result *diff.Result

	able fsys.Abilities
}

// Scan is a scan of the content that goes on while other things are done.
type Scan struct {
	stop context.CancelFunc
	done chan struct{}
	tree *content.Tree
	err  error
}

// BeginScan begins to scan the content. Stop must be called in the end.
func BeginScan(ctx context.Context, sources []content.Source, opt content.Options) *Scan {
	ctx, stop := context.WithCancel(ctx)
	scan := &Scan{stop: stop, done: make(chan struct{})}
	go func() {
		defer close(scan.done)
		scan.tree, scan.err = content.Scan(ctx, sources, opt)
	}()
	return scan
}

// Stop ends the scan, if it has not ended yet.
func (s *Scan) Stop() {
	s.stop()
	<-s.done
}

func (s *Scan) wait(ctx context.Context) (*content.Tree, error) {
	select {
	case <-s.done:
		return s.tree, s.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Look surveys the site while the content is scanned, and compares them. It changes nothing. Told is called with bytes as
// they are read at the site; it may be nil.
func Look(ctx context.Context, s Site, scan *Scan, compare Compare, retire site.Retire, told func(int64)) (*Comparison, error) {
	c := &Comparison{able: s.Abilities()}
	group, both := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		c.Tree, err = scan.wait(both)
		return err
	})
	group.Go(func() (err error) {
		c.Survey, err = s.Survey(both, compare != ByHash)
		return err
	})
	if err := group.Wait(); err != nil {
		return nil, err
	}
	rule := diff.Rule{Times: compare == ByTime, Nothing: compare == Nothing}
	var err error
	c.Result, err = s.Compare(ctx, c.Survey, &site.Wanted{Entries: c.Tree.Entries, Rule: rule, Kept: c.kept(), Retire: retire}, told)
	return c, err
}

// kept gives the paths of the site that are left alone because what they should be could not be read.
func (c *Comparison) kept() (out []string) {
	for _, f := range slices.Concat(c.Tree.Failed, c.Tree.Refused) {
		out = append(out, f.Path)
	}
	return out
}

// SendBytes gives how many bytes a deployment would send.
func (c *Comparison) SendBytes() (files int, bytes int64) {
	for i := range c.Result.Changes {
		if c.Result.Changes[i].Sends() {
			files++
			bytes += c.Result.Changes[i].Want.Size
		}
	}
	return files, bytes
}

// Unchanged tells whether a deployment would have nothing to do, not even to record: everything wanted stands as it
// is recorded, and nothing else is recorded.
func (c *Comparison) Unchanged(opt Options) bool {
	return !c.Result.Publishes(opt.RemoveStrays) && !c.Result.Stale && c.Survey.Number > 0 &&
		c.Survey.Paths == len(c.Tree.Entries)
}

func (c *Comparison) wanted() *manifest.Manifest { return &manifest.Manifest{Entries: c.Tree.Entries} }

// TreeDigest gives the tree digest of the content.
func (c *Comparison) TreeDigest() manifest.Digest { return c.wanted().Tree() }

// Refusals are the reasons for which a deployment must not go on until the settings or the content are changed.
var (
	ErrGuard   = errors.New("the content holds what does not belong on a server")
	ErrLinks   = errors.New("links lead out of the tree")
	ErrBlocked = errors.New("what stands at the site is in the way, and no deployment put it there")
	ErrHold    = errors.New("the far end cannot hold everything")
	ErrMoved   = errors.New("the root is a link now, and was a folder at the last deployment: strays are not removed through it")
	ErrCase    = errors.New("names differ only in case, which the far side ignores")
)

// Refusal is one of the errors above with the paths that it is about.
type Refusal struct {
	Reason error
	Paths  []string // sorted, each with a reason of its own behind it where there is one
}

func (r *Refusal) Error() string { return r.Reason.Error() }

func (r *Refusal) Unwrap() error { return r.Reason }

// Refuse finds the first reason not to deploy, or nil.
func (c *Comparison) Refuse(opt Options) error {
	var paths []string
	for _, f := range c.Tree.Findings {
		name := f.Path
		if f.Folder {
			name += "/"
		}
		paths = append(paths, fmt.Sprintf("%s  (%s)", name, f.Why))
	}
	if len(paths) > 0 {
		return &Refusal{ErrGuard, paths}
	}
	for _, f := range c.Tree.Refused {
		paths = append(paths, fmt.Sprintf("%s  (%v)", f.Path, f.Err))
	}
	if len(paths) > 0 {
		return &Refusal{ErrLinks, paths}
	}
	if opt.RemoveStrays && c.Survey.Moved != "" {
		return &Refusal{ErrMoved, []string{c.Survey.Moved}}
	}
	if paths = c.unheld(); len(paths) > 0 {
		return &Refusal{ErrHold, paths}
	}
	if c.Survey.FoldsCase {
		if err := refuseCase(manifest.CaseClashes(c.Tree.Entries)); err != nil {
			return err
		}
	}
	if paths = diff.Blockers(c.Result, opt.RemoveStrays); len(paths) > 0 {
		return &Refusal{ErrBlocked, paths}
	}
	return nil
}

// KeepsModes tells whether the place keeps permission bits.
func (c *Comparison) KeepsModes() bool { return c.able.Modes }

// unheld gives the paths that the place has no form for.
func (c *Comparison) unheld() (paths []string) {
	for i := range c.Tree.Entries {
		switch e := &c.Tree.Entries[i]; {
		case e.Kind == manifest.Link && !c.able.Links:
			paths = append(paths, e.Path+"  (a link)")
		case c.able.OneLine && strings.ContainsAny(e.Path, "\r\n"):
			paths = append(paths, fmt.Sprintf("%q  (a line break in its name)", e.Path))
		case c.able.WindowsNames && fsys.NotOnWindows(e.Path) != "":
			paths = append(paths, fmt.Sprintf("%q  (%s)", e.Path, fsys.NotOnWindows(e.Path)))
		}
	}
	return paths
}

func refuseCase(clashes []manifest.CaseClash) error {
	var paths []string
	for _, clash := range clashes {
		paths = append(paths, clash.First+"  and  "+clash.Second)
	}
	if len(paths) > 0 {
		return &Refusal{ErrCase, paths}
	}
	return nil
}

// Consent is what a person must agree to before a deployment. Each list is sorted.
type Consent struct {
	First    bool     // no deployment is recorded: anything may be there
	Empty    bool     // the content is empty: everything that was deployed would go
	Drifted  []string // altered or removed by somebody since the last deployment
	Replaced []string // would be overwritten, and no deployment put them there
	Removed  []string // strays that would be removed
	Moved    string   // where the root leads, which was a folder at the last deployment; empty: it is not so
}

// Needed tells whether there is anything to agree to.
func (c *Consent) Needed() bool {
	return c.Empty || c.Moved != "" || len(c.Drifted)+len(c.Replaced)+len(c.Removed) > 0
}

// Consent gives what must be agreed to.
func (c *Comparison) Consent(opt Options) *Consent {
	out := &Consent{Empty: len(c.Tree.Entries) == 0 && c.Survey.Anything, Moved: c.Survey.Moved, First: c.Survey.Number == 0}
	for i := range c.Result.Changes {
		change := &c.Result.Changes[i]
		switch {
		case change.Drifted:
			out.Drifted = append(out.Drifted, change.Path)
		case change.Foreign:
			out.Replaced = append(out.Replaced, change.Path)
		case change.Status == diff.Stray && opt.RemoveStrays:
			out.Removed = append(out.Removed, change.Path)
		}
	}
	return out
}

// DefaultLast is what is published last: pages, which refer to everything else.
var DefaultLast = []string{"*.html", "*.htm", "*.xhtml", "*.php", "sitemap*.xml", "feed.xml"}

// Run deploys what was compared. It must have been asked for refusals and consent before.
func Run(ctx context.Context, s Site, c *Comparison, opt Options, watch *site.Watch) (*site.Outcome, error) {
	plan := c.plan(opt)
	out, err := s.Deploy(ctx, plan, watch)
	var folded *site.CaseError
	if errors.As(err, &folded) {
		return nil, refuseCase(folded.Clashes)
	}
	if err != nil {
		return nil, err
	}
	unread := make([]site.Failure, len(c.Tree.Failed))
	for i, f := range c.Tree.Failed {
		unread[i] = site.Failure{Path: f.Path, Err: f.Err}
	}
	out.Add(unread)
	return out, nil
}

func (c *Comparison) plan(opt Options) *site.Plan {
	last := opt.Last
	if last == nil {
		last = DefaultLast
	}
	return &site.Plan{
		Want: c.Tree.Entries, Survey: c.Survey, Result: c.Result, Kept: c.kept(), Last: last, Open: c.open,
		Generator: opt.Generator, Origin: opt.Origin, Started: opt.Started,
		RemoveStrays: opt.RemoveStrays, MakeParents: opt.MakeRoot, Partial: opt.Partial, Incomplete: len(c.Tree.Failed) > 0,
		SendAll: opt.Compare == Nothing, History: opt.History, Wait: opt.Wait,
	}
}

func (c *Comparison) open(path string) (io.ReadCloser, error) {
	i, ok := c.Tree.Find(path)
	if !ok {
		return nil, fmt.Errorf("%s is not part of the content", path)
	}
	return c.Tree.Open(i)
}
