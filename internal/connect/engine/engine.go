// Package engine reaches containers through the HTTP interface of a container engine: its socket, a TCP address with
// TLS, or, over SSH, the socket of another machine. No command-line client is run.
//
// It finds a container, gives byte streams to programs that run in one, and carries archives in and out. What a site
// is, and what to do where a container cannot run anything, is left to others.
package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
)

// Engine is a container engine.
type Engine struct {
	api   *client.Client
	where string
}

// Error tells that an engine does not answer.
type Error struct {
	Where  string // the address that was tried
	Denied bool   // it exists there, and this user may not use it
	Group  string // whose members may use it; empty: unknown
	Old    bool   // it speaks too old a version of the interface
	Err    error
}

func (e *Error) Error() string {
	if e.Denied {
		return fmt.Sprintf("this user may not use the container engine at %s", e.Where)
	}
	if e.Old {
		return fmt.Sprintf("the container engine at %s is too old: %v", e.Where, said{e.Err})
	}
	return fmt.Sprintf("no container engine answers at %s: %v", e.Where, said{e.Err})
}

func (e *Error) Unwrap() error { return e.Err }

// NotFoundError tells that an engine has no such container, or several.
type NotFoundError struct {
	Name    string
	Where   string
	Several []string // the containers whose id begins so
	Nearest []string // names that are like it
	Known   []string // all names, when there are few
}

func (e *NotFoundError) Error() string {
	if len(e.Several) > 0 {
		return fmt.Sprintf("several containers are meant by %q", e.Name)
	}
	return fmt.Sprintf("there is no container %q at %s", e.Name, e.Where)
}

// Open connects to the engine at an address, unix://, tcp:// or ssh://; an empty one means the one that the environment
// or the current context names, else the usual socket. Dial leads to the engine's machine where the address is ssh://.
func Open(ctx context.Context, address string, dial func(ctx context.Context, address *url.URL) (net.Conn, error)) (*Engine, error) {
	at, err := find(address)
	if err != nil {
		return nil, err
	}
	options := []client.Opt{}
	switch parsed, err := url.Parse(at.host); {
	case err != nil:
		return nil, &Error{Where: at.host, Err: errors.New("this is not an address")}
	case parsed.Scheme == "ssh":
		options = append(options, client.WithDialContext(func(ctx context.Context, _, _ string) (net.Conn, error) {
			return dial(ctx, parsed)
		}))
	default:
		options = append(options, client.WithHost(at.host))
		if at.tls != nil {
			options = append(options, client.WithTLSClientConfig(at.tls.authority, at.tls.certificate, at.tls.key))
		}
	}
	api, err := client.New(options...)
	if err != nil {
		return nil, &Error{Where: at.host, Err: err}
	}
	e := &Engine{api, at.host}
	if _, err := api.Ping(ctx, client.PingOptions{NegotiateAPIVersion: true}); err != nil {
		defer api.Close()
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case errdefs.IsInvalidArgument(err):
			return nil, e.old(ctx, err)
		}
		return nil, e.because(err)
	}
	return e, nil
}

// old says which version of the interface an engine speaks that is too old.
func (e *Engine) old(ctx context.Context, err error) error {
	if ping, failed := e.api.Ping(ctx, client.PingOptions{}); failed == nil {
		err = fmt.Errorf("it speaks version %s of the interface, and %s is the oldest that will do", ping.APIVersion,
			client.MinAPIVersion)
	}
	return &Error{Where: e.where, Old: true, Err: err}
}

// because gives an error of the connection its form.
func (e *Engine) because(err error) error {
	out := &Error{Where: e.where, Err: err}
	if kind, address, ok := strings.Cut(e.where, "://"); ok && kind != "ssh" {
		// The library does not hand on why: it shows once more.
		conn, again := net.Dial(kind, strings.TrimSuffix(address, "/"))
		if again == nil {
			conn.Close()
		} else {
			err = again
		}
	}
	var system syscall.Errno
	switch {
	case errors.Is(err, fs.ErrPermission):
		_, socket, _ := strings.Cut(e.where, "://")
		out.Denied, out.Group = true, groupOf(socket)
	case errors.As(err, &system):
		out.Err = system
	case strings.Contains(err.Error(), "malformed HTTP"), strings.Contains(err.Error(), "readLoopPeekFailLocked"): // the same, said before we asked
		out.Err = errors.New("what answers there does not speak HTTP")
	}
	return out
}

// Close lets go of the engine.
func (e *Engine) Close() error { return e.api.Close() }

// Container is a container of an engine.
type Container struct {
	engine   *Engine
	ID       string // whole
	Name     string
	Running  bool
	Paused   bool
	ReadOnly bool   // its root file system cannot be written
	Memory   int64  // how much of it it may take, in bytes; 0: there is no limit
	Programs int64  // how many processes and threads it may have; 0: there is no limit
	System   string // as in linux/amd64
	Mounts   []Mount
}

// Mount is a volume or folder that is at a path of a container.
type Mount struct {
	Path     string
	Kind     string // volume, bind or tmpfs
	Writable bool
}

// Windows tells whether a container is one of that system.
func (c *Container) Windows() bool { return strings.HasPrefix(c.System, "windows") }

// mostNamed is how many names an error lists.
const mostNamed = 8

// Container finds a container by its name, or by its id or what the id begins with.
func (e *Engine) Container(ctx context.Context, name string) (*Container, error) {
	found, err := e.api.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errdefs.IsNotFound(err), err != nil && strings.Contains(err.Error(), "ultiple IDs"),
		errdefs.IsInvalidArgument(err):
		return nil, e.notFound(ctx, name)
	case client.IsErrConnectionFailed(err):
		return nil, e.because(err)
	case err != nil:
		return nil, fmt.Errorf("look at container %s: %w", name, said{err})
	}
	return e.describe(ctx, found.Container)
}

func (e *Engine) describe(ctx context.Context, found container.InspectResponse) (*Container, error) {
	c := &Container{engine: e, ID: found.ID, Name: strings.TrimPrefix(found.Name, "/")}
	if found.State != nil {
		c.Paused = found.State.Paused
		c.Running = found.State.Running && !found.State.Paused && !found.State.Restarting
	}
	if found.HostConfig != nil {
		c.ReadOnly, c.Memory = found.HostConfig.ReadonlyRootfs, found.HostConfig.Memory
		if limit := found.HostConfig.PidsLimit; limit != nil && *limit > 0 {
			c.Programs = *limit
		}
	}
	for _, m := range found.Mounts {
		c.Mounts = append(c.Mounts, Mount{Path: m.Destination, Kind: string(m.Type), Writable: m.RW})
	}
	if found.HostConfig != nil {
		for path := range found.HostConfig.Tmpfs {
			c.Mounts = append(c.Mounts, Mount{Path: path, Kind: "tmpfs", Writable: true})
		}
	}
	c.System = found.Platform
	if image, err := e.api.ImageInspect(ctx, found.Image); err == nil && image.Os != "" {
		c.System = image.Os + "/" + image.Architecture
	}
	return c, nil
}

// Labels by which a project's containers are known.
const (
	labelProject = "com.docker.compose.project"
	labelService = "com.docker.compose.service"
	labelNumber  = "com.docker.compose.container-number"
)

// Service gives the names of the containers of a project's service, in the order of their numbers.
func (e *Engine) Service(ctx context.Context, project, service string) ([]string, error) {
	all, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: true,
		Filters: make(client.Filters).Add("label", labelProject+"="+project)})
	if err != nil {
		return nil, e.because(err)
	}
	numbers := map[string]int{}
	var names, services []string
	for _, c := range all.Items {
		if len(c.Names) == 0 {
			continue
		}
		services = append(services, c.Labels[labelService]+"@"+project)
		if c.Labels[labelService] != service {
			continue
		}
		name := strings.TrimPrefix(c.Names[0], "/")
		numbers[name], _ = strconv.Atoi(c.Labels[labelNumber]) // without one they go by their names
		names = append(names, name)
	}
	if len(names) == 0 {
		slices.Sort(services)
		return nil, &NotFoundError{Name: service + "@" + project, Where: e.where, Known: slices.Compact(services)}
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(numbers[a]-numbers[b], strings.Compare(a, b))
	})
	return names, nil
}

// notFound says which containers may be meant.
func (e *Engine) notFound(ctx context.Context, name string) error {
	out := &NotFoundError{Name: name, Where: e.where}
	all, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: true})
	if err != nil {
		return out
	}
	names := map[string]bool{}
	for _, c := range all.Items {
		own := c.ID[:min(len(c.ID), 12)]
		if len(c.Names) > 0 {
			own = strings.TrimPrefix(c.Names[0], "/")
		}
		names[own] = true
		if strings.HasPrefix(c.ID, name) {
			out.Several = append(out.Several, fmt.Sprintf("%s (%s)", c.ID[:min(len(c.ID), len(name)+6)], own))
		}
	}
	slices.Sort(out.Several)
	if len(out.Several) < 2 {
		out.Several = nil
	}
	for _, known := range slices.Sorted(maps.Keys(names)) {
		if strings.Contains(known, name) || strings.Contains(name, known) || alike(known, name) {
			out.Nearest = append(out.Nearest, known)
		}
		out.Known = append(out.Known, known)
	}
	out.Nearest = out.Nearest[:min(len(out.Nearest), mostNamed)]
	if len(out.Known) > mostNamed {
		out.Known = nil
	}
	return out
}

// alike tells whether two names differ in two letters at most, beside what one has more than the other.
func alike(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(b)-len(a) > 2 {
		return false
	}
	wrong, at := 0, 0
	for i := 0; i < len(b) && at < len(a); i++ {
		if b[i] == a[at] {
			at++
		} else if wrong++; len(a) == len(b) {
			at++
		}
	}
	return wrong <= 2
}
