package cli

import (
	"context"
	"github.com/spf13/cobra"

	"tartine/internal/content"
	"tartine/internal/render"
)

func (a *app) explainCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "explain PATH...",
		Short: "Say why a path is in or out, and where it lands",
		Long: `Explain names the rule that decides about a path, where that rule is written, and where the path lands. A path is one of
this machine or one of the site.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usageError("tartine explain needs a path", "")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error { return a.explainPaths(cmd.Context(), args) },
	}
	a.configFlag(cmd)
	a.contentFlags(cmd)
	a.outputFlags(cmd)
	return cmd
}

func (a *app) explainPaths(ctx context.Context, asked []string) error {
	from, err := a.load()
	if err != nil {
		return err
	}
	var (
		all     = []render.Explained{}
		missing []string
		p       = a.printer()
	)
	for _, path := range asked {
		explanations, err := content.Explain(ctx, from.sources, from.scan, path)
		if err != nil {
			return err
		}
		if len(explanations) == 0 {
			missing = append(missing, path)
		}
		for _, e := range explanations {
			p.Explanation(&e, from.sources)
			all = append(all, render.Explain(path, &e, from.sources))
		}
	}
	if a.json() {
		if err := p.ExplanationsJSON(all); err != nil {
			return err
		}
	}
	if len(missing) > 0 {
		return &statusError{status: ExitUsage, what: "no source has this",
			paths: missing, next: "name a path of this machine, relative to this folder, or one of the site"}
	}
	return nil
}
