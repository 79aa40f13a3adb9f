package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/farend"
	"tartine/internal/manifest"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// looking is what diff and deploy have in common: a session of the content and an open site.
type looking struct {
	session *deploy.Session
	site    *targets.Opened
	tree    *content.Tree // as it was scanned last
	heading render.Heading
	compare string
	from    loaded
	now     bool    // what is left at the site for a while goes, too
	given   *loaded // what is loaded already; nil: it is not
	meant   *meant  // the target, when it is known already
	scan    *content.Scanning
	sends   bool                    // what is compared is sent at once
	origin  func() *manifest.Origin // tells who deploys what, and waits until that is known; nil: nothing was opened
}

func (l *looking) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&l.compare, "compare", "", "compare files by this `WAY`: hash (read every file at the site), time (size and time alone), or none (send everything); "+
		"left out: by hash, believing the record of files that have the recorded size and time")
}

// open loads the settings, begins to scan, and opens the site. What was opened is closed by close, also after an error.
func (l *looking) open(ctx context.Context, a *app, args []string, opt deploy.Options) error {
	opt.Compare = deploy.Compare(l.compare)
	switch opt.Compare {
	case deploy.ByRecord, deploy.ByHash, deploy.ByTime, deploy.Nothing:
	default:
		return usageError(fmt.Sprintf("--compare is hash, time or none, not %q", l.compare), "")
	}
	a.reads = a.reads || opt.Compare == deploy.ByHash
	var (
		from loaded
		err  error
	)
	if l.given != nil {
		from = *l.given
	} else if from, err = a.load(); err != nil {
		return err
	}
	if l.meant == nil {
		all, err := a.meant(ctx, args)
		if err != nil {
			return err
		}
		l.meant = &a.firstOf(all)[0]
	}
	reach := l.meant.reach
	l.heading, l.from = l.meant.heading, from
	if reach.Address.Kind == targets.Archive {
		withoutOwners(&l.from.scan)
	}
	if err := targets.CheckOverlap(reach.Address, paths(from.sources)); err != nil {
		return err
	}
	opt.History, opt.Last, opt.Retire, opt.User = reach.History, from.last, a.retire(reach, from.last, l.now),
		userName()
	if from.from != nil {
		opt.Beside = from.from.beside(&reach)
	}
	opt.Sources = sourcesInWords(from.sources)
	person := &person{app: a, look: l, strays: opt.RemoveStrays}
	l.from.scan.Read = person.read
	if l.sends && !opt.Trial && reach.Address.Kind != targets.Archive {
		l.from.scan.Later = site.LaterFrom
	}
	l.origin = sync.OnceValue(func() *manifest.Origin { return origin(ctx, from.sources) })
	if l.sends {
		go l.origin() // close waits for it
	}
	l.from.scan.Fold = foldFrom
	l.scan = content.Begin(ctx, from.sources, l.from.scan) // while the connection is made
	if l.site, err = a.open(ctx, reach); err != nil {
		return err
	}
	opt.Published, opt.Like = l.site.TakeUp, reach.Like
	l.session = &deploy.Session{Engine: l.site, Content: l.content, Options: opt, Person: person, Distant: l.site.Agent, Recorded: l.site.Recorded}
	return nil
}

// foldFrom is from how many paths on a content stays folded up: below that a list of them is quicker, and small.
const foldFrom = 20_000

func (l *looking) person() *person { return l.session.Person.(*person) }

// content gives what is scanned; what was given before is scanned anew.
func (l *looking) content(ctx context.Context) (*content.Content, error) {
	if l.scan == nil {
		l.scan = content.Begin(ctx, l.from.sources, l.from.scan)
	}
	defer func() {
		l.scan.Stop()
		l.scan = nil
	}()
	tree, err := l.scan.Wait(ctx)
	if err != nil {
		return nil, err
	}
	l.tree = tree
	out := tree.Content()
	if l.from.from != nil {
		l.from.from.describe(out)
	}
	return out, nil
}

// retire says what becomes of what is retired at a target.
func (a *app) retire(reach targets.Settings, last []string, now bool) site.Retire {
	if last == nil {
		last = deploy.DefaultLast
	}
	return site.Retire{After: reach.Retire, Now: now, Last: last}
}

// finishUnfinished finishes a publish that was interrupted, and says so. One that is under way is left alone.
func (a *app) finishUnfinished(ctx context.Context, s *targets.Opened) error {
	session := &deploy.Session{Engine: s, Options: deploy.Options{User: userName()}, Person: &person{app: a}}
	return session.Finish(ctx)
}

// finishOrWarn is finishUnfinished for a command that only reads: what cannot be finished is said, and does not keep it
// from reading.
func (a *app) finishOrWarn(ctx context.Context, s *targets.Opened) error {
	err := a.finishUnfinished(ctx, s)
	var record *site.RecordError
	switch {
	case err == nil || errors.Is(err, farend.ErrLost) || ctx.Err() != nil:
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
	text := fmt.Sprintf("the interrupted publish of deployment %d cannot be finished: %s", unfinished.Number,
		strings.Join(lines[:min(len(lines), most)], "; "))
	if more := len(lines) - most; more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return text
}

func (l *looking) close() {
	if l.scan != nil {
		l.scan.Stop()
	}
	if l.sends && l.origin != nil {
		l.origin()
	}
	if l.site != nil {
		_ = l.site.Close() // nothing that was written depends on it
	}
}

// sourcesInWords says what a content is made of, the same on each machine: the last elements of its sources, and where they
// land.
func sourcesInWords(sources []content.Source) string {
	words := make([]string, len(sources))
	for i, s := range sources {
		name := s.Path
		if absolute, err := filepath.Abs(name); err == nil {
			name = absolute
		}
		words[i] = filepath.Base(name)
		if s.Dest != "." {
			words[i] += " at " + s.Dest
		}
	}
	return strings.Join(words, ", ")
}

// paths gives the files and folders of this machine that sources are made of.
func paths(sources []content.Source) []string {
	var out []string
	for i := range sources {
		if name := sources[i].OnDisk(); name != "" {
			out = append(out, name)
		}
	}
	return out
}
