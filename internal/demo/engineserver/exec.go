package engineserver

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sync"

	containers "github.com/moby/moby/api/types/container"
)

// execution is a program that is started in a container that runs.
type execution struct {
	container *container
	asked     containers.ExecCreateRequest

	mu      sync.Mutex
	running bool
	status  *int
}

func (s *Server) createExec(c *container, w http.ResponseWriter, r *http.Request) error {
	e := &execution{container: c}
	if err := json.NewDecoder(r.Body).Decode(&e.asked); err != nil || len(e.asked.Cmd) == 0 {
		return fail(http.StatusBadRequest, "No exec command specified")
	}
	c.mu.Lock()
	running, paused := c.running, c.paused
	c.mu.Unlock()
	switch {
	case !running:
		return fail(http.StatusConflict, "Container %s is not running", c.id)
	case paused:
		return fail(http.StatusConflict, "Container %s is paused, unpause the container before exec", c.id)
	}
	id := newID()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.execs[id] = e
	reply(w, http.StatusCreated, containers.ExecCreateResponse{ID: id})
	return nil
}

func (s *Server) execution(r *http.Request) (*execution, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.execs[r.PathValue("id")]; e != nil {
		return e, nil
	}
	return nil, fail(http.StatusNotFound, "No such exec instance: %s", r.PathValue("id"))
}

func (s *Server) inspectExec(w http.ResponseWriter, r *http.Request) error {
	e, err := s.execution(r)
	if err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	reply(w, http.StatusOK, containers.ExecInspectResponse{ID: r.PathValue("id"), Running: e.running,
		ExitCode: e.status, ContainerID: e.container.id})
	return nil
}

// startExec starts a program; from then on the connection is its standard input, and gives what it writes in pieces,
// each with a head of eight bytes: 1 for the standard output or 2 for the standard error, three zero bytes, and its
// length.
func (s *Server) startExec(w http.ResponseWriter, r *http.Request) error {
	e, err := s.execution(r)
	if err != nil {
		return err
	}
	e.container.mu.Lock()
	inside := e.container.room
	e.container.mu.Unlock()
	if inside == nil {
		return fail(http.StatusNotImplemented, "this engine starts no programs in containers")
	}
	if _, err := io.Copy(io.Discard, r.Body); err != nil { // what comes behind it belongs to the program
		return err
	}
	conn, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return err
	}
	defer conn.Close()
	fmt.Fprint(conn, "HTTP/1.1 101 UPGRADED\r\nContent-Type: application/vnd.docker.raw-stream\r\nConnection: Upgrade\r\nUpgrade: tcp\r\n\r\n")
	var lock sync.Mutex
	out, words := &pieces{1, conn, &lock}, &pieces{2, conn, &lock}
	status := 126
	started, err := inside.start(e.asked.Cmd, e.asked.Env, e.asked.User, e.asked.WorkingDir, buffered, out, words)
	if err != nil {
		fmt.Fprintf(out, "exec failed: unable to start container process: %v\r\n", err)
	} else {
		e.mu.Lock()
		e.running = true
		e.mu.Unlock()
		<-started.done
		status = started.status
	}
	e.mu.Lock()
	e.running, e.status = false, &status
	e.mu.Unlock()
	return nil
}

// pieces writes one of the two streams.
type pieces struct {
	stream byte
	to     io.Writer
	lock   *sync.Mutex
}

func (p *pieces) Write(b []byte) (int, error) {
	p.lock.Lock()
	defer p.lock.Unlock()
	piece := binary.BigEndian.AppendUint32([]byte{p.stream, 0, 0, 0}, uint32(len(b)))
	if _, err := p.to.Write(append(piece, b...)); err != nil {
		return 0, err
	}
	return len(b), nil
}
