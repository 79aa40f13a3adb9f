// Package targets turns a target's settings into an open site.
package targets

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"tartine/internal/agent"
	"tartine/internal/calls"
	"tartine/internal/connect"
	"tartine/internal/fsys"
	"tartine/internal/fsys/redial"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/trace"
)

// Settings is all that is needed to reach a site: what all kinds of target have, and what each kind has of its own.
type Settings struct {
	Name    string // empty for a bare address
	Address Address
	// a program of this machine that leads to a shell at the far end; nil: none
	Command  []string
	Password func() (string, error) // nil: none is given
	// asks a person what a server wants to know; nil: nobody is there
	Ask func(question string, echo bool) (string, error)

	// how long to try again until the login to a new machine works
	Wait time.Duration
	// how long to try again when the connection is lost; 0: not at all
	Reconnect time.Duration
	// is told of lost connections (see redial.Line); nil: nobody is
	Told func(err error, pause time.Duration)
	Took func(step connect.Step, length time.Duration) // is told how long each step of connecting took; may be nil
	// told what a person should know of the connection; may be nil
	Notice    func(string)
	RateLimit int64 // bytes a second; 0: as fast as it goes

	SSH       SSHSettings
	FTP       FTPSettings
	Container ContainerSettings
	Agent     AgentSettings
	As        RaiseSettings
	Archive   ArchiveSettings

	Jobs    int
	Retire  time.Duration // how long files that are no pages stay after they were retired
	History int           // how many deployments are kept; 0: the usual
	Switch  bool          // the root is a link to one of several trees
	Like    bool          // what is replaced hands its attributes on
	Writes  bool          // the site will be changed
	Reads   bool          // all files of the site will be read, whatever its record says
	// USER:GROUP, as numbers, that what is put into a container belongs to; empty: to root
	Owner   string
	Between func(fsys.FS) fsys.FS // put between the site and its place; nil: nothing

	arrived func(bytes int64)                  // see agent.Program
	beside  func(site.Beside) (fsys.FS, error) // see site.Options
}

// AgentSettings is what there is to say of the program that runs next to the files.
type AgentSettings struct {
	Use     string // auto, off, or the path of one that is installed there
	Builds  string // a folder of builds of this program for other systems; may be empty
	Own     string // the file of this program; empty: where the system says it is
	Version string // which program this is
}

// RaiseSettings says as which other user the agent runs.
type RaiseSettings struct {
	User     string                        // empty: as who logs in
	With     string                        // sudo, doas or su; empty: the first of them that is there
	Password func(try int) (string, error) // asked for where one is wanted; try counts from 1
}

// RaiseProblem tells why files cannot be read and written as another user at a target.
type RaiseProblem struct{ Reason, Instead string }

func (e *RaiseProblem) Error() string { return e.Reason }

func (s *Settings) checkRaised() error {
	wrong := func(instead, reason string, args ...any) error {
		return &RaiseProblem{fmt.Sprintf(reason, args...), instead}
	}
	kind := s.Address.Kind
	switch {
	case !agent.IsUser(s.As.User):
		return wrong("write it as in as: www-data", "%q is not the name of a user", s.As.User)
	case kind == Container:
		return wrong("say whom files belong to with owner:", "in a container the agent runs as its root already, so as: is not for it")
	case kind != SSH && kind != Folder && len(s.Command) == 0:
		return wrong("an address with ssh:// is for that", "%s:// is for files alone, so nobody can become %s there", kind, s.As.User)
	case s.Address.Home:
		return wrong("write the whole path", "a path below the home folder is not clear where as: is set: it may be that of %s", s.As.User)
	case s.Agent.Use == NoAgent:
		return wrong("take agent: off out", "with as: an agent must run at the far end")
	}
	return nil
}

func (s *Settings) between(f fsys.FS) fsys.FS {
	if s.Between != nil {
		return s.Between(f)
	}
	return f
}

// tryAgain is how long to wait between two tries to reach a machine that is not there yet.
const tryAgain = time.Second

// openWaiting connects, and tries again for a while when the machine is not there yet or does not let us in yet, and
// when the connection is lost before the site is open. A host key that is wrong is never tried again.
func openWaiting(ctx context.Context, s Settings, open func(context.Context, Settings) (*Opened, error)) (*Opened, error) {
	var (
		deadline = time.Now().Add(s.Wait)
		pause    = redial.FirstPause
		stuck    time.Time // since when connections are lost and nothing gets through
		arrived  int64
	)
	s.arrived = func(bytes int64) {
		if bytes > arrived {
			arrived, pause, stuck = bytes, redial.FirstPause, time.Now()
		}
	}
	for {
		opened, err := open(ctx, s)
		if err == nil {
			trace.Log(ctx).Info("the site is open", "address", s.Address.String(), "way", opened.Way, "because",
				opened.Why)
		}
		wait := tryAgain
		if s.Reconnect > 0 && connect.IsLost(err) {
			if stuck.IsZero() {
				stuck = time.Now()
			}
			if time.Since(stuck) > s.Reconnect {
				return opened, err
			}
			if s.Told != nil {
				s.Told(err, pause)
			}
			wait, pause = pause, min(2*pause, redial.LongestPause)
		} else {
			var failed *connect.Error
			if !errors.As(err, &failed) || failed.Step == connect.HostKey || failed.Step == connect.Certificate ||
				time.Now().After(deadline) {
				if err == nil && !stuck.IsZero() && s.Told != nil {
					s.Told(nil, 0)
				}
				return opened, err
			}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(wait):
		}
	}
}

// Opened is the engine of an open site with what was opened for it.
type Opened struct {
	calls.Engine
	Read  int64  // bytes that had to be read there before anything else
	Way   string // how it is reached, where there are several, for a person
	Agent bool   // an agent runs there
	// Recorded is the tree digest that was recorded there when it was opened; zero: it is not known.
	Recorded manifest.Digest
	Why      error        // why no agent runs there, an *agent.UnavailableError; nil when one does, or was not wanted
	Clear    bool         // what is sent can be read on the way
	Facts    []site.Check // what was found out on the way, for the doctor
	// Reload has whatever serves the site take up what was published, and tells what was done; nil: nothing is to be
	// done.
	Reload   func(context.Context) (string, error)
	Reloaded string // what it told last

	reloading error // why it failed last
	place     io.Closer
	turn      sync.Mutex
}

// Foretell implements calls.Foreteller.
func (o *Opened) Foretell() {
	if engine, able := o.Engine.(calls.Foreteller); able {
		engine.Foretell()
	}
}

// TakeUp has whatever serves the site take up what was published.
func (o *Opened) TakeUp(ctx context.Context) {
	if o.Reload != nil {
		o.Reloaded, o.reloading = o.Reload(ctx)
	}
}

// ReloadFailed tells why what was published last was not taken up; nil: it was.
func (o *Opened) ReloadFailed() error { return o.reloading }

// Do implements calls.Engine. Calls take turns.
func (o *Opened) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	o.turn.Lock()
	defer o.turn.Unlock()
	return o.Engine.Do(ctx, call, question, answer, watch)
}

// Open opens a file of the site.
func (o *Opened) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	if here, ok := o.Engine.(calls.Opener); ok {
		return here.Open(ctx, path)
	}
	return calls.OpenRemote(ctx, o, path)
}

// Close closes the site's place: the folder, or the connection.
func (o *Opened) Close() error { return o.place.Close() }
