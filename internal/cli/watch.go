package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/config"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/farend"
	"tartine/internal/manifest"
	"tartine/internal/render"
)

const (
	// stillWritten is how soon what is still written to is looked at again; failedSave, what failed.
	stillWritten = 2 * content.Quiet
	failedSave   = 10 * time.Second
	// longestReopen is the longest pause between two tries to open a lost connection again.
	longestReopen = 30 * time.Second
)

// watching is a watch of one target.
type watching struct {
	app     *app
	args    []string
	own     deployFlags
	look    looking
	poll    time.Duration
	watched manifest.Watched
	sources *content.Watching
	first   bool  // nothing was deployed yet
	failed  error // why the first deployment was not made
	said    string
}

func (a *app) watchCommand() *cobra.Command {
	w := &watching{app: a, first: true}
	cmd := &cobra.Command{
		Use:   "watch [TARGET]",
		Short: "Deploy, and then send each change as it is saved",
		Long: `Watch deploys once, and then sends each change as it is saved, until it is interrupted. Filters, order and the guard
hold as in a deployment. What would need a question is left as it is at the site, and named. In the history all that a
watch sends is one deployment; a rollback goes back to what was there before it.`,
		Args: atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w.args, a.writes = args, true
			if w.poll < 0 || w.poll > 0 && w.poll < 50*time.Millisecond {
				return usageError("--poll is at least 50ms, and at most as long as you like to wait", "")
			}
			return w.run(cmd.Context())
		},
	}
	a.configFlag(cmd)
	a.contentFlags(cmd)
	a.targetFlags(cmd)
	w.look.flags(cmd)
	a.outputFlags(cmd)
	f := cmd.Flags()
	f.BoolVarP(&a.flags.yes, "yes", "y", false, "answer every question with yes")
	f.BoolVar(&w.own.overwriteDrift, "overwrite-drift", false,
		"overwrite what was altered at the site since the last deployment")
	f.BoolVar(&w.own.options.RemoveStrays, "remove-strays", false,
		"remove what is at the site and no deployment put there")
	f.BoolVar(&w.own.options.MakeRoot, "make-root", false, "make the folders above the root too when they are missing")
	f.DurationVar(&w.own.options.Wait, "wait", time.Minute, "wait so long for another deployment to end")
	f.DurationVar(&w.poll, "poll", 0, "look at everything this often, where the system does not tell what changed")
	return cmd
}

// run watches until it is interrupted. Who interrupts it while nothing is sent ends it well.
func (w *watching) run(ctx context.Context) error {
	w.watched = manifest.Watched{ID: rand.Text(), Since: time.Now().UTC().Truncate(time.Second)}
	w.own.options.Watched, w.own.options.Partial = &w.watched, true
	if settings, err := w.app.settings(); err == nil {
		w.saysNoCommands(settings)
	}
	watcher := &deploy.Watcher{Content: w.content, Told: w.tell}
	defer func() {
		watcher.Stop()
		w.look.close()
		if w.sources != nil {
			_ = w.sources.Close() // what it keeps makes the next scan cheaper, and no more
		}
	}()
	pause, retry := time.Duration(0), time.Duration(0)
	for {
		if watcher.Session == nil {
			if err := w.open(ctx, watcher); err != nil {
				if err = w.reopen(ctx, err, &pause); err != nil {
					return err
				}
				continue
			}
		}
		again, err := watcher.Deploy(ctx)
		switch {
		case ctx.Err() != nil && !w.first && !watcher.Sending():
			return nil // a clean stop: nothing was cut but a look
		case ctx.Err() != nil:
			return errInterrupted
		case w.first && cmp.Or(err, w.failed) != nil:
			return cmp.Or(err, w.failed)
		case errors.Is(err, farend.ErrLost):
			watcher.Stop()
			w.look.close()
			watcher.Session = nil
			if err := w.reopen(ctx, err, &pause); err != nil {
				return err
			}
			continue
		}
		w.begun()
		pause, retry = 0, 0
		if again {
			retry = failedSave
			if watcher.Waiting() {
				retry = stillWritten
			}
		}
		anew, err := w.sources.Next(ctx, retry)
		if ctx.Err() != nil {
			return nil // a clean stop
		}
		if err != nil {
			w.complain(err)
		}
		if anew {
			w.reload(watcher)
		}
	}
}

// saysNoCommands says that a watch runs none of the commands in the settings.
func (w *watching) saysNoCommands(s *config.Settings) {
	name := ""
	if len(w.args) > 0 {
		name = w.args[0]
	} else if len(s.TargetNames) == 1 {
		name = s.TargetNames[0]
	}
	t := s.Targets[name]
	if s.Build.IsSet() || len(t.BeforePublish)+len(t.AfterPublish)+len(t.Check) > 0 {
		w.app.note("a watch runs neither build nor the commands and checks of the target")
	}
}

// begun says once that the watch has begun.
func (w *watching) begun() {
	if !w.first {
		return
	}
	w.first = false
	w.look.person().later = true
	if !w.app.flags.quiet && !w.app.json() {
		render.Fprintf(w.app.stderr, "watching    %s for %s; Ctrl-C ends it\n", render.Count(len(w.look.from.sources), "source"),
			w.look.heading.Name())
	}
}

// open loads the settings, begins to watch what they name, and opens the site.
func (w *watching) open(ctx context.Context, watcher *deploy.Watcher) error {
	all, err := w.app.meant(ctx, w.args)
	if err != nil {
		return err
	}
	if len(all) > 1 {
		return usageError(fmt.Sprintf("%s are %d containers, and a watch is of one", all[0].heading.Name(), len(all)),
			"name one of them: container://NAME/PATH")
	}
	w.look.meant = &all[0]
	if err := w.look.open(ctx, w.app, nil, w.own.options); err != nil {
		return err
	}
	w.look.scan.Stop() // it is read here
	w.look.scan = nil
	w.look.session.Options.Generator = w.app.build.String()
	w.look.session.Options.Origin = origin(ctx, w.look.from.sources)
	w.look.person().drift, w.look.person().deploys, w.look.person().later = w.own.overwriteDrift, true, !w.first
	if w.sources == nil {
		w.watch()
		w.sources.Stirred = func() { watcher.Stirred(ctx) }
	}
	if err := w.look.session.Finish(ctx); err != nil {
		return err
	}
	watcher.Session = w.look.session
	return nil
}

func (w *watching) watch() {
	tell := func(why error) {
		w.app.printer().Warn("the system does not tell of all changes (%v); everything is looked at every second", why)
	}
	w.sources = content.Watch(w.look.from.sources, w.look.from.scan, w.look.from.settings.File, w.poll, tell)
}

// content reads what changed.
func (w *watching) content(ctx context.Context) (*content.Content, bool, error) {
	c, tree, waiting, err := w.sources.Content(ctx)
	if err == nil {
		w.look.tree = tree
	}
	return c, waiting, err
}

// reopen waits before the next try to reach the site. Errors that another try does not help are given back.
func (w *watching) reopen(ctx context.Context, err error, pause *time.Duration) error {
	e := sentence(err)
	if w.first || e.status != ExitConnection {
		return err
	}
	w.complain(err)
	*pause = min(max(2**pause, time.Second), longestReopen)
	select {
	case <-ctx.Done():
		return errInterrupted
	case <-time.After(*pause):
		return nil
	}
}

// reload takes up settings that changed. Where they are wrong, those from before stay.
func (w *watching) reload(watcher *deploy.Watcher) {
	before := w.look.from
	from, err := w.app.load()
	if err == nil {
		_, _, err = w.app.reach(w.args)
	}
	if err != nil {
		w.complain(err)
		return
	}
	watcher.Stop()
	w.look.close()
	w.look.from, watcher.Session = from, nil
	_ = w.sources.Close() // as above
	w.sources = nil
	if !w.app.flags.quiet && before.settings.File != "" {
		render.Fprintf(w.app.stderr, "again       the settings changed and are read anew\n")
	}
}

// complain says what went wrong, but not the same twice in a row.
func (w *watching) complain(err error) {
	e := sentence(err)
	if said := fmt.Sprint(e.what, e.paths); said != w.said {
		w.said = said
		w.app.explain(err)
	}
}

// tell writes a line about what a round did.
func (w *watching) tell(r *deploy.Round) {
	if w.first {
		w.look.person().later = true
	}
	p := w.app.printer()
	if len(r.Held) > 0 {
		p.Warn("left as it is, since it was altered at the site or no deployment put it there: %s; --yes overwrites", render.Few(r.Held))
	}
	if len(r.Stay) > 0 {
		p.Warn("left at the site, since so much is not likely to be meant to go: %s; --yes removes it", render.Few(r.Stay))
	}
	if r.Err != nil && w.first {
		w.failed = r.Err
		return
	}
	if r.Err != nil {
		w.complain(r.Err)
		return
	}
	w.said = ""
	if r.Result == nil || r.Outcome == nil {
		return
	}
	if w.app.json() {
		if err := p.RoundJSON(r); err != nil {
			w.complain(err)
		}
		return
	}
	p.Round(r)
}
