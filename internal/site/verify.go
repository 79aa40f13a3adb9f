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
// lack is ErrNotRecorded. Strays are looked for only when asked. Watch may be nil. Both are gone through folder by folder: see
// checking.go.
func (s *Site) Verify(ctx context.Context, m *manifest.Manifest, strays bool, watch *Watch) (*Report, error) {
	number, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	against, done, err := s.against(ctx, number, m)
	defer done()
	if err != nil {
		return nil, err
	}
	if err := s.lookAgain(ctx); err != nil {
		return nil, err
	}
	leaving, err := s.readLeaving(ctx, number)
	if err != nil {
		return nil, err
	}
	if watch == nil {
		watch = &Watch{}
	}
	c := &checking{site: s, against: against, watch: watch, strays: strays, report: &Report{Checked: against.top.Entries},
		leaving: map[string]bool{}, unowned: map[manifest.Owner]bool{},
		rule: diff.Rule{Modes: s.Abilities().Modes, TimeStep: 1, Owners: map[manifest.Owner]diff.Owner{}}}
	for i := range leaving {
		c.leaving[leaving[i].Path] = true
	}
	err = c.run(ctx)
	return c.report, err
}

// sort puts all lists in the order of their paths.
func (r *Report) sort() {
	sortPaths(r.Missing, func(e *manifest.Entry) string { return e.Path })
	sortPaths(r.Altered, func(a *Alteration) string { return a.Path })
	sortPaths(r.Modes, func(d *ModeDifference) string { return d.Path })
	sortPaths(r.Owners, func(d *OwnerDifference) string { return d.Path })
	sortPaths(r.Links, func(d *LinkDifference) string { return d.Path })
	sortPaths(r.Strays, func(e *manifest.Entry) string { return e.Path })
	sortPaths(r.Leaving, func(e *manifest.Entry) string { return e.Path })
}

func sortPaths[T any](list []T, path func(*T) string) {
	slices.SortFunc(list, func(a, b T) int { return strings.Compare(path(&a), path(&b)) })
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
