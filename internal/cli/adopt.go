package cli

import (
	"context"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/deploy"
	"tartine/internal/manifest"
	"tartine/internal/render"
)

// adopting is what was changed at a site and goes home.
type adopting struct {
	app       *app
	trial     bool
	overwrite bool
	looking   looking
}

func (a *app) adoptCommand() *cobra.Command {
	ad := &adopting{app: a}
	cmd := &cobra.Command{
		Use:   "adopt [TARGET] [PATH…]",
		Short: "Write what somebody changed at the site into the sources here",
		Long: `Adopt brings home what was changed at the site other than by a deployment: what drifted, what was sent by hand, and strays. For
each path it finds the source that brings it, or would; it shows how they differ, and writes the file there after one question.
What is gone at the site is removed here. Nothing goes outside of a source, into what is excluded, or over a link or a folder.

A source that was changed since the last deployment, too, is named, and only written over with a yes to the question or with
--overwrite-local.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			names, paths, err := a.splitPaths(args)
			if err != nil {
				return err
			}
			for i, p := range paths {
				if paths[i], err = sitePath(p); err != nil {
					return err
				}
			}
			return ad.run(cmd.Context(), names, paths)
		},
	}
	a.contentFlags(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	f := cmd.Flags()
	f.BoolVarP(&a.flags.yes, "yes", "y", false, "answer every question with yes, but for what was changed here, too")
	f.BoolVarP(&ad.trial, "dry-run", "n", false, "show what would be written, and write nothing")
	f.BoolVar(&ad.overwrite, "overwrite-local", false, "write over files that were changed here since the last deployment, too")
	return cmd
}

func (ad *adopting) run(ctx context.Context, names, paths []string) error {
	a, l := ad.app, &ad.looking
	defer l.close()
	if err := l.open(ctx, a, names, deploy.Options{Started: time.Now()}); err != nil {
		return err
	}
	if err := a.finishOrWarn(ctx, l.site); err != nil {
		return err
	}
	c, err := l.session.Compare(ctx)
	if err != nil {
		return err
	}
	plan, err := deploy.Adopt(ctx, l.site, c, l.tree, l.from.scan, paths)
	if err != nil {
		return err
	}
	p := a.printer()
	if len(plan.Taken) == 0 {
		if a.json() {
			return p.AdoptedJSON(l.heading, "nothing to adopt", nil, plan.Left)
		}
		if len(plan.Left) == 0 {
			p.Line("unchanged   nothing at %s was changed but by deployments", l.heading.Place())
			return nil
		}
		p.Adoption(l.heading, plan)
		p.Line("unchanged   nothing of that has a place here")
		return nil
	}
	if !a.json() {
		p.Adoption(l.heading, plan)
		ad.showDifferences(ctx, plan)
	}
	if ad.trial {
		if a.json() {
			return p.AdoptedJSON(l.heading, "would be adopted", plan.Taken, plan.Left)
		}
		p.Line("dry run     nothing was written. To do it leave out --dry-run.")
		return nil
	}
	if err := ad.consent(plan); err != nil {
		return err
	}
	done, failed, err := plan.Run(ctx, l.site.Open)
	if err != nil {
		return err
	}
	if len(failed) > 0 {
		a.status = ExitIncomplete
		p.Quiet = false
	}
	if a.json() {
		result := "adopted"
		if len(failed) > 0 {
			result = "incomplete"
		}
		return p.AdoptedJSON(l.heading, result, done, slices.Concat(plan.Left, failed))
	}
	p.Adopted(l.heading, done, failed)
	return nil
}

// showDifferences shows how texts differ that are here and there.
func (ad *adopting) showDifferences(ctx context.Context, plan *deploy.Adoption) {
	l := &ad.looking
	for i := range plan.Taken {
		t := &plan.Taken[i]
		if t.Entry == nil || t.Want == nil || t.Entry.Kind != manifest.File || t.Want.Kind != manifest.File || t.ModeOnly {
			continue
		}
		there, err := readText(l.site.Open(ctx, t.Path()))
		if err != nil {
			continue // it is no text, or too much of it
		}
		if at, found := l.tree.Find(t.Path()); found {
			if here, err := readText(l.tree.Open(at)); err == nil {
				ad.app.printer().TextHome(t.Path(), here, there)
			}
		}
	}
}

// consent asks before anything is written here.
func (ad *adopting) consent(plan *deploy.Adoption) error {
	a := ad.app
	var newer, written, removed []string
	for i := range plan.Taken {
		t := &plan.Taken[i]
		switch {
		case t.Newer && !ad.overwrite:
			newer = append(newer, t.Home.Local)
		case t.Entry == nil:
			removed = append(removed, t.Home.Local)
		default:
			written = append(written, t.Home.Local)
		}
	}
	var reasons []string
	if n := len(written); n > 0 {
		reasons = append(reasons, render.Count(n, "path")+" would be written here")
	}
	if n := len(removed); n > 0 {
		reasons = append(reasons, render.Count(n, "path")+" would be removed here")
	}
	if n := len(newer); n > 0 {
		reasons = append(reasons, render.Count(n, "path")+" that changed here, too, would be written over: "+render.Few(newer))
	}
	switch {
	case a.flags.yes && len(newer) == 0:
		return nil
	case a.canAsk():
		if !a.ask(reasons) {
			return &statusError{status: ExitRefused, what: "nothing was changed"}
		}
		return nil
	case len(newer) > 0:
		return &statusError{status: ExitRefused, what: render.Count(len(newer), "path") + " changed here since the last deployment, too", paths: newer,
			next: "name other paths, look with tartine diff --content PATH, or write over them with --overwrite-local"}
	}
	return &statusError{status: ExitRefused, what: reasons[0], paths: slices.Concat(written, removed),
		next: "to go on all the same give --yes"}
}
