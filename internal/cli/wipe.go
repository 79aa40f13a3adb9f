package cli

import (
	"context"
	"errors"
	"fmt"
	"path"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// wiper is a site that is to be wiped.
type wiper struct {
	app   *app
	asked site.Wiping
	name  string // what --yes-remove says, or a person typed
	given bool
}

func (a *app) wipeCommand() *cobra.Command {
	w := &wiper{app: a}
	cmd := &cobra.Command{
		Use:   "wipe [TARGET]",
		Short: "Remove a whole site with its record",
		Long: `Wipe removes everything that is at a site, and its record with all earlier deployments: nothing of it can be restored from
there. It shows what is there, and wants the target's name typed; of a target that is an address, the last part of its path.
For visitors the site is gone at once; the far end removes it then. When it is interrupted, run it again.

With --keep-strays it removes only what deployments put there; what came another way, or was sent by hand, stays.`,
		Args: atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.writes, w.given = !w.asked.Trial, cmd.Flags().Changed("yes-remove")
			w.asked.User = userName()
			return a.withEach(cmd.Context(), args, w.wipe)
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	f := cmd.Flags()
	f.BoolVar(&w.asked.KeepStrays, "keep-strays", false, "leave what no deployment put there")
	f.StringVar(&w.name, "yes-remove", "", "go on without a question, if this is the `NAME` of what is removed")
	f.BoolVarP(&w.asked.Trial, "dry-run", "n", false, "show what would be removed, and remove nothing")
	return cmd
}

// wipe wipes one site.
func (w *wiper) wipe(ctx context.Context, s *targets.Opened, heading render.Heading, reach targets.Settings) error {
	a := w.app
	name := reach.Name
	if name == "" {
		name = path.Base(path.Clean("/" + reach.Address.Path))
	}
	if w.asked.Trial || !w.given {
		there, err := w.look(ctx, s, heading)
		if err != nil {
			return err
		}
		if w.asked.Trial {
			if a.json() {
				return a.printer().WouldWipeJSON(heading, there)
			}
			a.printer().WouldWipe(heading, there, w.asked.KeepStrays)
			a.printer().Line("dry run     nothing was removed. To do it leave out --dry-run.")
			return nil
		}
		if err := w.askFor(name, heading, there); err != nil {
			return err
		}
		w.asked.Files = there.Files
	}
	if w.name != name {
		return &statusError{status: ExitRefused, what: fmt.Sprintf("%q is not the name of what would be removed; nothing was changed", w.name),
			next: fmt.Sprintf("its name is %s", render.Name(name))}
	}
	began := time.Now()
	var watch site.Watch
	progress, done := a.progress(ctx, draws(a.stderr))
	if draws(a.stderr) && !a.flags.quiet {
		watch = *progress.Watch()
	}
	gone, err := calls.Wipe.Watched(ctx, s, &w.asked, &watch)
	done()
	if err != nil {
		return w.explained(err, heading)
	}
	if len(gone.Left) > 0 {
		a.status = ExitIncomplete
	}
	if a.json() {
		return a.printer().WipedJSON(heading, gone)
	}
	p := a.printer()
	if len(gone.Left) > 0 {
		p.Quiet = false
	}
	p.Wiped(heading, gone, w.asked.KeepStrays, time.Since(began))
	return nil
}

// look tells what is at the site.
func (w *wiper) look(ctx context.Context, s *targets.Opened, heading render.Heading) (*site.Wiped, error) {
	asked := w.asked
	asked.Trial = true
	there, err := calls.Wipe.On(ctx, s, &asked)
	return there, w.explained(err, heading)
}

func (w *wiper) explained(err error, heading render.Heading) error {
	if !errors.Is(err, site.ErrNoSite) {
		return err
	}
	return usageError(fmt.Sprintf("no deployment is recorded at %s, so nothing was removed", heading.Address),
		"look whether the path is right; what is there came another way, and is removed that way")
}

// askFor has a person type the name of what is removed, once for all containers of a service.
func (w *wiper) askFor(name string, heading render.Heading, there *site.Wiped) error {
	a := w.app
	if !a.canAsk() {
		return &statusError{status: ExitRefused,
			what: fmt.Sprintf("%s with %s would be removed at %s, and there is no terminal to ask", render.Count(there.Files, "file"), render.Bytes(there.Bytes), heading.Name()),
			next: "to go on all the same give --yes-remove " + name}
	}
	p := a.printer()
	p.Out, p.Quiet = a.stderr, false
	p.WouldWipe(heading, there, w.asked.KeepStrays)
	typed, err := a.askAnswer(fmt.Sprintf("All of it would be removed, and nothing of it can be restored. Type %s to go on", render.Name(name)), true)
	if err != nil {
		return err
	}
	w.name = typed
	return nil
}
