package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/deploy"
	"tartine/internal/manifest"
	"tartine/internal/render"
	"tartine/internal/targets"
)

func (a *app) diffCommand() *cobra.Command {
	var (
		look     looking
		exitCode bool
		from, to int
		content  string
	)
	cmd := &cobra.Command{
		Use:   "diff [TARGET]",
		Short: "Show what a deployment would change, and change nothing",
		Args:  atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			defer look.close()
			if from > 0 || to > 0 {
				return a.diffBetween(cmd.Context(), args, from, to)
			}
			return a.diff(cmd.Context(), &look, args, content, exitCode)
		},
	}
	a.configFlag(cmd)
	a.contentFlags(cmd)
	a.targetFlags(cmd)
	look.flags(cmd)
	a.outputFlags(cmd)
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 when a deployment would change something")
	cmd.Flags().IntVar(&from, "from", 0, "show what changed since recorded deployment `N`, not what a deployment would change")
	cmd.Flags().IntVar(&to, "to", 0, "with --from, up to deployment `N`, not to the current one")
	cmd.Flags().StringVar(&content, "content", "", "show how the text of one `PATH` at the site differs from the content")
	return cmd
}

func (a *app) diff(ctx context.Context, l *looking, args []string, path string, exitCode bool) error {
	if err := l.open(ctx, a, args, deploy.Options{}); err != nil {
		return err
	}
	if err := l.session.Finish(ctx); err != nil {
		return err
	}
	c, err := l.session.Compare(ctx)
	if err != nil {
		return err
	}
	if path != "" {
		return a.showContent(ctx, l, path)
	}
	return a.showDiff(l, c, exitCode)
}

func (a *app) diffBetween(ctx context.Context, args []string, from, to int) error {
	if from < 1 {
		return usageError("--to needs --from", "")
	}
	return a.withSite(ctx, args, func(ctx context.Context, s *targets.Opened, heading render.Heading, _ targets.Settings) error {
		if to == 0 {
			past, err := calls.History.On(ctx, s, calls.None{})
			if err != nil {
				return err
			}
			if len(past) > 0 {
				to = past[0].Number
			}
		}
		return a.showBetween(ctx, s, heading, from, to)
	})
}

// maxText is how many bytes of a file are compared line by line.
const maxText = 4 << 20

// showContent shows how one file at the site differs from the content.
func (a *app) showContent(ctx context.Context, l *looking, path string) error {
	there, err := readText(l.site.Open(ctx, path))
	if err != nil {
		return usageError(fmt.Sprintf("%s cannot be read at the site: %v", path, err),
			"tartine diff lists the paths that differ")
	}
	here := ""
	if i, ok := l.tree.Find(path); ok && l.tree.Entries()[i].Kind == manifest.File {
		if here, err = readText(l.tree.Open(i)); err != nil {
			return usageError(fmt.Sprintf("%s cannot be read here: %v", path, err), "")
		}
	}
	a.printer().TextDifference(path, there, here)
	return nil
}

func readText(file io.ReadCloser, err error) (string, error) {
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, maxText+1))
	switch {
	case err != nil:
		return "", err
	case len(text) > maxText:
		return "", fmt.Errorf("it has more than %s", render.Bytes(maxText))
	case bytes.IndexByte(text, 0) >= 0:
		return "", errors.New("it is not text")
	}
	return string(text), nil
}

func (a *app) showDiff(l *looking, c *deploy.Comparison, exitCode bool) error {
	t := l.from.settings.Targets[l.heading.Target]
	around, err := a.listedAround(l.meant, &t)
	if err != nil {
		return err
	}
	p := a.printer()
	if c.Survey.Unfinished {
		p.Warn("a publish is under way at this site: the site may change")
	}
	changes := c.Result.Publishes(false)
	if changes && exitCode {
		a.status = ExitDiffers
	}
	if a.json() {
		return p.ComparisonJSON(l.heading, c, plannedCommands(around))
	}
	p.Landings(l.heading, l.tree)
	p.Comparison(c, false)
	files, bytes := c.SendBytes()
	p.WouldSend(l.heading, files, bytes, changes)
	if changes {
		p.Planned(plannedCommands(around))
	}
	if err := c.Refuse(deploy.Options{}); err != nil {
		e := sentence(err)
		(p.OnErr(a.color(a.stderr))).Problem("a deployment would be refused: "+e.what, e.paths, e.next)
	}
	return nil
}
