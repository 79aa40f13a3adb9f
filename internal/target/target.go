// Package target turns a target's settings into an open site.
package target

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"tartine/internal/agent"
	"tartine/internal/connect"
	"tartine/internal/connect/sshconfig"
	"tartine/internal/deploy"
	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/fsys/redial"
	"tartine/internal/fsys/sftpfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/trace"
)

// Settings is all that is needed to reach a site.
type Settings struct {
	Name       string // empty for a bare address
	Address    Address
	Identity   string
	Key        *connect.KeySource // the private key itself, in place of a file; nil: there is none
	HostKey    string
	KnownHosts string
	Password   func() (string, error)
	Passphrase func(file string) (string, error)
	Settled    bool                                             // Passphrase asks nobody
	Ask        func(question string, echo bool) (string, error) // asks a person what a server wants to know; nil: nobody is there
	Wait       time.Duration                                    // how long to try again until a new machine lets us in
	Reconnect  time.Duration                                    // how long to try again when the line is lost; 0: not at all
	Told       func(err error, pause time.Duration)             // is told of lost lines (see redial.Line); nil: nobody is
	Took       func(step connect.Step, length time.Duration)    // is told how long each step of connecting took; may be nil
	RateLimit  int64                                            // bytes a second; 0: as fast as it goes

	Agent       string // which program runs next to the files: auto, off, or the path of one that is installed there
	Agents      string // a folder of builds of this program for other systems; may be empty
	Own         string // the file of this program; empty: where the system says it is
	Build       string // which program this is
	Certificate string // the fingerprint that pins an FTP server's certificate
	Insecure    bool   // a password may cross the line in the clear
	Engine      string // the address of the container engine; empty: the usual one
	Writes      bool   // a container that cannot be reached while it runs may be stopped, where While says so
	Reads       bool   // all files of the site will be read, whatever its record says
	// Held is told that a container was stopped, how long, and why it does not run again; may be nil.
	Held      func(name string, down time.Duration, err error)
	Owner     string          // USER:GROUP, as numbers, that what is put into a container belongs to; empty: to root
	While     string          // "stopped": a container is stopped while its files are changed; empty: it is left as it is
	Restart   string          // what a container is told after publishing: "true", or "signal:NAME"; empty: nothing
	Command   []string        // a program of this machine that leads to a shell at the far end; nil: none
	SSHConfig sshconfig.Files // OpenSSH's client settings; none: they do not count
	Notice    func(string)    // told what a person should know of the connection; may be nil
	Via       []string        // hosts that are gone through, each as [USER@]HOST[:PORT]
	Jobs      int
	Retire    time.Duration         // how long files that are no pages stay after they were retired
	History   int                   // how many deployments are kept; 0: the usual
	Switch    bool                  // the root is a link to one of several trees
	Between   func(fsys.FS) fsys.FS // put between the site and its place; nil: nothing

	arrived func(bytes int64) // see agent.Program
}

// SSH gives how to connect to a target that is reached over SSH. What the target says wins over OpenSSH's own settings.
func (s *Settings) SSH(ctx context.Context) (*connect.SSH, error) {
	dial := &connect.SSH{Host: s.Address.Host, Port: s.Address.Port, User: s.Address.User, Identity: s.Identity, Key: s.Key,
		HostKey: s.HostKey, KnownHosts: s.KnownHosts, Password: s.Password, Passphrase: s.Passphrase, Settled: s.Settled,
		Ask: s.Ask, Took: s.Took, Limit: connect.NewThrottle(s.RateLimit), Notice: s.Notice}
	if len(s.Via) > 0 {
		if err := dial.GoThrough(s.Via); err != nil {
			return nil, err
		}
	}
	if s.SSHConfig.User == "" {
		return dial, nil
	}
	if err := dial.Configure(ctx, s.SSHConfig); err != nil {
		return nil, err
	}
	for at := dial; at != nil && s.Notice != nil; at = at.Via {
		if len(at.Unhonoured) > 0 {
			s.Notice(fmt.Sprintf("the SSH settings of %s have what is not honoured here: %s", at.Given, strings.Join(at.Unhonoured, ", ")))
		}
	}
	return dial, nil
}

func (s *Settings) between(f fsys.FS) fsys.FS {
	if s.Between != nil {
		return s.Between(f)
	}
	return f
}

// Open connects and opens the site. The site must be closed.
func Open(ctx context.Context, s Settings) (*Opened, error) {
	switch {
	case len(s.Command) > 0:
		return openCommand(ctx, s)
	case s.Address.Kind == Folder:
		return openFolder(ctx, s)
	case s.Address.Kind == FTP || s.Address.Kind == FTPS:
		return openWaiting(ctx, s, openFTP)
	case s.Address.Kind == Container:
		return openContainer(ctx, s)
	}
	return openWaiting(ctx, s, openSSH)
}

// tryAgain is how long to wait between two tries to reach a machine that is not there yet.
const tryAgain = time.Second

// openWaiting connects, and tries again for a while when the machine is not there yet or does not let us in yet, and when the
// connection is lost before the site is open. A host key that is wrong is never tried again.
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
			trace.Log(ctx).Info("the site is open", "address", s.Address.String(), "way", opened.Way, "because", opened.Why)
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
			if !errors.As(err, &failed) || failed.Step == connect.HostKey || failed.Step == connect.Certificate || time.Now().After(deadline) {
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

// Site is a site as commands see it, wherever its engine runs.
type Site interface {
	deploy.Site
	History(ctx context.Context) ([]site.Past, error)
	Verify(ctx context.Context, m *manifest.Manifest, strays bool, watch *site.Watch) (*site.Report, error)
	Examine(ctx context.Context) ([]site.Check, error)
	Unfinished(ctx context.Context) (bool, error)
	Locked(ctx context.Context) (*site.Holder, error)
	Unlock(ctx context.Context, holder *site.Holder) error
	GiveUp(ctx context.Context, user string) (*site.GivenUp, error)
	ReadPath(ctx context.Context, path string) (io.ReadCloser, error)
	Gather(ctx context.Context, paths []string, each func(i int, content []byte, err error)) error
	Stands(ctx context.Context, paths []string, told func(bytes int64)) (*site.Standing, error)
}

// Opened is an open site with what was opened for it.
type Opened struct {
	Site
	Read  int64        // bytes that had to be read there before anything else
	Way   string       // how it is reached, where there are several: "agent" or "SFTP"
	Why   error        // why no agent runs there, an *agent.UnavailableError; nil when one does, or was not wanted
	Clear bool         // what is sent can be read on the way
	Facts []site.Check // what was found out on the way, for the doctor
	// Reload has whatever serves the site take up what was published, and tells what was done; nil: nothing is to be done.
	Reload func(context.Context) (string, error)

	place io.Closer
}

// Close closes the site's place: the folder, or the connection.
func (o *Opened) Close() error { return o.place.Close() }

// place is where a root is found: a folder that stands, and the root's name below it.
type place struct{ base, root string }

// locate finds the nearest folder at or above a root that stands. Look follows links and tells whether there is a
// folder; resolve gives its true path.
func locate(root string, dir, base func(string) string, look func(string) (folder bool, err error), resolve func(string) (string, error)) (place, error) {
	rest := ""
	for at := root; ; at = dir(at) {
		folder, err := look(at)
		switch {
		case err == nil && !folder:
			return place{}, &site.RootError{Root: root, Reason: fmt.Sprintf("cannot be used: %s is not a folder", at)}
		case err == nil:
			real, err := resolve(at)
			if err != nil {
				return place{}, &site.RootError{Root: root, Reason: "cannot be looked at: " + err.Error(), Err: err}
			}
			if rest != "" || dir(real) == real {
				return place{real, joinOr(rest)}, nil
			}
			return place{dir(real), base(real)}, nil
		case !errors.Is(err, fs.ErrNotExist) && !isNotFolder(err):
			return place{}, err
		case dir(at) == at:
			return place{}, &site.RootError{Root: root, Reason: "cannot be found: nothing stands above it", Err: err}
		}
		rest = strings.TrimSuffix(base(at)+"/"+rest, "/")
	}
}

func isFolder(stat func(string) (fs.FileInfo, error)) func(string) (bool, error) {
	return func(name string) (bool, error) {
		info, err := stat(name)
		return err == nil && info.IsDir(), err
	}
}

func joinOr(rest string) string {
	if rest == "" {
		return "."
	}
	return rest
}

// find locates a root as the target is published.
func (s *Settings) find(root string, dir, base func(string) string, look func(string) (folder bool, err error), resolve func(string) (string, error)) (place, error) {
	if s.Switch {
		return locateSwitched(root, dir, base, look, resolve)
	}
	return locate(root, dir, base, look, resolve)
}

// locateSwitched is locate for a root that is a link, or will be one: the link itself is not followed.
func locateSwitched(root string, dir, base func(string) string, look func(string) (folder bool, err error), resolve func(string) (string, error)) (place, error) {
	above, err := locate(dir(root), dir, base, look, resolve)
	if err != nil {
		return place{}, err
	}
	if above.root != "." {
		// The folder above the root is itself found below a base.
		return place{above.base, above.root + "/" + base(root)}, nil
	}
	return place{above.base, base(root)}, nil
}

// moved tells where a root leads that is a link now, although a folder with a record beside it stood there once; empty: it is not so.
func moved(root string, dir, base func(string) string, join func(...string) string, lstat func(string) (fs.FileInfo, error), resolve func(string) (string, error)) string {
	info, err := lstat(root)
	if err != nil || info.Mode()&fs.ModeSymlink == 0 {
		return ""
	}
	if _, err := lstat(join(dir(root), site.RecordName(base(root)), "current")); err != nil {
		return ""
	}
	to, err := resolve(root)
	if err != nil {
		return ""
	}
	return to
}

func openFolder(ctx context.Context, s Settings) (*Opened, error) {
	opened, place, err := s.openLocal(ctx)
	if err != nil {
		return nil, err
	}
	return &Opened{Site: opened, place: place}, nil
}

func (s *Settings) openLocal(ctx context.Context) (*site.Site, io.Closer, error) {
	p, err := s.find(s.Address.Path, filepath.Dir, filepath.Base, isFolder(os.Stat), filepath.EvalSymlinks)
	if err != nil {
		return nil, nil, asRootError(s.Address.Path, err)
	}
	if !strings.Contains(p.root, "/") && p.root != "." && osfs.IsMount(filepath.Join(p.base, p.root)) {
		p = place{filepath.Join(p.base, p.root), "."} // nothing beside it lies on the same file system
	}
	f, err := osfs.Open(p.base)
	if errors.Is(err, fs.ErrPermission) && !strings.Contains(p.root, "/") {
		// The folder above the root may be closed to this user.
		f, err = osfs.Open(filepath.Join(p.base, p.root))
		p.root = "."
	}
	if err != nil {
		return nil, nil, asRootError(s.Address.Path, err)
	}
	if f.Owner, err = parseOwner(s.Owner); err != nil {
		f.Close()
		return nil, nil, err
	}
	opt := site.Options{Jobs: s.Jobs, Switch: s.Switch}
	if !s.Switch {
		opt.Moved = moved(s.Address.Path, filepath.Dir, filepath.Base, filepath.Join, os.Lstat, filepath.EvalSymlinks)
	}
	opened, err := site.Open(ctx, s.between(f), p.root, s.Address.Path, opt)
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return opened, f, nil
}

// parseOwner reads USER:GROUP, as numbers. An empty text is nil.
func parseOwner(text string) (*osfs.Owner, error) {
	if text == "" {
		return nil, nil
	}
	user, group, both := strings.Cut(text, ":")
	uid, err := strconv.ParseUint(user, 10, 31)
	gid, failed := strconv.ParseUint(group, 10, 31)
	if err != nil || failed != nil || !both {
		return nil, fmt.Errorf("owner %q is not USER:GROUP as numbers", text)
	}
	return &osfs.Owner{User: int(uid), Group: int(gid)}, nil
}

func asRootError(root string, err error) error {
	var already *site.RootError
	if errors.As(err, &already) || errors.Is(err, fsys.ErrLost) {
		return err
	}
	var inner *fs.PathError
	if errors.As(err, &inner) {
		err = inner.Err
	}
	return &site.RootError{Root: root, Reason: "cannot be looked at: " + err.Error(), Err: err}
}

// session is an SFTP session and what it runs over.
type session struct {
	*sftp.Client
	ssh *ssh.Client
}

func (s *session) Close() error { return errors.Join(s.Client.Close(), s.ssh.Close()) }

// startSession starts SFTP over a connection, which is closed when that fails.
func startSession(ctx context.Context, dial *connect.SSH, client *ssh.Client) (*session, error) {
	// A far end that starts nothing must not hold us up.
	stop := context.AfterFunc(ctx, func() { client.Close() })
	defer stop()
	timer := time.AfterFunc(dial.Timeout, func() { client.Close() })
	defer timer.Stop()
	transfer, err := connect.OpenSFTP(client, trace.Wire(ctx))
	if err != nil {
		_, _, gone := client.SendRequest("keepalive@openssh.com", true, nil)
		client.Close()
		if gone != nil && timer.Stop() && ctx.Err() == nil {
			return nil, fmt.Errorf("%w before file transfer began", fsys.ErrLost)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &connect.Error{Step: connect.Start, Address: dial.Address(), User: dial.User, Err: err}
	}
	return &session{transfer, client}, nil
}

// mostJobs is how many files are in flight at most over a long line: servers allow about a thousand open files.
const mostJobs = 256

// jobsOver gives how many files to have in flight over a line: each takes several round trips, so the longer one takes
// the more.
func jobsOver(client *sftp.Client) int {
	trip := time.Hour
	for range 2 {
		began := time.Now()
		if _, err := client.RealPath("."); err != nil {
			return 0 // it shows elsewhere
		}
		trip = min(trip, time.Since(began))
	}
	return min(site.DefaultJobs+int(trip/time.Millisecond)*6, mostJobs)
}

// place gives a folder at the far end through a session, which is closed with it.
func (s *Settings) place(over *session, base string) fsys.FS {
	exec := sftpfs.Exec(connect.Exec(over.ssh))
	if s.Address.Kind == SFTP {
		exec = nil // sftp:// means SFTP alone
	}
	return sftpfs.New(over.Client, base, exec, over.ssh)
}

// openSSH opens a site through an agent where one is wanted and can run, else over SFTP.
func openSSH(ctx context.Context, s Settings) (*Opened, error) {
	dial, err := s.SSH(ctx)
	if err != nil {
		return nil, err
	}
	client, err := dial.Dial(ctx)
	if err != nil {
		return nil, err
	}
	return s.openOver(ctx, dial, client)
}

// openOver opens a site over a connection, which it closes with it, or when it fails.
func (s *Settings) openOver(ctx context.Context, dial *connect.SSH, client *ssh.Client) (*Opened, error) {
	var why *agent.UnavailableError
	if s.Address.Kind == SSH && s.Agent != NoAgent && s.Between == nil {
		opened, err := s.openAgent(ctx, dial, client)
		if !errors.As(err, &why) {
			if err != nil {
				client.Close()
			}
			return opened, err
		}
	}
	opened, err := s.openSFTP(ctx, dial, client)
	if err == nil && why != nil {
		opened.Why = why
	}
	return opened, err
}

// openSFTP opens a site over SFTP through a connection, which it closes with it, or when it fails.
func (s *Settings) openSFTP(ctx context.Context, dial *connect.SSH, client *ssh.Client) (*Opened, error) {
	over, err := startSession(ctx, dial, client)
	if err != nil {
		return nil, err
	}
	root := s.Address.Path
	if s.Address.Home {
		home, err := over.Getwd()
		if err != nil {
			over.Close()
			return nil, &connect.Error{Step: connect.Start, Address: dial.Address(), User: dial.User, Err: err}
		}
		root = path.Join(home, root)
	}
	if s.Jobs == 0 {
		s.Jobs = jobsOver(over.Client)
	}
	p, err := s.find(root, path.Dir, path.Base, isFolder(over.Stat), over.RealPath)
	if err == nil {
		f := s.lasting(dial, s.place(over, p.base), p.base)
		var opened *site.Site
		opt := site.Options{Jobs: s.Jobs, Switch: s.Switch}
		if !s.Switch {
			opt.Moved = moved(root, path.Dir, path.Base, path.Join, over.Lstat, over.RealPath)
		}
		if opened, err = site.Open(ctx, s.between(f), p.root, root, opt); err == nil {
			return &Opened{Site: opened, Way: "SFTP", place: f}, nil
		}
	}
	over.Close()
	if errors.Is(err, sftp.ErrSSHFxConnectionLost) {
		err = fsys.ErrLost
	}
	return nil, asRootError(root, err)
}

// lasting gives a place whose line is opened again when it is lost.
func (s *Settings) lasting(dial *connect.SSH, f fsys.FS, base string) fsys.FS {
	if s.Reconnect <= 0 {
		return f
	}
	line := redial.Line[fsys.FS]{Patience: s.Reconnect, Told: s.Told}
	line.Open = func(ctx context.Context) (fsys.FS, error) {
		client, err := dial.Dial(ctx)
		if err != nil {
			return nil, err
		}
		over, err := startSession(ctx, dial, client)
		if err != nil {
			return nil, err
		}
		return s.place(over, base), nil
	}
	line.Final = isFinal
	if line.Told == nil {
		line.Told = func(error, time.Duration) {}
	}
	return redial.New(f, line)
}

// OverlapError tells that a source and a folder target lie in one another.
type OverlapError struct{ Source, Root string }

func (e *OverlapError) Error() string {
	return fmt.Sprintf("source %s and target %s lie in one another", e.Source, e.Root)
}

// CheckOverlap refuses a source that holds the root of a folder target, or lies in it or in its record.
func CheckOverlap(a Address, sources []string) error {
	if a.Kind != Folder {
		return nil
	}
	root := trueFolder(a.Path)
	record := filepath.Join(filepath.Dir(root), site.RecordName(filepath.Base(root)))
	for _, source := range sources {
		absolute, err := filepath.Abs(source)
		if err != nil {
			continue
		}
		real := trueFolder(absolute)
		if within(real, root) || within(root, real) || within(real, record) {
			return &OverlapError{source, a.Path}
		}
	}
	return nil
}

// trueFolder resolves the links of as much of a path as stands.
func trueFolder(name string) string {
	if real, err := filepath.EvalSymlinks(name); err == nil {
		return real
	}
	if dir := filepath.Dir(name); dir != name {
		return filepath.Join(trueFolder(dir), filepath.Base(name))
	}
	return name
}

// within tells whether a path is a folder or lies in it.
func within(name, folder string) bool {
	relative, err := filepath.Rel(folder, name)
	return err == nil && relative != ".." && !strings.HasPrefix(relative, ".."+string(filepath.Separator))
}
