package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/deploy"
	"tartine/internal/render"
	"tartine/internal/targets"
)

// deployFlags is what deploy has beside the common flags.
type deployFlags struct {
	overwriteDrift bool
	around         aroundFlags
	options        deploy.Options
}

// writing adds the flags of commands that change a site.
func (a *app) writing(cmd *cobra.Command, own *deployFlags) {
	f := cmd.Flags()
	f.BoolVarP(&a.flags.yes, "yes", "y", false, "answer every question with yes")
	f.BoolVarP(&own.options.Trial, "dry-run", "n", false, "do everything but write")
	f.BoolVar(&own.overwriteDrift, "overwrite-drift", false, "overwrite what was altered at the site since the last deployment")
	f.DurationVar(&own.options.Wait, "wait", 0, "wait so long for another deployment to end, as in 90s or 5m")
}

func (a *app) deployCommand() *cobra.Command {
	var (
		look looking
		own  deployFlags
	)
	cmd := &cobra.Command{
		Use:   "deploy [TARGET]",
		Short: "Send what changed, publish it, and verify it",
		Args:  atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			own.options.Started = time.Now()
			a.writes, a.reads = !own.options.Trial, deploy.Compare(look.compare) == deploy.ByHash
			all, err := a.meant(cmd.Context(), args)
			if err != nil {
				return err
			}
			if _, err := a.around(&all[0], nil, own.around); err != nil {
				return err
			}
			if err := a.buildContent(cmd.Context(), &own); err != nil {
				return err
			}
			return a.deployToEach(cmd.Context(), all, look, own)
		},
	}
	a.configFlag(cmd)
	a.contentFlags(cmd)
	a.targetFlags(cmd)
	look.flags(cmd)
	a.outputFlags(cmd)
	a.writing(cmd, &own)
	a.deployingFlags(cmd, &look, &own)
	return cmd
}

// deployingFlags adds the flags of commands that bring a whole content to a site.
func (a *app) deployingFlags(cmd *cobra.Command, look *looking, own *deployFlags) {
	f := cmd.Flags()
	f.BoolVar(&own.options.RemoveStrays, "remove-strays", false,
		"remove what is at the site and no deployment put there")
	f.BoolVar(&look.now, "retire-now", false, "remove what is no longer in the content at once, also what is left for a while (retire:)")
	f.BoolVar(&own.options.MakeRoot, "make-root", false, "make the folders above the root too when they are missing")
	a.aroundFlags(cmd, own)
	f.BoolVar(&own.options.Partial, "publish-partial", false, "publish what arrived although some files failed")
}

func (a *app) deploy(ctx context.Context, l *looking) error {
	p, session := a.printer(), l.session
	session.Options.Generator, session.Options.Origin = a.build.String(), l.origin()
	result, err := session.Deploy(ctx)
	var unwell *deploy.UnwellError
	if err != nil && !errors.As(err, &unwell) {
		return err
	}
	done := &render.Done{Heading: l.heading, Result: result, Options: session.Options, Ran: l.person().ran, Unwell: unwell}
	switch {
	case unwell != nil || result.Outcome != nil:
		return a.finish(l.site, done)
	case a.json():
		return p.OutcomeJSON(done)
	case result.Unchanged:
		p.Unchanged(l.heading, result.Comparison)
	default:
		files, bytes := result.SendBytes()
		p.WouldSend(l.heading, files, bytes, result.Result.Publishes(session.Options.RemoveStrays))
		p.Planned(plannedCommands(session.Options.Around))
	}
	return nil
}

// report says what a session did, or, where nothing was to be done or it was a trial, a line for that.
func (a *app) report(s *targets.Opened, done *render.Done, unchanged, trial string) error {
	switch {
	case done.Outcome != nil || done.Unwell != nil:
		return a.finish(s, done)
	case a.json():
		return a.printer().OutcomeJSON(done)
	case done.Unchanged:
		a.printer().Line("unchanged   %s", unchanged)
	default:
		a.printer().Line("Nothing was changed. %s", trial)
	}
	return nil
}

// finish says what was done.
func (a *app) finish(s *targets.Opened, done *render.Done) error {
	p, out := a.printer(), done.Outcome
	if out != nil && len(out.Failed) > 0 || s.ReloadFailed() != nil {
		a.status = ExitIncomplete
	}
	if err := s.ReloadFailed(); err != nil {
		p.Warn("what was published is in place, but the server did not take it up: %v", err)
	}
	if a.json() {
		if done.Unwell != nil { // the object says it, and nothing else is to be written there
			said := unwellSentence(done.Unwell)
			a.status = said.status
			a.problem(said)
		}
		return p.OutcomeJSON(done)
	}
	if done.Unwell != nil {
		p.RolledBack(done.Heading, done.Unwell)
	} else {
		p.Deployed(done.Heading, done.Comparison, out, time.Since(done.Options.Started))
	}
	if s.Reloaded != "" {
		p.Line("reloaded    %s", s.Reloaded)
	}
	if done.Unwell != nil {
		return done.Unwell
	}
	return nil
}

// canAsk tells whether there is a person to ask.
func (a *app) canAsk() bool {
	return a.stdin != nil && isTerminal(a.stdin) && isTerminal(a.stderr)
}

// ask says what would happen and asks whether to go on.
func (a *app) ask(reasons []string) bool {
	for _, reason := range reasons {
		render.Fprintf(a.stderr, "%s%s.\n", strings.ToUpper(reason[:1]), reason[1:])
	}
	fmt.Fprint(a.stderr, "Go on? Type yes or no: ")
	answer := readLine(a.stdin)
	return answer == "yes" || answer == "y"
}

func readLine(f *os.File) string {
	line, _ := bufio.NewReader(f).ReadString('\n')
	return strings.ToLower(strings.TrimSpace(line))
}
