package target

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"path"
	"slices"
	"strings"

	"tartine/internal/agent"
	"tartine/internal/connect"
	"tartine/internal/connect/engine"
	"tartine/internal/fsys"
)

// A site in a container that runs is reached through an agent inside: the program is put there through the engine's
// archives, so that no shell is needed, and runs as root of the container, whoever the container's own user is.

// ContainerError tells that a container cannot take a site.
type ContainerError struct {
	Name     string
	Stopped  bool
	Carrying bool // it took a part of what was carried there, perhaps
	Runs     bool // its files cannot be reached while it runs
	Err      error
}

func (e *ContainerError) Error() string {
	switch {
	case e.Stopped:
		return fmt.Sprintf("container %s does not run", e.Name)
	case e.Runs:
		return fmt.Sprintf("container %s runs, and its engine does not reach its files meanwhile", e.Name)
	}
	return fmt.Sprintf("container %s: %v", e.Name, e.Err)
}

func (e *ContainerError) Unwrap() error { return e.Err }

// openEngine opens the engine that a target names.
func (s *Settings) openEngine(ctx context.Context) (*engine.Engine, error) {
	return engine.Open(ctx, s.Engine, func(ctx context.Context, address *url.URL) (net.Conn, error) {
		over := *s
		over.Address = Address{Kind: SSH, User: address.User.Username(), Host: address.Hostname()}
		if port := address.Port(); port != "" {
			if _, err := fmt.Sscan(port, &over.Address.Port); err != nil {
				return nil, fmt.Errorf("port %q is no number", port)
			}
		}
		dial, err := over.SSH()
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
	if s.Agent == NoAgent || s.While != "" {
		return openCarried(ctx, s, nil)
	}
	first, err := s.openIn(ctx)
	var why *ContainerError
	if errors.As(err, &why) {
		return openCarried(ctx, s, why)
	}
	if err != nil {
		return nil, err
	}
	opened := s.lastingAgent(first, s.Address.String(), func(ctx context.Context) (far, error) { return s.openIn(ctx) })
	if s.Restart != "" {
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

func (s *Settings) openIn(ctx context.Context) (far, error) {
	e, err := s.openEngine(ctx)
	if err != nil {
		return nil, err
	}
	client, err := s.agentIn(ctx, e)
	if err != nil {
		e.Close()
		return nil, err
	}
	return &inside{client, e}, nil
}

// agentIn starts an agent in the container that is meant.
func (s *Settings) agentIn(ctx context.Context, e *engine.Engine) (*agent.Client, error) {
	c, err := e.Container(ctx, s.Address.Host)
	if err != nil {
		return nil, err
	}
	switch {
	case !c.Running:
		return nil, &ContainerError{Name: c.Name, Stopped: true}
	case c.Windows():
		return nil, &ContainerError{Name: c.Name, Err: errors.New("in one of Windows no program is started")}
	case onDrive(s.Address.Path):
		return nil, s.noDrive(c)
	}
	half, err := s.half(ctx, c)
	if half {
		err = errors.New("what was carried there did not all arrive, and is finished in the same way")
	}
	if err != nil {
		return nil, &ContainerError{Name: c.Name, Err: err}
	}
	name, err := agent.CopyName(s.program(), c.System)
	if err != nil {
		return nil, &ContainerError{Name: c.Name, Err: err}
	}
	var failed error
	for _, folder := range s.agentFolders(c) {
		client, err := s.agentAt(ctx, c, folder, name)
		var unavailable *agent.UnavailableError
		if err == nil || ctx.Err() != nil || !errors.As(err, &unavailable) {
			return client, err
		}
		failed = err // perhaps the next folder does
	}
	return nil, &ContainerError{Name: c.Name, Err: failed}
}

// agentFolders gives the folders of a container in which the program may stand, the better ones first. A file that is put
// below a memory disk through the engine cannot be seen by programs there.
func (s *Settings) agentFolders(c *engine.Container) []string {
	usable := func(folder string) bool {
		at := mountAt(c, folder)
		return at == nil && !c.ReadOnly || at != nil && at.Writable && at.Kind != "tmpfs"
	}
	var out []string
	for _, folder := range []string{"/tmp", "/"} {
		if usable(folder) {
			out = append(out, folder)
		}
	}
	mounts := slices.Clone(c.Mounts)
	slices.SortStableFunc(mounts, func(a, b engine.Mount) int { return strings.Compare(b.Path, a.Path) })
	for _, m := range mounts {
		if within(s.Address.Path, m.Path) && usable(m.Path) {
			out = append(out, m.Path)
		}
	}
	return out
}

// mountAt gives the mount in which a path of a container lies, or nil.
func mountAt(c *engine.Container, name string) (found *engine.Mount) {
	for i, m := range c.Mounts {
		if (name == m.Path || strings.HasPrefix(name, strings.TrimSuffix(m.Path, "/")+"/")) && (found == nil || len(m.Path) > len(found.Path)) {
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

// agentsFolder is where copies of the program stand in a container's folder for temporary files.
const agentsFolder = ".tartine"

// agentAt starts the program in a folder of a container, and puts it there first where it must.
func (s *Settings) agentAt(ctx context.Context, c *engine.Container, folder, name string) (*agent.Client, error) {
	program := path.Join(folder, agentsFolder, name)
	stands, err := c.Has(ctx, program)
	if err != nil {
		return nil, &ContainerError{Name: c.Name, Err: err}
	}
	if !stands {
		content, _, err := agent.Copy(s.program(), c.System)
		if err != nil {
			return nil, err
		}
		if err := c.Put(ctx, folder, programArchive(name, content)); err != nil {
			return nil, &agent.UnavailableError{Reason: err.Error()}
		}
	}
	marker := agent.Marker()
	arguments := []string{program, agent.HiddenCommand, "--marker", marker}
	if folder == "/tmp" {
		arguments = append(arguments, "--tidy")
	} else {
		arguments = append(arguments, "--remove", path.Dir(program)) // nothing stays where a site or the system is
	}
	stream, err := c.Exec(ctx, "0:0", arguments...)
	if err != nil {
		return nil, &agent.UnavailableError{Reason: err.Error()}
	}
	in, err := agent.Await(ctx, stream, marker)
	if err != nil {
		stream.Close()
		if words := stream.Said(); words != "" {
			err = &agent.UnavailableError{Reason: fsys.Said(words, 400)}
		}
		return nil, err
	}
	return agent.Connect(ctx, in, stream, stream, s.Build, s.farRoot())
}

// programArchive is an archive of the program in its folder.
func programArchive(name string, content []byte) io.Reader {
	var head, tail bytes.Buffer
	w := tar.NewWriter(&head)
	_ = w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: agentsFolder + "/", Mode: 0o755}) // into memory
	_ = w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: agentsFolder + "/" + name, Mode: 0o755, Size: int64(len(content))})
	tail.Write(make([]byte, (512-len(content)%512)%512+1024)) // fills the last block; two empty ones are the end
	return io.MultiReader(&head, bytes.NewReader(content), &tail)
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
	if signal, ok := strings.CutPrefix(s.Restart, "signal:"); ok {
		done, err = fmt.Sprintf("container %s was sent %s", c.Name, signal), c.Signal(ctx, signal)
	} else {
		err = c.Restart(ctx)
	}
	if err != nil {
		return "", &ContainerError{Name: c.Name, Err: err}
	}
	return done, nil
}
