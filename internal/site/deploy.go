package site

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// Plan is what a deployment is to do.
type Plan struct {
	Want   []manifest.Entry // the content, sorted by path
	Survey *Survey          // what the plan is based on
	Result *diff.Result     // what must change
	Kept   []string         // paths that stay as they are, with all below them, although they are not in Want
	Last   []string         // patterns of what is published last
	// Open opens the content of a path. It is not called for a rollback, whose content the site holds.
	Open         func(path string) (io.ReadCloser, error)
	Supply       Supplier // hands content over in its place; nil: Open does
	Generator    string
	Origin       *manifest.Origin
	RemoveStrays bool
	MakeParents  bool // make the folders above the root too
	Partial      bool // publish what arrived although some did not
	Incomplete   bool // some of the content could not be read: counts as some that did not arrive
	SendAll      bool // send even what the site holds already
	History      int  // how many deployments can be rolled back to; 0: DefaultHistory
	Rollback     int  // the deployment that is published again, after Site.Held found its content; 0: none
	Started      time.Time
	Wait         time.Duration // how long to wait for another deployment to end
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
	Failed    []Failure // sorted by path
	Number    int       // of the deployment; 0: nothing was published
	Verified  bool      // everything published was checked, as Method says
	Method    string    // how digests were computed
	ModesLeft int       // files whose mode the far end did not set
	TimesLeft int       // files whose time it did not set
	NotAtomic bool      // for a moment nothing stood where a file was replaced: the far end cannot do it in one step
}

// Add notes what failed. Whatever else was checked, the deployment as a whole is then not verified.
func (o *Outcome) Add(failures []Failure) {
	o.Failed = append(o.Failed, failures...)
	slices.SortFunc(o.Failed, func(a, b Failure) int { return strings.Compare(a.Path, b.Path) })
	o.Verified = o.Verified && len(o.Failed) == 0
}

// OvertakenError tells that another deployment was published between survey and lock.
type OvertakenError struct{ Expected, Found int }

func (e *OvertakenError) Error() string {
	return "another deployment was published in the meantime"
}

// CaseError tells that paths of the content would be one at a place that ignores case.
type CaseError struct{ Clashes []manifest.CaseClash }

func (e *CaseError) Error() string {
	return fmt.Sprintf("%s and %s are one name here", e.Clashes[0].First, e.Clashes[0].Second)
}

// Deploy stages, publishes, checks and records. When it ends early, what was staged is kept for the next deployment.
// With failures and without Plan.Partial nothing is published and the site stays as it was.
func (s *Site) Deploy(ctx context.Context, plan *Plan, watch *Watch) (*Outcome, error) {
	fresh := !s.exists
	whole := s.freshStart(plan)
	if err := s.prepare(ctx, plan.MakeParents, !whole); err != nil {
		return nil, err
	}
	whole = whole && !s.exists // else the record could only be made in the root
	if fresh {                 // only now can be found out how the place takes names
		if err := s.checkCase(ctx, plan.Want); err != nil {
			return nil, err
		}
	}
	user := ""
	if plan.Origin != nil {
		user = plan.Origin.User
	}
	ctx, release, err := s.lockWaiting(ctx, user, plan.Wait)
	if err != nil {
		return nil, err
	}
	defer release()
	out, err := s.deployLocked(ctx, plan, whole, watch)
	if err = lostLock(ctx, err); err != nil {
		return nil, err
	}
	return out, nil
}

func (s *Site) checkCase(ctx context.Context, want []manifest.Entry) error {
	folds, err := s.foldsCaseAt(ctx, s.record)
	if err != nil || !folds {
		return err
	}
	if clashes := manifest.CaseClashes(want); len(clashes) > 0 {
		return &CaseError{clashes}
	}
	return nil
}

func (s *Site) deployLocked(ctx context.Context, plan *Plan, whole bool, watch *Watch) (*Outcome, error) {
	if _, err := s.recoverLocked(context.WithoutCancel(ctx)); err != nil { // left by one that died since the survey
		return nil, err
	}
	standing, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	if standing != plan.Survey.Number {
		return nil, &OvertakenError{plan.Survey.Number, standing}
	}
	if s.trees != "" {
		for i := range plan.Result.Changes {
			plan.Result.Changes[i].ModeOnly = false // the tree before keeps its file as it is
		}
	}
	if plan.Rollback > 0 {
		plan.Open = s.openHeld(ctx, plan)
	}
	st := &staging{site: s, plan: plan, fresh: whole, watch: watch, out: &Outcome{Verified: true}}
	if err := st.run(ctx); err != nil {
		return nil, err
	}
	out := st.out
	if (len(out.Failed) > 0 || plan.Incomplete) && !plan.Partial {
		out.Verified = false
		return out, s.sync(ctx)
	}
	// From here a cancelled run would leave more to mend than one that goes on: publishing is short.
	ctx = context.WithoutCancel(ctx)
	p, err := s.newPublish(ctx, plan, st, standing+1)
	if err != nil {
		return nil, err
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
		p, err = s.newFresh(ctx, plan, st.staged, number)
	case s.trees != "":
		p = newSwitch(s, plan, st.staged, number)
	default:
		p = newInPlace(s, plan, st.staged, number)
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
	return s.complete(ctx, &journal{Number: p.number, Started: p.plan.Started, Tree: p.tree, History: p.plan.History, Staged: len(p.failed) > 0})
}

// tidy removes what is no longer of use.
func (s *Site) tidy(ctx context.Context, j *journal) error {
	if err := s.forgetOld(ctx, j.Number, j.History); err != nil {
		return err
	}
	if err := s.sweepLocks(ctx); err != nil {
		return err
	}
	if j.Tree != "" {
		if err := s.removeTrees(ctx, j.Number, j.History); err != nil {
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

// entries gives what stands after a publish: what was wanted where it was reached, else what was recorded before.
func (p *publish) entries() []manifest.Entry {
	found := inOrder(p.plan.Survey.Found, func(f *diff.Found) string { return f.Path })
	changes := inOrder(p.plan.Result.Changes, func(c *diff.Change) string { return c.Path })
	before, able := inOrder(p.plan.Survey.Known(), func(e *manifest.Entry) string { return e.Path }), p.site.Abilities()
	out := make([]manifest.Entry, 0, len(p.plan.Want))
	for _, e := range p.plan.Want {
		f, c, r := found(e.Path), changes(e.Path), before(e.Path)
		if p.undone[e.Path] {
			continue
		}
		if f != nil && (c == nil || !c.Sends()) && e.Kind == manifest.File {
			e.ModTime = f.ModTime // it was left alone
			if r != nil && !able.NoTimes && diff.SameTime(r.ModTime, f.ModTime, able.TimeStep) {
				e.ModTime = r.ModTime // which may be more exact
			}
		}
		out = append(out, e)
	}
	keep := keeper(p.plan.Kept)
	if len(p.undone) == 0 && keep == nil {
		return out
	}
	found = inOrder(p.plan.Survey.Found, func(f *diff.Found) string { return f.Path })
	changes = inOrder(p.plan.Result.Changes, func(c *diff.Change) string { return c.Path })
	standing := inOrder(out, func(e *manifest.Entry) string { return e.Path })
	var more []manifest.Entry
	for _, e := range p.plan.Survey.Entries() {
		f, c, wanted := found(e.Path), changes(e.Path), standing(e.Path) != nil
		gone := c != nil && c.Status == diff.Retired && !p.undone[e.Path]
		if f != nil && !wanted && !gone && (p.undone[e.Path] || keep != nil && keep(e.Path)) {
			more = append(more, e)
		}
	}
	out = append(out, more...)
	slices.SortFunc(out, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out
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
