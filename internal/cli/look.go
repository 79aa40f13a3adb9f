package cli

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"

	"github.com/spf13/cobra"

	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/target"
)

// looking is what diff and deploy have in common: the content beside an open site.
type looking struct {
	*deploy.Comparison
	site    *target.Opened
	heading render.Heading
	compare string
	from    loaded
	history int
	meant   *meant // the target, when it is known already
	// readOnly keeps even an interrupted publish as it is.
	readOnly bool
	again    func(context.Context) error // compares once more
}

func (l *looking) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&l.compare, "compare", "", "compare files by `hash` (read every file at the site), time (size and time alone), or none (send everything); "+
		"left out: by hash, believing the record of files that stand with the recorded size and time")
}

// look loads the settings, opens the site, and compares. What was opened is closed by close, also after an error.
func (a *app) look(ctx context.Context, l *looking, args []string) error {
	switch deploy.Compare(l.compare) {
	case deploy.ByRecord, deploy.ByHash, deploy.ByTime, deploy.Nothing:
	default:
		return usageError(fmt.Sprintf("--compare is hash, time or none, not %q", l.compare), "")
	}
	from, err := a.load()
	if err != nil {
		return err
	}
	if l.meant == nil {
		all, err := a.meant(ctx, args)
		if err != nil {
			return err
		}
		l.meant = &a.firstOf(all)[0]
	}
	reach, heading := l.meant.reach, l.meant.heading
	l.heading, l.from, l.history = heading, from, reach.History
	if err := target.CheckOverlap(reach.Address, paths(from.sources)); err != nil {
		return err
	}
	var told atomic.Pointer[func(int64)] // who shows what is read, once somebody does
	from.scan.Read = func(bytes int64) {
		if show := told.Load(); show != nil {
			(*show)(bytes)
		}
	}
	scan := deploy.BeginScan(ctx, from.sources, from.scan) // while the connection is made
	defer func() {
		if scan != nil {
			scan.Stop()
		}
	}()
	if l.site, err = a.open(ctx, reach); err != nil {
		return err
	}
	if !l.readOnly {
		if err := a.finishUnfinished(ctx, l.site); err != nil {
			return err
		}
	}
	l.again = func(ctx context.Context) (err error) {
		progress, done := a.progress(ctx, isTerminal(a.stderr) && !a.flags.quiet)
		defer done()
		if show := progress.Reading(); show != nil {
			told.Store(&show)
			defer told.Store(nil)
		}
		if scan == nil {
			scan = deploy.BeginScan(ctx, from.sources, from.scan)
		}
		defer func() {
			scan.Stop()
			scan = nil
		}()
		l.Comparison, err = deploy.Look(ctx, l.site, scan, deploy.Compare(l.compare), from.scan.Read)
		return err
	}
	if err := l.again(ctx); err != nil {
		return err
	}
	p := a.printer()
	warnUnused(p, from.rules)
	p.Warnings(l.Tree)
	a.warnOdd(p, l)
	return nil
}

// finishUnfinished finishes a publish that was interrupted, and says so. One that is under way is left alone.
func (a *app) finishUnfinished(ctx context.Context, s *target.Opened) error {
	unfinished, err := s.Unfinished(ctx)
	if err != nil || !unfinished {
		return err
	}
	number, err := s.Recover(ctx, userName())
	var locked *site.LockedError
	if errors.As(err, &locked) {
		a.printer().Warn("%v", locked)
		return nil
	}
	if number > 0 {
		fmt.Fprintf(a.stderr, "finished  deployment %d, whose publishing had been interrupted\n", number)
	}
	return err
}

func (a *app) warnOdd(p *render.Printer, l *looking) {
	for _, odd := range l.Survey.Odd {
		p.Warn("at the site: the name %q is not valid UTF-8 and is left alone", odd)
	}
}

func (l *looking) close() {
	if l.site != nil {
		_ = l.site.Close() // nothing that was written depends on it
	}
}

func paths(sources []content.Source) []string {
	var out []string
	for _, s := range sources {
		out = append(out, s.Path)
	}
	return out
}
