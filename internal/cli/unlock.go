package cli

import (
	"context"

	"github.com/spf13/cobra"

	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/target"
)

func (a *app) unlockCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "unlock [TARGET]",
		Short: "Remove a lock left by a deployment that died",
		Args:  atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.writes = true
			return a.unlock(cmd.Context(), args)
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	cmd.Flags().BoolVar(&a.flags.yes, "yes", false, "answer every question with yes")
	return cmd
}

func (a *app) unlock(ctx context.Context, args []string) error {
	return a.withEach(ctx, args, a.removeLock)
}

func (a *app) removeLock(ctx context.Context, opened *target.Opened, heading render.Heading, _ target.Settings) error {
	holder, err := opened.Locked(ctx)
	if err != nil {
		return err
	}
	p := a.printer()
	if holder == nil {
		p.Line("unlocked  %s was not locked", heading.Name())
		return nil
	}
	held := (&site.LockedError{Holder: *holder}).Error()
	if !a.flags.yes {
		refused := &statusError{status: ExitRefused, what: held, next: "when it is known to have died, remove its lock with --yes"}
		if !a.canAsk() || !a.ask([]string{held, "If it lives, two deployments may mix once its lock is gone"}) {
			return refused
		}
	}
	if err := opened.Unlock(ctx, holder); err != nil {
		return err
	}
	p.Line("unlocked  %s: the lock of %s@%s, process %d, is gone", heading.Name(), holder.User, holder.Host, holder.Process)
	return nil
}
