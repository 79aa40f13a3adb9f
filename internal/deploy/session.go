package deploy

import (
	"context"
	"errors"
	"io"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/diff"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/treeparts"
)

// Session brings a content to the site of an engine, as often as is wanted: it finishes what was left, scans beside a
// survey, compares, refuses, has a person agree, stages, publishes, verifies and records.
type Session struct {
	Engine calls.Engine
	// Content gives what should be there. It is called once for each comparison, while the site is surveyed.
	Content func(ctx context.Context) (*content.Content, error)
	Options Options
	Person  Person
	// Distant tells that the engine is behind a connection, and compares trees by their digests first, as is done with one that is
	// folded up in any case.
	Distant bool
	// Recorded is the tree digest that was recorded at the site when it was opened: where a content that is folded up has another one, the
	// digests of its folders are computed while the site is surveyed. Zero: it is not known.
	Recorded manifest.Digest

	ahead ahead
}

func (s *Session) surveying(as calls.ID) calls.Surveying {
	return calls.Surveying{As: as, Believe: s.Options.Compare != ByHash}
}

// Person is told how a session goes on, and asked what only a person can know.
type Person interface {
	Tell(event Event)
	// Agree is asked for consent. Its error ends the session.
	Agree(consent *Consent) error
	// Watch gives who is told how a stage goes on, until done is called.
	Watch(ctx context.Context, stage Stage) (watch *site.Watch, done func())
	// Output gives what takes the output of a command, until done is called.
	Output(command Runs) (out io.Writer, done func())
}

// Stage is what takes long in a session.
type Stage int

// The stages.
const (
	Reading Stage = iota // files at the site, to compare them; only Bytes is told
	Working              // staging, checking and publishing
)

// Event is what a person is told: one of the types below.
type Event any

// The events.
type (
	Finished  struct{ Number int }  // an interrupted publish was finished, of this deployment
	Busy      struct{ By error }    // a publish is under way, and somebody else's to finish: a *site.LockedError
	Looked    struct{ *Comparison } // content and site were compared
	Differs   struct{ *Comparison } // and this is to be done; nothing was refused or asked yet
	Overtaken struct{ Number int }  // another deployment was published meanwhile, so that all is compared anew
)

// Result is what a session did.
type Result struct {
	*Comparison
	Outcome   *site.Outcome // nil: nothing was to be done, or it was a trial
	Unchanged bool          // nothing was to be done
}

// Finish finishes a publish that was interrupted. One that is under way is left alone.
func (s *Session) Finish(ctx context.Context) error {
	unfinished, err := calls.Unfinished.On(ctx, s.Engine, calls.None{})
	if err != nil || !unfinished {
		return err
	}
	number, err := calls.Recover.On(ctx, s.Engine, s.Options.User)
	var locked *site.LockedError
	switch {
	case errors.As(err, &locked):
		s.Person.Tell(Busy{locked})
		return nil
	case number > 0:
		s.Person.Tell(Finished{number})
	}
	return err
}

// Compare surveys the site while the content is scanned, and compares them. It changes nothing. For a content that the
// site should hold its error may be a *site.NotKeptError or, unless a part is wanted too, a *GoneError.
func (s *Session) Compare(ctx context.Context) (*Comparison, error) {
	watch, done := s.Person.Watch(ctx, Reading)
	defer done()
	c := &Comparison{able: s.Engine.Abilities()}
	surveyed, compared := calls.NewID(), calls.NewID()
	var digested calls.Digested
	group, both := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		if c.Content, err = s.Content(both); err == nil && (s.Distant || c.Content.Folded()) && len(c.Content.Later) == 0 && c.Content.Rollback == 0 {
			c.Content.Date(time.Now())
			c.tree, digested = s.digest(c.Content) // while the site is surveyed
		}
		return err
	})
	group.Go(func() (err error) {
		if early := s.ahead.take(); early != nil {
			surveyed, c.Survey = early.id, early.summary
			return nil
		}
		c.Survey, err = calls.Survey.On(both, s.Engine, s.surveying(surveyed))
		return err
	})
	if err := group.Wait(); err != nil {
		return nil, err
	}
	err := s.resolve(ctx, c, surveyed)
	if err != nil {
		return nil, err
	}
	c.Content.Date(time.Now())
	want := site.Wanted{Kept: c.kept(), Gone: c.Content.Gone, Retire: s.Options.Retire,
		Rule: diff.Rule{Times: s.Options.Compare == ByTime, Nothing: s.Options.Compare == Nothing}}
	question := &calls.Comparing{As: compared, Survey: surveyed, Recorded: c.Survey.Number > 0, Tree: c.tree, Content: c.Content, Digested: digested, Wanted: want}
	var answer *calls.Compared
	if c.Content.Rollback > 0 {
		answer, err = s.compareEarlier(ctx, c, question, watch)
	} else {
		answer, err = calls.Compare.Watched(ctx, s.Engine, question, watch)
	}
	if err != nil {
		return nil, err
	}
	if err := c.Content.Broken(); err != nil {
		return nil, err
	}
	if c.id, c.Result = compared, answer.Result; answer.Later != nil {
		c.Survey = *answer.Later
	}
	if err := s.checkHeld(ctx, c); err != nil {
		return nil, err
	}
	s.Person.Tell(Looked{c})
	return c, nil
}

// digest gives the tree digest of a content, and, where it is folded up and another one is recorded, the digests of its folders: of those alone in
// which it may be another one, where that is known. Else the engine is told as soon as it is likely that it is asked for all.
func (s *Session) digest(c *content.Content) (tree manifest.Digest, of calls.Digested) {
	if s.Recorded.IsZero() || !c.Folded() {
		return c.Tree(), of
	}
	foretell := func() {}
	if engine, able := s.Engine.(calls.Foreteller); able {
		foretell = sync.OnceFunc(engine.Foretell)
	}
	tree, in := c.TreeSince(s.Recorded, func(each manifest.Walk) {
		foretell()
		of.Folders, of.Of = treeparts.Of(each)
	})
	question := calls.Comparing{Content: c, Digested: of}
	switch {
	case tree == s.Recorded:
		return tree, calls.Digested{}
	case in != nil:
		question.DigestIn(in, s.Recorded)
	case of.Folders == nil:
		foretell()
		question.DigestAll()
	}
	return tree, question.Digested
}

// resolve finds out digests that are open: those of files that need not be sent, should the site hold their content, or
// another file of the content have it, too.
func (s *Session) resolve(ctx context.Context, c *Comparison, surveyed calls.ID) error {
	open := c.Content.Later
	if len(open) == 0 {
		return nil
	}
	if !s.Options.Trial && s.Options.Compare != ByTime {
		sizes, alike := sizesOf(c.Content.Each, open)
		held, err := calls.Sized.On(ctx, s.Engine, calls.Sizing{Survey: surveyed, Sizes: sizes})
		if errors.Is(err, calls.ErrForgotten) { // the connection was lost since
			held, err = sizes, nil
		}
		if err != nil {
			return err
		}
		all := open
		open = nil
		for i, path := range all {
			if slices.Contains(held, sizes[i]) || alike[sizes[i]] > 1 {
				open = append(open, path)
			}
		}
	}
	return c.Content.Resolve(ctx, open)
}

// sizesOf gives the sizes of files, which are sorted by path, and how many files of a content have each of these.
func sizesOf(content manifest.Walk, paths []string) (sizes []int64, alike map[int64]int) {
	alike = make(map[int64]int, len(paths))
	content(func(e *manifest.Entry) bool {
		if at := len(sizes); e.Path == paths[at] {
			sizes = append(sizes, e.Size)
			alike[e.Size] = 0
		}
		return len(sizes) < len(paths)
	})
	content(func(e *manifest.Entry) bool {
		if n, is := alike[e.Size]; is {
			alike[e.Size] = n + 1
		}
		return true
	})
	return sizes, alike
}

// checkHeld fails where the site does not hold what it should.
func (s *Session) checkHeld(ctx context.Context, c *Comparison) error {
	if c.Content.Rollback == 0 {
		return nil
	}
	missing, err := calls.Held.On(ctx, s.Engine, c.id)
	if err == nil && len(missing) > 0 && !s.Options.Partial {
		err = &GoneError{c.Content.Rollback, missing}
	}
	return err
}

// Deploy compares, and deploys what is not as it should be. Where there is nothing to do, the record says from then on
// that all is as it should be. Where another deployment is published meanwhile, and it may wait for one, it begins
// anew.
func (s *Session) Deploy(ctx context.Context) (*Result, error) {
	for {
		c, err := s.Compare(ctx)
		if err != nil {
			return nil, err
		}
		out, err := s.DeployCompared(ctx, c)
		var overtaken *site.OvertakenError
		if !errors.As(err, &overtaken) || s.Options.Wait == 0 {
			return out, err
		}
		s.Person.Tell(Overtaken{overtaken.Found})
	}
}

// DeployCompared deploys what was compared.
func (s *Session) DeployCompared(ctx context.Context, c *Comparison) (*Result, error) {
	return s.deploy(ctx, c, s.Person.Agree)
}

// deploy calls agree once nothing is against the deployment, right before it is begun.
func (s *Session) deploy(ctx context.Context, c *Comparison, agree func(*Consent) error) (*Result, error) {
	result := &Result{Comparison: c}
	if c.Unchanged(s.Options) && len(c.Content.Failed)+len(c.Content.Objections) == 0 {
		if c.Survey.Unsettled > 0 && !s.Options.Trial {
			// It only makes the next comparison cheaper: where the record cannot be written now, files are read again
			// then.
			_, _ = calls.Affirm.On(ctx, s.Engine, calls.Affirming{Number: c.Survey.Number, User: s.Options.User})
		}
		result.Unchanged = true
		if s.Options.Trial {
			return result, nil
		}
		return result, s.settle(ctx, c)
	}
	s.Person.Tell(Differs{c})
	if err := c.Refuse(s.Options); err != nil || s.Options.Trial {
		return result, err
	}
	if err := agree(c.Consent(s.Options)); err != nil {
		return result, err
	}
	var err error
	result.Outcome, err = s.publish(ctx, c, func() (*site.Watch, func()) { return s.Person.Watch(ctx, Working) })
	return result, err
}

// Publish stages, publishes, verifies and records what was compared, with the commands around it, and tells nobody how
// that goes on. Whoever calls it has asked for refusals and consent. An *UnwellError comes with the outcome.
func (s *Session) Publish(ctx context.Context, c *Comparison) (*site.Outcome, error) {
	return s.publish(ctx, c, func() (*site.Watch, func()) { return &site.Watch{}, func() {} })
}

func (s *Session) publish(ctx context.Context, c *Comparison, watching func() (*site.Watch, func())) (*site.Outcome, error) {
	watch, done := watching()
	defer func() { done() }()
	staged, err := s.Stage(ctx, c, watch)
	if err != nil {
		return nil, err
	}
	a := s.around(c)
	if a != nil && len(a.Before) > 0 && staged.publishes(c) {
		done()
		a.facts.Deployment = staged.Outcome.Next
		if err := a.before(ctx); err != nil {
			done = func() {}
			return nil, errors.Join(err, staged.Abandon(context.WithoutCancel(ctx)))
		}
		watch, done = watching()
	}
	out, err := staged.Publish(ctx, watch)
	if err == nil && out.Number > 0 && s.Options.Published != nil {
		s.Options.Published(ctx)
	}
	if err != nil || a == nil || a.count() == 0 || out.Number == 0 {
		return out, err
	}
	done()
	done = func() {}
	a.facts.Deployment = out.Number
	return out, s.follow(ctx, a, c.Survey.Number)
}

// Staged is a deployment whose content is at the site, where nothing shows yet. The site stays locked until it is
// published or abandoned: one of both must be done.
type Staged struct {
	// Outcome is what was done so far, and what failed.
	Outcome *site.Outcome

	session *Session
	content *content.Content
	id      calls.ID
}

// Stage brings to the site what it does not hold.
func (s *Session) Stage(ctx context.Context, c *Comparison, watch *site.Watch) (*Staged, error) {
	staging := c.staging(s.Options)
	if c.Content.Want != nil {
		c.Content.Want(c.sent())
	}
	out, err := calls.Stage.Watched(ctx, s.Engine, staging, watch)
	var folded *site.CaseError
	if errors.As(err, &folded) {
		return nil, refuseCase(folded.Clashes)
	}
	if err != nil {
		return nil, err
	}
	if c.Content.Learned != nil {
		c.Content.Learned()
	}
	return &Staged{out, s, c.Content, staging.As}, nil
}

// publishes tells whether it will be published: all arrived, or a part is wanted too.
func (d *Staged) publishes(c *Comparison) bool {
	return d.session.Options.Partial || len(d.Outcome.Failed) == 0 && len(c.Content.Failed) == 0
}

// Publish makes it visible, verifies and records it. With failures and without Options.Partial nothing is published.
// One that is no longer wanted is abandoned.
func (d *Staged) Publish(ctx context.Context, watch *site.Watch) (*site.Outcome, error) {
	if ctx.Err() != nil {
		return nil, errors.Join(ctx.Err(), d.Abandon(context.WithoutCancel(ctx)))
	}
	if err := d.content.Broken(); err != nil {
		return nil, errors.Join(err, d.Abandon(context.WithoutCancel(ctx)))
	}
	out, err := calls.Publish.Watched(ctx, d.session.Engine, d.id, watch)
	if err != nil {
		return nil, err
	}
	unread := make([]site.Failure, len(d.content.Failed))
	for i, f := range d.content.Failed {
		unread[i] = site.Failure{Path: f.Path, Err: f.Err}
	}
	out.Add(unread)
	return out, nil
}

// Abandon keeps what was staged for the next deployment, and unlocks the site.
func (d *Staged) Abandon(ctx context.Context) error {
	_, err := calls.Abandon.On(ctx, d.session.Engine, d.id)
	return err
}
