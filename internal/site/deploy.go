package site

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Plan is what a deployment is to do.
type Plan struct {
	Want     []manifest.Entry // the content, sorted by path
	Unlisted *manifest.Folded // the content in the place of Want and of Result.Changes: nothing exists, and all of it is new; else nil
	Survey   *Survey          // what the plan is based on
	Result   *diff.Result     // what must change
	Kept     []string         // paths that stay as they are, with all below them, although they are not in Want
	Gone     []string         // paths of those that do not, with all below them
	Last     []string         // patterns of what is published last
	// Open opens the content of a path. It is not called for a rollback, whose content the site holds.
	Open         func(path string) (io.ReadCloser, error)
	Supply       Supplier // hands content over in its place; nil: Open does
	Generator    string
	Origin       *manifest.Origin
	RemoveStrays bool
	MakeParents  bool               // make the folders above the root too
	Partial      bool               // publish what arrived although some did not
	Incomplete   bool               // some of the content could not be read: counts as some that did not arrive
	SendAll      bool               // send even what the site holds already
	History      int                // how many deployments can be rolled back to; 0: DefaultHistory
	Rollback     int                // the deployment that is published again, after Site.Held found its content; 0: none
	Hand         bool               // a person puts it there, beside what is there
	Sources      string             // what the content is made of, for the record
	Beside       *Beside            // where content may be taken from instead of being sent; nil: nowhere
	Like         bool               // what is replaced hands its access lists and extended attributes on
	Tree         manifest.Digest    // of the content; zero: it is not known
	Commands     int                // how many commands and checks are to run around it
	Promoted     *manifest.Promoted // the deployment of another site that it brings; nil: it does not
	Started      time.Time
	Wait         time.Duration // how long to wait for another deployment to end
	// the watch that deploys, of which ID and Since count; nil: it is one run
	Watched *manifest.Watched
}

// Watch is told how a deployment goes on. Its functions are called from several goroutines at once and may be nil.
type Watch struct {
	Phase func(name string, files int, bytes int64) // "stage", "check", "publish"; what lies ahead
	Bytes func(n int64)                             // sent, or checked
	File  func(path string, size int64)             // one file is done with
}

func (w *Watch) phase(name string, files int, bytes int64) {
	if w.Phase != nil {
		w.Phase(name, files, bytes)
	}
}

func (w *Watch) bytes(n int64) {
	if w.Bytes != nil {
		w.Bytes(n)
	}
}

func (w *Watch) file(path string, size int64) {
	if w.File != nil {
		w.File(path, size)
	}
}

// Outcome is what a deployment did.
type Outcome struct {
	SentFiles int
	SentBytes int64
	Resumed   int       // files that an interrupted deployment had staged already
	Reused    int       // files whose content the site or its kept store held
	Copied    int       // files that were taken from a tree beside the site
	Failed    []Failure `cbor:"-"` // sorted by path
	Number    int       // of the deployment; 0: nothing was published
	Next      int       // the number that it gets when it is published
	Verified  bool      // everything published was checked, as Method says
	Method    Method    // how digests were computed
	Program   string    // at the far end, that computed them; of ByProgram
	ModesLeft int       // files whose mode the far end did not set
	TimesLeft int       // files whose time it did not set
	NotAtomic bool      // for a moment nothing existed where a file was replaced: the far end cannot do it in one step
}

// Method is how the digests of what was published were computed.
type Method string

// The methods.
const (
	WhileWriting  Method = "while writing"  // at the far end, where the engine itself takes the bytes
	ByProgram     Method = "by a program"   // of the far end, see Outcome.Program
	ReadBack      Method = "read back"      // to this machine
	ReadThere     Method = "read there"     // by an engine at the far end
	FromContainer Method = "from container" // read back from a container that was carried to
	ComparedAnew  Method = "compared anew"  // after the connection was lost
)

// Add notes what failed. Whatever else was checked, the deployment as a whole is then not verified.
func (o *Outcome) Add(failures []Failure) {
	o.Failed = append(o.Failed, failures...)
	slices.SortFunc(o.Failed, func(a, b Failure) int { return strings.Compare(a.Path, b.Path) })
	o.Verified = o.Verified && len(o.Failed) == 0
}

// OvertakenError tells that another deployment was published between survey and lock.
type OvertakenError struct{ Expected, Found int }

func (e *OvertakenError) Error() string {
	if e.Found == 0 && e.Expected > 0 {
		return "the site was wiped in the meantime"
	}
	return "another deployment was published in the meantime"
}

// CaseError tells that paths of the content would be one at a place that ignores case.
type CaseError struct{ Clashes []manifest.CaseClash }

func (e *CaseError) Error() string {
	return fmt.Sprintf("%s and %s are one name here", e.Clashes[0].First, e.Clashes[0].Second)
}

// Staged is a deployment whose content is at the site, where nothing shows yet. The site stays locked, and the lock
// renewed, until it is published or abandoned: one of both must be done.
type Staged struct {
	// Outcome is what was done so far, and what failed.
	Outcome *Outcome

	site    *Site
	staging *staging
	before  int // the current deployment
	lock    *hold
	unlock  func()
	working sync.WaitGroup // digests what is wanted
}

// release ends what goes on for a deployment, and unlocks the site.
func (d *Staged) release() {
	d.working.Wait()
	d.unlock()
}

// Stage locks the site and brings there what it does not hold. When it fails, what was staged is kept for the next
// deployment. Watch is told of what goes on until then, and not of publishing.
func (s *Site) Stage(ctx context.Context, plan *Plan, watch *Watch) (*Staged, error) {
	if _, able := s.fs.(fsys.Likener); plan.Like && !able {
		return nil, errNoLikener
	}
	fresh := !s.exists
	whole := s.freshStart(plan)
	if err := s.prepare(ctx, plan.MakeParents, !whole || s.trees != ""); err != nil {
		return nil, s.unlessWiped(ctx, plan, err)
	}
	if err := s.allApart(plan.each); err != nil { // only now is it known where the record is
		return nil, err
	}
	whole = whole && !s.exists // else the record could only be made in the root
	if !whole || plan.needsList() {
		plan.list()
	}
	if fresh { // only now can be found out how the place takes names
		if err := s.checkCase(ctx, plan); err != nil {
			return nil, err
		}
	}
	user := ""
	if plan.Origin != nil {
		user = plan.Origin.User
	}
	lock, unlock, err := s.lockWaiting(ctx, user, plan.Wait)
	if err != nil {
		return nil, s.unlessWiped(ctx, plan, err)
	}
	out := &Staged{Outcome: &Outcome{Verified: true}, site: s, lock: lock, unlock: unlock}
	out.staging = &staging{site: s, plan: plan, fresh: whole, watch: watch, out: out.Outcome}
	locked, end := lock.within(ctx)
	defer end()
	if err := lostLock(locked, out.stage(locked)); err != nil {
		out.release()
		return nil, err
	}
	return out, nil
}

// unlessWiped gives an error, unless its cause is that the site was wiped since the survey: then it looks at the root anew,
// and gives an *OvertakenError.
func (s *Site) unlessWiped(ctx context.Context, plan *Plan, err error) error {
	if s.record == "" || !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, gone := s.fs.Lstat(ctx, s.record); !errors.Is(gone, fs.ErrNotExist) {
		return err
	}
	return errors.Join(&OvertakenError{Expected: plan.Survey.Number}, s.look(ctx))
}

// Publish makes visible what was staged, checks and records it. With failures and without Plan.Partial nothing is
// published and the site stays as it was.
func (d *Staged) Publish(ctx context.Context, watch *Watch) (*Outcome, error) {
	defer d.release()
	locked, end := d.lock.within(ctx)
	defer end()
	out, err := d.publish(locked, watch)
	if err = lostLock(locked, err); err != nil {
		return nil, err
	}
	return out, nil
}

// Abandon keeps what was staged for the next deployment, and publishes nothing.
func (d *Staged) Abandon(ctx context.Context) error {
	defer d.release()
	return d.site.sync(ctx)
}

// Deploy stages and publishes.
func (s *Site) Deploy(ctx context.Context, plan *Plan, watch *Watch) (*Outcome, error) {
	staged, err := s.Stage(ctx, plan, watch)
	if err != nil {
		return nil, err
	}
	return staged.Publish(ctx, watch)
}

func (s *Site) checkCase(ctx context.Context, plan *Plan) error {
	folds, err := s.foldsCaseAt(ctx, s.record)
	if err != nil || !folds {
		return err
	}
	plan.list()
	if clashes := manifest.CaseClashes(plan.Want); len(clashes) > 0 {
		return &CaseError{clashes}
	}
	return nil
}

func (d *Staged) stage(ctx context.Context) (err error) {
	s, plan := d.site, d.staging.plan
	if _, err := s.recoverLocked(context.WithoutCancel(ctx)); err != nil { // left by one that died since the survey
		return err
	}
	if d.before, err = s.current(ctx); err != nil {
		return err
	}
	if d.before != plan.Survey.Number {
		err := error(&OvertakenError{plan.Survey.Number, d.before})
		if d.before == 0 { // it was wiped, and what is known of the root is of before
			err = errors.Join(err, s.look(ctx))
		}
		return err
	}
	d.Outcome.Next = s.after(d.before)
	if s.trees != "" {
		for i := range plan.Result.Changes {
			plan.Result.Changes[i].ModeOnly = false // the tree before keeps its file as it is
		}
	}
	if plan.Rollback > 0 {
		plan.Open = s.openHeld(ctx, plan)
	}
	if !plan.isOpen() {
		wanted := &recording{walk: plan.walk()}
		if plan.Survey.rest != nil {
			wanted = s.edited(context.WithoutCancel(ctx), plan.Survey, plan.Want)
		}
		d.working.Go(func() { d.staging.tree, _ = s.treeOf(wanted, plan.mustBe()) }) // for the record, where it is done again if need be
	}
	return d.staging.run(ctx)
}

func (d *Staged) publish(ctx context.Context, watch *Watch) (*Outcome, error) {
	s, plan, out := d.site, d.staging.plan, d.Outcome
	if (len(out.Failed) > 0 || plan.Incomplete) && !plan.Partial {
		out.Verified = false
		return out, s.sync(ctx)
	}
	// From here a cancelled run would leave more to put right than one that goes on: publishing is short.
	ctx = context.WithoutCancel(ctx)
	p, err := s.newPublish(ctx, plan, d.staging, s.after(d.before))
	if err != nil {
		return nil, err
	}
	p.wanted = func() *marked {
		d.working.Wait()
		return d.staging.tree
	}
	if err := p.run(ctx, watch); err != nil {
		return nil, err
	}
	if (p.tree != "" || p.fresh) && p.undone["."] {
		return s.giveUp(ctx, p, out)
	}
	out.Add(p.failed)
	out.Number = p.number
	out.NotAtomic = !s.Abilities().AtomicReplace
	out.ModesLeft, out.TimesLeft = p.modesLeft, p.timesLeft
	if err := s.note(ctx); err != nil {
		return nil, err
	}
	return out, s.recordOutcome(ctx, p, out)
}

// newPublish builds the steps that make staged content visible.
func (s *Site) newPublish(ctx context.Context, plan *Plan, st *staging, number int) (p *publish, err error) {
	switch {
	case st.fresh:
		p, err = s.newFresh(ctx, plan, st.failed, number)
	case s.trees != "":
		p = newSwitch(s, plan, &st.staged, number)
	default:
		var keeps func(*diff.Found) bool
		if keeps, err = s.keeping(ctx, plan); err == nil {
			p = newInPlace(s, plan, &st.staged, number, keeps)
		}
	}
	if err == nil {
		p.out = st.out
	}
	return p, err
}

// giveUp ends a publish that could not build its tree: nothing of it is seen.
func (s *Site) giveUp(ctx context.Context, p *publish, out *Outcome) (*Outcome, error) {
	out.Add(p.failed)
	return out, s.discard(ctx, []string{journalName})
}

// recordOutcome writes down what the site holds now, makes it current, and removes what is no longer of use.
func (s *Site) recordOutcome(ctx context.Context, p *publish, out *Outcome) error {
	if len(p.failed) > 0 || len(p.phases) == 0 { // else it is what was written before the first step
		if err := s.sure(ctx, true); err != nil {
			return err
		}
		if err := s.writeDeployment(ctx, p, out); err != nil {
			return err
		}
	}
	return s.complete(ctx, &journal{Number: p.number, Started: p.plan.Started, Tree: p.tree, History: p.plan.History,
		TakesUp: p.plan.takesUp(), Staged: len(p.failed) > 0})
}

// tidy removes what is no longer of use.
func (s *Site) tidy(ctx context.Context, j *journal) error {
	if err := s.forgetOld(ctx, j.Number, j.History, j.TakesUp); err != nil {
		return err
	}
	if err := s.sweepLocks(ctx); err != nil {
		return err
	}
	if j.Tree != "" {
		if err := s.removeTrees(ctx, j.Number); err != nil {
			return err
		}
	}
	if j.Staged {
		return nil
	}
	if err := s.removeAll(ctx, s.inRecord(freshTree)); err != nil { // of a deployment that was not finished
		return err
	}
	return s.clearIncoming(ctx)
}

// entries gives what is there after a publish: what was wanted where it was reached, else what was recorded before.
//
// AsWanted tells that they are what is wanted, but for times and whose hand put it there.
func (p *publish) entries(ctx context.Context) (all *recording, asWanted bool) {
	if p.plan.Unlisted != nil { // nothing was recorded before
		return &recording{walk: func(visit func(e *manifest.Entry) bool) {
			p.plan.each(func(e *manifest.Entry) bool { return p.undone[e.Path] || visit(e) })
		}}, len(p.undone) == 0
	}
	list, asWanted := p.list()
	if p.plan.Survey.rest != nil {
		return p.site.edited(ctx, p.plan.Survey, list), asWanted
	}
	return &recording{walk: manifest.Listed(list)}, asWanted
}

// list is entries of a plan that has a list.
func (p *publish) list() (out []manifest.Entry, asWanted bool) {
	var (
		plan, able = p.plan, p.site.Abilities()
		keep       = Keeping(plan.Kept, plan.Gone)
		goes       = Keeping(plan.Gone, nil)
		found      = inOrder(plan.Survey.Found, func(f *diff.Found) string { return f.Path })
		changes    = inOrder(plan.Result.Changes, func(c *diff.Change) string { return c.Path() })
		before     = inOrder(plan.Survey.Known(), func(e *manifest.Entry) string { return e.Path })
	)
	givesWay := func(was *manifest.Entry) bool {
		return belowLeaf(plan.Want, was.Path) || was.Kind != manifest.Dir && inTheWay(plan.Want, was.Path)
	}
	stays := func(was *manifest.Entry) bool { return keep != nil && keep(was.Path) && !givesWay(was) }
	if p.fresh && len(p.undone) == 0 && keep == nil && !plan.Hand {
		return plan.Want, true // all of it is there, and nothing else
	}
	var recorded []manifest.Entry
	if len(p.undone) > 0 || keep != nil || manifest.Contents(plan.Survey.Entries()) < len(plan.Survey.Entries()) {
		recorded = plan.Survey.Entries() // else all that is recorded is wanted, or goes
	}
	out = make([]manifest.Entry, 0, len(plan.Want))
	together(plan.Want, recorded, func(want, was *manifest.Entry) {
		path := cmp.Or(want, was).Path
		f, c, r := found(path), changes(path), before(path)
		undone := p.undone[path]
		switch {
		case want != nil && !undone:
			e := *want
			if plan.Hand {
				e.Hand = r == nil || r.Hand || c != nil
			}
			if f != nil && (c == nil || !c.Sends()) && e.Kind == manifest.File {
				e.ModTime = f.ModTime // it was left alone
				if r != nil && diff.SameTime(r.ModTime, f.ModTime, timeStep(able)) {
					e.ModTime = r.ModTime // which may be more exact
				}
			}
			out = append(out, e)
		case was != nil && f == nil && plan.Hand && !was.Hand && !undone && stays(was):
			out = append(out, *was) // somebody removed it, which is still to be told
		case was == nil || f == nil, c != nil && c.Status == diff.Retired && !undone: // it is gone
		case c != nil && c.Status == diff.Stray && plan.RemoveStrays && !undone:
		case undone, was.Hand && (goes == nil || !goes(path)) && !givesWay(was), stays(was):
			out = append(out, *was)
		}
	})
	out = withoutFilled(out, plan.Survey.rest.keeps)
	return out, recorded == nil && len(p.undone) == 0 && len(out) == len(plan.Want)
}

// withoutFilled leaves out folders that follow from what is in them. More tells whether there is more in one than is among the
// entries.
func withoutFilled(entries []manifest.Entry, more func(dir string) bool) []manifest.Entry {
	out := entries[:0]
	for i, e := range entries {
		if e.Plain() {
			if _, filled := manifest.FindBelow(entries[i+1:], e.Path); filled || more(e.Path) {
				continue
			}
		}
		out = append(out, e)
	}
	return out
}

// together goes through two lists that are sorted by path: visit gets what both have of each path.
func together(a, b []manifest.Entry, visit func(a, b *manifest.Entry)) {
	for len(a) > 0 || len(b) > 0 {
		order := 0
		switch {
		case len(b) == 0:
			order = -1
		case len(a) == 0:
			order = 1
		default:
			order = strings.Compare(a[0].Path, b[0].Path)
		}
		var first, second *manifest.Entry
		if order <= 0 {
			first, a = &a[0], a[1:]
		}
		if order >= 0 {
			second, b = &b[0], b[1:]
		}
		visit(first, second)
	}
}

// inOrder looks paths up in a list that is sorted by path. They must be asked for in the same order.
func inOrder[T any](list []T, path func(*T) string) func(string) *T {
	at := 0
	return func(wanted string) *T {
		for at < len(list) && path(&list[at]) < wanted {
			at++
		}
		if at < len(list) && path(&list[at]) == wanted {
			return &list[at]
		}
		return nil
	}
}
