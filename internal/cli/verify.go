package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/manifest"
	"tartine/internal/packed"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

func (a *app) verifyCommand() *cobra.Command {
	var (
		file, strays string
		own          visitFlags
	)
	cmd := &cobra.Command{
		Use:   "verify [TARGET]",
		Short: "Check every file of the site, by content, against its manifest",
		Long: `Verify reads every file that the manifest names at the site and compares its content, mode and links. It also names what
is missing and what is there beside it. The manifest is the one that the last deployment recorded, or a file. Of an archive
(a target, or a file) every entry is read.

With --web it looks through the web in its place: each file is asked for at its public address (web: in the target) and compared by its
digest, and what should not be served is looked for.`,
		Args: atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if strays != "report" && strays != "ignore" {
				return usageError(fmt.Sprintf("--strays is report or ignore, not %q", strays), "")
			}
			return a.verify(cmd.Context(), args, file, strays == "report", own)
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	a.webFlags(cmd)
	cmd.Flags().BoolVar(&own.web, "web", false, "look through the web, as visitors do, at the address in the target's web:")
	cmd.Flags().IntVar(&own.sample, "sample", 0, "with --web, ask for `N` files, taken at random, and not for all")
	cmd.Flags().StringVar(&file, "manifest", "", "check against this manifest `FILE`, JSON or listing, not the recorded one")
	cmd.Flags().StringVar(&strays, "strays", "report", "what becomes of what no manifest names, a `WORD`: report or ignore")
	return cmd
}

func (a *app) verify(ctx context.Context, args []string, file string, strays bool, own visitFlags) error {
	var m *manifest.Manifest
	if file != "" {
		var err error
		if m, err = manifest.ReadFile(file); err != nil {
			return err
		}
	}
	switch {
	case own.sample < 0:
		return usageError("--sample is a number from 1 up", "")
	case !own.web && (own.sample > 0 || len(a.flags.resolve) > 0):
		return usageError("--sample and --resolve are for --web", "add --web")
	case own.web:
		return a.verifyWeb(ctx, args, m, own)
	}
	a.reads = true
	return a.withSite(ctx, args, func(ctx context.Context, s *targets.Opened, heading render.Heading, _ targets.Settings) error {
		return a.verifyAgainst(ctx, s, heading, m, strays)
	})
}

func (a *app) verifyAgainst(ctx context.Context, s *targets.Opened, heading render.Heading, m *manifest.Manifest,
	strays bool) error {
	var watch site.Watch
	progress, done := a.progress(ctx, draws(a.stderr))
	if draws(a.stderr) && !a.flags.quiet {
		watch = *progress.Watch()
	}
	report, err := calls.Verify.Watched(ctx, s, calls.VerifyingAgainst(m, strays), &watch)
	done()
	if errors.Is(err, site.ErrNotRecorded) {
		return usageError(fmt.Sprintf("no deployment is recorded at %s", heading.Address),
			"deploy first, or check against a file with --manifest FILE")
	}
	var differs *packed.TreeError
	if errors.As(err, &differs) {
		return &statusError{status: ExitDiffers, what: err.Error(), next: "with --manifest FILE it is told what differs"}
	}
	if err != nil {
		return err
	}
	if !report.Matches() {
		a.status = ExitDiffers
	}
	p := a.printer()
	if a.json() {
		return p.ReportJSON(report)
	}
	if !report.Matches() {
		p.Quiet = false // what is wrong is said in any case
	}
	p.Verified(heading, report)
	return nil
}
