package engineserver

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	containers "github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/image"
	"github.com/moby/moby/api/types/mount"
)

// newID is 64 digits of hex, as engines give them.
func newID() string {
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails
	return hex.EncodeToString(raw)
}

func (s *Server) importImage(w http.ResponseWriter, r *http.Request) error {
	if r.URL.Query().Get("fromSrc") != "-" {
		return fail(http.StatusBadRequest, "this engine takes images from archives alone")
	}
	id := newID()
	name := filepath.Join(s.opt.Dir, "image-"+id)
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r.Body)
	if err = errors.Join(err, f.Close()); err != nil {
		return errors.Join(err, os.Remove(name))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.images["sha256:"+id] = name
	s.images[r.URL.Query().Get("repo")] = name
	reply(w, http.StatusOK, map[string]string{"status": "sha256:" + id})
	return nil
}

func (s *Server) image(name string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if file, ok := s.images[name]; ok {
		return file, nil
	}
	return "", fail(http.StatusNotFound, "No such image: %s", name)
}

func (s *Server) inspectImage(w http.ResponseWriter, r *http.Request) error {
	if _, err := s.image(r.PathValue("name")); err != nil {
		return err
	}
	system, processor, _ := strings.Cut(s.opt.System, "/")
	reply(w, http.StatusOK, image.InspectResponse{ID: r.PathValue("name"), Os: system, Architecture: processor})
	return nil
}

func (s *Server) removeImage(w http.ResponseWriter, r *http.Request) error {
	file, err := s.image(r.PathValue("name"))
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	var gone []image.DeleteResponse
	for name, other := range s.images {
		if other == file {
			delete(s.images, name)
			gone = append(gone, image.DeleteResponse{Deleted: name})
		}
	}
	reply(w, http.StatusOK, gone)
	return os.Remove(file)
}

// container is one, whether it runs or not.
type container struct {
	server   *Server
	id, name string
	created  time.Time
	config   *containers.Config
	host     containers.HostConfig
	mounts   []mounted
	root     string // the folder that it is

	mu      sync.Mutex
	running bool
	paused  bool
	started time.Time
	room    *room         // of the programs that run in it; nil while none can
	main    *process      // the first of them
	over    chan struct{} // closed when it no longer runs
}

// mounted is something that is at a path of a container.
type mounted struct {
	path   string
	kind   mount.Type
	folder string // of this machine; empty: a memory disk
}

func (s *Server) create(w http.ResponseWriter, r *http.Request) error {
	var asked containers.CreateRequest
	if err := json.NewDecoder(r.Body).Decode(&asked); err != nil || asked.Config == nil {
		return fail(http.StatusBadRequest, "the container's description cannot be read: %v", err)
	}
	archive, err := s.image(asked.Image)
	if err != nil {
		return err
	}
	id := newID()
	c := &container{server: s, id: id, name: cmp.Or(r.URL.Query().Get("name"), "c"+id[:11]), created: time.Now(),
		config: asked.Config, root: filepath.Join(s.opt.Dir, "container-"+id)}
	if asked.HostConfig != nil {
		c.host = *asked.HostConfig
	}
	if err := c.fill(archive); err != nil {
		return errors.Join(err, c.remove())
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, other := range s.containers {
		if other.name == c.name {
			return errors.Join(fail(http.StatusConflict, "the name %q is in use by container %s", c.name, other.id), c.remove())
		}
	}
	s.containers[id] = c
	reply(w, http.StatusCreated, containers.CreateResponse{ID: id, Warnings: []string{}})
	return nil
}

// fill makes the folders of a new container.
func (c *container) fill(archive string) error {
	if err := os.Mkdir(c.root, 0o755); err != nil {
		return err
	}
	for i, at := range slices.Sorted(maps.Keys(c.config.Volumes)) {
		folder := filepath.Join(c.server.opt.Dir, fmt.Sprintf("volume-%s-%d", c.id, i))
		if err := os.Mkdir(folder, 0o755); err != nil {
			return err
		}
		c.mounts = append(c.mounts, mounted{at, mount.TypeVolume, folder})
	}
	for _, at := range slices.Sorted(maps.Keys(c.host.Tmpfs)) {
		c.mounts = append(c.mounts, mounted{at, mount.TypeTmpfs, ""})
	}
	if len(c.mounts) > 0 && !canMount() {
		return fail(http.StatusNotImplemented, "this engine mounts nothing: it does not run as root on Linux")
	}
	root, err := os.OpenRoot(c.root)
	if err != nil {
		return err
	}
	defer root.Close()
	f, err := os.Open(archive)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := Unpack(root, ".", f); err != nil {
		return err
	}
	own, err := root.Create(".dockerenv") // as engines do
	if err == nil {
		err = own.Close()
	}
	if err != nil {
		return err
	}
	for _, m := range append([]mounted{{path: "/proc"}, {path: "/dev"}}, c.mounts...) {
		if c.server.windows() {
			break
		}
		if err := root.MkdirAll(inRoot(m.path), 0o755); err != nil {
			return err
		}
	}
	return nil
}

// inRoot is a path of a container as a name below its top.
func inRoot(at string) string { return path.Join(".", path.Clean("/" + at)[1:]) }

// remove ends a container, and its folders go.
func (c *container) remove() error {
	c.halt(context.Background(), 0)
	err := os.RemoveAll(c.root)
	for _, m := range c.mounts {
		if m.folder != "" {
			err = errors.Join(err, os.RemoveAll(m.folder))
		}
	}
	return err
}

func (s *Server) remove(c *container, w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	running := c.running
	c.mu.Unlock()
	if running && r.URL.Query().Get("force") != "1" {
		return fail(http.StatusConflict, "container %s runs: stop it first, or force it", c.name)
	}
	s.mu.Lock()
	delete(s.containers, c.id)
	s.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
	return c.remove()
}

// find finds a container by its name, its id, or what the id begins with.
func (s *Server) find(name string) (*container, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var found []*container
	for _, c := range s.containers {
		if c.name == name || c.id == name {
			return c, nil
		}
		if strings.HasPrefix(c.id, name) {
			found = append(found, c)
		}
	}
	switch len(found) {
	case 0:
		return nil, fail(http.StatusNotFound, "No such container: %s", name)
	case 1:
		return found[0], nil
	}
	return nil, fail(http.StatusBadRequest, "Multiple IDs found with provided prefix: %s", name)
}

func (s *Server) list(w http.ResponseWriter, r *http.Request) error {
	var filters map[string]map[string]bool
	if text := r.URL.Query().Get("filters"); text != "" {
		if err := json.Unmarshal([]byte(text), &filters); err != nil {
			return fail(http.StatusBadRequest, "the filters cannot be read: %v", err)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []containers.Summary{}
	for _, c := range s.containers {
		c.mu.Lock()
		state := c.state()
		c.mu.Unlock()
		fits := r.URL.Query().Get("all") == "1" || state.Running
		for label := range filters["label"] {
			key, value, _ := strings.Cut(label, "=")
			fits = fits && c.config.Labels[key] == value
		}
		if fits {
			out = append(out, containers.Summary{ID: c.id, Names: []string{"/" + c.name}, Image: c.config.Image,
				Labels: c.config.Labels, State: state.Status, Created: c.created.Unix()})
		}
	}
	reply(w, http.StatusOK, out)
	return nil
}

// state is called with the lock held.
func (c *container) state() *containers.State {
	out := &containers.State{Status: containers.StateExited, Running: c.running, Paused: c.paused,
		StartedAt: c.started.Format(time.RFC3339Nano)}
	switch {
	case c.paused:
		out.Status = containers.StatePaused
	case c.running:
		out.Status = containers.StateRunning
	}
	return out
}

func (s *Server) inspect(c *container, w http.ResponseWriter, _ *http.Request) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	system, _, _ := strings.Cut(s.opt.System, "/")
	out := containers.InspectResponse{ID: c.id, Name: "/" + c.name, Created: c.created.Format(time.RFC3339Nano),
		Platform: system, Image: c.config.Image,
		State: c.state(), HostConfig: &c.host, Config: c.config}
	for _, m := range c.mounts {
		if m.folder != "" { // memory disks are told of among the settings
			out.Mounts = append(out.Mounts, containers.MountPoint{Type: m.kind, Destination: m.path, RW: true})
		}
	}
	reply(w, http.StatusOK, out)
	return nil
}

func (s *Server) start(c *container, w http.ResponseWriter, _ *http.Request) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.running {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	if err := c.begin(); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// begin starts the first program of a container, with the lock held. Where no programs can be started it is said to
// run.
func (c *container) begin() error {
	over := make(chan struct{})
	c.over, c.started = over, time.Now()
	if c.server.windows() || !canStart() {
		c.running = true
		return nil
	}
	inside, err := c.enter(true)
	if err != nil {
		return err
	}
	command := slices.Concat(c.config.Entrypoint, c.config.Cmd)
	if len(command) == 0 {
		inside.leave()
		return fail(http.StatusBadRequest, "No command specified")
	}
	main, err := inside.start(command, c.config.Env, c.config.User, c.config.WorkingDir, nil, io.Discard, io.Discard)
	if err != nil && !canMount() && (errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.ENOSPC)) {
		inside.leave() // an ordinary user may be kept from a space of users of its own
		c.running = true
		return nil
	}
	if err != nil {
		inside.leave()
		return fail(http.StatusBadRequest, "unable to start container process: %v", err)
	}
	c.running, c.room, c.main = true, inside, main
	go func() {
		<-main.done
		inside.leave()
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.over == over {
			c.running, c.paused, c.room, c.main = false, false, nil, nil
		}
		close(over)
	}()
	return nil
}

// halt ends a container: its first program is asked to end, and made to after a while.
func (c *container) halt(ctx context.Context, patience time.Duration) {
	c.mu.Lock()
	running, main, over := c.running, c.main, c.over
	if running && main == nil {
		c.running, c.paused = false, false
		close(over)
	}
	c.mu.Unlock()
	if !running || main == nil {
		return
	}
	if patience > 0 {
		main.signal(cmp.Or(c.config.StopSignal, "TERM"))
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		if ended(ctx, over) {
			return
		}
	}
	main.signal("KILL")
	<-over
}

func (s *Server) stop(c *container, w http.ResponseWriter, r *http.Request) error {
	c.halt(r.Context(), patience(r))
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// patience is how long a program has to end by itself.
func patience(r *http.Request) time.Duration {
	if seconds, err := strconv.Atoi(r.URL.Query().Get("t")); err == nil {
		return time.Duration(seconds) * time.Second
	}
	return 10 * time.Second
}

func (s *Server) restart(c *container, w http.ResponseWriter, r *http.Request) error {
	c.halt(r.Context(), patience(r))
	return s.start(c, w, r)
}

func (s *Server) kill(c *container, w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.running {
		return fail(http.StatusConflict, "container %s is not running", c.name)
	}
	if c.main != nil {
		c.main.signal(cmp.Or(r.URL.Query().Get("signal"), "KILL"))
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (s *Server) pause(c *container, w http.ResponseWriter, _ *http.Request) error {
	return c.hold(w, true)
}

func (s *Server) unpause(c *container, w http.ResponseWriter, _ *http.Request) error {
	return c.hold(w, false)
}

func (c *container) hold(w http.ResponseWriter, paused bool) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.running || c.paused == paused {
		return fail(http.StatusConflict, "container %s cannot be paused or go on now", c.name)
	}
	c.paused = paused
	w.WriteHeader(http.StatusNoContent)
	return nil
}
