package targets

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"tartine/internal/calls"
	"tartine/internal/connect/engine"
	"tartine/internal/fsys"
	"tartine/internal/fsys/containerfs"
	"tartine/internal/site"
)

// carried is a site in a container in which nothing can be started: it is brought here, changed, and carried back.
type carried struct {
	*calls.Here
	fs        *containerfs.FS
	engine    *engine.Engine
	container *engine.Container
	root      string // below what was brought
	halt      *halt  // nil: it stays as it is
}

func (c *carried) Close() error {
	var err error
	if c.halt != nil {
		err = c.halt.end()
	}
	return errors.Join(err, c.fs.Close(), c.engine.Close())
}

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
	opened := &Opened{Engine: c, Way: "archives", place: c, Read: c.fs.Read()}
	if why != nil {
		opened.Why = why
	}
	if s.Container.Restart != "" && c.container.Running && c.halt == nil {
		opened.Reload = s.reload
	}
	return opened, nil
}

func (s *Settings) carry(ctx context.Context, e *engine.Engine) (*carried, error) {
	c, err := e.Container(ctx, s.Address.Host)
	if err != nil {
		return nil, err
	}
	out := &carried{engine: e, container: c}
	if s.Container.While == "stopped" {
		out.halt = s.haltOf(c)
	}
	err = s.bring(ctx, out)
	if errors.Is(err, engine.ErrRuns) && out.halt != nil && s.Writes {
		if err = out.halt.begin(ctx); err == nil {
			err = s.bring(ctx, out)
		}
	}
	if err == nil {
		return out, nil
	}
	if errors.Is(err, engine.ErrRuns) {
		err = &ContainerError{Name: c.Name, Runs: true}
	}
	if out.halt != nil {
		err = errors.Join(err, out.halt.end())
	}
	return nil, err
}

// bring brings what is needed of a container here, and opens the site in it.
func (s *Settings) bring(ctx context.Context, out *carried) error {
	c := out.container
	if onDrive(s.Address.Path) && !c.Windows() {
		return s.noDrive(c)
	}
	if err := s.canWrite(c); err != nil {
		return err
	}
	if at := mountAt(c, s.Address.Path); at != nil && at.Kind == memoryDisk {
		return &ContainerError{Name: c.Name, Err: fmt.Errorf("%s is on a memory disk, which only programs in it can reach", s.Address.Path)}
	}
	look := func(name string) (bool, error) { return c.IsFolder(ctx, name) }
	p, err := s.find(s.Address.Path, above, path.Base, look, func(name string) (string, error) { return name, nil })
	if err != nil {
		return asRootError(s.Address.Path, err)
	}
	owner, err := parseOwner(s.Owner)
	if err != nil {
		return err
	}
	if owner != nil && c.Windows() {
		return &ContainerError{Name: c.Name, Err: errors.New("numeric owners are not supported in a container of Windows: leave owner: out")}
	}
	if isMount(c, path.Join(p.base, p.root)) {
		p = place{path.Join(p.base, p.root), "."} // nothing beside it lies on the same file system
	}
	below := func(name string) (string, bool) {
		return strings.CutPrefix(name, strings.TrimSuffix(p.base, "/")+"/")
	}
	record, _ := below(recordIn(c, path.Join(p.base, p.root)))
	names := []string{p.root}
	if p.root != "." {
		names = append(names, record)
	}
	opt := containerfs.Options{Owner: owner, Windows: c.Windows(), Aside: record + asideFolder,
		Last: record + "/current"}
	if opt.Root.User, opt.Root.Group, err = c.Root(ctx); err != nil {
		return &ContainerError{Name: c.Name, Err: err}
	}
	for _, m := range c.Mounts {
		if name, ok := below(m.Path); ok {
			opt.Mounts = append(opt.Mounts, name)
		}
	}
	if !s.Reads { // there is a record to go by
		if opt.Lazy, err = c.Has(ctx, path.Join(p.base, opt.Last)); err != nil {
			return err
		}
	}
	f, err := containerfs.Open(ctx, c, p.base, names, opt)
	if errors.Is(err, engine.ErrRuns) {
		return err
	}
	if err != nil {
		return &ContainerError{Name: c.Name, Err: err}
	}
	opened, err := site.Open(ctx, s.between(f), p.root, s.Address.Path, site.Options{Jobs: s.Jobs})
	if err != nil {
		f.Close()
		return err
	}
	out.Here, out.fs, out.root = calls.NewHere(opened), f, p.root
	out.Surveyed = out.adopt
	return nil
}

// asideFolder is the record's folder of what an archive puts aside.
const asideFolder = "/carried"

// recordIn is where the record of a root lies: beside it, or in one that is a mount.
func recordIn(c *engine.Container, root string) string {
	if isMount(c, root) {
		return path.Join(root, site.InsideRecord)
	}
	return path.Join(path.Dir(root), site.RecordName(path.Base(root)))
}

// half tells whether an archive that was carried into a container ended early.
func (s *Settings) half(ctx context.Context, c *engine.Container) (bool, error) {
	return c.Has(ctx, path.Join(recordIn(c, s.Address.Path)+asideFolder, containerfs.NoteName))
}

// noDrive tells that a path names a drive and there is none.
func (s *Settings) noDrive(c *engine.Container) error {
	return &site.RootError{Root: s.Address.Path, Reason: fmt.Sprintf("cannot be: a container of %s has no drives",
		c.System)}
}

// push carries what was changed into the container. One that was stopped for it is started again whatever happens. Once
// it has begun it is not broken off: half an archive would be half a site.
func (c *carried) push(ctx context.Context) (err error) {
	ctx = context.WithoutCancel(ctx)
	if c.halt != nil {
		if err := c.halt.begin(ctx); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, c.halt.end()) }()
	}
	if err := c.fs.Push(ctx); err != nil {
		return &ContainerError{Name: c.container.Name, Carrying: true, Err: err}
	}
	return nil
}

// Do implements calls.Engine: what a call has changed is carried into the container.
func (c *carried) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	switch {
	case call == calls.Any(calls.Examine):
		*answer.(*[]site.Check) = c.examine()
		return nil
	case call == calls.Any(calls.Affirm) && c.fs.Hashed() <= affirmed: // it pays where an archive ended early, or where much had to be read once more
		if _, interrupted := c.fs.Interrupted(); !interrupted {
			return nil
		}
		return c.push(ctx)
	}
	if err := c.Here.Do(ctx, call, question, answer, watch); err != nil || !call.Changes() {
		return err
	}
	done := true
	switch a := answer.(type) {
	case **site.Outcome:
		if done = (*a).Number > 0; done {
			(*a).Method, (*a).NotAtomic = site.FromContainer, c.container.Running && c.halt == nil
		}
	case *int: // of a publish that was finished
		done = *a > 0
	case **site.GivenUp:
		done = *a != nil
	}
	if !done {
		return nil
	}
	return c.push(ctx)
}

// affirmed is from how many bytes on that were read once more it is worth a new record of when they were.
const affirmed = 4 << 20

// adopt does not take what an archive that ended early has left half done for somebody else's doing.
func (c *carried) adopt(ctx context.Context, survey *site.Survey) error {
	changed, interrupted := c.fs.Interrupted()
	if !interrupted {
		return nil
	}
	survey.Unsettled++ // so that it is settled when all is as it should be: see Do
	return c.Site.Adopt(ctx, survey, func(name string) bool { return changed(fsys.Join(c.root, name)) })
}

// examine tells what is known without writing.
func (c *carried) examine() []site.Check {
	state, fix := "it does not run: nobody sees files while they are replaced", ""
	switch {
	case c.container.Paused:
		state = "it is paused: nobody sees files while they are replaced"
	case c.container.Running && c.halt != nil:
		state = "it runs, and is stopped while files are replaced"
	case c.container.Running:
		state, fix = "it runs, and files are replaced one after the other, each of them not in one step",
			"with while: stopped it is stopped meanwhile"
	}
	return []site.Check{{Name: "container", Verdict: site.Good, Found: state},
		{Name: "replace", Verdict: site.Slow, Found: "what changed is carried there in one archive, and read back",
			Fix: fix}}
}

// halt stops a container for as long as its files are changed, and starts it again. While it is stopped a file of this
// machine says so: should this program be killed, the next run starts the container again.
type halt struct {
	container *engine.Container
	file      string    // empty: there is no place for one
	began     time.Time // zero: it is not stopped
	told      func(name string, down time.Duration, err error)
}

// haltOf gives the halt of a container: nil where it does not run, unless a run that was killed had stopped it.
func (s *Settings) haltOf(c *engine.Container) *halt {
	h := &halt{container: c, told: s.Container.Held}
	if dir, err := os.UserCacheDir(); err == nil {
		h.file = filepath.Join(dir, "tartine", "stopped", c.ID)
	}
	if c.Running {
		return h
	}
	info, err := os.Stat(h.file)
	if err != nil || !s.Writes {
		return nil
	}
	h.began = info.ModTime()
	return h
}

// startsAgain is how long an engine may take to start a container after everything else has ended.
const startsAgain = 2 * time.Minute

func (h *halt) begin(ctx context.Context) error {
	if !h.began.IsZero() {
		return nil
	}
	if h.file != "" {
		err := os.MkdirAll(filepath.Dir(h.file), 0o700)
		if err == nil {
			err = os.WriteFile(h.file, []byte(h.container.Name+"\n"), 0o600)
		}
		if err != nil {
			return fmt.Errorf("note that container %s is stopped: %w", h.container.Name, err)
		}
	}
	h.began = time.Now()
	if err := h.container.Stop(ctx); err != nil {
		return errors.Join(&ContainerError{Name: h.container.Name, Err: err}, h.end()) // it may be stopping
	}
	return nil
}

func (h *halt) end() error {
	if h.began.IsZero() {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), startsAgain) // also when all else was given up
	defer cancel()
	err := h.container.Start(ctx)
	if err == nil && h.file != "" {
		err = os.Remove(h.file)
	}
	if h.told != nil {
		h.told(h.container.Name, time.Since(h.began), err)
	}
	h.began = time.Time{}
	if err != nil {
		return &ContainerError{Name: h.container.Name, Err: err}
	}
	return nil
}
