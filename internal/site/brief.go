package site

import (
	"context"
	"errors"
	"io/fs"
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

// Most often nobody has touched a site since its last deployment. A brief survey finds that out folder by folder: it reads the
// block of a folder beside the folder, and keeps neither. It ends at the first thing that is not as it is recorded, or that says
// more than the record does, and the whole survey takes its place. So a site of any size is found unchanged in the
// memory that its largest folder takes. Where more is to be known of it all the same, since what is wanted differs from what
// is recorded, the survey is unfolded: what was found is what is recorded.

// brief is what a brief survey keeps.
type brief struct {
	bytes   int64
	entries int
	folders []diff.Found // in any order
	young   []string     // files that are as recorded, but for what is in them, which is not believed; in any order
	owner   owning       // of everything but folders
}

// owning is whom something belongs to.
type owning struct {
	known       bool // there is something that it is of
	told        bool // the place tells
	user, group uint32
}

// is tells whether both are the same. Where nothing is known yet it is the other from then on.
func (o *owning) is(other owning) bool {
	if !o.known {
		*o = other
	}
	return *o == other
}

// briefAt is Options.Brief where that is not said.
const briefAt = 20_000

// errNotBrief tells that a site is not in all as it is recorded.
var errNotBrief = errors.New("not all is as it is recorded")

// SurveyBriefly is Survey of a place whose record is believed; what it gives may have to be unfolded, see there.
func (s *Site) SurveyBriefly(ctx context.Context) (*Survey, error) {
	if s.isNear() && s.exists && s.record != "" {
		out, err := s.surveyBriefly(ctx)
		if err == nil || ctx.Err() != nil {
			return out, err
		}
	}
	return s.Survey(ctx, true)
}

// surveyBriefly fails where the site is not as it is recorded, or anything is wrong: Survey finds out what.
func (s *Site) surveyBriefly(ctx context.Context) (*Survey, error) {
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
	if leaving, err := s.readLeaving(ctx, number); err != nil || len(leaving) > 0 {
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
	w := &briefWalk{site: s, shelf: shelf, known: known, out: &brief{},
		settled: record.ModTime.Add(-max(settleTime, s.Abilities().TimeStep))}
	if err := w.walk(ctx, blocks.Ref{Name: h.Top, Entries: h.Count}); err != nil {
		return nil, err
	}
	s.shelved.add(shelf)
	out.Recorded, out.tree, out.brief, out.Unsettled = h.manifest(), h.Tree, w.out, len(w.out.young)
	out.Number, out.Paths, out.Sources, out.Anything = number, h.Count, h.Deployment.Sources, len(w.out.folders)+h.Count > 0
	s.seen = min(w.changed, begun.Add(-changeStep()).UnixNano())
	out.FoldsCase, err = s.FoldsCase(ctx)
	return out, err
}

// briefWalk compares a site with its record, many folders at once.
type briefWalk struct {
	site    *Site
	shelf   *shelf
	settled time.Time // what is dated later is not believed
	known   int64     // nor what changed later; 0: the place does not tell

	rooms sync.Pool // of *[]manifest.Entry, for what is recorded of a folder

	mu      sync.Mutex
	out     *brief
	changed int64 // when anything changed last
}

func (w *briefWalk) walk(ctx context.Context, top blocks.Ref) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(w.site.jobs)
	var enter func(dir string, recorded blocks.Ref) error
	enter = func(dir string, recorded blocks.Ref) error {
		below, err := w.folder(ctx, dir, recorded)
		for _, next := range below {
			if err != nil {
				break
			}
			deeper := func() error { return enter(fsys.Join(dir, next.Name), next.Ref) }
			if !group.TryGo(deeper) {
				err = deeper()
			}
		}
		return errors.Join(err, ctx.Err())
	}
	group.Go(func() error { return enter(".", top) })
	return group.Wait()
}

// folder compares one folder, and gives those in it. One that nothing is recorded below has a zero reference.
func (w *briefWalk) folder(ctx context.Context, dir string, recorded blocks.Ref) (next []blocks.Below, err error) {
	s := w.site
	if strings.Count(dir, "/") >= deepest {
		return nil, errNotBrief
	}
	list, err := s.fs.List(ctx, s.at(dir))
	if err != nil {
		return nil, err
	}
	var (
		entries []manifest.Entry
		below   []blocks.Below
	)
	if recorded.Entries > 0 {
		room, _ := w.rooms.Get().(*[]manifest.Entry)
		if room == nil {
			room = new([]manifest.Entry)
		}
		defer func() {
			*room = entries[:0]
			w.rooms.Put(room)
		}()
		if entries, below, err = blocks.Folder(recorded, (*room)[:0], w.shelf.block); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(list, func(a, b fsys.Info) int { return strings.Compare(a.Name, b.Name) })
	var (
		here    brief
		changed int64
		as      = &inFolder{entries: entries}
		entered int
	)
	for i := range list {
		info := &list[i]
		if dir == "." && s.isInside() && s.at(info.Name) == s.record {
			continue
		}
		if !info.Changed.IsZero() {
			changed = max(changed, info.Changed.UnixNano())
		}
		e := as.find(info.Name)
		if info.Mode.IsDir() {
			at, isBelow := slices.BinarySearchFunc(below, info.Name, func(b blocks.Below, name string) int { return strings.Compare(b.Name, name) })
			switch {
			case e != nil && (e.Kind != manifest.Dir || e.Owner != nil || e.Hand || e.Mode != info.Mode.Perm()), e == nil && !isBelow:
				return nil, errNotBrief
			case e != nil:
				here.entries++
			}
			into := blocks.Below{Name: info.Name}
			if isBelow {
				into, entered = below[at], entered+1
			}
			next = append(next, into)
			here.folders = append(here.folders, describe(fsys.Join(dir, info.Name), *info))
			continue
		}
		if e == nil || !isAs(e, info) {
			return nil, errNotBrief
		}
		if e.Kind == manifest.File && !w.isOld(e, info) {
			here.young = append(here.young, fsys.Join(dir, info.Name))
		}
		if !here.owner.is(owning{true, info.User.Known, info.User.ID, info.Group}) {
			return nil, errNotBrief
		}
		here.entries++
		here.bytes += max(e.Size, 0)
	}
	if here.entries != len(entries) || entered != len(below) { // something recorded is gone
		return nil, errNotBrief
	}
	return next, w.add(&here, changed)
}

// isOld tells whether a file is believed to have the content that is recorded: see believe.
func (w *briefWalk) isOld(e *manifest.Entry, info *fsys.Info) bool {
	return e.ModTime.Before(w.settled) && (w.known == 0 || info.Changed.IsZero() || info.Changed.UnixNano() <= w.known)
}

// add adds what was found in a folder.
func (w *briefWalk) add(here *brief, changed int64) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if here.owner.known && !w.out.owner.is(here.owner) {
		return errNotBrief
	}
	w.out.bytes += here.bytes
	w.out.entries += here.entries
	w.out.folders, w.out.young = append(w.out.folders, here.folders...), append(w.out.young, here.young...)
	w.changed = max(w.changed, changed)
	return nil
}

// IsRecorded tells whether a survey says, without being unfolded, that the site is in all a tree that is recorded, with its
// digest and so many paths. Result is then what there is to say of a content that is the same.
func (s *Survey) IsRecorded(tree manifest.Digest, paths int) (result *diff.Result, is bool) {
	if s.brief == nil || len(s.brief.young) > 0 || s.tree != tree || s.Paths != paths {
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
	b := survey.brief
	slices.SortFunc(b.folders, func(a, b diff.Found) int { return strings.Compare(a.Path, b.Path) })
	slices.Sort(b.young)
	young := b.young
	found, folders := make([]diff.Found, 0, len(recorded.Entries)+len(b.folders)), b.folders
	for i := range recorded.Entries {
		e := &recorded.Entries[i]
		for len(folders) > 0 && folders[0].Path < e.Path {
			found, folders = append(found, folders[0]), folders[1:]
		}
		if e.Kind == manifest.Dir { // which is among the folders
			continue
		}
		f := diff.Found{Entry: e, Owned: b.owner.told, User: b.owner.user, Group: b.owner.group}
		if len(young) > 0 && young[0] == e.Path {
			f.Entry, young = with(e, manifest.Digest{}), young[1:]
		}
		found = append(found, f)
	}
	survey.Recorded, survey.Found, survey.brief = recorded, append(found, folders...), nil
	survey.markFilled()
	return nil
}
