package targets

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"tartine/internal/agent"
	"tartine/internal/connect"
	"tartine/internal/connect/engine"
	"tartine/internal/farend"
	"tartine/internal/site"
)

// A site in a container that runs is reached through an agent inside: the program is put there through the engine's
// archives, so that no shell is needed, and runs as root of the container, whoever the container's own user is.

// ContainerError tells that a container cannot take a site.
type ContainerError struct {
	Name     string
	Stopped  bool
	Carrying bool // it took a part of what was carried there, perhaps
	Runs     bool // its files cannot be reached while it runs
	Paused   bool
	Err      error
}

func (e *ContainerError) Error() string {
	switch {
	case e.Paused:
		return fmt.Sprintf("container %s is paused", e.Name)
	case e.Stopped:
		return fmt.Sprintf("container %s does not run", e.Name)
	case e.Runs:
		return fmt.Sprintf("container %s runs, and its engine does not reach its files meanwhile", e.Name)
	}
	return fmt.Sprintf("container %s: %v", e.Name, e.Err)
}

func (e *ContainerError) Unwrap() error { return e.Err }

// The steps to a container.
const (
	stepEngine    connect.Step = "engine"
	stepContainer connect.Step = "container"
)

// ContainerSettings is what containers have of their own.
type ContainerSettings struct {
	Engine  string // the address of the container engine; empty: the usual one
	While   string // "stopped": a container is stopped while its files are changed; empty: it is left as it is
	Restart string // what a container is told after publishing: "true", or "signal:NAME"; empty: nothing
	// Held is told that a container was stopped, how long, and why it does not run again; may be nil.
	Held func(name string, down time.Duration, err error)
}

// containerDriver reaches containers through their engine: with an agent inside, or with archives.
func containerDriver() *Driver {
	return &Driver{Kind: Container, parse: parseContainer, open: openContainer, run: runInContainer,
		NoHostKey: "%s is a container and has no host key", problems: problemsOfContainers,
		Steps: []Step{{Step: stepEngine, Good: "a container engine answers"}, {Step: stepContainer}},
		failed: func(err error) connect.Step {
			var none *engine.Error
			if errors.As(err, &none) {
				return stepEngine
			}
			return stepContainer
		},
		reached: func(o *Opened) []site.Check {
			if o.Agent {
				return []site.Check{{Name: "container", Verdict: site.Good, Found: "it runs"},
					{Name: "agent", Verdict: site.Good, Found: "it runs there"}}
			}
			if o.Why == nil {
				return nil
			}
			check := site.Check{Name: "agent", Verdict: site.Slow, Found: o.Why.Error()}
			var container *ContainerError
			if errors.As(o.Why, &container) && container.Stopped {
				check.Fix = "what is needed of the site is carried here and back; in one that runs, files are changed where they are"
			}
			return []site.Check{check}
		}}
}

// Engine opens the engine that a target names.
func (s *Settings) Engine(ctx context.Context) (*engine.Engine, error) { return s.openEngine(ctx) }

// openEngine opens the engine that a target names.
func (s *Settings) openEngine(ctx context.Context) (*engine.Engine, error) {
	return engine.Open(ctx, s.Container.Engine, func(ctx context.Context, address *url.URL) (net.Conn, error) {
		over := *s
		over.Address = Address{Kind: SSH, User: address.User.Username(), Host: address.Hostname()}
		if port := address.Port(); port != "" {
			if _, err := fmt.Sscan(port, &over.Address.Port); err != nil {
				return nil, fmt.Errorf("port %q is not a number", port)
			}
		}
		dial, err := over.Dialer(ctx)
		if err != nil {
			return nil, err
		}
		socket := address.Path
		if socket == "" {
			socket = "/var/run/docker.sock"
		}
		return connect.Socket(ctx, dial, socket)
	})
}

// Each gives the containers that a target means, each as a target of its own: those of its service, or the one.
func (s *Settings) Each(ctx context.Context) ([]Settings, error) {
	if s.Address.Kind != Container || s.Address.User == "" {
		return []Settings{*s}, nil
	}
	e, err := s.openEngine(ctx)
	if err != nil {
		return nil, err
	}
	defer e.Close()
	names, err := e.Service(ctx, s.Address.Host, s.Address.User)
	if err != nil {
		return nil, err
	}
	out := make([]Settings, len(names))
	for i, name := range names {
		out[i] = *s
		out[i].Address = Address{Kind: Container, Host: name, Path: s.Address.Path}
	}
	return out, nil
}

// openContainer opens a site in a container, through an agent inside where one can run.
func openContainer(ctx context.Context, s Settings) (*Opened, error) {
	if s.Address.User != "" {
		each, err := s.Each(ctx)
		if err != nil {
			return nil, err
		}
		s = each[0]
	}
	if s.Agent.Use == NoAgent || s.Container.While != "" {
		return openCarried(ctx, s, nil)
	}
	life := &life{settings: &s}
	first, err := life.open(ctx)
	var why *ContainerError
	if errors.As(err, &why) {
		return openCarried(ctx, s, why)
	}
	if err != nil {
		return nil, err
	}
	opened := s.lastingAgent(first, s.Address.String(), life.open)
	if s.Container.Restart != "" {
		opened.Reload = s.reload
	}
	return opened, nil
}

// inside is an agent in a container, and the engine.
type inside struct {
	*agent.Client
	engine *engine.Engine
}

func (i *inside) Close() error { return errors.Join(i.Client.Close(), i.engine.Close()) }

// agentIn starts an agent in the container that is meant.
func (s *Settings) agentIn(ctx context.Context, e *engine.Engine) (*agentInside, error) {
	c, err := e.Container(ctx, s.Address.Host)
	if err != nil {
		return nil, err
	}
	switch {
	case c.Paused:
		return nil, &ContainerError{Name: c.Name, Paused: true}
	case !c.Running:
		return nil, &ContainerError{Name: c.Name, Stopped: true}
	case c.Windows():
		return nil, &ContainerError{Name: c.Name, Err: errors.New("in one of Windows no program is started")}
	case onDrive(s.Address.Path):
		return nil, s.noDrive(c)
	}
	if err := s.canWrite(c); err != nil {
		return nil, err
	}
	if err := hasRoom(c); err != nil {
		return nil, &ContainerError{Name: c.Name, Err: err}
	}
	var (
		reading sync.WaitGroup // while the engine is asked
		content []byte
		digest  string
		unread  error
	)
	reading.Go(func() { content, digest, unread = agent.Copy(s.program(), c.System) })
	half, err := s.half(ctx, c)
	reading.Wait()
	if half {
		err = errors.New("what was carried there did not all arrive, and is finished in the same way")
	}
	if err != nil {
		return nil, &ContainerError{Name: c.Name, Err: err}
	}
	if unread != nil {
		return nil, &ContainerError{Name: c.Name, Err: unread}
	}
	failed := errors.New("there is no folder in it where a program can be put and started")
	for _, folder := range s.agentFolders(c) {
		client, err := s.agentAt(ctx, c, folder, content, digest)
		var unavailable *agent.UnavailableError
		if err == nil || ctx.Err() != nil || !errors.As(err, &unavailable) {
			return client, err
		}
		failed = err // perhaps the next folder does
	}
	return nil, &ContainerError{Name: c.Name, Err: failed}
}

// canWrite fails where something is to be written and the root cannot be.
func (s *Settings) canWrite(c *engine.Container) error {
	if at := mountAt(c, s.Address.Path); s.Writes && (at == nil && c.ReadOnly || at != nil && !at.Writable) {
		return &ContainerError{Name: c.Name, Err: fmt.Errorf("%s cannot be written in it", s.Address.Path)}
	}
	return nil
}

// What an agent needs: memory in bytes, and processes and threads beside those that a container has already.
const (
	leastMemory   = 24 << 20
	leastPrograms = 24
)

// hasRoom fails where the limits of a container leave no room for an agent.
func hasRoom(c *engine.Container) error {
	switch {
	case c.Memory > 0 && c.Memory < leastMemory:
		return fmt.Errorf("its memory limit of %d MB is too small for the program, which needs %d MB", c.Memory>>20,
			leastMemory>>20)
	case c.Programs > 0 && c.Programs < leastPrograms:
		return fmt.Errorf("its limit of %d processes is too small for the program, which needs %d", c.Programs,
			leastPrograms)
	}
	return nil
}

// agentInside is an agent in a container, and the stream to it.
type agentInside struct {
	*agent.Client
	container *engine.Container
	stream    *engine.Stream
}

// life is one agent in a container after the other, over one session. One that is killed by a limit would be killed
// again.
type life struct {
	settings *Settings
	last     *agentInside
	deaths   int
}

// UnfitError tells that an agent was killed in a container more than once.
type UnfitError struct{ Name, Cause string }

func (e *UnfitError) Error() string {
	return fmt.Sprintf("container %s: the program ended twice there: %s", e.Name, e.Cause)
}

// mostDeaths is how often an agent may be killed in one session.
const mostDeaths = 2

func (l *life) open(ctx context.Context) (far, error) {
	if l.last != nil {
		if cause := l.last.death(ctx); cause != "" {
			if l.deaths++; l.deaths >= mostDeaths {
				return nil, &UnfitError{l.last.container.Name, cause}
			}
		}
	}
	e, err := l.settings.openEngine(ctx)
	if err != nil {
		return nil, err
	}
	client, err := l.settings.agentIn(ctx, e)
	if err != nil {
		e.Close()
		return nil, err
	}
	l.last = client
	return &inside{client.Client, e}, nil
}

// The status of a program that could not be started: it may not be, or what runs it is not there.
const cannotRun, notFound = 126, 127

// killed is the status of a program that was ended by signal 9.
const killed = 128 + 9

// death tells of what an agent has died; empty: of nothing, as far as is known.
func (a *agentInside) death(ctx context.Context) string {
	status, ended := a.stream.Ended(ctx)
	words := a.stream.Said()
	switch {
	case !ended || status == 0:
		return ""
	case strings.Contains(words, "create new OS thread") || strings.Contains(words, "newosproc"):
		return fmt.Sprintf("it could not start a thread: the container's limit of processes is %d",
			a.container.Programs)
	case status == killed && a.container.Memory > 0:
		return fmt.Sprintf("it was killed, as engines do beyond the container's memory limit of %d MB",
			a.container.Memory>>20)
	case status == killed:
		return "it was killed"
	case words != "":
		return fmt.Sprintf("status %d: %s", status, farend.Said(words, 200))
	}
	return fmt.Sprintf("status %d", status)
}

// mountAt gives the mount in which a path of a container lies, or nil.
func mountAt(c *engine.Container, name string) (found *engine.Mount) {
	for i, m := range c.Mounts {
		if (name == m.Path || strings.HasPrefix(name, strings.TrimSuffix(m.Path, "/")+"/")) &&
			(found == nil || len(m.Path) > len(found.Path)) {
			found = &c.Mounts[i]
		}
	}
	return found
}

// isMount tells whether something is mounted just at a path.
func isMount(c *engine.Container, name string) bool {
	at := mountAt(c, name)
	return at != nil && at.Path == name
}

// reload has the container take up what was published, as the target says, and tells what was done.
func (s *Settings) reload(ctx context.Context) (string, error) {
	e, err := s.openEngine(ctx)
	if err != nil {
		return "", err
	}
	defer e.Close()
	c, err := e.Container(ctx, s.Address.Host)
	if err != nil {
		return "", err
	}
	done := fmt.Sprintf("container %s was restarted", c.Name)
	if signal, ok := strings.CutPrefix(s.Container.Restart, "signal:"); ok {
		done, err = fmt.Sprintf("container %s was sent %s", c.Name, signal), c.Signal(ctx, signal)
	} else {
		err = c.Restart(ctx)
	}
	if err != nil {
		return "", &ContainerError{Name: c.Name, Err: err}
	}
	return done, nil
}
