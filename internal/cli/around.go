package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/config"
	"tartine/internal/deploy"
	"tartine/internal/farend"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
	"tartine/internal/web"
)

// aroundFlags is what the flags say of the commands around a publish.
type aroundFlags struct {
	skip, always bool
}

func (a *app) aroundFlags(cmd *cobra.Command, own *deployFlags) {
	a.webFlags(cmd)
	f := cmd.Flags()
	f.BoolVar(&own.around.skip, "no-commands", false, "run neither build nor the commands and checks of the target")
	f.BoolVar(&own.around.always, "always", false, "run the commands and checks although nothing changes")
}

// What holds of commands and checks unless the settings say otherwise.
const (
	usualTimeout = 5 * time.Minute
	usualWithin  = 30 * time.Second
)

// around gives what the settings have run around a publish at a target; nil: nothing. The site is nil while it is not open.
func (a *app) around(m *meant, s *targets.Opened, own aroundFlags) (*deploy.Around, error) {
	settings, err := a.settings()
	if err != nil || own.skip {
		return nil, err
	}
	t := settings.Targets[m.heading.Target]
	out, err := a.listedAround(m, &t)
	if err != nil || out == nil {
		return nil, err
	}
	access, err := a.webAccess(&t)
	if err != nil {
		return nil, err
	}
	out.Always = own.always
	out.Runner = &runner{app: a, at: m, folder: folderAt(config.Position{File: settings.File}), access: access, target: &t, site: s}
	return out, nil
}

// listedAround gives what a target has run around a publish, without what runs it; nil: nothing.
func (a *app) listedAround(m *meant, t *config.Target) (*deploy.Around, error) {
	if len(t.BeforePublish)+len(t.AfterPublish)+len(t.Check) == 0 && !t.WebCheck {
		return nil, nil
	}
	out := &deploy.Around{RollBack: t.WhenItFails.Value != "keep"}
	for i := range t.BeforePublish {
		out.Before = append(out.Before, commandOf(&t.BeforePublish[i]))
	}
	for i := range t.AfterPublish {
		out.After = append(out.After, commandOf(&t.AfterPublish[i]))
	}
	within := lengthOf(t.Within, usualWithin)
	for i := range t.Check {
		out.Checks = append(out.Checks, checkOf(&t.Check[i], within))
	}
	if t.WebCheck && !slices.ContainsFunc(out.Checks, func(c deploy.Check) bool { return c.Web }) {
		out.Checks = append(out.Checks, deploy.Check{Web: true, Within: within})
	}
	there := slices.ContainsFunc(slices.Concat(out.Before, out.After), func(c deploy.Command) bool { return c.There }) ||
		slices.ContainsFunc(out.Checks, func(c deploy.Check) bool { return c.Command != nil && c.Command.There })
	if there {
		if err := m.reach.RunsPrograms(); err != nil {
			return nil, &statusError{status: ExitUsage, what: fmt.Sprintf("the commands of target %s: %v", m.heading.Name(), err),
				next: "run them here, with here: in the place of there:; or skip them with --no-commands"}
		}
	}
	return out, nil
}

// folderAt gives the folder of the file that something is written in, or, without one, this folder.
func folderAt(at config.Position) string { return config.Resolve(config.Text{Value: ".", At: at}) }

func lengthOf(t config.Text, usual time.Duration) time.Duration {
	if length, err := time.ParseDuration(t.Value); err == nil { // it was checked
		return length
	}
	return usual
}

func commandOf(c *config.Command) deploy.Command {
	return command(&c.Here, &c.There, lengthOf(c.Timeout, usualTimeout))
}

func command(here, there *config.Line, timeout time.Duration) deploy.Command {
	line := here
	if there.IsSet() {
		line = there
	}
	return deploy.Command{There: there.IsSet(), Words: values(line.Words), Shell: line.Shell.Value, Timeout: timeout}
}

func checkOf(c *config.Check, within time.Duration) deploy.Check {
	out := deploy.Check{Within: lengthOf(c.Within, within), Web: c.Web.Value != ""}
	switch {
	case c.URL.Value != "":
		out.Asks = &deploy.Question{URL: c.URL.Value, Status: cmp.Or(c.Status, http.StatusOK), Contains: c.Contains.Value,
			Timeout: lengthOf(c.Timeout, web.DefaultTimeout)}
	case !out.Web:
		one := command(&c.Here, &c.There, lengthOf(c.Timeout, usualTimeout))
		out.Command = &one
	}
	return out
}

// runner runs what goes on around a publish at a target.
type runner struct {
	app    *app
	at     *meant
	folder string // of the settings
	access *web.Access
	target *config.Target
	site   *targets.Opened // nil: it is not open yet
}

// Run implements deploy.Runner.
func (r *runner) Run(ctx context.Context, c *deploy.Command, facts *deploy.Facts, out io.Writer) error {
	hiding := &hidingWriter{app: r.app, to: out}
	defer hiding.flush()
	own := &targets.Command{Words: c.Words, Shell: c.Shell, Out: hiding, Env: []string{
		"TARTINE_TARGET=" + r.at.heading.Name(), "TARTINE_WHEN=" + string(facts.When),
		fmt.Sprintf("TARTINE_DEPLOYMENT=%d", facts.Deployment), "TARTINE_TREE=" + facts.Tree.String()}}
	own.Changed, own.ByZero = targets.ChangedFiles(func(yield func(status, path string) bool) {
		for _, c := range facts.Changed {
			if !yield(c.Status.String(), c.Path) {
				return
			}
		}
	})
	within, cancel := context.WithTimeout(ctx, c.Timeout)
	defer cancel()
	var (
		status int
		err    error
	)
	if c.There {
		status, err = own.RunThere(within, r.at.reach)
	} else {
		own.Env = append(own.Env, "TARTINE_ROOT="+r.at.heading.Root)
		status, err = own.RunHere(within, r.folder)
	}
	return endedAs(ctx, within, c.Timeout, status, err)
}

// endedAs gives the error of a command that ended with a status.
func endedAs(ctx, within context.Context, timeout time.Duration, status int, err error) error {
	var notStarted *farend.NotStartedError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case within.Err() != nil:
		return &deploy.EndedError{Status: status, Timeout: timeout}
	case errors.As(err, &notStarted) && notStarted.Said != "":
		return fmt.Errorf("it could not be started: %s", notStarted.Said)
	case errors.As(err, &notStarted) && notStarted.Folder == "":
		return errors.New("the user who logs in there may run no programs")
	case err != nil:
		return err
	case status != 0:
		return &deploy.EndedError{Status: status}
	}
	return nil
}

// Ask implements deploy.Runner.
func (r *runner) Ask(ctx context.Context, q *deploy.Question) error {
	access := *r.access
	access.Timeout = q.Timeout
	return access.Ask(ctx, q.URL, web.Answer{Status: q.Status, Contains: q.Contains})
}

// hidingWriter passes lines on without the secrets that are in them.
type hidingWriter struct {
	app *app
	to  io.Writer

	mu   sync.Mutex
	line []byte
}

// mostLine is how long a line may be that is waited for, in bytes.
const mostLine = 16 << 10

// Write implements io.Writer.
func (h *hidingWriter) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.line = append(h.line, p...)
	at := bytes.LastIndexByte(h.line, '\n')
	if at < 0 && len(h.line) > mostLine {
		at = len(h.line) - 1
	}
	if at < 0 {
		return len(p), nil
	}
	_, err := io.WriteString(h.to, h.app.hide(string(h.line[:at+1])))
	h.line = append(h.line[:0], h.line[at+1:]...)
	return len(p), err
}

func (h *hidingWriter) flush() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.line) > 0 {
		_, _ = io.WriteString(h.to, h.app.hide(string(h.line))) // the command has ended, whoever reads
		h.line = nil
	}
}

// buildContent runs what makes the content.
func (a *app) buildContent(ctx context.Context, own *deployFlags) error {
	settings, err := a.settings()
	if err != nil || own.around.skip || !settings.Build.IsSet() || len(a.flags.source.names) > 0 {
		return err
	}
	c := command(&settings.Build, &config.Line{}, 24*time.Hour)
	p := &person{app: a}
	runs := deploy.Runs{When: "build", Where: "here", What: c.String()}
	if own.options.Trial {
		if !a.flags.quiet {
			a.note(fmt.Sprintf("not run in a dry run: build: %s; what is here now is compared", c.String()))
		}
		return nil
	}
	p.Tell(runs)
	shown, end := p.Output(runs)
	kept := &farend.Tail{Most: deploy.MostOutput}
	began := time.Now()
	hiding := &hidingWriter{app: a, to: io.MultiWriter(shown, kept)}
	line := &targets.Command{Words: c.Words, Shell: c.Shell, Out: hiding}
	status, err := line.RunHere(ctx, folderAt(settings.Build.At()))
	hiding.flush()
	end()
	err = endedAs(ctx, ctx, 0, status, err)
	p.Tell(deploy.Ran{Runs: runs, Err: err, Took: time.Since(began), Last: string(kept.Bytes())})
	if err != nil && ctx.Err() == nil {
		return &statusError{status: ExitRefused, what: fmt.Sprintf("build: %s: %v; nothing was sent", c.String(), err),
			next: "fix it and run it again; --no-commands deploys what is there"}
	}
	return err
}

// plannedCommands lists what would run around a publish at a target.
func plannedCommands(around *deploy.Around) (out []render.Planned) {
	if around == nil {
		return nil
	}
	for i := range around.Before {
		out = append(out, render.Planned{When: string(deploy.BeforePublish), Where: around.Before[i].Where(), What: around.Before[i].String()})
	}
	for i := range around.After {
		out = append(out, render.Planned{When: string(deploy.AfterPublish), Where: around.After[i].Where(), What: around.After[i].String()})
	}
	for i := range around.Checks {
		out = append(out, render.Planned{When: string(deploy.Checking), Where: around.Checks[i].Where(), What: around.Checks[i].String()})
	}
	return out
}

// aroundSentence is of commands and checks that failed.
func aroundSentence(err error) *statusError {
	var (
		failed *deploy.CommandError
		unwell *deploy.UnwellError
	)
	switch {
	case errors.As(err, &unwell):
		return unwellSentence(unwell)
	case errors.As(err, &failed):
		return &statusError{status: ExitRefused, what: fmt.Sprintf("before_publish: %v; nothing was published", failed),
			next: "fix it and run it again: what was sent is kept at the site; --no-commands publishes without it"}
	}
	return nil
}

func unwellSentence(unwell *deploy.UnwellError) *statusError {
	e := &statusError{status: ExitUnwell, what: unwell.Error(), next: "fix it and deploy again; tartine history shows what ran, and what it said"}
	switch {
	case unwell.Back > 0:
		e.what += fmt.Sprintf("; deployment %d is published again, as deployment %d", unwell.Back, unwell.Again)
		if unwell.After != nil {
			e.what += fmt.Sprintf("; what runs after it failed, too: %v", unwell.After)
		}
		return e
	case errors.As(unwell.Kept, new(*site.OvertakenError)):
		e.what += "; another deployment was published in the meantime, so nothing is rolled back"
	case errors.Is(unwell.Kept, deploy.ErrFirst):
		e.what += "; it is kept: nothing was there before it"
	case unwell.Kept != nil:
		e.what += fmt.Sprintf("; it is kept, since the deployment before could not be published again: %v", unwell.Kept)
	default:
		e.what += "; it is kept"
	}
	e.status = ExitIncomplete
	return e
}
