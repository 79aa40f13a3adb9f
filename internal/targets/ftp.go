package targets

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"sync"

	"tartine/internal/calls"
	"tartine/internal/connect"
	"tartine/internal/connect/ftpline"
	"tartine/internal/farend"
	"tartine/internal/fsys/ftpfs"
	"tartine/internal/site"
)

// InsecureError tells that a password would cross the connection in the clear.
type InsecureError struct{ Address string }

func (e *InsecureError) Error() string {
	return fmt.Sprintf("over %s the password and all files cross the connection in the clear", e.Address)
}

// FTPSettings is what targets of FTP servers have of their own.
type FTPSettings struct {
	Certificate string // the fingerprint that pins the server's certificate
	Insecure    bool   // a password may cross the connection in the clear
}

// defaultConnections is how many connections to an FTP server are tried at most, unless told otherwise.
const defaultConnections = 8

func (s *Settings) ftp() *ftpline.Dialer {
	return &ftpline.Dialer{Host: s.Address.Host, Port: s.Address.Port, User: s.Address.User, Password: s.password(),
		TLS: s.Address.Kind == FTPS, Certificate: s.FTP.Certificate, Limit: connect.NewThrottle(s.RateLimit),
		Took: s.Took}
}

// password finds the password once: several connections need it.
func (s *Settings) password() func() (string, error) {
	find := s.Password
	if find == nil && s.Ask != nil && s.Address.User != "" {
		find = func() (string, error) {
			return s.Ask(fmt.Sprintf("password of %s at %s: ", s.Address.User, s.Address.Host), false)
		}
	}
	if find == nil {
		return nil
	}
	return sync.OnceValues(find)
}

// ftpDriver reaches servers of the File Transfer Protocol, with ftps:// over TLS.
func ftpDriver(kind Kind) *Driver {
	d := &Driver{Kind: kind, parse: parseURL, open: openFTP, waits: true, failed: stepOfConnecting,
		problems:     problemsOfFTP,
		Steps:        []Step{lookupStep(), portStep("an FTP server"), loginStep()},
		insteadOfRun: "FTP has no command that runs a program: use the host's control panel",
		reached:      func(o *Opened) []site.Check { return o.Facts },
		NoHostKey:    "%s has no host key", Instead: "the certificate of an ftps:// server is pinned with certificate: in the target; where no authority vouches for it, tartine doctor shows its fingerprint"}
	if kind == FTPS {
		d.Steps, d.Certificate = slices.Insert(d.Steps, 2, trustStep(connect.Certificate)), true
	}
	return d
}

// problemsOfFTP are those of FTP servers.
var problemsOfFTP = []rule{
	forError(func(clear *InsecureError) *Problem {
		return &Problem{Unsafe, clear.Error(), nil, "use ftps:// where the server has it; where it has not, say insecure: true in the target"}
	}),
	forFailed(func(certificate *ftpline.CertificateError, failed *connect.Error) *Problem {
		next := "compare the fingerprint with one from the server's owner, then put certificate: " + certificate.Fingerprint + " into the target"
		if certificate.Pinned != "" {
			next = "ask the server's owner whether the certificate was changed: if it was not, somebody else answers in its place"
		}
		return &Problem{Unsafe, fmt.Sprintf("%s is not trusted: %v", failed.Address, certificate), nil, next}
	}),
	forFailed(func(full *ftpline.FullError, failed *connect.Error) *Problem {
		return &Problem{What: fmt.Sprintf("%s takes no more connections of user %s: %v", failed.Address, failed.User,
			full.Err),
			Next: "end other programs that are connected there, or wait: --wait-for-host 2m"}
	}),
	atStep(connect.Login, func(failed *connect.Error) *Problem {
		if failed.Service != "FTP" {
			return nil
		}
		return loginRefused(failed, "check the user name, and the password that password: leads to")
	}),
}

// openFTP opens a site at an FTP server. The engine runs here.
func openFTP(ctx context.Context, s Settings) (*Opened, error) {
	if s.Address.Kind == FTP && s.password() != nil && !s.FTP.Insecure {
		return nil, &InsecureError{s.Address.String()}
	}
	dial := s.ftp()
	first, err := dial.Dial(ctx)
	if err != nil {
		return nil, err
	}
	dial.Took = nil // the others are of no interest
	root := s.Address.Path
	if s.Address.Home {
		home, err := first.CurrentDir()
		if err != nil {
			first.Close()
			return nil, &connect.Error{Step: connect.Start, Address: dial.Address(), User: dial.User, Err: err}
		}
		root = path.Join(home, root)
	}
	jobs := s.Jobs
	if jobs == 0 {
		jobs = defaultConnections
	}
	open := func(base string) *ftpfs.FS { return ftpfs.New(first, dial.Dial, base, jobs, s.Reconnect) }
	top := open("/")
	look := func(name string) (bool, error) {
		info, err := top.Lstat(ctx, name)
		return info.Mode.IsDir() || info.Mode.Type() != 0 && err == nil, err // where a link leads shows when it is used
	}
	p, err := s.find(root, path.Dir, path.Base, look, func(name string) (string, error) { return name, nil })
	if err == nil {
		f := open(p.base)
		var opened *site.Site
		if opened, err = site.Open(ctx, s.between(f), p.root, root,
			site.Options{Jobs: jobs, Switch: s.Switch}); err == nil {
			return &Opened{Engine: calls.NewHere(opened), Way: "FTP", Clear: s.Address.Kind == FTP &&
				dial.Password != nil, Facts: ftpFacts(s, first, f), place: f}, nil
		}
	}
	first.Close()
	if errors.Is(err, farend.ErrLost) {
		return nil, err
	}
	return nil, asRootError(root, err)
}

// ftpFacts says what the server can do, for the doctor.
func ftpFacts(s Settings, first *ftpline.Conn, f *ftpfs.FS) []site.Check {
	var out []site.Check
	add := func(name string, good bool, yes, no, fix string) {
		if good {
			out = append(out, site.Check{Name: name, Verdict: site.Good, Found: yes})
		} else {
			out = append(out, site.Check{Name: name, Verdict: site.Slow, Found: no, Fix: fix})
		}
	}
	_, listings := first.Features["MLST"]
	_, utf8 := first.Features["UTF8"]
	able := f.Abilities()
	add("connection", s.Address.Kind == FTPS, "private (TLS)", "everything crosses it in the clear",
		"use ftps:// where the server has it")
	add("listings", listings, "for programs, exact to the second (MLSD)", "only for people, to the minute",
		"what was altered by others within a minute of a deployment is read to be sure")
	add("encoding", utf8, "names are in UTF-8", "the server does not say how names are written",
		"keep to plain letters in file names")
	add("digests", able.FarDigests != "", "the server computes them ("+able.FarDigests+")", "the server computes none",
		"what is sent is read back to be checked, and verify reads everything")
	return out
}
