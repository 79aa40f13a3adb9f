// Package deploy is the way from content to a verified site: scan and survey at the same time, compare, refuse what
// is unsafe, stage, publish, verify, record.
//
// A Session is all of that, for one content and one open site. It prints nothing: what happens is told to a Person, who
// is asked for consent.
package deploy

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Compare says by what files are compared.
type Compare string

// The ways to compare.
const (
	ByRecord Compare = ""     // by content, believing the record of files that have the recorded size and time
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
	Retire       site.Retire
	Trial        bool                  // do everything but write
	Watched      *manifest.Watched     // the watch that deploys, of which ID and Since count; nil: it is one run
	Hand         bool                  // a person puts the content beside what is there
	Beside       *site.Beside          // a tree there from which content may be taken; nil: there is none
	Published    func(context.Context) // is called when something was published, before what runs after it; may be nil
	Like         bool                  // what is replaced hands its access lists and extended attributes on
	Around       *Around               // what runs around the publish; nil: nothing
	Sources      string                // what the content is made of, as a person would say; empty: that does not count
	User         string
	Generator    string
	Origin       *manifest.Origin
	Started      time.Time
}

// Comparison is the content beside the site.
type Comparison struct {
	Content *content.Content
	Survey  site.Summary
	Result  *diff.Result

	id   calls.ID
	able fsys.Abilities
	tree manifest.Digest // of the content; zero: it was not computed, or some digests were open
}

// kept gives the paths of the site that are left alone because what they should be could not be read.
func (c *Comparison) kept() (out []string) {
	out = append(out, c.Content.Left...)
	for _, f := range c.Content.Failed {
		out = append(out, f.Path)
	}
	for _, o := range c.Content.Objections {
		out = append(out, o.Kept...)
	}
	return out
}

// SendBytes gives how many bytes a deployment would send.
func (c *Comparison) SendBytes() (files int, bytes int64) {
	c.Result.Each(func(change *diff.Change) bool {
		if change.Sends() {
			files++
			bytes += change.Want.Size
		}
		return true
	})
	return files, bytes
}

// sent gives the paths of the files that a deployment sends.
func (c *Comparison) sent() (paths []string) {
	c.Result.Each(func(change *diff.Change) bool {
		if change.Sends() {
			paths = append(paths, change.Path())
		}
		return true
	})
	return paths
}

// Unchanged tells whether a deployment would have nothing to do, not even to record: everything wanted is there as it
// is recorded, and nothing else is recorded.
func (c *Comparison) Unchanged(opt Options) bool {
	return !c.Result.Publishes(opt.RemoveStrays) && !c.Result.Stale && c.Survey.Number > 0 &&
		(c.Survey.Paths == c.Content.Contents() || len(c.Content.Left) > 0)
}

// TreeDigest gives the tree digest of the content.
func (c *Comparison) TreeDigest() manifest.Digest {
	if c.tree.IsZero() {
		return c.Content.Tree()
	}
	return c.tree
}

// Refusals are the reasons for which a deployment must not go on until the settings or the content are changed.
var (
	ErrBlocked = errors.New("what is in the way at the site was not put there by a deployment")
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
	for _, o := range c.Content.Objections {
		return &Refusal{o.Reason, o.Paths}
	}
	if opt.RemoveStrays && c.Survey.Moved != "" {
		return &Refusal{ErrMoved, []string{c.Survey.Moved}}
	}
	if paths := c.unheld(); len(paths) > 0 {
		return &Refusal{ErrHold, paths}
	}
	if c.Survey.FoldsCase {
		if err := refuseCase(manifest.CaseClashes(c.Content.Entries())); err != nil {
			return err
		}
	}
	if paths := diff.Blockers(c.Result, opt.RemoveStrays); len(paths) > 0 {
		return &Refusal{ErrBlocked, paths}
	}
	return nil
}

// KeepsModes tells whether the place keeps permission bits.
func (c *Comparison) KeepsModes() bool { return c.able.Modes }

// unheld gives the paths that the place has no form for.
func (c *Comparison) unheld() (paths []string) {
	if c.able.Links && !c.able.OneLine && !c.able.WindowsNames {
		return nil
	}
	c.Content.Each(func(e *manifest.Entry) bool {
		switch {
		case e.Kind == manifest.Link && !c.able.Links:
			paths = append(paths, e.Path+"  (a link)")
		case c.able.OneLine && strings.ContainsAny(e.Path, "\r\n"):
			paths = append(paths, fmt.Sprintf("%q  (a line break in its name)", e.Path))
		case c.able.WindowsNames && fsys.NotOnWindows(e.Path) != "":
			paths = append(paths, fmt.Sprintf("%q  (%s)", e.Path, fsys.NotOnWindows(e.Path)))
		}
		return true
	})
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
	Hand     bool     // a person puts single files there
	First    bool     // no deployment is recorded: anything may be there
	Empty    bool     // the content is empty: everything that was deployed would go
	Drifted  []string // altered or removed by somebody since the last deployment
	Replaced []string // would be overwritten, and no deployment put them there
	Removed  []string // strays that would be removed
	Retired  []string // would be removed, and that is more than is likely to be meant: see Elsewhere and Most
	// what the content of the deployment before was made of, where that was something else; empty: it was the same
	Elsewhere string
	Most      bool   // it is more than half of what the site has
	Moved     string // where the root leads, which was a folder at the last deployment; empty: it is not so
}

// Needed tells whether there is anything to agree to.
func (c *Consent) Needed() bool {
	return c.Empty || c.Moved != "" || len(c.Drifted)+len(c.Replaced)+len(c.Removed)+len(c.Retired) > 0
}

// mostRetired is up to how many paths of a site may be retired without a question.
const mostRetired = 20

// Consent gives what must be agreed to.
func (c *Comparison) Consent(opt Options) *Consent {
	out := &Consent{Empty: c.Content.Len() == 0 && c.Survey.Anything, Moved: c.Survey.Moved,
		First: c.Survey.Number == 0, Hand: opt.Hand}
	for i := range c.Result.Changes {
		change := &c.Result.Changes[i]
		switch {
		case change.Drifted:
			out.Drifted = append(out.Drifted, change.Path())
		case c.Content.Rollback > 0 && change.Hand: // that is what is rolled back
		case change.Foreign, opt.Hand && change.Status == diff.Changed && !change.ModeOnly:
			out.Replaced = append(out.Replaced, change.Path())
		case change.Status == diff.Stray && opt.RemoveStrays:
			out.Removed = append(out.Removed, change.Path())
		case change.Status == diff.Retired:
			out.Retired = append(out.Retired, change.Path())
		}
	}
	out.Most = c.Survey.Paths > mostRetired && 2*len(out.Retired) > c.Survey.Paths
	if opt.Sources != "" && opt.Sources != c.Survey.Sources {
		out.Elsewhere = c.Survey.Sources
	}
	if !out.Most && out.Elsewhere == "" || c.Content.Rollback > 0 || out.Empty {
		out.Retired = nil
	}
	return out
}

// DefaultLast is what is published last: pages, which refer to everything else.
var DefaultLast = []string{"*.html", "*.htm", "*.xhtml", "*.php", "sitemap*.xml", "feed.xml"}

func (c *Comparison) staging(opt Options) *calls.Staging {
	last := opt.Last
	if last == nil {
		last = DefaultLast
	}
	origin := opt.Origin
	if c.Content.Origin != nil {
		origin = c.Content.Origin
	}
	return &calls.Staging{As: calls.NewID(), Comparison: c.id, Content: c.Content, Plan: site.Plan{
		Tree: c.tree, Result: c.Result, Kept: c.kept(), Gone: c.Content.Gone, Last: last, Open: c.Content.Open,
		Generator: opt.Generator, Origin: origin, Started: opt.Started,
		RemoveStrays: opt.RemoveStrays, MakeParents: opt.MakeRoot, Partial: opt.Partial,
		Incomplete: len(c.Content.Failed) > 0,
		SendAll:    opt.Compare == Nothing, History: opt.History, Wait: opt.Wait, Rollback: c.Content.Rollback,
		Watched: opt.Watched, Sources: opt.Sources, Hand: opt.Hand, Beside: opt.Beside, Promoted: c.Content.Promoted, Commands: opt.Around.count(), Like: opt.Like,
	}}
}
