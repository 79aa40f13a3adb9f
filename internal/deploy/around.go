package deploy

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"tartine/internal/calls"
	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Around is what runs around a publish, in this order: Before, once all is at the site and nothing shows yet; the
// publish; After; Checks, each until it holds or its time is over. One of Before that fails keeps the deployment from
// being published. One of After that fails, or a check that never holds, tells that the deployment is unwell.
//
// The record says before a publish how much is to run after it, and then what ran (site.Ran). So the next session knows
// what a run that was interrupted left undone, and does only that.
type Around struct {
	Before, After []Command
	Checks        []Check
	RollBack      bool // the deployment before is published again in the place of an unwell one
	Always        bool // all of it runs although nothing changes
	Runner        Runner
}

// Runner runs commands and looks through the web.
type Runner interface {
	// Run runs a command. It is interrupted when the context ends. Its error is an *EndedError where it ran, and failed.
	Run(ctx context.Context, c *Command, facts *Facts, out io.Writer) error
	// Ask asks for an address.
	Ask(ctx context.Context, q *Question) error
	// Look looks through the web whether what was published comes as it was sent.
	Look(ctx context.Context, facts *Facts) error
}

// Command is a program with its arguments, or a line for a shell, which runs on this machine or at the far end.
type Command struct {
	There   bool
	Words   []string
	Shell   string // in the place of Words
	Timeout time.Duration
}

// String gives it as a person would write it.
func (c *Command) String() string {
	if c.Shell != "" {
		return c.Shell
	}
	words := make([]string, len(c.Words))
	for i, w := range c.Words {
		if words[i] = w; w == "" || strings.ContainsAny(w, " \t\n'\"\\$;&|<>()*?") {
			words[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
	}
	return strings.Join(words, " ")
}

// Where says where it runs: here or there.
func (c *Command) Where() string {
	if c.There {
		return "there"
	}
	return "here"
}

// Check is one thing that must hold: that a command succeeds, an address answers, or the web shows what was published.
type Check struct {
	Command *Command
	Asks    *Question
	Web     bool
	Within  time.Duration
}

// Where says where it is asked: here, there or web.
func (c *Check) Where() string {
	if c.Command != nil {
		return c.Command.Where()
	}
	return "web"
}

// String gives it as a person would write it.
func (c *Check) String() string {
	switch {
	case c.Command != nil:
		return c.Command.String()
	case c.Asks != nil:
		return c.Asks.String()
	}
	return "what changed"
}

// Question is what an address must answer.
type Question struct {
	URL      string
	Status   int
	Contains string // empty: anything
	Timeout  time.Duration
}

func (q *Question) String() string {
	text := fmt.Sprintf("%s answers %d", q.URL, q.Status)
	if q.Contains != "" {
		text += fmt.Sprintf(" with %q", q.Contains)
	}
	return text
}

// Facts is what commands are told of a deployment.
type Facts struct {
	When       When
	Deployment int
	Tree       manifest.Digest
	Changed    []Altered
}

// Altered is a path of a deployment that is not as it was before.
type Altered struct {
	Status diff.Status // New, Changed or Retired
	Path   string
	Want   *manifest.Entry // what it is from then on; nil: it is retired
}

// When says at which moment something runs.
type When string

// The moments.
const (
	BeforePublish When = "before_publish"
	AfterPublish  When = "after_publish"
	Checking      When = "check"
)

// EndedError tells that a command ran and failed.
type EndedError struct {
	Status  int           // its exit status; 128 and the number of the signal that ended it
	Timeout time.Duration // it was ended since it took longer than this; 0: it was not
}

func (e *EndedError) Error() string {
	switch {
	case e.Timeout > 0:
		return fmt.Sprintf("it did not end within %s", e.Timeout)
	case e.Status > 128 && e.Status < 192:
		return fmt.Sprintf("signal %d ended it", e.Status-128)
	case e.Status == 127:
		return "it does not exist"
	case e.Status == 126:
		return "it is not executable"
	}
	return fmt.Sprintf("it ended with status %d", e.Status)
}

// CommandError tells that a command failed before anything was published, so that nothing was.
type CommandError struct {
	Command *Command
	Err     error
}

func (e *CommandError) Error() string {
	return fmt.Sprintf("%s (%s): %v", e.Command.String(), e.Command.Where(), e.Err)
}

func (e *CommandError) Unwrap() error { return e.Err }

// UnwellError tells that a deployment was published, and that a command or a check found it unwell.
type UnwellError struct {
	Number int    // the deployment
	What   string // the command or the check
	Err    error  // what it said
	// Back is the deployment that is published again in its place, as deployment Again; 0: it was kept, for which Kept
	// is the reason, nil where that is what was asked for.
	Back, Again int
	Kept        error
	After       error // what failed of After for the one that is published again; nil: nothing did
}

func (e *UnwellError) Error() string {
	return fmt.Sprintf("deployment %d is unwell: %s: %v", e.Number, e.What, e.Err)
}

func (e *UnwellError) Unwrap() error { return e.Err }

// The events of commands.
type (
	// Runs tells that something begins. Its output is written to what Person gives for it.
	Runs struct {
		When  When
		Where string
		What  string
	}
	// Ran tells how it ended.
	Ran struct {
		Runs
		Err  error // nil: well
		Took time.Duration
		Last string // the end of what it wrote
	}
	// RollsBack tells that a deployment was found unwell and that an earlier one is published in its place.
	RollsBack struct {
		Unwell *UnwellError
		To     int
	}
	// Owing tells that a run before was interrupted before all had run that follows on a publish.
	Owing struct{ Number int }
)

// MostOutput is how much of what a command writes is kept in the record: its end, in bytes.
const MostOutput = 64 << 10

// around is a session's commands for one deployment.
type around struct {
	*Around
	session *Session
	facts   Facts
	noted   site.Ran
}

func (s *Session) around(c *Comparison) *around {
	if s.Options.Around == nil {
		return nil
	}
	out := &around{Around: s.Options.Around, session: s}
	out.facts.Tree, out.facts.Changed = c.TreeDigest(), alteredBy(c.Result)
	return out
}

// alteredBy gives the paths that a deployment alters; strays are not among them.
func alteredBy(r *diff.Result) (out []Altered) {
	r.Each(func(c *diff.Change) bool {
		if c.Status != diff.Stray {
			altered := Altered{Status: c.Status, Path: c.Path()}
			if c.Want != nil {
				want := *c.Want
				altered.Want = &want
			}
			out = append(out, altered)
		}
		return true
	})
	return out
}

// Restoring gives what runs around the publish of an earlier deployment in the place of one that is given up.
func (a *Around) Restoring() *Around {
	if a == nil {
		return nil
	}
	out := *a
	out.Before, out.Checks, out.RollBack = nil, nil, false
	return &out
}

// count gives how many commands and checks there are.
func (a *Around) count() int {
	if a == nil {
		return 0
	}
	return len(a.Before) + len(a.After) + len(a.Checks)
}

// run runs a command and notes it.
func (a *around) run(ctx context.Context, when When, c *Command) error {
	runs := Runs{when, c.Where(), c.String()}
	a.session.Person.Tell(runs)
	shown, end := a.session.Person.Output(runs)
	kept := &farend.Tail{Most: MostOutput}
	began := time.Now()
	facts := a.facts
	facts.When = when
	err := a.Runner.Run(ctx, c, &facts, io.MultiWriter(shown, kept))
	end()
	a.ended(Ran{Runs: runs, Err: err, Took: time.Since(began), Last: string(kept.Bytes())}, kept.Bytes())
	return err
}

// ended tells and notes how something ended. Of what was tried before, and of checks, the last time is noted.
func (a *around) ended(r Ran, output []byte) {
	a.session.Person.Tell(r)
	entry := site.RanCommand{When: string(r.When), Where: r.Where, What: r.What, Seconds: r.Took.Round(time.Millisecond).Seconds(),
		Output: strings.ToValidUTF8(string(output), "\ufffd")}
	if r.Err != nil {
		entry.Error = r.Err.Error()
		var ended *EndedError
		if errors.As(r.Err, &ended) {
			entry.Status = ended.Status
		}
	}
	a.noted.Commands = append(slices.DeleteFunc(a.noted.Commands, func(c site.RanCommand) bool {
		return c.When == entry.When && c.Where == entry.Where && c.What == entry.What && (c.Error != "" || c.When == string(Checking))
	}), entry)
}

// before runs what must succeed before anything shows.
func (a *around) before(ctx context.Context) error {
	for i := range a.Before {
		if err := a.run(ctx, BeforePublish, &a.Before[i]); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return &CommandError{&a.Before[i], err}
		}
	}
	return nil
}

// after runs what follows on a publish, but for what is noted to have ended well, and notes each as it ends. Its error
// is an *UnwellError where it is the deployment that is unwell.
func (a *around) after(ctx context.Context) error {
	number := a.facts.Deployment
	unwell := func(what string, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		a.noted.Settled, a.noted.Unwell = true, what+": "+err.Error()
		a.note(ctx)
		return &UnwellError{Number: number, What: what, Err: err}
	}
	before := slices.Clone(a.noted.Commands)
	for i := range a.After {
		c := &a.After[i]
		if at := slices.IndexFunc(before, func(r site.RanCommand) bool {
			return r.When == string(AfterPublish) && r.Where == c.Where() && r.What == c.String() && r.Error == ""
		}); at >= 0 { // each counts for one: the same may be wanted twice
			before = slices.Delete(before, at, at+1)
			continue
		}
		if err := a.run(ctx, AfterPublish, c); err != nil {
			return unwell(fmt.Sprintf("%s (%s)", c, c.Where()), err)
		}
		a.note(ctx)
	}
	for i := range a.Checks {
		if err := a.check(ctx, &a.Checks[i]); err != nil {
			return unwell(fmt.Sprintf("%s (%s)", &a.Checks[i], a.Checks[i].Where()), err)
		}
	}
	a.noted.Settled = true
	a.note(ctx)
	return nil
}

// The pauses between two tries of a check.
const (
	firstPause   = 200 * time.Millisecond
	longestPause = 2 * time.Second
)

// check tries a check until it holds or its time is over.
func (a *around) check(ctx context.Context, c *Check) error {
	runs := Runs{Checking, c.Where(), c.String()}
	a.session.Person.Tell(runs)
	began := time.Now()
	within, cancel := context.WithTimeout(ctx, c.Within)
	defer cancel()
	var (
		err  error
		kept *farend.Tail
	)
	for pause := firstPause; ; pause = min(2*pause, longestPause) {
		kept = &farend.Tail{Most: MostOutput}
		tried := a.try(within, c, kept)
		if tried == nil || err == nil || within.Err() == nil {
			err = tried // one that was cut short says less than the one before
		}
		if tried == nil || ctx.Err() != nil {
			break
		}
		select {
		case <-within.Done():
		case <-time.After(pause):
			continue
		}
		break
	}
	if err != nil && ctx.Err() == nil {
		err = fmt.Errorf("%w (tried for %s)", err, c.Within)
	}
	a.ended(Ran{Runs: runs, Err: err, Took: time.Since(began), Last: string(kept.Bytes())}, kept.Bytes())
	return err
}

func (a *around) try(ctx context.Context, c *Check, out io.Writer) error {
	facts := a.facts
	facts.When = Checking
	switch {
	case c.Command != nil:
		return a.Runner.Run(ctx, c.Command, &facts, out)
	case c.Asks != nil:
		return a.Runner.Ask(ctx, c.Asks)
	}
	return a.Runner.Look(ctx, &facts)
}

// note writes down what ran. What cannot be noted is only run once more by the next session.
func (a *around) note(ctx context.Context) {
	noting := calls.Noting{Number: a.facts.Deployment, Ran: a.noted}
	_, _ = calls.Note.On(context.WithoutCancel(ctx), a.session.Engine, noting)
}

// follow runs what follows on a publish, and publishes the deployment before again where it is found unwell.
func (s *Session) follow(ctx context.Context, a *around, before int) error {
	err := a.after(ctx)
	var unwell *UnwellError
	if !errors.As(err, &unwell) {
		return err
	}
	switch {
	case !a.RollBack:
	case before == 0:
		unwell.Kept = ErrFirst
	default:
		s.Person.Tell(RollsBack{unwell, before})
		if unwell.Again, unwell.After, unwell.Kept = s.rollBack(ctx, unwell.Number, before); unwell.Again > 0 {
			unwell.Back = before
		}
	}
	return unwell
}

// rollBack publishes an earlier deployment again, in the place of an unwell one, without a question: it was current a
// moment ago. It gives its new number, and what failed of what runs after it.
func (s *Session) rollBack(ctx context.Context, unwell, to int) (again int, failed, kept error) {
	ctx = context.WithoutCancel(ctx)
	back := &Session{Engine: s.Engine, Content: Earlier(to), Person: s.Person, Options: s.Options}
	back.Options.Partial, back.Options.RemoveStrays, back.Options.Beside, back.Options.Hand = false, false, nil, false
	back.Options.Last, back.Options.Started, back.Options.Sources = nil, time.Now(), ""
	back.Options.Around = s.Options.Around.Restoring()
	c, err := back.Compare(ctx)
	if err != nil {
		return 0, nil, err
	}
	if c.Survey.Number != unwell {
		return 0, nil, &site.OvertakenError{Expected: unwell, Found: c.Survey.Number}
	}
	out, err := back.Publish(ctx, c)
	var after *UnwellError
	if errors.As(err, &after) {
		failed, err = after, nil
	}
	switch {
	case err != nil:
		return 0, nil, err
	case out.Number == 0:
		return 0, nil, errors.New("not all of its content could be published")
	}
	return out.Number, failed, nil
}

// settle runs what an interrupted run left undone after the publish of the current deployment, or, with Always, all of
// it.
func (s *Session) settle(ctx context.Context, c *Comparison) error {
	commands := s.Options.Around
	if c.Survey.Number == 0 || commands.count() == 0 {
		return nil
	}
	owed, err := calls.Owed.On(ctx, s.Engine, c.Survey.Number)
	if err != nil {
		return err
	}
	open := owed.Count > 0 && (owed.Ran == nil || !owed.Ran.Settled)
	if !open && !commands.Always {
		return nil
	}
	a := s.around(c)
	a.facts.Deployment = c.Survey.Number
	if open {
		if owed.Ran != nil {
			a.noted = *owed.Ran
		}
		s.Person.Tell(Owing{c.Survey.Number})
		if changed, err := Between(ctx, s.Engine, owed.Before, c.Survey.Number); err == nil {
			a.facts.Changed = alteredBy(changed)
		}
		return s.follow(ctx, a, owed.Before)
	}
	keeps := *a.Around
	keeps.RollBack, a.Around = false, &keeps // nothing was deployed
	if err := a.before(ctx); err != nil {
		return err
	}
	return s.follow(ctx, a, 0)
}
