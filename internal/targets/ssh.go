package targets

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"

	"tartine/internal/agent"
	"tartine/internal/calls"
	"tartine/internal/connect"
	"tartine/internal/connect/sftpline"
	"tartine/internal/connect/sshconfig"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/fsys/redial"
	"tartine/internal/fsys/sftpfs"
	"tartine/internal/site"
	"tartine/internal/trace"
)

// SSHSettings is what targets that are reached over SSH have of their own.
type SSHSettings struct {
	Identity   string
	Key        *connect.KeySource // the private key itself, in place of a file; nil: there is none
	HostKey    string             // the fingerprint that pins the host key
	KnownHosts string
	Passphrase func(file string) (string, error)
	Settled    bool            // Passphrase asks nobody
	Config     sshconfig.Files // OpenSSH's client settings; none: they do not count
	Via        []string        // hosts that are gone through, each as [USER@]HOST[:PORT]
}

// Dialer gives how to connect to a target that is reached over SSH. What the target says wins over OpenSSH's own
// settings.
func (s *Settings) Dialer(ctx context.Context) (*connect.SSH, error) {
	own := &s.SSH
	dial := &connect.SSH{Host: s.Address.Host, Port: s.Address.Port, User: s.Address.User, Identity: own.Identity,
		Key:     own.Key,
		HostKey: own.HostKey, KnownHosts: own.KnownHosts, Password: s.Password, Passphrase: own.Passphrase,
		Settled: own.Settled,
		Ask:     s.Ask, Took: s.Took, Limit: connect.NewThrottle(s.RateLimit), Notice: s.Notice}
	if len(own.Via) > 0 {
		if err := dial.GoThrough(own.Via); err != nil {
			return nil, err
		}
	}
	if own.Config.User == "" {
		return dial, nil
	}
	if err := dial.Configure(ctx, own.Config); err != nil {
		return nil, err
	}
	for at := dial; at != nil && s.Notice != nil; at = at.Via {
		if len(at.Unhonoured) > 0 {
			s.Notice(fmt.Sprintf("the SSH settings of %s have what is not honoured here: %s", at.Given,
				strings.Join(at.Unhonoured, ", ")))
		}
	}
	return dial, nil
}

// sshDriver reaches hosts over SSH: with ssh:// through an agent where that can be, with sftp:// over SFTP alone.
func sshDriver(kind Kind) *Driver {
	run := runOverSSH
	if kind == SFTP {
		run = nil
	}
	return &Driver{Kind: kind, parse: parseURL, open: openSSH, waits: true, failed: stepOfConnecting,
		run: run, insteadOfRun: "where the server gives a shell, an address with ssh:// is for that",
		problems: problemsOfSSH,
		Steps: []Step{lookupStep(), portStep("an SSH server"), trustStep(connect.HostKey), loginStep(),
			{Step: connect.Start, Good: "SFTP is offered", NoAgent: true}},
		reached: func(o *Opened) []site.Check {
			switch {
			case o.Agent:
				return []site.Check{{Name: "agent", Verdict: site.Good, Found: "it runs there"}}
			case o.Why != nil:
				return []site.Check{{Name: "agent", Verdict: site.Slow, Found: o.Why.Error(),
					Fix: "every file operation crosses the connection; where that is fast enough, say agent: off"}}
			}
			return nil
		}}
}

// openSSH opens a site through an agent where one is wanted and can run, else over SFTP.
func openSSH(ctx context.Context, s Settings) (*Opened, error) {
	dial, err := s.Dialer(ctx)
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
func (s *Settings) openOver(ctx context.Context, dial *connect.SSH, client *connect.Client) (*Opened, error) {
	var why *agent.UnavailableError
	if s.Address.Kind == SSH && s.Agent.Use != NoAgent && s.Between == nil {
		opened, err := s.openAgent(ctx, dial, client)
		if !errors.As(err, &why) || s.As.User != "" {
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
func (s *Settings) openSFTP(ctx context.Context, dial *connect.SSH, client *connect.Client) (*Opened, error) {
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
		f := s.lasting(dial, s.overSFTP(over, p.base), p.base)
		var opened *site.Site
		opt := site.Options{Jobs: s.Jobs, Switch: s.Switch}
		if !s.Switch {
			opt.Moved = moved(root, path.Dir, path.Base, path.Join, over.Lstat, over.RealPath)
		}
		if opened, err = site.Open(ctx, s.between(f), p.root, root, opt); err == nil {
			return &Opened{Engine: calls.NewHere(opened), Way: "SFTP", place: f}, nil
		}
	}
	over.Close()
	if errors.Is(err, sftp.ErrSSHFxConnectionLost) {
		err = farend.ErrLost
	}
	return nil, asRootError(root, err)
}

// lasting gives a place whose connection is opened again when it is lost.
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
		return s.overSFTP(over, base), nil
	}
	line.Final = isFinal
	if line.Told == nil {
		line.Told = func(error, time.Duration) {}
	}
	return redial.New(f, line)
}

// session is an SFTP session and what it runs over.
type session struct {
	*sftp.Client
	line *sftpline.Line
	ssh  *connect.Client
}

func (s *session) Close() error { return errors.Join(s.Client.Close(), s.ssh.Close()) }

// startSession starts SFTP over a connection, which is closed when that fails.
func startSession(ctx context.Context, dial *connect.SSH, client *connect.Client) (*session, error) {
	// A far end that starts nothing must not hold us up.
	stop := context.AfterFunc(ctx, func() { client.Close() })
	defer stop()
	timer := time.AfterFunc(dial.Timeout, func() { client.Close() })
	defer timer.Stop()
	transfer, line, err := connect.OpenSFTP(client, trace.Wire(ctx))
	if err != nil {
		_, _, gone := client.SendRequest("keepalive@openssh.com", true, nil)
		client.Close()
		if gone != nil && timer.Stop() && ctx.Err() == nil {
			return nil, fmt.Errorf("%w before file transfer began", farend.ErrLost)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &connect.Error{Step: connect.Start, Address: dial.Address(), User: dial.User, Err: err}
	}
	return &session{transfer, line, client}, nil
}

// mostJobs is how many files are in flight at most over a long connection: servers allow about a thousand open files.
const mostJobs = 400

// wideJobs is from how many files in flight on a connection gets a second line.
const wideJobs = 100

// jobsOver gives how many files to have in flight over a connection: each takes several round trips, so the longer one
// takes the more.
func jobsOver(client *sftp.Client) int {
	trip := time.Hour
	for range 2 {
		began := time.Now()
		if _, err := client.RealPath("."); err != nil {
			return 0 // it shows elsewhere
		}
		trip = min(trip, time.Since(began))
	}
	return min(site.DefaultJobs+int(trip/time.Millisecond)*8, mostJobs)
}

// overSFTP gives a folder at the far end through a session, which is closed with it.
func (s *Settings) overSFTP(over *session, base string) fsys.FS {
	exec := sftpfs.Exec(connect.Exec(over.ssh))
	if s.Address.Kind == SFTP {
		exec = nil // sftp:// means SFTP alone
	}
	f := sftpfs.New(over.Client, over.line, base, exec, over.ssh)
	if s.Jobs >= wideJobs && s.RateLimit == 0 {
		f.Widen(func() (*sftp.Client, *sftpline.Line, error) { return connect.OpenSFTP(over.ssh, nil) })
	}
	return f
}
