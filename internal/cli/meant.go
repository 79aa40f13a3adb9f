package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"tartine/internal/calls"
	"tartine/internal/deploy"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// meant is what a command is about: a target, or one container of a target that is a service.
type meant struct {
	reach   targets.Settings
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
	return a.collecting(func(object func(func() error) error) error {
		for i := range all {
			if err := object(func() error { return run(&all[i]) }); err != nil {
				return err
			}
		}
		return nil
	})
}

// collecting makes one object of the JSON that is written while object runs something.
func (a *app) collecting(run func(object func(func() error) error) error) error {
	if a.flags.format != "json" {
		return run(func(write func() error) error { return write() })
	}
	out := a.stdout
	defer func() { a.stdout = out }()
	var objects struct {
		Containers []json.RawMessage `json:"containers"`
	}
	err := run(func(write func() error) error {
		var text bytes.Buffer
		a.stdout = &text
		err := write()
		if err == nil && text.Len() > 0 {
			objects.Containers = append(objects.Containers, text.Bytes())
		}
		return err
	})
	if err != nil {
		return err
	}
	encoded, err := json.MarshalIndent(objects, "", "  ")
	if err == nil {
		_, err = fmt.Fprintf(out, "%s\n", encoded)
	}
	return err
}

// withOne opens a site and hands it on.
func (a *app) withOne(ctx context.Context, m *meant, use func(context.Context, *targets.Opened, render.Heading, targets.Settings) error) error {
	opened, err := a.open(ctx, m.reach)
	if err != nil {
		return err
	}
	defer opened.Close()
	return use(ctx, opened, m.heading, m.reach)
}

// withEach opens what is meant, one after the other.
func (a *app) withEach(ctx context.Context, names []string, use func(context.Context, *targets.Opened, render.Heading, targets.Settings) error) error {
	all, err := a.meant(ctx, names)
	if err != nil {
		return err
	}
	return a.together(all, func(m *meant) error { return a.withOne(ctx, m, use) })
}

// errIncomplete tells that a deployment to one of several containers was not complete.
var errIncomplete = errors.New("not everything arrived there")

// member is one container of a service, as a group deploys to it.
type member struct {
	*meant
	app *app
	own *deployFlags
	do  func(m *meant, tried func(e calls.Engine, before int)) error
}

// Deploy implements deploy.Member. What did not arrive whole is a failure of all.
func (m *member) Deploy(_ context.Context, tried func(calls.Engine, int)) error {
	err := m.do(m.meant, tried)
	if err == nil && m.app.status == ExitIncomplete {
		err = errIncomplete
	}
	return err
}

// Earlier implements deploy.Member.
func (m *member) Earlier(ctx context.Context, number int, use func(context.Context, *deploy.Session) error) error {
	return m.app.withOne(ctx, m.meant, func(ctx context.Context, s *targets.Opened, _ render.Heading, _ targets.Settings) error {
		session := &deploy.Session{Engine: s, Content: deploy.Earlier(number), Options: m.own.options,
			Person: &person{app: m.app}}
		session.Options.Retire, session.Options.Published, session.Options.Like = m.app.retire(m.reach, nil, false), s.TakeUp, m.reach.Like
		around, err := m.app.around(m.meant, s, m.own.around)
		if err != nil {
			return err
		}
		session.Options.Around = around.Restoring()
		return errors.Join(use(ctx, session), s.ReloadFailed())
	})
}

// Restored implements deploy.Member.
func (m *member) Restored(number int, err error) {
	container := m.reach.Address.Host
	switch {
	case errors.Is(err, deploy.ErrFirst):
		m.app.printer().Warn("container %s keeps its first deployment: nothing was there before", container)
	case err != nil:
		m.app.printer().Warn("container %s keeps the new deployment: %v", container, err)
	default:
		render.Fprintf(m.app.stderr, "restored    container %s has deployment %d again\n", container, number)
	}
}

// allOrNone publishes at all containers of a service, or at none.
func (a *app) allOrNone(ctx context.Context, all []meant, own *deployFlags,
	do func(m *meant, tried func(e calls.Engine, before int)) error) error {
	if len(all) == 1 || own.options.Trial { // there is nothing to put back
		return a.together(all, func(m *meant) error { return do(m, func(calls.Engine, int) {}) })
	}
	err := a.collecting(func(object func(func() error) error) error {
		members := make([]deploy.Member, len(all))
		for i := range all {
			members[i] = &member{&all[i], a, own, func(m *meant, tried func(calls.Engine, int)) error {
				return object(func() error { return do(m, tried) })
			}}
		}
		return deploy.AllOrNone(ctx, members)
	})
	if errors.Is(err, errIncomplete) {
		return &statusError{status: ExitIncomplete, what: "not all containers could be deployed to; none was left with the new deployment", next: "fix what failed and run it again"}
	}
	return err
}

// deployToEach deploys to all containers of a service, or to none.
func (a *app) deployToEach(ctx context.Context, all []meant, look looking, own deployFlags) error {
	return a.allOrNone(ctx, all, &own, func(m *meant, tried func(calls.Engine, int)) error {
		err := a.deployOnce(ctx, m, look, own, tried)
		var unfit *targets.UnfitError
		if errors.As(err, &unfit) { // without a program there it goes on
			a.printer().Warn("%v; going on with archives, once the lock is over that it left", unfit)
			without := own
			without.options.Wait = max(own.options.Wait, site.DefaultLease+10*time.Second)
			m.reach.Agent.Use = targets.NoAgent
			err = a.deployOnce(ctx, m, look, without, tried)
		}
		return err
	})
}

func (a *app) deployOnce(ctx context.Context, m *meant, l looking, own deployFlags,
	tried func(calls.Engine, int)) error {
	l.meant = m
	defer l.close()
	l.sends = true
	if err := l.open(ctx, a, nil, own.options); err != nil {
		return err
	}
	l.person().drift, l.person().deploys = own.overwriteDrift, true
	var err error
	if l.session.Options.Around, err = a.around(m, l.site, own.around); err != nil {
		return err
	}
	if !own.options.Trial { // which keeps even an interrupted publish as it is
		if err := l.session.Finish(ctx); err != nil {
			return err
		}
	}
	err = a.deploy(ctx, &l)
	if before, known := l.person().before, l.person().looked; known {
		tried(l.site, before)
	}
	return err
}
