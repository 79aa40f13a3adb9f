package deploy

import (
	"context"
	"errors"
	"slices"
	"time"

	"tartine/internal/content"
	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Watcher deploys a content each time it changes, over one session. What would need consent is left as it is at the site
// and named; it is asked about once more when it changes here.
type Watcher struct {
	Session *Session
	// Content gives what should be there, read anew where it changed. Waiting tells that part of it is still written to.
	Content func(ctx context.Context) (c *content.Content, waiting bool, err error)
	// Told is told what each round did; not of rounds that found nothing to do.
	Told func(*Round)

	held    map[string]manifest.Digest // paths that are left as they are, with the content that was not brought
	waiting bool
	sending bool
}

// Round is what one change led to.
type Round struct {
	*Result
	Held  []string // paths that are left as they are from now on: they were altered at the site, or no deployment put them there
	Stay  []string // paths that are left although they are no longer in the content: so many are not likely to be meant
	Began time.Time
	Took  time.Duration
	Err   error // why nothing was deployed
}

// Changes gives the paths that the round brought, or those that it removed, in order.
func (r *Round) Changes(removed bool) (out []string) {
	if r.Result == nil || r.Outcome == nil || r.Outcome.Number == 0 {
		return nil
	}
	r.Result.Result.Each(func(c *diff.Change) bool {
		failed := slices.ContainsFunc(r.Outcome.Failed, func(f site.Failure) bool { return f.Path == c.Path() })
		if c.Status != diff.Stray && !failed && (c.Want == nil) == removed {
			out = append(out, c.Path())
		}
		return true
	})
	return out
}

// Deploy deploys what differs now. It tells whether it should be called again soon although nothing changes: part of the
// content is still written to, or something failed. Its error is that of the context or of a connection that is gone.
func (w *Watcher) Deploy(ctx context.Context) (again bool, err error) {
	round := &Round{Began: time.Now()}
	w.sending = false
	w.Session.Options.Started = round.Began
	w.Session.Content = w.content
	round.Result, round.Err = w.round(ctx, round)
	round.Took = time.Since(round.Began)
	if round.Err == nil {
		w.sending = false // whoever interrupts the watch from here on cuts nothing
	} else if errors.Is(round.Err, farend.ErrLost) || ctx.Err() != nil {
		return true, errors.Join(ctx.Err(), round.Err)
	}
	if round.Err != nil || len(round.Held)+len(round.Stay) > 0 || round.Outcome != nil {
		w.Told(round)
	}
	var refused *Refusal
	return w.waiting || round.Err != nil && !errors.As(round.Err, &refused), nil
}

func (w *Watcher) round(ctx context.Context, round *Round) (*Result, error) {
	s := w.Session
	for {
		c, err := s.Compare(ctx)
		if err != nil {
			return nil, err
		}
		if consent := c.Consent(s.Options); !c.Unchanged(s.Options) && consent.Needed() {
			refused := s.Person.Agree(consent)
			held := slices.Concat(consent.Drifted, consent.Replaced)
			switch {
			case refused == nil:
			case consent.Empty || consent.Moved != "" || len(held)+len(consent.Retired) == 0:
				return nil, refused
			default:
				w.hold(c, held)
				w.hold(c, consent.Retired)
				round.Held, round.Stay = append(round.Held, held...), append(round.Stay, consent.Retired...)
				continue
			}
		}
		result, err := s.deploy(ctx, c, func(*Consent) error { // what was to be asked was
			w.sending = true
			return nil
		})
		var overtaken *site.OvertakenError
		if !errors.As(err, &overtaken) {
			return result, err
		}
		s.Person.Tell(Overtaken{overtaken.Found})
	}
}

// hold leaves paths as they are from now on.
func (w *Watcher) hold(c *Comparison, paths []string) {
	if w.held == nil {
		w.held = map[string]manifest.Digest{}
	}
	for _, path := range paths {
		w.held[path] = digestAt(c.Content.Entries(), path)
	}
}

func digestAt(entries []manifest.Entry, path string) manifest.Digest {
	i, found := manifest.Find(entries, path)
	if !found {
		return manifest.Digest{}
	}
	return entries[i].Digest
}

// content is the content without what is held. What was held and has changed since is no longer.
func (w *Watcher) content(ctx context.Context) (*content.Content, error) {
	c, waiting, err := w.Content(ctx)
	if err != nil {
		return nil, err
	}
	w.waiting = waiting
	for path, was := range w.held {
		if digestAt(c.Entries(), path) != was {
			delete(w.held, path)
			continue
		}
		c.Left = append(c.Left, path)
	}
	if len(w.held) > 0 {
		c.Set(slices.DeleteFunc(slices.Clone(c.Entries()), func(e manifest.Entry) bool {
			_, is := w.held[e.Path]
			return is
		}))
	}
	return c, nil
}

// Stirred is to be called when something begins to change: the site is surveyed while the changes come to their end.
func (w *Watcher) Stirred(ctx context.Context) {
	if w.Session != nil {
		w.Session.ahead.begin(ctx, w.Session)
	}
}

// Stop ends what Stirred began. It is to be called before the session's site is closed.
func (w *Watcher) Stop() {
	if w.Session != nil {
		w.Session.ahead.end()
	}
}

// Sending tells whether the last call of Deploy began to bring something to the site and did not end it.
func (w *Watcher) Sending() bool { return w.sending }

// Waiting tells whether part of the content is still written to.
func (w *Watcher) Waiting() bool { return w.waiting }
