package cli

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tartine/internal/deploy"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

func (a *app) fetchCommand() *cobra.Command {
	var (
		fetch  deploy.Fetch
		dryRun bool
	)
	cmd := &cobra.Command{
		Use:   "fetch [TARGET] [PATH…] --into DIR",
		Short: "Bring a site, or some of it, into a folder here",
		Long: `Fetch brings the tree of a target, or the files and folders that are named, into a folder of this machine: only
what differs, each file checked against the digest that the site gave. The site is only read. Nothing is removed here;
what is here and differs is replaced after one question.`,
		Example: `  tartine fetch staging --into copy
  tartine fetch staging log/2026-05.html --into . --as may.html`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if fetch.Into == "" {
				return usageError("no destination folder is named", "name a folder with --into DIR")
			}
			names, paths, err := a.splitPaths(args)
			if err != nil {
				return err
			}
			fetch.From = paths
			if fetch.As != "" && len(paths) != 1 {
				return usageError("--as is another name for one path", "name the one path of the site that is fetched")
			}
			return a.withSiteAsItIs(cmd.Context(), names, func(ctx context.Context, s *targets.Opened, heading render.Heading, reach targets.Settings) error {
				return a.fetch(ctx, s, heading, fetch, dryRun)
			})
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	f := cmd.Flags()
	f.StringVar(&fetch.Into, "into", "", "the `DIR` of this machine that takes what is fetched; it is made when it is missing")
	f.StringVar(&fetch.As, "as", "", "another `NAME` for the one path that is fetched")
	f.BoolVarP(&dryRun, "dry-run", "n", false, "do everything but write")
	f.BoolVarP(&a.flags.yes, "yes", "y", false, "answer every question with yes")
	return cmd
}

// splitPaths parts a target from the paths behind it. With one target in the settings its name may be left out.
func (a *app) splitPaths(args []string) (names, paths []string, err error) {
	settings, err := a.settings()
	if err != nil || len(args) == 0 {
		return nil, nil, err
	}
	address := strings.Contains(args[0], "://") || targets.IsShort(args[0]) || filepath.IsAbs(args[0]) // no path of a site is absolute
	if hasTarget(settings, args[0]) || address || len(settings.TargetNames) != 1 {
		return args[:1], args[1:], nil
	}
	return nil, args, nil
}

func (a *app) fetch(ctx context.Context, s *targets.Opened, heading render.Heading, asked deploy.Fetch,
	dryRun bool) error {
	p := a.printer()
	asked.Jobs = site.DefaultJobs
	fetch, err := deploy.NewFetch(ctx, s, asked, nil)
	var missing *fs.PathError
	if errors.As(err, &missing) && errors.Is(err, fs.ErrNotExist) && missing.Op == "find" {
		return usageError(missing.Path+" does not exist at "+heading.Name(),
			"tartine diff shows what does; paths are relative to the site's root")
	}
	if err != nil {
		return err
	}
	defer fetch.Close()
	replaced := make([]string, 0, len(fetch.Replaced))
	for _, i := range fetch.Replaced {
		replaced = append(replaced, fetch.Path(i))
	}
	for _, name := range fetch.InTheWay() {
		replaced = append(replaced, name+"  (a file where a folder belongs, or a folder with all that is in it)")
	}
	slices.Sort(replaced)
	if dryRun {
		p.WouldFetch(heading, asked.Into, len(fetch.Missing), len(fetch.Replaced), fetch.Bytes())
		return nil
	}
	if err := a.consentHere(replaced); err != nil {
		return err
	}
	watch, done := a.watch(ctx)
	out, err := fetch.Run(ctx, s, watch)
	done()
	if err != nil {
		return err
	}
	if len(out.Failed) > 0 {
		a.status = ExitIncomplete
	}
	if a.json() {
		return p.FetchedJSON(out)
	}
	p.Fetched(heading, asked.Into, out)
	return nil
}

// consentHere asks whether files of this machine may be replaced.
func (a *app) consentHere(replaced []string) error {
	if len(replaced) == 0 || a.flags.yes {
		return nil
	}
	what := render.Count(len(replaced), "path") + " here would be replaced by what is at the site"
	if !a.canAsk() {
		return &statusError{status: ExitRefused, what: what, paths: replaced,
			next: "fetch into another folder, or go on all the same with --yes"}
	}
	if !a.ask([]string{what}) {
		return &statusError{status: ExitRefused, what: "nothing was changed"}
	}
	return nil
}
