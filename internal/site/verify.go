package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// ErrNotRecorded tells that no deployment is recorded at a site.
var ErrNotRecorded = errors.New("no deployment is recorded")

// Report is what a verification found. Every list is sorted by path.
type Report struct {
	Tree    manifest.Digest  // of the manifest
	Checked int              // entries of the manifest that were looked at
	Bytes   int64            // bytes of the files that were read
	Missing []manifest.Entry // not at the site
	Altered []Alteration     // other bytes, or no longer a file
	Modes   []ModeDifference
	Owners  []OwnerDifference
	Links   []LinkDifference
	Strays  []manifest.Entry // at the site, and not in the manifest
	Leaving []manifest.Entry // retired, and left for a while
}

// Alteration is a file whose bytes are not the recorded ones.
type Alteration struct {
	Path   string
	Size   int64 // found
	Reason string
}

// ModeDifference is a file or folder with another mode.
type ModeDifference struct {
	Path        string
	Want, Found fs.FileMode
}

// OwnerDifference is a file or folder that belongs to others than it should.
type OwnerDifference struct {
	Path        string
	Want, Found string // USER:GROUP; what is found as numbers
}

// LinkDifference is a link that says something else, or is no link, or a link where none should be.
type LinkDifference struct {
	Path        string
	Want, Found string // empty: no link
}

// Matches tells whether nothing differs.
func (r *Report) Matches() bool {
	return len(r.Missing)+len(r.Altered)+len(r.Modes)+len(r.Owners)+len(r.Links)+len(r.Strays) == 0
}

// Verify reads every file that a manifest names and compares the site with it; nil stands for what is recorded, whose
// lack is ErrNotRecorded. Strays are looked for only when asked. Watch may be nil.
func (s *Site) Verify(ctx context.Context, m *manifest.Manifest, strays bool, watch *Watch) (*Report, error) {
	if m == nil {
		var err error
		if m, err = s.Recorded(ctx); err != nil {
			return nil, err
		}
		if m == nil {
			return nil, ErrNotRecorded
		}
	}
	entries, survey := m.Entries, &Survey{}
	if err := s.lookAgain(ctx); err != nil {
		return nil, err
	}
	if s.exists {
		if err := s.walk(ctx, survey, nothingKnown); err != nil {
			return nil, err
		}
	}
	want := inOrder(entries, func(e *manifest.Entry) string { return e.Path })
	var (
		open  []int
		bytes int64
	)
	for i := range survey.Found {
		f := &survey.Found[i]
		if e := want(f.Path); e != nil && e.Kind == manifest.File && f.Kind == manifest.File && f.Other == 0 &&
			(e.Size < 0 || e.Size == f.Size) {
			open = append(open, i)
			bytes += f.Size
		}
	}
	if watch == nil {
		watch = &Watch{}
	}
	watch.phase("check", len(open), bytes)
	if err := s.resolve(ctx, survey, open, watch.bytes); err != nil {
		return nil, err
	}
	number, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	if survey.leaving, err = s.readLeaving(ctx, number); err != nil {
		return nil, err
	}
	report := &Report{Tree: m.Tree(), Checked: len(entries), Bytes: bytes}
	rule := diff.Rule{Modes: s.Abilities().Modes, TimeStep: 1}
	if rule.Owners, err = s.owners(nil, entries); err != nil {
		return nil, err
	}
	report.compare(entries, survey, rule, strays)
	return report, nil
}

func (r *Report) compare(entries []manifest.Entry, survey *Survey, rule diff.Rule, strays bool) {
	result := diff.Compare(entries, survey.Found, nil, rule, nil)
	leaving := inOrder(survey.leaving, func(l *diff.Leaving) string { return l.Path })
	for i := range result.Changes {
		c := &result.Changes[i]
		switch {
		case c.Status == diff.New:
			r.Missing = append(r.Missing, *c.Want)
		case c.Status == diff.Stray && leaving(c.Path()) != nil:
			r.Leaving = append(r.Leaving, *c.Found.Entry)
		case c.Status == diff.Stray:
			if strays {
				r.Strays = append(r.Strays, *c.Found.Entry)
			}
		case c.Want.Kind == manifest.Link || c.Found.Kind == manifest.Link:
			r.Links = append(r.Links, LinkDifference{c.Path(), c.Want.Link, c.Found.Link})
		default:
			r.addAltered(c, &rule, survey.unread[c.Path()])
		}
	}
	if strays {
		for _, odd := range append(slices.Clip(survey.Odd), survey.Shut...) {
			r.Strays = append(r.Strays, manifest.Entry{Path: odd})
		}
		slices.SortFunc(r.Strays, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	}
}

// addAltered notes what is wrong with a file or folder: its bytes, its mode, or both.
func (r *Report) addAltered(c *diff.Change, rule *diff.Rule, unread error) {
	if !c.ModeOnly {
		a := Alteration{Path: c.Path(), Size: c.Found.Size, Reason: "other content"}
		switch {
		case c.Found.Other != 0:
			a.Reason = "no longer a file"
		case c.Found.Kind != c.Want.Kind:
			a.Reason = "a " + c.Found.Kind.String() + ", not a " + c.Want.Kind.String()
		case c.Want.Size >= 0 && c.Want.Size != c.Found.Size:
			a.Reason = "other size"
		case c.Found.Digest.IsZero() && unread != nil:
			a.Reason = "cannot be read: " + cause(unread)
		case c.Found.Digest.IsZero():
			a.Reason = "cannot be read"
		}
		r.Altered = append(r.Altered, a)
	}
	if !rule.Owns(c.Want, c.Found) {
		r.Owners = append(r.Owners, OwnerDifference{c.Path(), c.Want.Owner.String(), fmt.Sprintf("%d:%d", c.Found.User, c.Found.Group)})
	}
	if rule.Modes && c.Found.Kind == c.Want.Kind && c.Found.Other == 0 && c.Found.Mode != c.Want.Mode {
		r.Modes = append(r.Modes, ModeDifference{c.Path(), c.Want.Mode, c.Found.Mode})
	}
}
