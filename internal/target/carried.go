package target

import (
	"context"
	"errors"
	"fmt"
	"path"
	"time"

	"tartine/internal/connect/engine"
	"tartine/internal/fsys/containerfs"
	"tartine/internal/fsys/osfs"
	"tartine/internal/site"
)

// carried is a site in a container in which nothing can be started: it is brought here, changed, and carried back.
type carried struct {
	*site.Site
	fs        *containerfs.FS
	engine    *engine.Engine
	container *engine.Container
	whileDown bool          // the container is stopped while it is carried back
	down      time.Duration // how long it was
}

func (c *carried) Close() error { return errors.Join(c.fs.Close(), c.engine.Close()) }

// openCarried opens a site in a container that does not run, or where no agent can.
func openCarried(ctx context.Context, s Settings, why *ContainerError) (*Opened, error) {
	e, err := s.openEngine(ctx)
	if err != nil {
		return nil, err
	}
	c, err := s.carry(ctx, e)
	if err != nil {
		e.Close()
		return nil, err
	}
	opened := &Opened{Site: c, Way: "archives", place: c}
	if why != nil {
		opened.Why = why
	}
	opened.Reload = func(ctx context.Context) (string, error) { return c.reload(ctx, &s) }
	return opened, nil
}

func (s *Settings) carry(ctx context.Context, e *engine.Engine) (*carried, error) {
	c, err := e.Container(ctx, s.Address.Host)
	if err != nil {
		return nil, err
	}
	look := func(name string) (bool, error) { return c.IsFolder(ctx, name) }
	p, err := s.find(s.Address.Path, path.Dir, path.Base, look, func(name string) (string, error) { return name, nil })
	if err != nil {
		return nil, asRootError(s.Address.Path, err)
	}
	owner, err := parseOwner(s.Owner)
	if err != nil {
		return nil, err
	}
	if owner == nil {
		owner = &osfs.Owner{}
	}
	beside := path.Join(path.Dir(p.root), site.RecordName(path.Base(p.root)))
	f, err := containerfs.Open(ctx, c, p.base, []string{p.root, beside}, *owner)
	if err != nil {
		return nil, &ContainerError{Name: c.Name, Err: err}
	}
	opened, err := site.Open(ctx, s.between(f), p.root, s.Address.Path, site.Options{Jobs: s.Jobs})
	if err != nil {
		f.Close()
		return nil, err
	}
	return &carried{Site: opened, fs: f, engine: e, container: c, whileDown: s.While == "stopped" && c.Running}, nil
}

// push carries what was changed into the container. One that was stopped for it is started again whatever happens.
func (c *carried) push(ctx context.Context) (err error) {
	if c.whileDown {
		began := time.Now()
		if err := c.container.Stop(ctx); err != nil {
			return &ContainerError{Name: c.container.Name, Err: err}
		}
		defer func() {
			if starting := c.container.Start(context.WithoutCancel(ctx)); starting != nil {
				err = errors.Join(err, &ContainerError{Name: c.container.Name, Err: starting})
			}
			c.down = time.Since(began)
		}()
	}
	if err := c.fs.Push(ctx); err != nil {
		return &ContainerError{Name: c.container.Name, Err: err}
	}
	return nil
}

// reload tells how long the container was stopped, and has it take up what was published where it was not.
func (c *carried) reload(ctx context.Context, s *Settings) (string, error) {
	switch {
	case c.down > 0:
		return fmt.Sprintf("container %s was stopped for %.1f s, and runs again", c.container.Name, c.down.Seconds()), nil
	case s.Restart != "" && c.container.Running:
		return s.reload(ctx)
	}
	return "", nil
}

// Deploy implements deploy.Site.
func (c *carried) Deploy(ctx context.Context, plan *site.Plan, watch *site.Watch) (*site.Outcome, error) {
	out, err := c.Site.Deploy(ctx, plan, watch)
	if err != nil || out.Number == 0 {
		return out, err
	}
	out.Method, out.NotAtomic = "read back from the container", c.container.Running && !c.whileDown
	return out, c.push(ctx)
}

// Recover implements deploy.Site.
func (c *carried) Recover(ctx context.Context, user string) (int, error) {
	number, err := c.Site.Recover(ctx, user)
	if err != nil || number == 0 {
		return number, err
	}
	return number, c.push(ctx)
}

// Affirm implements deploy.Site: it would carry much to save a little.
func (c *carried) Affirm(context.Context, int, string) error { return nil }

// Unlock removes a lock.
func (c *carried) Unlock(ctx context.Context, holder *site.Holder) error {
	if err := c.Site.Unlock(ctx, holder); err != nil {
		return err
	}
	return c.push(ctx)
}

// Examine tells what is known without writing.
func (c *carried) Examine(context.Context) ([]site.Check, error) {
	state := "it does not run: nobody sees files while they are replaced"
	if c.container.Running {
		state = "it runs, and files are replaced one after the other, each of them not in one step"
	}
	return []site.Check{{Name: "container", Verdict: site.Good, Found: state},
		{Name: "replace", Verdict: site.Slow, Found: "all that changed is carried there in one archive and read back", Mend: "with while: stopped it is stopped meanwhile"}}, nil
}
