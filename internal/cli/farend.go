package cli

import (
	"context"
	"io"
	"os"

	"github.com/spf13/cobra"

	"tartine/internal/agent"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// farEndCommand is what the program runs as next to the files of a site. Nobody types it.
func (a *app) farEndCommand() *cobra.Command {
	var (
		marker, check, remove, lane string
		hushed                      bool
	)
	cmd := &cobra.Command{
		Use:    agent.HiddenCommand,
		Hidden: true,
		Args:   noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if check != "" {
				return agent.Check(check)
			}
			if lane != "" {
				return agent.Lane(a.stdin, a.stdout, lane, marker)
			}
			if hushed {
				hush()
			}
			return a.farEnd(cmd.Context(), marker, remove)
		},
	}
	cmd.Flags().StringVar(&marker, "marker", "", "what the first line begins with")
	cmd.Flags().StringVar(&check, "check", "", "only check that this program has this digest")
	cmd.Flags().StringVar(&remove, "remove", "", "a temporary folder that holds this program, and that goes at once")
	cmd.Flags().BoolVar(&hushed, "hushed", false, "write nothing to standard error, which goes where standard output does")
	cmd.Flags().StringVar(&lane, "lane", "", "only pass content on into this pipe of an agent")
	return cmd
}

func (a *app) farEnd(ctx context.Context, marker, remove string) error {
	agent.KeepBudget()
	if remove != "" {
		_ = os.RemoveAll(remove) // the program runs on without its file; at worst a temporary folder stays
		agent.Sweep(remove)
	}
	if err := agent.Ready(a.stdout, marker); err != nil {
		return err
	}
	open := func(ctx context.Context, root agent.Root) (*site.Site, string, io.Closer, error) {
		return targets.OpenHere(ctx, root, a.build.Between)
	}
	return agent.Serve(ctx, interruptible(a.stdin), a.stdout, a.build.String(), open)
}
