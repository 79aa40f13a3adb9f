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
	"tartine/internal/site"
	"tartine/internal/target"
)

// deployFlags is what deploy has beside the common flags.
type deployFlags struct {
	dryRun, overwriteDrift bool
	options                deploy.Options
}

// writing adds the flags of commands that change a site.
func (a *app) writing(cmd *cobra.Command, own *deployFlags) {
	f := cmd.Flags()
	f.BoolVarP(&a.flags.yes, "yes", "y", false, "answer every question with yes")
	f.BoolVarP(&own.dryRun, "dry-run", "n", false, "do everything but write")
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
			look.readOnly, a.writes = own.dryRun, !own.dryRun
			own.options.Compare = deploy.Compare(look.compare)
			a.reads = own.options.Compare == deploy.ByHash
			all, err := a.meant(cmd.Context(), args)
			if err != nil {
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
	f := cmd.Flags()
	f.BoolVar(&own.options.RemoveStrays, "remove-strays", false, "remove what stands at the site and no deployment put there")
	f.BoolVar(&look.retire.Now, "retire-now", false, "remove what is no longer in the content at once, also what is left for a while (retire:)")
	f.BoolVar(&own.options.MakeRoot, "make-root", false, "make the folders above the root too when they are missing")
	f.BoolVar(&own.options.Partial, "publish-partial", false, "publish what arrived although some files failed")
	return cmd
}

func (a *app) deploy(ctx context.Context, l *looking, own deployFlags) error {
	p := a.printer()
	own.options.History, own.options.Last = l.history, l.from.last
	if l.Survey.Unfinished {
		p.Warn("an earlier publish at this site is not finished yet")
	}
	if l.Unchanged(own.options) && len(l.Tree.Failed)+len(l.Tree.Refused)+len(l.Tree.Findings) == 0 {
		if l.Survey.Unsettled > 0 && !own.dryRun {
			// It only makes the next look cheaper: where the record cannot be written now, that look is made again.
			_ = l.site.Affirm(ctx, l.Survey.Number, userName())
		}
		p.Unchanged(l.heading, l.Comparison)
		if a.json() {
			return p.OutcomeJSON(a.done(l, own, nil))
		}
		return nil
	}
	p.Landings(l.heading, l.Tree)
	p.Comparison(l.Comparison, own.options.RemoveStrays)
	if err := l.Refuse(own.options); err != nil {
		return err
	}
	if own.dryRun {
		files, bytes := l.SendBytes()
		p.WouldSend(l.heading, files, bytes, l.Result.Publishes(own.options.RemoveStrays))
		if a.json() {
			return p.OutcomeJSON(a.done(l, own, nil))
		}
		return nil
	}
	if err := a.consent(l.Consent(own.options), own); err != nil {
		return err
	}
	own.options.Generator, own.options.Origin = a.build.String(), origin(ctx, l.from.sources)
	out, err := a.withProgress(ctx, func(watch *site.Watch) (*site.Outcome, error) {
		return deploy.Run(ctx, l.site, l.Comparison, own.options, watch)
	})
	var overtaken *site.OvertakenError
	if errors.As(err, &overtaken) && own.options.Wait > 0 {
		render.Fprintf(a.stderr, "%-8s  deployment %d was published in the meantime; comparing anew\n", "again", overtaken.Found)
		if err := l.again(ctx); err != nil {
			return err
		}
		return a.deploy(ctx, l, own)
	}
	if err != nil {
		return err
	}
	return a.finish(ctx, l.site, a.done(l, own, out))
}

// done gives what is told of a deployment in the end.
func (a *app) done(l *looking, own deployFlags, out *site.Outcome) *render.Done {
	return &render.Done{Heading: l.heading, Comparison: l.Comparison, Tree: l.TreeDigest(), Outcome: out, Trial: own.dryRun, Strays: own.options.RemoveStrays, Started: own.options.Started}
}

// finish has the site's server take up what was published, and says what was done.
func (a *app) finish(ctx context.Context, s *target.Opened, done *render.Done) error {
	p, out := a.printer(), done.Outcome
	if len(out.Failed) > 0 {
		a.status = ExitIncomplete
	}
	took := time.Since(done.Started)
	reloaded := ""
	if s.Reload != nil && out.Number > 0 {
		var err error
		if reloaded, err = s.Reload(ctx); err != nil {
			p.Warn("what was published stands, but it was not taken up: %v", err)
			a.status, reloaded = ExitIncomplete, ""
		}
	}
	if a.json() {
		return p.OutcomeJSON(done)
	}
	p.Deployed(done.Heading, done.Comparison, out, took)
	if reloaded != "" {
		p.Line("reloaded    %s", reloaded)
	}
	return nil
}

// withProgress shows how a deployment goes on.
func (a *app) withProgress(ctx context.Context, run func(*site.Watch) (*site.Outcome, error)) (*site.Outcome, error) {
	var watch site.Watch
	if lines, ok := a.stdout.(*render.Lines); ok {
		watch = *lines.Watch()
	} else if !a.flags.quiet {
		progress, done := a.progress(ctx, draws(a.stderr))
		defer done()
		watch = *progress.Watch()
	}
	return run(&watch)
}

// consent asks one question for the whole run, or refuses where there is nobody to ask.
func (a *app) consent(c *deploy.Consent, own deployFlags) error {
	if !a.canAsk() { // each option is the answer to its own question, and to no other
		if own.overwriteDrift {
			c.Drifted = nil
		}
		if own.options.RemoveStrays && !c.First {
			c.Removed = nil
		}
	}
	if !c.Needed() || a.flags.yes {
		return nil
	}
	var (
		reasons []string
		paths   []string
		options = []string{"--yes"}
	)
	add := func(list []string, singular, plural string) {
		if len(list) == 0 {
			return
		}
		verb := plural
		if len(list) == 1 {
			verb = singular
		}
		reasons = append(reasons, fmt.Sprintf("%s %s", render.Count(len(list), "path"), verb))
		paths = append(paths, list...)
	}
	if c.Empty {
		reasons = append(reasons, "the content is empty, so everything that was deployed would be removed")
	}
	if c.Moved != "" {
		reasons = append(reasons, fmt.Sprintf("the root was a folder at the last deployment and is a link now, to %s, which would be deployed to", c.Moved))
	}
	add(c.Drifted, "was altered or removed at the site since the last deployment, and would be put right", "were altered or removed at the site since the last deployment, and would be put right")
	add(c.Replaced, "would be overwritten that no deployment put there", "would be overwritten that no deployment put there")
	add(c.Removed, "would be removed that no deployment put there", "would be removed that no deployment put there")
	if len(c.Drifted) > 0 && len(reasons) == 1 {
		options = append(options, "--overwrite-drift")
	}
	refused := &statusError{status: ExitRefused, what: strings.Join(reasons, "; "), paths: paths,
		next: "look at them with tartine diff; to go on all the same give " + strings.Join(options, " or ")}
	if !a.canAsk() {
		return refused
	}
	if !a.ask(reasons) {
		return &statusError{status: ExitRefused, what: "nothing was changed", next: "tartine diff shows these paths"}
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
