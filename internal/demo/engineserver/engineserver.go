// Package engineserver is a small container engine on a Unix socket: a stand-in for the example and for tests, where no
// engine runs or where one that runs cannot be made to show something. It speaks the part of the engines' HTTP
// interface that Tartine needs: images from an archive; containers that are made, started, stopped and removed;
// programs in them; and archives in and out.
//
// A container is a folder. Where this program runs as root on Linux, its programs see that folder as their top, with
// volumes, memory disks and a top that cannot be written; for an ordinary user of Linux there is the folder alone, and
// on other systems nothing can be started. It shuts nobody in: what runs in a container could leave it.
package engineserver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"

	"github.com/moby/moby/api/types/common"
)

// Options says what an engine is like.
type Options struct {
	Dir     string // everything lies in it; must not be open to others
	Version string // of the interface; empty: 1.41
	System  string // what its containers are, as in windows/amd64; empty: Linux on this processor
	// Isolated containers cannot be read nor written through archives while they run.
	Isolated bool
	// Users is what the users of containers are higher by outside. Archives that the engine gives tell those of
	// outside; those that it takes, those of inside.
	Users int
	// Fault may spoil a request. Nil, or a nil result: it is answered.
	Fault func(r *http.Request) *Fault
}

// Fault is what goes wrong with a request.
type Fault struct {
	After   int64  // how many bytes of its body are read, or of the answer's sent, before it does
	Status  int    // 0: the connection ends
	Message string // what the engine says
}

// Server is a running engine.
type Server struct {
	Address string // of its socket, unix://…

	opt  Options
	http *http.Server
	done chan error

	mu         sync.Mutex
	images     map[string]string // a reference or an id to the file of its archive
	containers map[string]*container
	execs      map[string]*execution
}

// Start starts an engine.
func Start(opt Options) (*Server, error) {
	if opt.Version == "" {
		opt.Version = "1.41"
	}
	if opt.System == "" {
		opt.System = "linux/" + runtime.GOARCH
	}
	socket := filepath.Join(opt.Dir, "engine.sock")
	l, err := net.Listen("unix", socket)
	if err != nil {
		return nil, err
	}
	s := &Server{Address: "unix://" + filepath.ToSlash(socket), opt: opt, done: make(chan error, 1),
		images: map[string]string{}, containers: map[string]*container{}, execs: map[string]*execution{}}
	s.http = &http.Server{Handler: s.handler()}
	go func() { s.done <- s.http.Serve(l) }()
	return s, nil
}

// Close ends the engine and all that runs in its containers. What they hold goes too.
func (s *Server) Close() error {
	err := s.http.Close()
	if serving := <-s.done; !errors.Is(serving, http.ErrServerClosed) {
		err = errors.Join(err, serving)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.containers {
		err = errors.Join(err, c.remove())
	}
	for _, file := range s.images {
		_ = os.Remove(file) // it may have several names
	}
	return err
}

// windows tells whether the containers are of that system.
func (s *Server) windows() bool { return strings.HasPrefix(s.opt.System, "windows/") }

// failure is an error with the status that it is answered with.
type failure struct {
	status  int
	message string
}

func (f *failure) Error() string { return f.message }

func fail(status int, format string, args ...any) error {
	return &failure{status, fmt.Sprintf(format, args...)}
}

var versioned = regexp.MustCompile(`^/v(\d+)\.(\d+)/`)

func (s *Server) handler() http.Handler {
	mux := http.NewServeMux()
	on := func(pattern string, answer func(w http.ResponseWriter, r *http.Request) error) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			if err := answer(w, r); err != nil {
				status := http.StatusInternalServerError
				var known *failure
				if errors.As(err, &known) {
					status = known.status
				}
				reply(w, status, common.ErrorResponse{Message: err.Error()})
			}
		})
	}
	on("GET /_ping", s.ping)
	on("POST /images/create", s.importImage)
	on("GET /images/{name}/json", s.inspectImage)
	on("DELETE /images/{name}", s.removeImage)
	on("GET /containers/json", s.list)
	on("POST /containers/create", s.create)
	on("POST /exec/{id}/start", s.startExec)
	on("GET /exec/{id}/json", s.inspectExec)
	of := func(pattern string, answer func(c *container, w http.ResponseWriter, r *http.Request) error) {
		on(pattern, func(w http.ResponseWriter, r *http.Request) error {
			c, err := s.find(r.PathValue("name"))
			if err != nil {
				return err
			}
			return answer(c, w, r)
		})
	}
	of("GET /containers/{name}/json", s.inspect)
	of("POST /containers/{name}/start", s.start)
	of("POST /containers/{name}/stop", s.stop)
	of("POST /containers/{name}/restart", s.restart)
	of("POST /containers/{name}/kill", s.kill)
	of("POST /containers/{name}/pause", s.pause)
	of("POST /containers/{name}/unpause", s.unpause)
	of("DELETE /containers/{name}", s.remove)
	of("POST /containers/{name}/exec", s.createExec)
	of("HEAD /containers/{name}/archive", s.statPath)
	of("GET /containers/{name}/archive", s.getArchive)
	of("PUT /containers/{name}/archive", s.putArchive)

	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Api-Version", s.opt.Version)
		w.Header().Set("Ostype", strings.Split(s.opt.System, "/")[0])
		if asked := versioned.FindString(r.URL.Path); asked != "" {
			r.URL.Path = strings.TrimPrefix(r.URL.Path, strings.TrimSuffix(asked, "/"))
		}
		if s.opt.Fault != nil {
			if f := s.opt.Fault(r); f != nil {
				spoil(mux, f, w, r)
				return
			}
		}
		mux.ServeHTTP(w, r)
	})
}

// spoil answers a request until something goes wrong.
func spoil(next http.Handler, f *Fault, w http.ResponseWriter, r *http.Request) {
	if f.After > 0 {
		left := f.After
		r.Body = io.NopCloser(io.LimitReader(r.Body, f.After))
		next.ServeHTTP(&short{w, &left, r.Method == http.MethodPut}, r)
	}
	if f.Status == 0 {
		panic(http.ErrAbortHandler)
	}
	reply(w, f.Status, common.ErrorResponse{Message: f.Message})
}

// short is an answer of which only the beginning is sent, or nothing.
type short struct {
	http.ResponseWriter
	left   *int64
	silent bool
}

func (s *short) WriteHeader(status int) {
	if !s.silent {
		s.ResponseWriter.WriteHeader(status)
	}
}

func (s *short) Write(p []byte) (int, error) {
	if s.silent {
		return len(p), nil
	}
	n, err := s.ResponseWriter.Write(p[:min(int64(len(p)), *s.left)])
	if *s.left -= int64(n); *s.left == 0 {
		_ = http.NewResponseController(s.ResponseWriter).Flush()
		panic(http.ErrAbortHandler)
	}
	return n, err
}

func reply(w http.ResponseWriter, status int, object any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(object) // whoever asked may have gone
}

func (s *Server) ping(w http.ResponseWriter, _ *http.Request) error {
	_, err := io.WriteString(w, "OK")
	return err
}

// ended waits until something is done, and tells whether that came before the end of the context.
func ended(ctx context.Context, done <-chan struct{}) bool {
	select {
	case <-done:
		return true
	case <-ctx.Done():
		return false
	}
}
