package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync/atomic"

	"github.com/spf13/cobra"

	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/fsys"
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
	retire  site.Retire
	meant   *meant // the target, when it is known already
	// readOnly keeps even an interrupted publish as it is.
	readOnly bool
	again    func(context.Context) error // compares once more
}

func (l *looking) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&l.compare, "compare", "", "compare files by this `WAY`: hash (read every file at the site), time (size and time alone), or none (send everything); "+
		"left out: by hash, believing the record of files that stand with the recorded size and time")
}

// look loads the settings, opens the site, and compares. What was opened is closed by close, also after an error.
func (a *app) look(ctx context.Context, l *looking, args []string) error {
	switch deploy.Compare(l.compare) {
	case deploy.ByRecord, deploy.ByHash, deploy.ByTime, deploy.Nothing:
	default:
		return usageError(fmt.Sprintf("--compare is hash, time or none, not %q", l.compare), "")
	}
	a.reads = a.reads || deploy.Compare(l.compare) == deploy.ByHash
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
	l.retire = a.retire(reach, from.last, l.retire.Now)
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
		progress, done := a.progress(ctx, draws(a.stderr) && !a.flags.quiet)
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
		l.Comparison, err = deploy.Look(ctx, l.site, scan, deploy.Compare(l.compare), l.retire, from.scan.Read)
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

// retire says what becomes of what is retired at a target.
func (a *app) retire(reach target.Settings, last []string, now bool) site.Retire {
	if last == nil {
		last = deploy.DefaultLast
	}
	return site.Retire{After: reach.Retire, Now: now, Last: last}
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
		render.Fprintf(a.stderr, "finished  deployment %d, whose publishing had been interrupted\n", number)
	}
	return err
}

// finishOrWarn is finishUnfinished for a command that only reads: what cannot be finished is said, and does not keep it from reading.
func (a *app) finishOrWarn(ctx context.Context, s *target.Opened) error {
	err := a.finishUnfinished(ctx, s)
	var record *site.RecordError
	switch {
	case err == nil || errors.Is(err, fsys.ErrLost) || ctx.Err() != nil:
		return err
	case errors.As(err, &record), errors.Is(err, fs.ErrPermission):
		a.printer().Warn("an interrupted publish is not finished: %v", err)
		return nil
	}
	var unfinished *site.UnfinishedError
	if !errors.As(err, &unfinished) {
		return err
	}
	a.printer().Warn("%s; the site is read as it is", a.unfinishedText(unfinished))
	return nil
}

// unfinishedText says which steps of a publish fail.
func (a *app) unfinishedText(unfinished *site.UnfinishedError) string {
	const most = 3
	lines := failures(unfinished.Failed)
	text := fmt.Sprintf("the interrupted publish of deployment %d cannot be finished: %s", unfinished.Number, strings.Join(lines[:min(len(lines), most)], "; "))
	if more := len(lines) - most; more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return text
}

func (a *app) warnOdd(p *render.Printer, l *looking) {
	for _, odd := range l.Survey.Odd {
		p.Warn("at the site: the name %s is not valid UTF-8 and is left alone", odd)
	}
	for _, shut := range l.Survey.Shut {
		p.Warn("at the site: the folder %s may not be read and is left alone, with all that is in it", shut)
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
