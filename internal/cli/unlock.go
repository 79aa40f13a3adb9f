package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

func (a *app) unlockCommand() *cobra.Command {
	var giveUp bool
	cmd := &cobra.Command{
		Use:   "unlock [TARGET]",
		Short: "Remove a lock left by a deployment that died, or give up a publish that cannot be finished",
		Long: `Unlock removes the lock of a deployment that died where nobody can know that it did. The next deployment takes such a lock over
by itself once nothing has renewed it for two minutes.

With --give-up it ends an interrupted publish that cannot be finished because one of its steps fails each time. The site is left as it is
and its current state is recorded, so that the next deployment or rollback continues from there; staged content is kept.`,
		Args: atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.writes = true
			if giveUp {
				return a.withEach(cmd.Context(), args, a.giveUp)
			}
			return a.unlock(cmd.Context(), args)
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	cmd.Flags().BoolVarP(&a.flags.yes, "yes", "y", false, "answer every question with yes")
	cmd.Flags().BoolVar(&giveUp, "give-up", false, "give up an interrupted publish that cannot be finished, and record the current state of the site")
	return cmd
}

func (a *app) unlock(ctx context.Context, args []string) error {
	return a.withEach(ctx, args, a.removeLock)
}

func (a *app) removeLock(ctx context.Context, opened *targets.Opened, heading render.Heading,
	_ targets.Settings) error {
	holder, err := calls.Locked.On(ctx, opened, calls.None{})
	if err != nil {
		return err
	}
	p := a.printer()
	if holder == nil {
		p.Line("unlocked  %s was not locked", heading.Name())
		return a.object(unlocked{Target: heading.Name(), Result: "not locked"})
	}
	held := (&site.LockedError{Holder: *holder}).Error()
	if !a.flags.yes {
		refused := &statusError{status: ExitRefused, what: held,
			next: "when it is known to have died, remove its lock with --yes"}
		if !a.canAsk() || !a.ask([]string{held, "If it lives, two deployments may mix once its lock is gone"}) {
			return refused
		}
	}
	if _, err := calls.Unlock.On(ctx, opened, holder); err != nil {
		return err
	}
	p.Line("unlocked  %s: the lock of %s@%s, process %d, is gone", heading.Name(), holder.User, holder.Host,
		holder.Process)
	return a.object(unlocked{Target: heading.Name(), Result: "unlocked", Holder: holder})
}

// unlocked is what is told of a lock, or of a publish that was given up.
type unlocked struct {
	Target     string       `json:"target"`
	Result     string       `json:"result"` // unlocked, not locked, given up, or finished
	Holder     *site.Holder `json:"holder,omitempty"`
	Deployment int          `json:"deployment,omitempty"` // the number of the record that was made
}

// giveUp ends a publish that cannot be finished. One that can be is finished instead.
func (a *app) giveUp(ctx context.Context, opened *targets.Opened, heading render.Heading, _ targets.Settings) error {
	err := a.finishUnfinished(ctx, opened)
	var unfinished *site.UnfinishedError
	if err != nil && !errors.As(err, &unfinished) {
		return err
	}
	if err == nil {
		a.printer().Line("%s: no publish is left unfinished", heading.Name())
		return a.object(unlocked{Target: heading.Name(), Result: "finished"})
	}
	given, err := a.giveUpUnfinished(ctx, opened, heading, unfinished)
	if err != nil {
		return err
	}
	return a.object(unlocked{Target: heading.Name(), Result: "given up", Deployment: given.Number})
}

// giveUpUnfinished gives up a publish that cannot be finished, after a question, and shows the state of the site.
func (a *app) giveUpUnfinished(ctx context.Context, opened *targets.Opened, heading render.Heading,
	unfinished *site.UnfinishedError) (*site.GivenUp, error) {
	if !a.flags.yes {
		refused := &statusError{status: ExitRefused, what: fmt.Sprintf("deployment %d, whose publish cannot be finished, would be given up", unfinished.Number), paths: failures(unfinished.Failed),
			next: "fix these and deploy again, which finishes it; or give it up with tartine unlock --give-up --yes"}
		if !a.canAsk() || !a.ask([]string{a.unfinishedText(unfinished),
			"It would be given up: the site stays as it is, and its current state is recorded"}) {
			return nil, refused
		}
	}
	given, err := calls.GiveUp.On(ctx, opened, userName())
	if err == nil && given == nil {
		given = &site.GivenUp{} // somebody finished it meanwhile
	}
	if err == nil && given.Number > 0 {
		a.printer().GivenUp(heading, given)
	}
	return given, err
}
