package site

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// Most often nobody has touched a site since its last deployment, or little of it. A brief survey finds that out folder by folder:
// it reads the block of a folder beside the folder, and keeps neither, but for folders in which something is not as it is
// recorded, or says more than the record does. Where these are not a little, the whole survey takes its place. So a site of
// any size is surveyed in the memory that its largest folder and what was altered take. Where more is to be known of it all the
// same, since much else is wanted than is recorded, the survey is unfolded: all else that was found is what is recorded.

// brief is what a brief survey keeps.
type brief struct {
	unread   bool         // nobody has read the files yet, and what is recorded of them is not believed: see reading.go
	strict   bool         // nothing that is recorded is believed unseen, not even that it is the tree that it says it is
	count    int          // entries that are recorded
	entries  int          // of those, in folders that are as they are recorded
	bytes    int64        // of their files
	folders  []diff.Found // in any order
	young    []string     // files that are as recorded, but for what is in them, which is not believed; in any order
	owners   owners       // of everything but folders, and what is in odd ones
	foretold *foretold
	contents sketch // of all files that are recorded

	odd    map[string][]diff.Found // what was found, but for folders, in those that are not as recorded, or not there
	filled map[string]bool         // folders in which something exists
	size   int                     // entries of odd folders, recorded and found
	hands  int                     // of what is recorded, that a person put there
	doubts int                     // files in odd folders of which the content is not believed
}

// isOdd tells whether the folder of a path is not as it is recorded.
func (b *brief) isOdd(path string) bool {
	dir, _ := fsys.Split(path)
	_, is := b.odd[dir]
	return is
}

// owning is whom something belongs to.
type owning struct {
	told        bool // the place tells
	user, group uint32
}

// owners is whom that belongs to which is recorded to be one owner's, for each of these; nil is one, too.
type owners []owner

type owner struct {
	of *manifest.Owner
	owning
}

// mostOwners is how many there are at most: others make their folders odd.
const mostOwners = 16

// find gives who owns what is recorded to be an owner's; nil: that is not known yet.
func (o owners) find(of *manifest.Owner) *owner {
	for i := range o {
		if known := o[i].of; known == of || known != nil && of != nil && *known == *of {
			return &o[i]
		}
	}
	return nil
}

// are tells whether all others own the same, as far as that is known.
func (o owners) are(others owners) bool {
	more := 0
	for i := range others {
		known := o.find(others[i].of)
		if known == nil {
			more++
		} else if known.owning != others[i].owning {
			return false
		}
	}
	return len(o)+more <= mostOwners
}

// add adds those of which it is not known yet what they own.
func (o *owners) add(others owners) {
	for i := range others {
		if o.find(others[i].of) == nil {
			*o = append(*o, others[i])
		}
	}
}

// briefAt is Options.Brief where that is not said.
const briefAt = 20_000

// errNotBrief tells that a site is not nearly as it is recorded.
var errNotBrief = errors.New("much is not as it is recorded")

// SurveyBriefly is Survey; what it gives may have to be unfolded, see there. Where the record is not to be believed, the files are
// to be read first: see ReadFiles.
func (s *Site) SurveyBriefly(ctx context.Context, believe bool) (*Survey, error) {
	if s.exists && s.record != "" {
		out, err := s.surveyBriefly(ctx, believe)
		if err == nil || ctx.Err() != nil {
			return out, err
		}
	}
	return s.Survey(ctx, believe)
}

// surveyBriefly fails where the site is not nearly as it is recorded, or anything is wrong: Survey finds out what.
func (s *Site) surveyBriefly(ctx context.Context, believe bool) (*Survey, error) {
	begun := time.Now()
	number, err := s.current(ctx)
	if err != nil || number == 0 {
		return nil, errors.Join(err, errNotBrief)
	}
	h, old, err := s.readHead(ctx, number, false)
	if err != nil || old != nil || h.Count < s.briefAt {
		return nil, errors.Join(err, errNotBrief)
	}
	out := &Survey{}
	if out.Unfinished, err = s.interrupted(ctx); err != nil {
		return nil, err
	}
	if err := s.lookAgain(ctx); err != nil {
		return nil, err
	}
	if out.leaving, err = s.readLeaving(ctx, number); err != nil || len(out.leaving) > little(h.Count) {
		return nil, errors.Join(err, errNotBrief)
	}
	shelf, err := s.openShelf(ctx, h, true)
	defer shelf.close()
	if err != nil {
		return nil, err
	}
	record, err := s.fs.Lstat(ctx, s.inRecord(deploymentFile(number)))
	if err != nil {
		return nil, err
	}
	known, err := s.knownUntil(ctx, number)
	if err != nil {
		return nil, err
	}
	defer s.foretold.Store(nil)
	w := &briefWalk{site: s, shelf: shelf, known: known, out: &brief{foretold: &foretold{site: s}, contents: newSketch(h.Count), unread: !believe, strict: !believe, count: h.Count, odd: map[string][]diff.Found{}, filled: map[string]bool{}},
		leaves: map[manifest.Digest]bool{}, able: s.Abilities(), settled: record.ModTime.Add(-max(settleTime, s.Abilities().TimeStep))}
	if err := folderwise(ctx, s.jobs, briefFolder{path: ".", recorded: blocks.Ref{Name: h.Top, Entries: h.Count}}, w.folder); err != nil {
		return nil, err
	}
	s.shelved.add(shelf, s.isNear())
	s.shelved.addLeaves(w.leaves)
	out.Unsettled = len(w.out.young) + w.out.doubts
	if err := w.dateYoung(ctx, deploymentFile(number)); err != nil {
		return nil, err
	}
	out.Recorded, out.tree, out.brief = h.manifest(), h.Tree, w.out
	out.Number, out.Paths, out.Sources, out.Anything = number, h.Count-w.out.hands, h.Deployment.Sources, w.out.filled["."]
	s.seen = min(w.changed, begun.Add(-changeStep()).UnixNano())
	out.FoldsCase, err = s.FoldsCase(ctx)
	return out, err
}

// briefWalk compares a site with its record, many folders at once.
type briefWalk struct {
	site    *Site
	shelf   *shelf
	able    fsys.Abilities
	settled time.Time // what is dated later is not believed
	known   int64     // nor what changed later; 0: the place does not tell

	rooms sync.Pool // of *[]manifest.Entry, for what is recorded of a folder

	mu      sync.Mutex
	out     *brief
	changed int64                    // when anything changed last
	leaves  map[manifest.Digest]bool // blocks that name no other one
}

// briefFolder is a folder that is there, or is recorded, or both.
type briefFolder struct {
	path     string
	recorded blocks.Ref // zero: nothing is recorded below it
	gone     bool       // it is not there
}

// besideFrom is from how many entries below a folder on its block is read while its names are.
const besideFrom = 4096

// folder compares one folder, and gives those in it.
func (w *briefWalk) folder(ctx context.Context, in briefFolder) (next []briefFolder, err error) {
	s := w.site
	if strings.Count(in.path, "/") >= deepest {
		return nil, errNotBrief
	}
	var (
		list    []fsys.Info
		entries []manifest.Entry
		below   []blocks.Below
		reading errgroup.Group // of its block, beside its names
		whole   []manifest.Digest
	)
	if in.recorded.Entries > 0 {
		room, _ := w.rooms.Get().(*[]manifest.Entry)
		if room == nil {
			room = new([]manifest.Entry)
		}
		defer func() {
			*room = entries[:0]
			w.rooms.Put(room)
		}()
		read := func() (err error) {
			entries, below, err = blocks.Folder(in.recorded, (*room)[:0], func(name manifest.Digest) ([]byte, error) {
				block, err := w.shelf.block(name)
				if blocks.IsWhole(block) {
					whole = append(whole, name)
				}
				return block, err
			})
			return err
		}
		if in.recorded.Entries < besideFrom {
			err = read()
		} else {
			reading.Go(read)
		}
	}
	if err == nil && !in.gone {
		list, err = s.listIn(ctx, in.path)
	}
	if failed := reading.Wait(); err == nil {
		err = failed
	}
	if err != nil {
		return nil, err
	}
	var (
		here    brief
		changed int64
		as      = &inFolder{entries: entries}
		entered = make(map[string]bool, len(below))
		odd     = in.gone
		modes   = s.Abilities().Modes // which a place may show only with what it lists
	)
	for i := range list {
		info := &list[i]
		if !info.Changed.IsZero() {
			changed = max(changed, info.Changed.UnixNano())
		}
		e := as.find(info.Name)
		if info.Mode.IsDir() {
			at, isBelow := findBelow(below, info.Name)
			switch {
			case e != nil && (e.Kind != manifest.Dir || e.Hand || modes && e.Mode != info.Mode.Perm() || !w.ownedBy(e.Owner, info)), e == nil && !isBelow:
				odd = true
			case e != nil:
				here.entries++
			}
			into := briefFolder{path: fsys.Join(in.path, info.Name)}
			if isBelow {
				into.recorded, entered[info.Name] = below[at].Ref, true
			}
			next = append(next, into)
			here.folders = append(here.folders, describe(into.path, *info))
			continue
		}
		if e == nil || !w.isAs(e, info, modes) || !w.owns(&here, e.Owner, info) {
			odd = true
			continue
		}
		if e.Kind == manifest.File && !w.out.unread && !w.isOld(e, info) {
			here.young = append(here.young, fsys.Join(in.path, info.Name))
		}
		here.entries++
		here.bytes += max(e.Size, 0)
	}
	for _, b := range below {
		if !entered[b.Name] {
			odd = true // it may be empty now
			next = append(next, briefFolder{path: fsys.Join(in.path, b.Name), recorded: b.Ref, gone: true})
		}
	}
	if len(list) > 0 {
		here.filled = map[string]bool{in.path: true}
	}
	if odd = odd || here.entries != len(entries); odd || !w.ownAlike(&here) {
		if err := w.keepOdd(&here, in.path, list, entries); err != nil {
			return nil, err
		}
	} else if len(below) == 0 {
		w.out.foretold.take(in.recorded.Name, entries)
	}
	for i := range entries {
		if entries[i].Kind == manifest.File {
			w.out.contents.add(&entries[i].Digest)
		}
	}
	if len(below) > 0 {
		whole = nil
	}
	return next, w.add(&here, whole, changed)
}

// owns tells whether what was found in a folder belongs to whom it should, and to whom all else there does that is the same owner's.
func (w *briefWalk) owns(here *brief, of *manifest.Owner, info *fsys.Info) bool {
	found := owning{info.User.Known, info.User.ID, info.Group}
	if known := here.owners.find(of); known != nil {
		return known.owning == found
	}
	if !w.ownedBy(of, info) {
		return false
	}
	here.owners = append(here.owners, owner{of, found})
	return true
}

// ownedBy tells whether what was found belongs to whom it is recorded to. Where nobody is called so any more it does not: whoever wants it
// must be told.
func (w *briefWalk) ownedBy(of *manifest.Owner, info *fsys.Info) bool {
	return of == nil || info.User.Known && w.site.belongs(*of, info)
}

// ownAlike tells whether what was found in a folder belongs to whom all else does.
func (w *briefWalk) ownAlike(here *brief) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	is := w.out.owners.are(here.owners)
	if is {
		w.out.owners.add(here.owners)
	}
	return is
}

// foundAs gives what was found where an entry is recorded, and is so.
func (b *brief) foundAs(e *manifest.Entry) diff.Found {
	f := diff.Found{Entry: e}
	if of := b.owners.find(e.Owner); of != nil {
		f.Owned, f.User, f.Group = of.told, of.user, of.group
	}
	if e.Owner != nil { // that is not what was found
		f.Entry = with(e, e.Digest)
		f.Entry.Owner = nil
	}
	return f
}

// keepOdd keeps what was found in a folder that is not as it is recorded.
func (w *briefWalk) keepOdd(here *brief, dir string, list []fsys.Info, entries []manifest.Entry) error {
	here.entries, here.bytes, here.young, here.owners = 0, 0, nil, nil
	for i := range entries {
		if entries[i].Hand {
			here.hands++
		}
	}
	found, as := []diff.Found{}, &inFolder{entries: entries}
	for i := range list {
		info := &list[i]
		path := fsys.Join(dir, info.Name)
		if manifest.CheckPath(path) != nil {
			return errNotBrief
		}
		e := as.find(info.Name)
		if info.Mode.IsDir() {
			continue
		}
		f := describe(path, *info)
		if e != nil && w.isAs(e, info, w.site.Abilities().Modes) {
			own := *e
			own.Path, own.Owner = path, nil
			f.Entry = with(&own, manifest.Digest{})
		}
		if !w.out.unread && e != nil && e.Kind == manifest.File && f.Kind == manifest.File && f.Other == 0 && e.Size == f.Size && diff.SameTime(e.ModTime, f.ModTime, timeStep(w.able)) {
			if w.isOld(e, info) {
				f.Entry = with(f.Entry, e.Digest)
			} else {
				here.doubts++
			}
		}
		found = append(found, f)
	}
	here.odd, here.size = map[string][]diff.Found{dir: found}, len(entries)+len(list)
	return nil
}

// isAs tells whether what was found is what is recorded, as far as the place tells.
func (w *briefWalk) isAs(e *manifest.Entry, info *fsys.Info, modes bool) bool {
	if e.Owner != nil { // see owns
		own := *e
		own.Owner = nil
		e = &own
	}
	if modes {
		return isAs(e, info, timeStep(w.able))
	}
	same := *info
	same.Mode = same.Mode.Type() | e.Mode.Perm()
	return isAs(e, &same, timeStep(w.able))
}

// isOld tells whether a file is believed to have the content that is recorded: see believe.
func (w *briefWalk) isOld(e *manifest.Entry, info *fsys.Info) bool {
	dated := e.ModTime
	if w.able.NoTimes {
		dated = info.ModTime
	}
	return dated.Before(w.settled) && (w.known == 0 || info.Changed.IsZero() || info.Changed.UnixNano() <= w.known)
}

// dateYoung is datesOf what is as it is recorded, but for what is in it.
func (w *briefWalk) dateYoung(ctx context.Context, record string) error {
	out := w.out
	if out.doubts > 0 && w.able.TimeStep >= time.Minute { // they would have to be asked for, too
		return errNotBrief
	}
	older, err := w.site.older(ctx, out.young, record)
	if err != nil || older == nil {
		return err
	}
	var young []string
	for i, path := range out.young {
		if !older(i) {
			young = append(young, path)
		}
	}
	out.young = young
	return nil
}

// add adds what was found in a folder.
func (w *briefWalk) add(here *brief, leaves []manifest.Digest, changed int64) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, name := range leaves {
		w.leaves[name] = true
	}
	out := w.out
	out.bytes, out.entries = out.bytes+here.bytes, out.entries+here.entries
	out.size, out.hands, out.doubts = out.size+here.size, out.hands+here.hands, out.doubts+here.doubts
	out.folders, out.young = append(out.folders, here.folders...), append(out.young, here.young...)
	maps.Copy(out.odd, here.odd)
	maps.Copy(out.filled, here.filled)
	if w.changed = max(w.changed, changed); out.size > little(out.count) {
		return errNotBrief
	}
	return nil
}

// IsRecorded tells whether a survey says, without being unfolded, that the site is in all a tree that is recorded, with its
// digest and so many paths. Result is then what there is to say of a content that is the same.
func (s *Survey) IsRecorded(tree manifest.Digest, paths int) (result *diff.Result, is bool) {
	if s.brief == nil || s.brief.strict || len(s.brief.young)+len(s.brief.odd) > 0 || s.tree != tree || s.Paths != paths {
		return nil, false
	}
	return &diff.Result{Same: s.brief.entries, SameBytes: s.brief.bytes}, true
}

// IsBrief tells whether a survey is to be unfolded before what was found, or is recorded, is known.
func (s *Survey) IsBrief() bool { return s.brief != nil }

// Unfold reads what a brief survey has not kept. It does nothing for any other. It fails with an *OvertakenError where the
// deployment is no longer recorded.
func (s *Site) Unfold(ctx context.Context, survey *Survey) error {
	if survey.brief == nil {
		return nil
	}
	recorded, _, err := s.recordedTree(ctx, survey.Number)
	if errors.Is(err, fs.ErrNotExist) {
		if number, failed := s.current(ctx); failed == nil && number != survey.Number {
			return &OvertakenError{survey.Number, number}
		}
	}
	if err != nil {
		return err
	}
	found := make([]diff.Found, 0, len(recorded.Entries))
	each := survey.brief.found(func(f diff.Found) { found = append(found, f) })
	for i := range recorded.Entries {
		each(&recorded.Entries[i])
	}
	each(nil)
	survey.Recorded, survey.Found, survey.brief = recorded, found, nil
	survey.markFilled()
	return nil
}

// found gives what is to be called with the entries that are recorded, in the order of their paths, and with nil at the end: visit gets
// all that was found, in that order.
func (b *brief) found(visit func(f diff.Found)) func(e *manifest.Entry) {
	slices.Sort(b.young)
	young, others := b.young, b.others()
	return func(e *manifest.Entry) {
		for len(others) > 0 && (e == nil || others[0].Path < e.Path) {
			visit(others[0])
			others = others[1:]
		}
		if e == nil || e.Kind == manifest.Dir || len(b.odd) > 0 && b.isOdd(e.Path) { // which is among the others
			return
		}
		f := b.foundAs(e)
		switch {
		case b.unread && e.Kind == manifest.File:
			f.Entry = with(f.Entry, manifest.Digest{})
		case len(young) > 0 && young[0] == e.Path:
			f.Entry, young = with(f.Entry, manifest.Digest{}), young[1:]
		}
		visit(f)
	}
}

// eachFound calls visit with what was found, in the order of the paths, of a survey that is brief, too. Visit must not keep its entries.
func (s *Site) eachFound(ctx context.Context, survey *Survey, visit func(f *diff.Found)) error {
	b := survey.brief
	if b == nil {
		for i := range survey.Found {
			visit(&survey.Found[i])
		}
		return nil
	}
	each := b.found(func(f diff.Found) {
		f.Filled = f.Kind == manifest.Dir && b.filled[f.Path]
		visit(&f)
	})
	err := s.eachRecorded(ctx, survey.Number, func(e *manifest.Entry) bool {
		each(e)
		return ctx.Err() == nil
	})
	each(nil)
	return errors.Join(err, ctx.Err())
}

// others gives folders, and what was found in odd ones, sorted by path.
func (b *brief) others() []diff.Found {
	out := slices.Clone(b.folders)
	for _, found := range b.odd {
		out = append(out, found...)
	}
	slices.SortFunc(out, func(a, b diff.Found) int { return strings.Compare(a.Path, b.Path) })
	return out
}
