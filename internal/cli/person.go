package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"tartine/internal/deploy"
	"tartine/internal/render"
	"tartine/internal/site"
)

// person has whoever sits at the terminal, or reads the log, told and asked about a session.
type person struct {
	app     *app
	look    *looking     // nil: the content is not a folder of this machine
	title   string       // the heading of what is to be done, where there are no sources; may be empty
	strays  bool         // strays go, too
	drift   bool         // it may be overwritten
	deploys bool         // and does not only look
	later   bool         // a watch goes on: it is told little, and asked nothing
	looked  bool         // it was warned already
	before  int          // the deployment that was current when it was compared first
	ran     []deploy.Ran // commands and checks
	reading atomic.Pointer[func(bytes int64)]
}

// Tell implements deploy.Person.
func (p *person) Tell(event deploy.Event) {
	out := p.app.printer()
	switch event.(type) {
	case deploy.Looked, deploy.Differs:
		if p.later {
			return
		}
	}
	switch e := event.(type) {
	case deploy.Finished:
		render.Fprintf(p.app.stderr, "finished  deployment %d, whose publishing had been interrupted\n", e.Number)
	case deploy.Busy:
		out.Warn("%v", e.By)
	case deploy.Runs:
		p.onErr().Runs(e)
	case deploy.Ran:
		p.ran = append(p.ran, e)
		printer := p.onErr()
		printer.Quiet = printer.Quiet && e.Err == nil // what is wrong is said in any case
		printer.Ran(e, e.When != deploy.Checking && !p.app.flags.quiet)
		out.RanEvent(&e)
	case deploy.RollsBack:
		p.onErr().RollsBack(e)
	case deploy.Owing:
		render.Fprintf(p.app.stderr, "note      the run that published deployment %d was interrupted before all had run that follows on it\n", e.Number)
	case deploy.Overtaken:
		what := "the site was wiped"
		if e.Number > 0 {
			what = fmt.Sprintf("deployment %d was published", e.Number)
		}
		render.Fprintf(p.app.stderr, "%-8s  %s in the meantime; comparing anew\n", "again", what)
	case deploy.Looked:
		if p.look == nil || p.looked {
			return
		}
		p.looked, p.before = true, e.Survey.Number
		warnUnused(out, p.look.from.rules)
		out.Warnings(p.look.tree)
		if e.Survey.Unfinished && p.deploys {
			out.Warn("an earlier publish at this site is not finished yet")
		}
		for _, odd := range e.Survey.Odd {
			out.Warn("at the site: the name %s is not valid UTF-8 and is left alone", odd)
		}
		for _, shut := range e.Survey.Shut {
			out.Warn("at the site: the folder %s may not be read and is left alone, with all that is in it", shut)
		}
	case deploy.Differs:
		if p.look != nil {
			out.Landings(p.look.heading, p.look.tree)
		} else if p.title != "" {
			out.Line("%s\n", p.title)
		}
		out.Comparison(e.Comparison, p.strays)
	}
}

// onErr gives a printer for what goes on, which is no result.
func (p *person) onErr() *render.Printer {
	out := p.app.printer().OnErr(p.app.color(p.app.stderr))
	out.Quiet = p.app.flags.quiet
	return out
}

// Output implements deploy.Person: each line is written as it comes.
func (p *person) Output(deploy.Runs) (io.Writer, func()) {
	if p.app.flags.quiet {
		return io.Discard, func() {}
	}
	shown := &render.Prefixed{To: p.app.stderr}
	return shown, shown.End
}

// Watch implements deploy.Person.
func (p *person) Watch(ctx context.Context, stage deploy.Stage) (*site.Watch, func()) {
	if stage == deploy.Working && !p.later {
		return p.app.watch(ctx)
	}
	if p.look == nil || p.later {
		return &site.Watch{}, func() {}
	}
	progress, done := p.app.progress(ctx, draws(p.app.stderr) && !p.app.flags.quiet)
	if show := progress.Reading(); show != nil {
		p.reading.Store(&show)
	}
	return &site.Watch{Bytes: p.read}, func() {
		p.reading.Store(nil)
		done()
	}
}

// read is told of bytes as they are read, here and at the site.
func (p *person) read(bytes int64) {
	if show := p.reading.Load(); show != nil {
		(*show)(bytes)
	}
}

// watch shows how a deployment goes on, until done is called.
func (a *app) watch(ctx context.Context) (watch *site.Watch, done func()) {
	if lines, ok := a.stdout.(*render.Lines); ok {
		return lines.Watch(), func() {}
	}
	if a.flags.quiet {
		return &site.Watch{}, func() {}
	}
	progress, done := a.progress(ctx, draws(a.stderr))
	return progress.Watch(), done
}

// Agree implements deploy.Person: it asks one question for the whole run, or refuses where there is nobody to ask.
func (p *person) Agree(c *deploy.Consent) error {
	a := p.app
	if p.later || !a.canAsk() { // each option is the answer to its own question, and to no other
		if p.drift {
			c.Drifted = nil
		}
		if p.strays && !c.First {
			c.Removed = nil
		}
	}
	if !c.Needed() || a.flags.yes {
		return nil
	}
	var (
		reasons []string
		paths   []string
		options = []string{"--yes"}
	)
	add := func(list []string, singular, plural string) {
		if len(list) == 0 {
			return
		}
		verb := plural
		if len(list) == 1 {
			verb = singular
		}
		reasons = append(reasons, fmt.Sprintf("%s %s", render.Count(len(list), "path"), verb))
		paths = append(paths, list...)
	}
	if c.Empty {
		reasons = append(reasons, "the content is empty, so everything that was deployed would be removed")
	}
	if c.Moved != "" {
		reasons = append(reasons, fmt.Sprintf("the root was a folder at the last deployment and is a link now, to %s, which would be deployed to", c.Moved))
	}
	add(c.Drifted, "was altered or removed at the site since the last deployment, and would be put right",
		"were altered or removed at the site since the last deployment, and would be put right")
	if c.Hand {
		add(c.Replaced, "is there, and would be replaced by what is sent", "are there, and would be replaced by what is sent")
	} else {
		add(c.Replaced, "would be overwritten that no deployment put there",
			"would be overwritten that no deployment put there")
	}
	add(c.Removed, "would be removed that no deployment put there", "would be removed that no deployment put there")
	p.addRetired(c, &reasons, &paths)
	if len(c.Drifted) > 0 && len(reasons) == 1 {
		options = append(options, "--overwrite-drift")
	}
	refused := &statusError{status: ExitRefused, what: strings.Join(reasons, "; "), paths: paths,
		next: "look at them with tartine diff; to go on all the same give " + strings.Join(options, " or ")}
	if c.Hand {
		refused.next = "to go on all the same give --yes"
	}
	if len(c.Retired) > 0 {
		refused.next += "; to put single files beside what is there, use tartine send"
	}
	if p.later || !a.canAsk() {
		return refused
	}
	if !a.ask(reasons) {
		return &statusError{status: ExitRefused, what: "nothing was changed", next: "tartine diff shows these paths"}
	}
	return nil
}

// addRetired says that more would be removed than is likely to be meant.
func (p *person) addRetired(c *deploy.Consent, reasons, paths *[]string) {
	if len(c.Retired) == 0 {
		return
	}
	reason := fmt.Sprintf("%s would be removed, no longer in the content", render.Count(len(c.Retired), "path"))
	if c.Elsewhere != "" {
		reason += ", which comes from other sources than the deployment before (" + render.Name(c.Elsewhere) + ")"
	}
	if c.Most {
		reason += ", and that is more than half of the site"
	}
	*reasons, *paths = append(*reasons, reason), append(*paths, c.Retired...)
}
