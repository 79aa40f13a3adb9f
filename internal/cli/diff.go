package cli

import (
	"github.com/spf13/cobra"

	"tartine/internal/deploy"
)

func (a *app) diffCommand() *cobra.Command {
	var (
		look     looking
		exitCode bool
	)
	cmd := &cobra.Command{
		Use:   "diff [TARGET]",
		Short: "Show what a deployment would change, and change nothing",
		Args:  atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			defer look.close()
			if err := a.look(cmd.Context(), &look, args); err != nil {
				return err
			}
			return a.showDiff(&look, exitCode)
		},
	}
	a.configFlag(cmd)
	a.contentFlags(cmd)
	a.targetFlags(cmd)
	look.flags(cmd)
	a.outputFlags(cmd)
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 when a deployment would change something")
	return cmd
}

func (a *app) showDiff(l *looking, exitCode bool) error {
	p := a.printer()
	if l.Survey.Unfinished {
		p.Warn("an earlier publish at this site was interrupted; the next deployment finishes it first")
	}
	changes := l.Result.Publishes(false)
	if changes && exitCode {
		a.status = ExitDiffers
	}
	if a.json() {
		return p.ComparisonJSON(l.heading, l.Comparison)
	}
	p.Landings(l.heading, l.Tree)
	p.Comparison(l.Comparison, false)
	files, bytes := l.SendBytes()
	p.WouldSend(l.heading, files, bytes, changes)
	if err := l.Refuse(deploy.Options{}); err != nil {
		e := sentence(err)
		(p.OnErr(a.color(a.stderr))).Problem("a deployment would be refused: "+e.what, e.paths, e.next)
	}
	return nil
}
