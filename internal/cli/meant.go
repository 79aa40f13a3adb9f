package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"tartine/internal/deploy"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/target"
)

// meant is what a command is about: a target, or one container of a target that is a service.
type meant struct {
	reach   target.Settings
	heading render.Heading
}

// meant finds what is meant: one place, or the containers of a service.
func (a *app) meant(ctx context.Context, names []string) ([]meant, error) {
	reach, heading, err := a.reach(names)
	if err != nil {
		return nil, err
	}
	each, err := reach.Each(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]meant, len(each))
	for i, one := range each {
		out[i] = meant{one, heading}
		if len(each) > 1 {
			out[i].heading.Address, out[i].heading.Part = one.Address.String(), "container "+one.Address.Host
		}
	}
	return out, nil
}

// firstOf gives the first of several, for what is only looked at, and says so.
func (a *app) firstOf(all []meant) []meant {
	if len(all) > 1 && !a.flags.quiet {
		render.Fprintf(a.stderr, "note      of %d containers, this is about %s\n", len(all), all[0].reach.Address.Host)
	}
	return all[:1]
}

// together runs something for each, and makes one object of what they write as JSON.
func (a *app) together(all []meant, run func(*meant) error) error {
	if len(all) == 1 {
		return run(&all[0])
	}
	out := a.stdout
	defer func() { a.stdout = out }()
	var objects struct {
		Containers []json.RawMessage `json:"containers"`
	}
	for i := range all {
		var text bytes.Buffer
		if a.flags.format == "json" {
			a.stdout = &text
		}
		if err := run(&all[i]); err != nil {
			return err
		}
		if text.Len() > 0 {
			objects.Containers = append(objects.Containers, text.Bytes())
		}
	}
	if a.flags.format != "json" {
		return nil
	}
	encoded, err := json.MarshalIndent(objects, "", "  ")
	if err == nil {
		_, err = fmt.Fprintf(out, "%s\n", encoded)
	}
	return err
}

// withOne opens a site and hands it on.
func (a *app) withOne(ctx context.Context, m *meant, use func(context.Context, *target.Opened, render.Heading, target.Settings) error) error {
	opened, err := a.open(ctx, m.reach)
	if err != nil {
		return err
	}
	defer opened.Close()
	return use(ctx, opened, m.heading, m.reach)
}

// withEach opens what is meant, one after the other.
func (a *app) withEach(ctx context.Context, names []string, use func(context.Context, *target.Opened, render.Heading, target.Settings) error) error {
	all, err := a.meant(ctx, names)
	if err != nil {
		return err
	}
	return a.together(all, func(m *meant) error { return a.withOne(ctx, m, use) })
}

// errIncomplete tells that a deployment to one of several containers was not complete.
var errIncomplete = errors.New("not everything arrived there")

// deployed is a container that was deployed to, and the deployment that stood there before.
type deployed struct {
	*meant
	before int
}

// allOrNone publishes at all containers of a service, or at none: when one of them fails, those before it get back what stood there. Do
// calls tried once it has tried to publish, with the deployment that stood before.
func (a *app) allOrNone(ctx context.Context, all []meant, own deployFlags, do func(m *meant, tried func(s *target.Opened, before int)) error) error {
	var published []deployed
	err := a.together(all, func(m *meant) error {
		err := do(m, func(s *target.Opened, before int) {
			if len(all) == 1 || own.dryRun {
				return // there is nothing to put back
			}
			if past, failed := s.History(context.WithoutCancel(ctx)); failed == nil && len(past) > 0 && past[0].Number != before {
				published = append(published, deployed{m, before})
			}
		})
		if err == nil && len(all) > 1 && a.status == ExitIncomplete {
			err = errIncomplete
		}
		return err
	})
	if err == nil || len(all) == 1 || own.dryRun {
		return err
	}
	a.takeBack(context.WithoutCancel(ctx), published, own)
	if errors.Is(err, errIncomplete) {
		return &statusError{status: ExitIncomplete, what: "not all containers could be deployed to; none was left with the new deployment", next: "fix what failed and run it again"}
	}
	return err
}

// deployToEach deploys to all containers of a service, or to none.
func (a *app) deployToEach(ctx context.Context, all []meant, look looking, own deployFlags) error {
	return a.allOrNone(ctx, all, own, func(m *meant, tried func(*target.Opened, int)) error {
		err := a.deployOnce(ctx, m, look, own, tried)
		var unfit *target.UnfitError
		if errors.As(err, &unfit) { // without a program there it goes on
			a.printer().Warn("%v; going on with archives, once the lock is over that it left", unfit)
			without := own
			without.options.Wait = max(own.options.Wait, site.DefaultLease+10*time.Second)
			m.reach.Agent = target.NoAgent
			err = a.deployOnce(ctx, m, look, without, tried)
		}
		return err
	})
}

func (a *app) deployOnce(ctx context.Context, m *meant, l looking, own deployFlags, tried func(*target.Opened, int)) error {
	l.meant = m
	defer l.close()
	if err := a.look(ctx, &l, nil); err != nil {
		return err
	}
	before := l.Survey.Number
	err := a.deploy(ctx, &l, own)
	tried(l.site, before)
	return err
}

// takeBack publishes again what stood before.
func (a *app) takeBack(ctx context.Context, published []deployed, own deployFlags) {
	for _, d := range slices.Backward(published) {
		if d.before == 0 {
			a.printer().Warn("container %s keeps its first deployment: nothing stood there before", d.reach.Address.Host)
			continue
		}
		err := a.withOne(ctx, d.meant, func(ctx context.Context, s *target.Opened, _ render.Heading, _ target.Settings) error {
			back, err := deploy.LookBack(ctx, s, d.before, false, a.retire(d.reach, nil, false), nil)
			if err != nil {
				return err
			}
			if _, err = deploy.Rollback(ctx, s, back, own.options, &site.Watch{}); err == nil && s.Reload != nil {
				_, err = s.Reload(ctx)
			}
			return err
		})
		if err != nil {
			a.printer().Warn("container %s keeps the new deployment: %v", d.reach.Address.Host, err)
			continue
		}
		render.Fprintf(a.stderr, "restored    container %s has deployment %d again\n", d.reach.Address.Host, d.before)
	}
}
