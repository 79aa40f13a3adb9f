package target

import (
	"context"
	"errors"
	"fmt"
	"path"
	"sync"

	"tartine/internal/connect"
	"tartine/internal/fsys"
	"tartine/internal/fsys/ftpfs"
	"tartine/internal/site"
)

// InsecureError tells that a password would cross the line in the clear.
type InsecureError struct{ Address string }

func (e *InsecureError) Error() string {
	return fmt.Sprintf("over %s the password and all files cross the line where others can read them", e.Address)
}

// defaultConnections is how many connections to an FTP server are tried at most, unless told otherwise.
const defaultConnections = 8

func (s *Settings) ftp() *connect.FTP {
	return &connect.FTP{Host: s.Address.Host, Port: s.Address.Port, User: s.Address.User, Password: s.password(),
		TLS: s.Address.Kind == FTPS, Certificate: s.Certificate, Limit: connect.NewThrottle(s.RateLimit), Took: s.Took}
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

// openFTP opens a site at an FTP server. The engine runs here.
func openFTP(ctx context.Context, s Settings) (*Opened, error) {
	if s.Address.Kind == FTP && s.password() != nil && !s.Insecure {
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
		if opened, err = site.Open(ctx, s.between(f), p.root, root, site.Options{Jobs: jobs, Switch: s.Switch}); err == nil {
			return &Opened{Site: opened, Way: "FTP", Clear: s.Address.Kind == FTP && dial.Password != nil, Facts: ftpFacts(s, first, f), place: f}, nil
		}
	}
	first.Close()
	if errors.Is(err, fsys.ErrLost) {
		return nil, err
	}
	return nil, asRootError(root, err)
}

// ftpFacts says what the server can do, for the doctor.
func ftpFacts(s Settings, first *connect.FTPLine, f *ftpfs.FS) []site.Check {
	var out []site.Check
	add := func(name string, good bool, yes, no, mend string) {
		if good {
			out = append(out, site.Check{Name: name, Verdict: site.Good, Found: yes})
		} else {
			out = append(out, site.Check{Name: name, Verdict: site.Slow, Found: no, Mend: mend})
		}
	}
	_, listings := first.Features["MLST"]
	_, utf8 := first.Features["UTF8"]
	able := f.Abilities()
	add("connection", s.Address.Kind == FTPS, "private (TLS)", "everything crosses it in the clear", "use ftps:// where the server has it")
	add("listings", listings, "for programs, exact to the second (MLSD)", "only for people, to the minute", "what was altered by others within a minute of a deployment is read to be sure")
	add("encoding", utf8, "names are in UTF-8", "the server does not say how names are written", "keep to plain letters in file names")
	add("digests", able.FarDigests != "", "the server computes them ("+able.FarDigests+")", "the server computes none", "what is sent is read back to be checked, and verify reads everything")
	return out
}
