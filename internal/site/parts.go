package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// Most deployments change little of a site that is nearly as it is recorded. A brief survey has found that out (see brief.go), and
// whoever wants the change knows in which folders something else is wanted than is recorded. So these alone are compared,
// published and recorded, beside those that are not as they are recorded: what is wanted, found and recorded is known of them, and
// of all else that it is what it was. What stays although it is not wanted is left out likewise, where it is as it is recorded.
// Where many folders differ, what is the same in them is left out, too: see narrow.go.
// Where more is to be known, since all is sent again, the survey is unfolded, and all of it is compared.

// Part is what is directly in a folder, or, of a large one, a part of that: from a name on up to another one.
type Part struct {
	Dir    string
	From   string          // empty: from the beginning
	Until  string          // that is in it no more; empty: to the end
	Digest manifest.Digest // as Digests has it; zero: it is not known
}

// Different is what is recorded of the parts of a site that are, or may be, other than is wanted.
type Different struct {
	Parts []int // those, by index, ascending

	survey   *Survey
	contents sketch           // of all files that are recorded
	much     *muchParts       // nil: what is recorded in them is known
	recorded []manifest.Entry // in them, and in folders in which nothing is wanted any more; sorted by path
	dirs     []string         // folders that have an entry of their own, in any order
	wanted   []string         // folders in which something is wanted
	stay     []string         // folders of entries that are left out, since they stay although they are not wanted; in any order
	kept     int              // those entries
	bytes    int64            // of their files
}

// little gives how many of so many entries may be in what differs for all of it to be looked at.
func little(entries int) int { return max(entries/8, 4096) }

// InParts tells whether a site may be compared in parts.
func (s *Site) InParts(survey *Survey, want *Wanted) bool {
	return survey.brief != nil && !survey.brief.unread && !want.Rule.Nothing &&
		len(survey.brief.young) <= little(survey.brief.count)
}

// Outside gives the folders beside some in which something may be another thing than is recorded, where that is a tree with some digest, of which it is known that it is
// what is wanted, but in those folders. If that is not what is recorded, it is not enough to look into them.
func (s *Survey) Outside(tree manifest.Digest, in map[string]bool) (more []string, enough bool) {
	b := s.brief
	if b == nil || b.strict || s.tree != tree {
		return nil, false
	}
	for dir := range b.odd {
		if !in[dir] {
			more = append(more, dir)
		}
	}
	for _, path := range b.young {
		if dir, _ := fsys.Split(path); !in[dir] {
			more = append(more, dir)
		}
	}
	slices.Sort(more)
	return slices.Compact(more), true
}

// youngOnes gives the files of which the content is not believed.
func (b *brief) youngOnes() map[string]bool {
	young := make(map[string]bool, len(b.young))
	for _, path := range b.young {
		young[path] = true
	}
	return young
}

// staying tells of what is recorded and not wanted whether it stays as it is, and nothing more need be known of it; nil: it does not.
func (b *brief) staying(want *Wanted, young map[string]bool) func(path string, kind manifest.Kind) bool {
	keep := Keeping(want.Kept, want.Gone)
	if keep == nil {
		return nil
	}
	return func(path string, kind manifest.Kind) bool {
		return kind != manifest.Dir && !b.isOdd(path) && !young[path] && keep(path) // a folder may be filled now
	}
}

// within gives which entries of a folder, sorted by name, are in a part of it.
func within(entries []manifest.Entry, part Part) (from, until int) {
	from, _ = manifest.Find(entries, part.From)
	if until = len(entries); part.Until != "" {
		until, _ = manifest.Find(entries, part.Until)
	}
	return from, max(from, until)
}

// openRecord is openTree of the current deployment. It fails with an *OvertakenError where that is recorded no longer.
func (s *Site) openRecord(ctx context.Context, number int) (*head, *shelf, error) {
	h, opened, err := s.openTree(ctx, number)
	if errors.Is(err, fs.ErrNotExist) {
		if current, failed := s.current(ctx); failed == nil && current != number {
			err = &OvertakenError{number, current}
		}
	}
	return h, opened, err
}

// openTree opens what is recorded of a deployment. The shelf must be closed, also where this fails, which it does where no
// tree of blocks is recorded.
func (s *Site) openTree(ctx context.Context, number int) (*head, *shelf, error) {
	none := &shelf{site: s}
	h, old, err := s.readHead(ctx, number, false)
	switch {
	case err != nil:
		return nil, none, err
	case old != nil:
		return nil, none, &RecordError{s.inRecord(deploymentFile(number)), errors.New("it is no tree of blocks")}
	}
	opened, err := s.openShelf(ctx, h, true)
	return h, opened, err
}

// recordedFolder is what is recorded directly in a folder: entries, whose paths are their names.
type recordedFolder struct {
	dir     string
	entries []manifest.Entry
}

// eachFolder calls visit with what is recorded directly in each folder that has content, from several goroutines at once. The
// paths of the entries are their names, and visit must not keep them.
func (s *Site) eachFolder(ctx context.Context, top blocks.Ref, shelf *shelf, visit func(dir string, entries []manifest.Entry)) error {
	all := func(string, blocks.Ref) bool { return false }
	return s.takeFolders(ctx, top, shelf, all, func(in recordedFolder, done func(recordedFolder)) {
		visit(in.dir, in.entries)
		done(in)
	})
}

// takeFolders is eachFolder for who keeps what is in a folder until done is called with it. Folders that are passed over are not read, nor those
// in them.
func (s *Site) takeFolders(ctx context.Context, top blocks.Ref, shelf *shelf, pass func(dir string, of blocks.Ref) bool, visit func(in recordedFolder, done func(recordedFolder))) error {
	type recorded struct {
		path string
		blocks.Ref
	}
	var rooms sync.Pool
	done := func(in recordedFolder) {
		room := in.entries[:0]
		rooms.Put(&room)
	}
	return folderwise(ctx, s.jobs, recorded{".", top}, func(_ context.Context, in recorded) (next []recorded, err error) {
		if strings.Count(in.path, "/") >= deepest {
			return nil, &RecordError{s.inRecord("deployments"), fmt.Errorf("folder %s lies too deep", in.path)}
		}
		if pass(in.path, in.Ref) {
			return nil, nil
		}
		room, _ := rooms.Get().(*[]manifest.Entry)
		if room == nil {
			room = new([]manifest.Entry)
		}
		entries, below, err := blocks.Folder(in.Ref, *room, shelf.block)
		if here := (recordedFolder{in.path, entries}); err == nil {
			visit(here, done)
		} else {
			done(here)
		}
		for _, b := range below {
			next = append(next, recorded{fsys.Join(in.path, b.Name), b.Ref})
		}
		return next, err
	})
}

// rest is what is known of all of a site that a survey of some parts is not about.
type rest struct {
	contents sketch   // see Different
	wanted   []string // folders in which something is wanted
	stays    []string // folders that have an entry of their own, and stay as they are
	kept     []string // folders in which something stays although it is not wanted, sorted
	hands    int      // entries that a person put there, which are in no content
}

// mayHave tells whether a file that is recorded may have one of some contents.
func (r *rest) mayHave(contents map[manifest.Digest]bool) bool {
	for digest := range contents {
		if r.contents.mayHave(&digest) {
			return true
		}
	}
	return false
}

// keeps tells whether something stays in a folder, or below it, although it is not wanted.
func (r *rest) keeps(dir string) bool {
	if r == nil {
		return false
	}
	if _, in := slices.BinarySearch(r.kept, dir); in {
		return true
	}
	i, _ := slices.BinarySearch(r.kept, dir+"/")
	return i < len(r.kept) && strings.HasPrefix(r.kept[i], dir+"/")
}

// CompareParts is Compare of those parts that differ: of them are the entries that are wanted, and so many are wanted in all. It gives
// what was surveyed of them, to go on with; nil: all of the site must be compared, which may be since they are of another survey.
func (s *Site) CompareParts(ctx context.Context, of *Survey, d *Different, want *Wanted, paths int, told func(bytes int64)) (*Survey, *diff.Result, error) {
	b := of.brief
	if b == nil || of != d.survey || d.much != nil || b.count-len(d.recorded)-d.kept != paths-len(want.Entries) { // what is the same is as much on both sides
		return nil, nil, nil
	}
	survey, bytes := d.unfold(), d.bytes
	for i := range d.recorded {
		if e := &d.recorded[i]; !b.isOdd(e.Path) {
			bytes += max(e.Size, 0)
		}
	}
	result, err := s.Compare(ctx, survey, want, told)
	if err != nil {
		return nil, nil, err
	}
	result.Same, result.SameBytes = result.Same+b.count-len(d.recorded)-d.kept, result.SameBytes+b.bytes-bytes
	return survey, result, nil
}

// unfold gives the survey of what differs.
func (d *Different) unfold() *Survey {
	var (
		out    = *d.survey
		b      = d.survey.brief
		young  = b.youngOnes()
		record = *d.survey.Recorded
	)
	record.Entries = d.recorded
	out.Recorded, out.brief, out.rest = &record, nil, &rest{contents: d.contents, wanted: d.wanted, hands: b.hands, kept: slices.Sorted(slices.Values(d.stay))}
	for i := range d.recorded {
		e := &d.recorded[i]
		if e.Kind == manifest.Dir || b.isOdd(e.Path) { // which is among the others
			continue
		}
		f := b.foundAs(e)
		if young[e.Path] {
			f.Entry = with(f.Entry, manifest.Digest{})
		}
		out.Found = append(out.Found, f)
	}
	isPart := func(path string) bool {
		_, found := manifest.Find(d.recorded, path)
		return found
	}
	for _, f := range b.others() {
		f.Filled = f.Kind == manifest.Dir && b.filled[f.Path]
		_, isOdd := b.odd[f.Path]                                                             // it may have been emptied
		if f.Kind != manifest.Dir || f.Filled || isOdd || isPart(f.Path) || b.isOdd(f.Path) { // else it is an empty one that stays as it is
			out.Found = append(out.Found, f)
		}
	}
	slices.SortFunc(out.Found, func(a, b diff.Found) int { return strings.Compare(a.Path, b.Path) })
	for _, dir := range d.dirs {
		if !isPart(dir) {
			out.rest.stays = append(out.rest.stays, dir)
		}
	}
	return &out
}

// eachOther calls visit with each file with one of some contents that is recorded where a survey of some parts has not looked, and was
// found so, from several goroutines at once. Visit must not keep them. Of any other survey there is none.
func (s *Site) eachOther(ctx context.Context, survey *Survey, with map[manifest.Digest]bool, visit func(e *manifest.Entry)) error {
	if survey.rest == nil || !survey.rest.mayHave(with) {
		return nil
	}
	h, shelf, err := s.openRecord(ctx, survey.Number)
	defer shelf.close()
	if err != nil {
		return err
	}
	return s.eachFolder(ctx, blocks.Ref{Name: h.Top, Entries: h.Count}, shelf, func(dir string, entries []manifest.Entry) {
		known := knownIn(survey.Recorded.Entries, dir)
		for i := range entries {
			if entries[i].Kind != manifest.File || !with[entries[i].Digest] || known.find(entries[i].Path) != nil {
				continue
			}
			e := entries[i]
			e.Path = fsys.Join(dir, e.Path)
			visit(&e)
		}
	})
}

// edits gives what makes of some entries that are recorded those that are there now.
func edits(was, is []manifest.Entry) (out []blocks.Edit) {
	together(was, is, func(was, is *manifest.Entry) {
		switch {
		case is == nil:
			out = append(out, blocks.Edit{Path: was.Path})
		case was == nil || !identical(was, is):
			out = append(out, blocks.Edit{Path: is.Path, Entry: is})
		}
	})
	return out
}

// identical tells whether there is nothing in which two entries differ.
func identical(a, b *manifest.Entry) bool {
	return a.Equal(*b) && a.Size == b.Size && a.Hand == b.Hand && a.ModTime.Equal(b.ModTime)
}

// edited gives the tree that is there when of what a survey is about there are other entries.
func (s *Site) edited(ctx context.Context, survey *Survey, is []manifest.Entry) *recording {
	by := &edited{site: s, ctx: ctx, number: survey.Number, edits: edits(survey.Recorded.Entries, is)}
	return &recording{by.walk, by}
}

// recording is what is recorded of a deployment.
type recording struct {
	walk manifest.Walk
	by   *edited // how it follows from what was recorded before; nil: that does not matter
}

// failed gives why a walk did not come to its end; nil: each did.
func (r *recording) failed() error {
	if r.by == nil {
		return nil
	}
	r.by.mu.Lock()
	defer r.by.mu.Unlock()
	return r.by.err
}

// edited is a recorded tree that becomes another one by edits.
type edited struct {
	site   *Site
	ctx    context.Context
	number int // of the deployment
	edits  []blocks.Edit

	mu  sync.Mutex
	err error // of the first walk that failed
}

// walk goes through the tree that it becomes. It is a manifest.Walk: whether it came to its end is told by failed.
func (e *edited) walk(visit func(e *manifest.Entry) bool) { e.walkFrom("", visit) }

// walkFrom is walk from a path on, before which nothing is edited.
func (e *edited) walkFrom(path string, visit func(e *manifest.Entry) bool) {
	h, shelf, err := e.site.openRecord(e.ctx, e.number)
	defer shelf.close()
	edits, more := e.edits, true
	until := func(path string) bool { // gives the new ones before a path, and tells whether the path has none
		for more && len(edits) > 0 && edits[0].Path < path {
			more = edits[0].Entry == nil || visit(edits[0].Entry)
			edits = edits[1:]
		}
		return len(edits) == 0 || edits[0].Path != path
	}
	if err == nil {
		err = blocks.WalkFrom(path, blocks.Ref{Name: h.Top, Entries: h.Count}, shelf.block, func(was *manifest.Entry) bool {
			if until(was.Path) && more {
				more = visit(was)
			}
			return more
		})
	}
	for ; err == nil && more && len(edits) > 0; edits = edits[1:] {
		more = edits[0].Entry == nil || visit(edits[0].Entry)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.err == nil {
		e.err = err
	}
}
