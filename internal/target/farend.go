package target

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"tartine/internal/agent"
	"tartine/internal/connect"
	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/fsys/redial"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// NoAgent says that no agent is to run at the far end.
const NoAgent = "off"

// program says which program is to run as the agent.
func (s *Settings) program() agent.Program {
	p := agent.Program{Path: s.Agent, Builds: s.Agents, Own: s.Own, Arrived: s.arrived}
	if p.Path == "auto" {
		p.Path = ""
	}
	return p
}

func (s *Settings) farRoot() agent.Root {
	return agent.Root{Path: s.Address.Path, Home: s.Address.Home, Switch: s.Switch, Jobs: s.Jobs, Owner: s.Owner}
}

// startAgent starts an agent behind a shell, which is closed with it.
func (s *Settings) startAgent(ctx context.Context, shell *connect.Shell) (*agent.Client, error) {
	in, err := agent.Start(ctx, shell, s.program())
	if err != nil {
		shell.Close()
		return nil, err
	}
	return agent.Connect(ctx, in, shell, shell, s.Build, s.farRoot())
}

// overSSH is an agent and the connection that it is spoken to over.
type overSSH struct {
	*agent.Client
	client *ssh.Client
}

func (o *overSSH) Close() error { return errors.Join(o.Client.Close(), o.client.Close()) }

// openAgent opens a site through an agent over a connection, which it closes with it, or when it fails unless no agent
// can run there.
func (s *Settings) openAgent(ctx context.Context, dial *connect.SSH, client *ssh.Client) (*Opened, error) {
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

func (s *Settings) agentOver(ctx context.Context, client *ssh.Client) (*agent.Client, error) {
	shell, err := connect.OpenShell(client)
	if errors.Is(err, fsys.ErrUnsupported) {
		return nil, &agent.UnavailableError{Reason: "the user who logs in has no shell"}
	}
	if err != nil {
		return nil, err
	}
	far, err := s.startAgent(ctx, shell)
	if err == nil && s.RateLimit == 0 {
		far.Widen(func(context.Context) (agent.Stream, error) { return connect.OpenShell(client) })
	}
	return far, err
}

// openCommand opens a site behind a program of this machine that leads to a shell.
func openCommand(ctx context.Context, s Settings) (*Opened, error) {
	limit := connect.NewThrottle(s.RateLimit)
	open := func(ctx context.Context) (far, error) {
		said := &lastWords{}
		shell, err := connect.RunShell(ctx, s.Command, said)
		if err == nil {
			var client *agent.Client
			if client, err = s.startAgent(ctx, shell.Within(limit)); err == nil {
				return client, nil
			}
		}
		if words := said.String(); words != "" {
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

// lastWords keeps the end of what a program says.
type lastWords struct {
	mu   sync.Mutex
	text []byte
}

const wordsKept = 1 << 10 // bytes

func (w *lastWords) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.text = append(w.text, p...)
	w.text = w.text[max(len(w.text)-wordsKept, 0):]
	return len(p), nil
}

func (w *lastWords) String() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return strings.Join(strings.Fields(fsys.Said(string(w.text), wordsKept)), " ")
}

// far is a site whose engine runs at the far end.
type far interface {
	Site
	Asked() agent.Asked
	Stretch(ctx context.Context, path string, offset int64) (content []byte, end bool, err error)
	io.Closer
}

// OpenHere opens a site of this machine, for an agent that runs next to it. Between, which may be nil, is put between the site and
// its place.
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
	s := Settings{Address: Address{Kind: Folder, Path: filepath.Clean(path)}, Switch: root.Switch, Jobs: root.Jobs, Owner: root.Owner, Between: between}
	opened, place, err := s.openLocal(ctx)
	return opened, path, place, err
}

// lasting is a far site whose line is opened again when it is lost. What was under way is begun anew, on what the
// attempt before left: a deployment that was staged is not sent again, and one that was published is found to be.
//
// What was surveyed and compared last is known to the agent that did it, and lost with its line. So an agent that is another one than
// that (bound) has it done anew before it is asked for anything that builds on it.
type lasting struct {
	*redial.Keeper[far]
	bound   far
	believe bool
	survey  *site.Survey // of bound
	want    *site.Wanted
	result  *diff.Result // of bound; nil: nothing was compared
}

func (s *Settings) lastingAgent(first far, address string, open func(context.Context) (far, error)) *Opened {
	if s.Reconnect <= 0 {
		return &Opened{Site: first, place: first, Way: "agent"}
	}
	line := redial.Line[far]{Open: open, Patience: s.Reconnect, Told: s.Told, Final: isFinal}
	if line.Told == nil {
		line.Told = func(error, time.Duration) {}
	}
	l := &lasting{Keeper: redial.Keep(first, line)}
	return &Opened{Site: l, place: l, Way: "agent"}
}

// isFinal tells that it is not to be tried again: a server has become another one, or an agent is killed wherever it runs.
func isFinal(err error) bool {
	var (
		key   *connect.HostKeyError
		unfit *UnfitError
	)
	return errors.As(err, &key) || errors.As(err, &unfit)
}

func (l *lasting) Abilities() fsys.Abilities { return l.Now().Abilities() }

// call does what is of one piece: it is begun anew after each loss, and counts as something that got through once it has ended.
func call[R any](ctx context.Context, l *lasting, do func(s far) (R, error)) (R, error) {
	return pieces(ctx, l, func(s far, _ bool) (R, error) { return do(s) })
}

func pieces[R any](ctx context.Context, l *lasting, do func(s far, again bool) (R, error)) (R, error) {
	result, err := redial.Do(ctx, l.Keeper, do)
	if err == nil {
		l.Moved()
	}
	return result, err
}

// nothing is the result of a call that gives none.
type nothing struct{}

func (l *lasting) Survey(ctx context.Context, believe bool) (*site.Survey, error) {
	return call(ctx, l, func(s far) (*site.Survey, error) {
		survey, err := s.Survey(ctx, believe)
		if err == nil {
			l.bound, l.believe, l.survey, l.want, l.result = s, believe, survey, nil, nil
		}
		return survey, err
	})
}

func (l *lasting) Compare(ctx context.Context, survey *site.Survey, want *site.Wanted, told func(int64)) (*diff.Result, error) {
	return call(ctx, l, func(s far) (*diff.Result, error) {
		if s != l.bound {
			again, err := s.Survey(ctx, l.believe)
			if err != nil {
				return nil, err
			}
			l.bound, l.survey = s, again
		}
		result, err := s.Compare(ctx, l.survey, want, told)
		if err == nil {
			l.want, l.result = want, result
			*survey = *l.survey // who asked for the first one sees what stands now
		}
		return result, err
	})
}

// bind has an agent know what was compared last. Should another deployment have been published meanwhile, it fails with a
// *site.OvertakenError.
func (l *lasting) bind(ctx context.Context, s far, number int) error {
	if s == l.bound {
		return nil
	}
	survey, err := s.Survey(ctx, l.believe)
	if err != nil {
		return err
	}
	if survey.Number != number {
		return &site.OvertakenError{Expected: number, Found: survey.Number}
	}
	want := *l.want
	result, err := s.Compare(ctx, survey, &want, nil)
	if err == nil {
		l.bound, l.survey, l.result = s, survey, result
	}
	return err
}

// Held implements deploy.Site.
func (l *lasting) Held(ctx context.Context, survey *site.Survey, result *diff.Result) ([]string, error) {
	return call(ctx, l, func(s far) ([]string, error) {
		if err := l.bind(ctx, s, survey.Number); err != nil {
			return nil, err
		}
		return s.Held(ctx, l.survey, l.result)
	})
}

// Deploy implements deploy.Site. Before a second attempt it looks what became of the first.
func (l *lasting) Deploy(ctx context.Context, plan *site.Plan, watch *site.Watch) (*site.Outcome, error) {
	standing := plan.Survey.Number
	var first, least *agent.Asked // by the first attempt that asked for anything; the least that any asked for
	return pieces(ctx, l, func(s far, again bool) (*site.Outcome, error) {
		now := *plan
		if again {
			if done, err := l.afresh(ctx, s, &now, standing); err != nil || done != nil {
				return done, err
			}
		} else if err := l.bind(ctx, s, standing); err != nil {
			return nil, err
		}
		now.Survey, now.Result = l.survey, l.result
		out, err := s.Deploy(ctx, &now, watch)
		l.result = nil // it is of before
		if asked := s.Asked(); asked.Files > 0 {
			if first == nil {
				first, least = &asked, &asked
			}
			if asked.Bytes < least.Bytes || asked.Files < least.Files { // the attempt before brought something
				least = &asked
				l.Moved()
			}
		}
		if err == nil && again && len(out.Failed) == 0 && first != nil && first.Files > out.SentFiles {
			// What the attempts before brought was found there: it counts as sent, and not as sent earlier.
			out.Resumed -= min(out.Resumed, first.Files-out.SentFiles)
			out.SentFiles, out.SentBytes = first.Files, first.Bytes
		}
		return out, err
	})
}

// lockPatience is how long the agent of a line that was lost may take to let go of the lock.
const lockPatience = 3 * time.Minute

// afresh finds out what became of a deployment whose line was lost: it was published, then its outcome comes back; or it
// was not, then the plan is made to fit what stands now.
func (l *lasting) afresh(ctx context.Context, s far, plan *site.Plan, standing int) (*site.Outcome, error) {
	user := ""
	if plan.Origin != nil {
		user = plan.Origin.User
	}
	if err := recoverWaiting(ctx, s, user); err != nil {
		return nil, err
	}
	survey, err := s.Survey(ctx, l.believe)
	if err != nil {
		return nil, err
	}
	want := *l.want
	result, err := s.Compare(ctx, survey, &want, nil)
	if err != nil {
		return nil, err
	}
	switch {
	case survey.Number == standing+1 && !result.Publishes(plan.RemoveStrays) && !result.Stale:
		past, err := s.History(ctx)
		if err != nil || len(past) == 0 {
			return nil, err
		}
		return &site.Outcome{SentFiles: past[0].SentFiles, SentBytes: past[0].SentBytes, Number: survey.Number, Verified: true,
			Method: "by comparing anew, after the connection was lost"}, nil
	case survey.Number != standing:
		return nil, &site.OvertakenError{Expected: standing, Found: survey.Number}
	}
	if plan.Rollback > 0 {
		if missing, err := s.Held(ctx, survey, result); err != nil || len(missing) > 0 {
			return nil, errors.Join(err, fmt.Errorf("content is no longer held: %d paths", len(missing)))
		}
	}
	l.bound, l.survey, l.result = s, survey, result
	return nil, nil
}

func recoverWaiting(ctx context.Context, s far, user string) error {
	deadline := time.Now().Add(lockPatience)
	for {
		_, err := s.Recover(ctx, user)
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

func (l *lasting) Recover(ctx context.Context, user string) (int, error) {
	return call(ctx, l, func(s far) (int, error) { return s.Recover(ctx, user) })
}

func (l *lasting) Affirm(ctx context.Context, number int, user string) error {
	_, err := call(ctx, l, func(s far) (nothing, error) { return nothing{}, s.Affirm(ctx, number, user) })
	return err
}

func (l *lasting) Deployment(ctx context.Context, number int) (*manifest.Manifest, error) {
	return call(ctx, l, func(s far) (*manifest.Manifest, error) { return s.Deployment(ctx, number) })
}

func (l *lasting) History(ctx context.Context) ([]site.Past, error) {
	return call(ctx, l, func(s far) ([]site.Past, error) { return s.History(ctx) })
}

func (l *lasting) Verify(ctx context.Context, m *manifest.Manifest, strays bool, watch *site.Watch) (*site.Report, error) {
	return call(ctx, l, func(s far) (*site.Report, error) { return s.Verify(ctx, m, strays, watch) })
}

func (l *lasting) Examine(ctx context.Context) ([]site.Check, error) {
	return call(ctx, l, func(s far) ([]site.Check, error) { return s.Examine(ctx) })
}

func (l *lasting) Unfinished(ctx context.Context) (bool, error) {
	return call(ctx, l, func(s far) (bool, error) { return s.Unfinished(ctx) })
}

func (l *lasting) Locked(ctx context.Context) (*site.Holder, error) {
	return call(ctx, l, func(s far) (*site.Holder, error) { return s.Locked(ctx) })
}

func (l *lasting) Unlock(ctx context.Context, holder *site.Holder) error {
	_, err := call(ctx, l, func(s far) (nothing, error) { return nothing{}, s.Unlock(ctx, holder) })
	return err
}

func (l *lasting) GiveUp(ctx context.Context, user string) (*site.GivenUp, error) {
	return call(ctx, l, func(s far) (*site.GivenUp, error) { return s.GiveUp(ctx, user) })
}

func (l *lasting) Stands(ctx context.Context, paths []string, told func(int64)) (*site.Standing, error) {
	return call(ctx, l, func(s far) (*site.Standing, error) { return s.Stands(ctx, paths, told) })
}

// stretch is a part of a file.
type stretch struct {
	content []byte
	end     bool
}

func (l *lasting) ReadPath(ctx context.Context, path string) (io.ReadCloser, error) {
	return agent.InStretches(ctx, path, func(ctx context.Context, path string, offset int64) ([]byte, bool, error) {
		got, err := call(ctx, l, func(s far) (stretch, error) {
			content, end, err := s.Stretch(ctx, path, offset)
			return stretch{content, end}, err
		})
		return got.content, got.end, err
	})
}

func (l *lasting) Gather(ctx context.Context, paths []string, each func(i int, content []byte, err error)) error {
	_, err := call(ctx, l, func(s far) (nothing, error) { return nothing{}, s.Gather(ctx, paths, each) })
	return err
}
