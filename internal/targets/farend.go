package targets

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tartine/internal/agent"
	"tartine/internal/calls"
	"tartine/internal/connect"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/fsys/redial"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// NoAgent says that no agent is to run at the far end.
const NoAgent = "off"

// leadsThere is how long a command may take to lead to a shell: it may have to connect and to log in first.
const leadsThere = 30 * time.Second

// program says which program is to run as the agent.
func (s *Settings) program() agent.Program {
	p := agent.Program{Path: s.Agent.Use, Builds: s.Agent.Builds, Own: s.Agent.Own, Arrived: s.arrived}
	if p.Path == "auto" {
		p.Path = ""
	}
	if len(s.Command) > 0 {
		p.Patience = leadsThere
	}
	if s.As.User != "" {
		p.As = &agent.Raise{User: s.As.User, With: s.As.With, Password: s.As.Password}
	}
	return p
}

func (s *Settings) farRoot() agent.Root {
	return agent.Root{Path: s.Address.Path, Home: s.Address.Home, Switch: s.Switch, Jobs: s.Jobs, Owner: s.Owner}
}

// startAgent starts an agent behind a shell, which is closed with it.
func (s *Settings) startAgent(ctx context.Context, shell *connect.Shell) (*agent.Client, error) {
	return s.startProgram(ctx, shell, s.program())
}

func (s *Settings) startProgram(ctx context.Context, shell *connect.Shell, program agent.Program) (*agent.Client, error) {
	in, err := agent.Start(ctx, shell, program)
	if err != nil {
		shell.Close()
		return nil, err
	}
	return agent.Connect(ctx, in, shell, shell, s.Agent.Version, s.farRoot())
}

// overSSH is an agent and the connection that it is spoken to over.
type overSSH struct {
	*agent.Client
	client *connect.Client
}

func (o *overSSH) Close() error { return errors.Join(o.Client.Close(), o.client.Close()) }

// openAgent opens a site through an agent over a connection, which it closes with it, or when it fails unless no agent
// can run there.
func (s *Settings) openAgent(ctx context.Context, dial *connect.SSH, client *connect.Client) (*Opened, error) {
	first, err := s.agentOver(ctx, client)
	if err != nil {
		return nil, err
	}
	return s.lastingAgent(&overSSH{first, client}, dial.Address(), func(ctx context.Context) (far, error) {
		client, err := dial.Dial(ctx)
		if err != nil {
			return nil, err
		}
		again, err := s.agentOver(ctx, client)
		if err != nil {
			client.Close()
			return nil, err
		}
		return &overSSH{again, client}, nil
	}), nil
}

func (s *Settings) agentOver(ctx context.Context, client *connect.Client) (*agent.Client, error) {
	shell, err := connect.OpenShell(client)
	if errors.Is(err, farend.ErrUnsupported) {
		return nil, &agent.UnavailableError{Reason: "the user who logs in has no shell"}
	}
	if err != nil {
		return nil, err
	}
	far, err := s.startAgent(ctx, shell)
	var terminal *agent.TerminalError
	if errors.As(err, &terminal) {
		if shell, err = connect.OpenTerminalShell(client); err != nil {
			return nil, terminal
		}
		program := s.program()
		program.As.Terminal = true
		far, err = s.startProgram(ctx, shell, program)
	}
	if err == nil && s.RateLimit == 0 && s.As.User == "" { // what passes content on runs as who logs in
		far.Widen(func(context.Context) (agent.Stream, error) { return connect.OpenShell(client) })
	}
	return far, err
}

// openCommand opens a site behind a program of this machine that leads to a shell.
func openCommand(ctx context.Context, s Settings) (*Opened, error) {
	limit := connect.NewThrottle(s.RateLimit)
	open := func(ctx context.Context) (far, error) {
		said := &farend.Tail{Most: wordsKept}
		shell, err := connect.RunShell(ctx, s.Command, said)
		if err == nil {
			var client *agent.Client
			if client, err = s.startAgent(ctx, shell.Within(limit)); err == nil {
				return client, nil
			}
		}
		if words := strings.Join(strings.Fields(said.String()), " "); words != "" {
			err = fmt.Errorf("%w; it says: %s", err, words)
		}
		return nil, &CommandError{s.Command, err}
	}
	first, err := open(ctx)
	if err != nil {
		return nil, err
	}
	return s.lastingAgent(first, strings.Join(s.Command, " "), open), nil
}

// CommandError tells that the program of a target did not lead to a site.
type CommandError struct {
	Command []string
	Err     error
}

func (e *CommandError) Error() string {
	return fmt.Sprintf("%s: %v", strings.Join(e.Command, " "), e.Err)
}

func (e *CommandError) Unwrap() error { return e.Err }

// wordsKept is how much of what such a program says is kept, in bytes.
const wordsKept = 1 << 10

// far is an engine at the far end.
type far interface {
	calls.Engine
	Asked() agent.Asked
	calls.Foreteller
	Recorded() manifest.Digest
	io.Closer
}

// OpenHere opens a site of this machine, for an agent that runs next to it. Between, which may be nil, is put between
// the site and its place.
func OpenHere(ctx context.Context, root agent.Root, between func(fsys.FS) fsys.FS) (*site.Site, string, io.Closer, error) {
	path := root.Path
	if root.Home {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil, "", nil, &site.RootError{Root: path, Reason: "cannot be found: there is no home folder", Err: err}
		}
		path = filepath.Join(home, path)
	}
	if !filepath.IsAbs(path) {
		return nil, "", nil, &site.RootError{Root: path, Reason: "is not absolute"}
	}
	s := Settings{Address: Address{Kind: Folder, Path: filepath.Clean(path)}, Switch: root.Switch, Jobs: root.Jobs,
		Owner: root.Owner, Between: between}
	s.beside = openBeside
	opened, place, err := s.openLocal(ctx)
	return opened, path, place, err
}

// openBeside opens another folder of this machine, to read it.
func openBeside(b site.Beside) (fsys.FS, error) {
	root := b.Root
	if b.Home {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil, err
		}
		root = filepath.Join(home, root)
	}
	if !filepath.IsAbs(root) {
		return nil, &site.RootError{Root: root, Reason: "is not absolute"}
	}
	return osfs.Open(root)
}

// lasting is an engine at the far end whose connection is opened again when it is lost. A call that was under way is
// made anew, on what the attempt before left: a deployment that was staged is not sent again, and one that was
// published is found to be.
//
// What was surveyed and compared last is known to the agent that did it, and lost with its connection. So it is done
// anew when an agent says that it knows nothing of it.
type lasting struct {
	*redial.Keeper[far]
	survey   calls.Surveying  // the last one
	summary  site.Summary     // what it found
	compare  *calls.Comparing // the last one; nil: there was none since the survey
	compared *calls.Compared
	staging  *calls.Staging // the last one
	sent     agent.Asked    // for it
	before   int            // the deployment that was current then
}

func (s *Settings) lastingAgent(first far, address string, open func(context.Context) (far, error)) *Opened {
	if s.Reconnect <= 0 {
		return &Opened{Engine: first, place: first, Way: "agent", Agent: true, Recorded: first.Recorded()}
	}
	line := redial.Line[far]{Open: open, Patience: s.Reconnect, Told: s.Told, Final: isFinal}
	if line.Told == nil {
		line.Told = func(error, time.Duration) {}
	}
	l := &lasting{Keeper: redial.Keep(first, line)}
	return &Opened{Engine: l, place: l, Way: "agent", Agent: true, Recorded: first.Recorded()}
}

// isFinal tells that it is not to be tried again: a server has become another one, or an agent is killed wherever it
// runs.
func isFinal(err error) bool {
	var (
		key   *connect.HostKeyError
		unfit *UnfitError
		raise *agent.RaiseError
	)
	return errors.As(err, &key) || errors.As(err, &unfit) || errors.As(err, &raise)
}

func (l *lasting) Abilities() fsys.Abilities { return l.Now().Abilities() }

// Foretell implements calls.Foreteller.
func (l *lasting) Foretell() { l.Now().Foretell() }

// Do implements calls.Engine.
func (l *lasting) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	switch {
	case call == calls.Any(calls.Stage):
		out, err := l.stage(ctx, question.(*calls.Staging), watch)
		*answer.(**site.Outcome) = out
		return err
	case call == calls.Any(calls.Publish):
		out, err := l.publish(ctx, question.(calls.ID), watch)
		*answer.(**site.Outcome) = out
		return err
	}
	_, err := redial.Do(ctx, l.Keeper, func(s far, again bool) (calls.None, error) {
		do := func() error { return s.Do(ctx, call, question, answer, watch) }
		if wiped, wipes := answer.(**site.Wiped); wipes {
			err := do()
			if again && errors.Is(err, site.ErrNoSite) { // the attempt before removed it all
				*wiped, err = &site.Wiped{Resumed: true}, nil
			}
			return calls.None{}, err
		}
		if call == calls.Any(calls.Abandon) {
			err := do()
			if errors.Is(err, calls.ErrForgotten) { // the agent that staged is gone, and has abandoned it
				err = nil
			}
			return calls.None{}, err
		}
		return calls.None{}, l.renewing(ctx, s, question, do)
	})
	if err != nil {
		return err
	}
	l.Moved() // a call that has ended shows that the connection carries something
	switch a := answer.(type) {
	case *site.Summary:
		l.survey, l.summary, l.compare = question.(calls.Surveying), *a, nil
	case **calls.Compared:
		l.compare, l.compared = question.(*calls.Comparing), *a
		summary := l.summary
		(*a).Later = &summary
	}
	return nil
}

// renewing does something, and once more after a survey and a comparison where the agent knows nothing of those that it
// rests on. Should another deployment have been published since a comparison, it fails with a *site.OvertakenError.
func (l *lasting) renewing(ctx context.Context, s far, question any, do func() error) error {
	err := do()
	if !errors.Is(err, calls.ErrForgotten) {
		return err
	}
	before := l.summary.Number
	if err := l.surveyAnew(ctx, s); err != nil {
		return err
	}
	if q, compares := question.(*calls.Comparing); compares {
		q.Recorded = l.summary.Number > 0
	} else {
		if l.summary.Number != before {
			return &site.OvertakenError{Expected: before, Found: l.summary.Number}
		}
		if err := l.compareAnew(ctx, s); err != nil {
			return err
		}
	}
	return do()
}

func (l *lasting) surveyAnew(ctx context.Context, s far) (err error) {
	l.summary, err = calls.Survey.On(ctx, s, l.survey)
	return err
}

func (l *lasting) compareAnew(ctx context.Context, s far) (err error) {
	if l.compare == nil {
		return calls.ErrForgotten
	}
	l.compare.Recorded = l.summary.Number > 0
	l.compared, err = calls.Compare.On(ctx, s, l.compare)
	return err
}

// stage looks, before a second attempt, what is at the site after the first.
func (l *lasting) stage(ctx context.Context, asked *calls.Staging, watch *site.Watch) (*site.Outcome, error) {
	l.staging, l.before = asked, l.summary.Number
	var first, least *agent.Asked // by the first attempt that asked for anything; the least that any asked for
	out, err := redial.Do(ctx, l.Keeper, func(s far, again bool) (out *site.Outcome, err error) {
		if again {
			done, err := l.afresh(ctx, s)
			if err == nil && done != nil {
				err = &site.OvertakenError{Expected: l.before, Found: done.Number}
			}
			if err != nil {
				return nil, err
			}
		}
		out, err = l.stageOn(ctx, s, watch)
		if asked := s.Asked(); asked.Files > 0 {
			if first == nil {
				first, least = &asked, &asked
			}
			if asked.Bytes < least.Bytes || asked.Files < least.Files { // the attempt before brought something
				least = &asked
				l.Moved()
			}
		}
		if err == nil && again && first != nil {
			asSent(out, *first)
		}
		return out, err
	})
	if err == nil {
		l.Moved()
		l.sent = agent.Asked{Files: out.SentFiles, Bytes: out.SentBytes}
	}
	return out, err
}

func (l *lasting) stageOn(ctx context.Context, s far, watch *site.Watch) (out *site.Outcome, err error) {
	err = l.renewing(ctx, s, l.staging, func() error {
		now := *l.staging
		if l.compared != nil {
			now.Result = l.compared.Result
		}
		out, err = calls.Stage.Watched(ctx, s, &now, watch)
		return err
	})
	return out, err
}

// asSent counts what attempts before have brought, and was found there, as sent, and not as sent earlier.
func asSent(out *site.Outcome, first agent.Asked) {
	if len(out.Failed) == 0 && first.Files > out.SentFiles {
		out.Resumed -= min(out.Resumed, first.Files-out.SentFiles)
		out.SentFiles, out.SentBytes = first.Files, first.Bytes
	}
}

// publish looks, where the agent that staged is gone, what became of it, and stages once more unless it was published.
func (l *lasting) publish(ctx context.Context, id calls.ID, watch *site.Watch) (*site.Outcome, error) {
	out, err := redial.Do(ctx, l.Keeper, func(s far, again bool) (*site.Outcome, error) {
		if !again {
			out, err := calls.Publish.Watched(ctx, s, id, watch)
			if !errors.Is(err, calls.ErrForgotten) || l.staging == nil || l.staging.As != id {
				return out, err
			}
		}
		if done, err := l.afresh(ctx, s); err != nil || done != nil {
			return done, err
		}
		if _, err := l.stageOn(ctx, s, &site.Watch{}); err != nil {
			return nil, err
		}
		return calls.Publish.Watched(ctx, s, id, watch)
	})
	if err == nil {
		l.Moved()
		asSent(out, l.sent)
		l.compare, l.staging = nil, nil // they are of before
	}
	return out, err
}

// lockPatience is how long the agent of a connection that was lost may take to let go of the lock.
const lockPatience = 3 * time.Minute

// afresh finds out what became of a deployment whose connection was lost: it was published, then its outcome comes
// back; or it was not, then it is compared anew with the site as it is now.
func (l *lasting) afresh(ctx context.Context, s far) (*site.Outcome, error) {
	plan, before, user := l.staging, l.before, ""
	if plan.Origin != nil {
		user = plan.Origin.User
	}
	if err := recoverWaiting(ctx, s, user); err != nil {
		return nil, err
	}
	if err := l.surveyAnew(ctx, s); err != nil {
		return nil, err
	}
	if err := l.compareAnew(ctx, s); err != nil {
		return nil, err
	}
	result := l.compared.Result
	switch {
	case l.summary.Number == before+1 && !result.Publishes(plan.RemoveStrays) && !result.Stale:
		past, err := calls.History.On(ctx, s, calls.None{})
		if err != nil || len(past) == 0 {
			return nil, err
		}
		return &site.Outcome{SentFiles: past[0].SentFiles, SentBytes: past[0].SentBytes, Number: l.summary.Number,
			Verified: true,
			Method:   site.ComparedAnew}, nil
	case l.summary.Number != before:
		return nil, &site.OvertakenError{Expected: before, Found: l.summary.Number}
	}
	if plan.Rollback > 0 {
		if missing, err := calls.Held.On(ctx, s, plan.Comparison); err != nil || len(missing) > 0 {
			return nil, errors.Join(err, fmt.Errorf("content is no longer held: %d paths", len(missing)))
		}
	}
	return nil, nil
}

func recoverWaiting(ctx context.Context, s far, user string) error {
	deadline := time.Now().Add(lockPatience)
	for {
		_, err := calls.Recover.On(ctx, s, user)
		var locked *site.LockedError
		if !errors.As(err, &locked) || time.Now().After(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}
