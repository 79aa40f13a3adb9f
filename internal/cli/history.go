package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/deploy"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

func (a *app) historyCommand() *cobra.Command {
	var form string
	cmd := &cobra.Command{
		Use:   "history [TARGET] [N]",
		Short: "List past deployments, or show what one of them changed",
		Args:  targetAndNumber,
		RunE: func(cmd *cobra.Command, args []string) error {
			names, number, err := splitNumber(args)
			if err != nil {
				return err
			}
			if form != "" && form != "json" && form != "listing" {
				return usageError(fmt.Sprintf("--manifest is json or listing, not %q", form), "")
			}
			return a.withSite(cmd.Context(), names, func(ctx context.Context, s *targets.Opened, heading render.Heading, _ targets.Settings) error {
				if form != "" {
					return a.writeRecorded(ctx, s, heading, number, form)
				}
				if number > 0 {
					return a.showDeployment(ctx, s, heading, number)
				}
				return a.showHistory(ctx, s, heading)
			})
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	cmd.Flags().StringVar(&form, "manifest", "", "write the manifest of deployment N, or of the current one, in this `FORM`: json or listing")
	return cmd
}

// writeRecorded writes the manifest of a recorded deployment; number 0 is the current one.
func (a *app) writeRecorded(ctx context.Context, s *targets.Opened, heading render.Heading, number int, form string) error {
	if number == 0 {
		past, err := calls.History.On(ctx, s, calls.None{})
		if err != nil {
			return err
		}
		if len(past) == 0 {
			return noneRecorded(heading)
		}
		number = past[0].Number
	}
	m, err := calls.Deployment.On(ctx, s, number)
	if err != nil {
		return err
	}
	if form == "listing" {
		return m.WriteListing(a.stdout)
	}
	m.Deployment = nil // that is the site's
	return m.WriteJSON(a.stdout)
}

func noneRecorded(heading render.Heading) error {
	return usageError(fmt.Sprintf("no deployment is recorded at %s", heading.Address), "deploy first")
}

// targetAndNumber accepts a target, a deployment's number, both in this order, or neither.
func targetAndNumber(cmd *cobra.Command, args []string) error {
	if len(args) > 2 {
		return usageError(fmt.Sprintf("%s takes a target and a number, not %d arguments", cmd.CommandPath(), len(args)),
			"")
	}
	return nil
}

func splitNumber(args []string) (names []string, number int, err error) {
	if len(args) == 0 {
		return nil, 0, nil
	}
	last := args[len(args)-1]
	number, err = strconv.Atoi(last)
	switch {
	case err != nil && len(args) == 2:
		return nil, 0, usageError(fmt.Sprintf("%q is not the number of a deployment", last), "tartine history lists them")
	case err != nil:
		return args, 0, nil
	case number < 1:
		return nil, 0, usageError(fmt.Sprintf("deployments are numbered from 1, and %d is not such a number", number), "tartine history lists them")
	}
	return args[:len(args)-1], number, nil
}

// withSite opens the target that is named and hands it on. A publish that was interrupted is finished first.
func (a *app) withSite(ctx context.Context, names []string, use func(context.Context, *targets.Opened, render.Heading, targets.Settings) error) error {
	return a.withEach(ctx, names, func(ctx context.Context, s *targets.Opened, heading render.Heading, reach targets.Settings) error {
		if err := a.finishOrWarn(ctx, s); err != nil {
			return err
		}
		return use(ctx, s, heading, reach)
	})
}

// withSiteAsItIs opens the target that is named and hands it on.
func (a *app) withSiteAsItIs(ctx context.Context, names []string,
	use func(context.Context, *targets.Opened, render.Heading, targets.Settings) error) error {
	all, err := a.meant(ctx, names)
	if err != nil {
		return err
	}
	return a.together(a.firstOf(all), func(m *meant) error { return a.withOne(ctx, m, use) })
}

// reach finds the target that is named in the settings, or by its address.
func (a *app) reach(names []string) (targets.Settings, render.Heading, error) {
	settings, err := a.settings()
	if err != nil {
		return targets.Settings{}, render.Heading{}, err
	}
	return a.target(settings, names)
}

func (a *app) showHistory(ctx context.Context, s *targets.Opened, heading render.Heading) error {
	past, err := calls.History.On(ctx, s, calls.None{})
	if err != nil {
		return err
	}
	if len(past) == 0 && !a.json() {
		return noneRecorded(heading)
	}
	p := a.printer()
	if a.json() {
		return p.HistoryJSON(past)
	}
	p.History(heading, past)
	return nil
}

// showDeployment shows what a deployment changed, and what ran around it.
func (a *app) showDeployment(ctx context.Context, s *targets.Opened, heading render.Heading, number int) error {
	past, err := calls.History.On(ctx, s, calls.None{})
	if err != nil {
		return err
	}
	if err := a.showBetween(ctx, s, heading, number-1, number); err != nil || a.json() {
		return err
	}
	for i := range past {
		if past[i].Number == number {
			a.printer().RanAround(&past[i])
		}
	}
	return nil
}

// showBetween shows what changed from one recorded deployment to another; from 0 means from nothing.
func (a *app) showBetween(ctx context.Context, s *targets.Opened, heading render.Heading, from, to int) error {
	result, err := deploy.Between(ctx, s, from, to)
	if err != nil {
		return err
	}
	p := a.printer()
	if a.json() {
		return p.ChangesJSON(heading, result)
	}
	p.Between(heading, from, to, result)
	return nil
}

func (a *app) rollbackCommand() *cobra.Command {
	var own deployFlags
	cmd := &cobra.Command{
		Use:   "rollback [TARGET] [N]",
		Short: "Publish an earlier deployment again",
		Long: `Rollback publishes an earlier deployment again, as a new one: the one before the current one, or deployment N. Its
content is what the site has kept, so nothing is sent; it is verified like any deployment.`,
		Args: targetAndNumber,
		RunE: func(cmd *cobra.Command, args []string) error {
			names, number, err := splitNumber(args)
			if err != nil {
				return err
			}
			own.options.Started, a.writes = time.Now(), !own.options.Trial
			all, err := a.meant(cmd.Context(), names)
			if err != nil {
				return err
			}
			return a.allOrNone(cmd.Context(), all, &own, func(m *meant, tried func(calls.Engine, int)) error {
				return a.withOne(cmd.Context(), m, func(ctx context.Context, s *targets.Opened, heading render.Heading, reach targets.Settings) error {
					own.options.History = reach.History
					back, err := a.clearTheWay(ctx, s, heading, number, own)
					if err != nil || back {
						return err
					}
					past, err := calls.History.On(ctx, s, calls.None{})
					if err != nil {
						return err
					}
					err = a.rollback(ctx, s, heading, past, number, own, reach)
					if len(past) > 0 {
						tried(s, past[0].Number)
					}
					return err
				})
			})
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	a.writing(cmd, &own)
	a.aroundFlags(cmd, &own)
	cmd.Flags().BoolVar(&own.options.Partial, "publish-partial", false,
		"publish what is still kept of that deployment, although some is not")
	return cmd
}

// clearTheWay finishes a publish that was interrupted, or, where that cannot be, gives it up after a question: whoever
// rolls back does not want it. It tells whether the site is as it was before with that.
func (a *app) clearTheWay(ctx context.Context, s *targets.Opened, heading render.Heading, number int,
	own deployFlags) (back bool, err error) {
	if own.options.Trial {
		return false, a.finishOrWarn(ctx, s)
	}
	err = a.finishUnfinished(ctx, s)
	var unfinished *site.UnfinishedError
	if !errors.As(err, &unfinished) {
		return false, err
	}
	given, err := a.giveUpUnfinished(ctx, s, heading, unfinished)
	return err == nil && given.Undone && number == 0, err
}

// wellBefore gives the deployment before the current one, but for those that were found unwell, and, after such a one, for
// those that are the current one again; 0: there is none.
func wellBefore(past []site.Past) int {
	skipped := false
	for i := range max(len(past)-1, 0) {
		d := &past[i+1]
		switch {
		case d.Ran != nil && d.Ran.Unwell != "":
			skipped = true
		case !skipped || d.Tree != past[0].Tree:
			return d.Number
		}
	}
	return 0
}

func (a *app) rollback(ctx context.Context, s *targets.Opened, heading render.Heading, past []site.Past, number int,
	own deployFlags, reach targets.Settings) error {
	if number == 0 {
		if number = wellBefore(past); number == 0 {
			return &statusError{status: ExitRefused, what: fmt.Sprintf("there is no deployment before the current one at %s", heading.Address), next: "tartine history lists them; one that was found unwell is published again when it is named by its number"}
		}
	}
	own.options.Retire, own.options.User = a.retire(reach, nil, false), userName()
	own.options.Generator, own.options.Origin = a.build.String(), origin(ctx, nil)
	around, err := a.around(&meant{reach, heading}, s, own.around)
	if err != nil {
		return err
	}
	own.options.Published, own.options.Around, own.options.Like = s.TakeUp, around, reach.Like
	who := &person{app: a, title: fmt.Sprintf("%s: deployment %d again", heading.Place(), number), drift: own.overwriteDrift}
	session := &deploy.Session{Engine: s, Content: deploy.Earlier(number), Options: own.options, Person: who}
	result, err := session.Deploy(ctx)
	var unwell *deploy.UnwellError
	if err != nil && !errors.As(err, &unwell) {
		return err
	}
	done := &render.Done{Heading: heading, Result: result, Options: session.Options, Ran: who.ran, Unwell: unwell}
	return a.report(s, done,
		fmt.Sprintf("%s: deployment %d is the current one, nothing was done", heading.Place(), number), fmt.Sprintf("To do it: tartine rollback %s %d", heading.Name(), number))
}
