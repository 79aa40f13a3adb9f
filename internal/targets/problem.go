package targets

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"syscall"

	"tartine/internal/agent"
	"tartine/internal/connect"
	"tartine/internal/farend"
)

// Problem is an error on the way to a site as a person needs it.
type Problem struct {
	Trouble
	What  string   // what failed, and where
	Paths []string // what it is about
	Next  string   // what to try; may be empty
}

// Trouble is what kind of problem it is.
type Trouble int

// The kinds of problem.
const (
	Unreachable Trouble = iota // the site could not be reached or logged in to
	Misused                    // the settings or the command are wrong
	Unsafe                     // going on would not be safe
	Unfinished                 // something was begun and is to be finished
)

// rule gives the problem that an error is, if it is of a certain kind; else nil.
type rule func(error) *Problem

// forError makes a rule for errors of one type.
func forError[E error](say func(E) *Problem) rule {
	return func(err error) *Problem {
		var e E
		if errors.As(err, &e) {
			return say(e)
		}
		return nil
	}
}

// forFailed makes a rule for errors of one type on the way to a host.
func forFailed[E error](say func(E, *connect.Error) *Problem) rule {
	return func(err error) *Problem {
		var (
			e      E
			failed *connect.Error
		)
		if errors.As(err, &failed) && errors.As(err, &e) {
			return say(e, failed)
		}
		return nil
	}
}

// atStep makes a rule for what fails at one step of the way to a host.
func atStep(step connect.Step, say func(*connect.Error) *Problem) rule {
	return forError(func(failed *connect.Error) *Problem {
		if failed.Step != step {
			return nil
		}
		return say(failed)
	})
}

// Explain gives the problem that an error on the way to a site is; nil: it is not one.
func Explain(err error) *Problem { return known().Explain(err) }

// Explain asks each kind of target, and then what all of them have in common.
func (d Drivers) Explain(err error) *Problem {
	if errors.Is(err, farend.ErrLost) {
		return &Problem{What: "the connection was lost: " + err.Error(), Next: "run it again: what was staged is kept, and an unfinished publish is finished first"}
	}
	for _, driver := range d {
		for _, rule := range driver.problems {
			if p := rule(err); p != nil {
				return p
			}
		}
	}
	for _, rule := range problemsOfHosts {
		if p := rule(err); p != nil {
			return p
		}
	}
	return nil
}

// problemsOfHosts are those of any host, where no kind of target says more.
var problemsOfHosts = []rule{
	forError(func(e *RaiseProblem) *Problem { return &Problem{Misused, e.Reason, nil, e.Instead} }),
	forError(func(e *agent.RaiseError) *Problem {
		p := &Problem{What: e.Error(), Next: "have an administrator allow it: docs/raised-rights.md has the lines for sudo and doas"}
		if e.Password != nil {
			p.What += ": " + e.Password.Error()
			p.Next = "run it where somebody can be asked, or say where the password is found with as_password:"
		}
		return p
	}),
	forError(func(e *CommandError) *Problem {
		return &Problem{What: e.Error(), Next: "what command: starts must lead to a POSIX shell that reads its standard input, such as sh"}
	}),
	forError(func(e *agent.UnavailableError) *Problem {
		return &Problem{What: e.Error(), Next: "with as: one must run there; see docs/raised-rights.md"}
	}),
	atStep(connect.Lookup, lookupProblem),
	atStep(connect.Port, portProblem),
	atStep(connect.Login, func(failed *connect.Error) *Problem {
		if !errors.Is(failed, os.ErrDeadlineExceeded) {
			return loginRefused(failed, "check the user name, and name the key with --identity or identity:, or say where the password is found with password:")
		}
		return &Problem{What: fmt.Sprintf("%s does not answer the login of user %s in time", failed.Address,
			failed.User), Next: "try again; where it happens each time, look into the server's log"}
	}),
	forError(func(failed *connect.Error) *Problem { return &Problem{What: failed.Error()} }),
}

func loginRefused(failed *connect.Error, next string) *Problem {
	return &Problem{What: fmt.Sprintf("%s does not accept the login of user %s: %v", failed.Address, failed.User,
		failed.Err), Next: next}
}

func lookupProblem(failed *connect.Error) *Problem {
	host, _, _ := net.SplitHostPort(failed.Address)
	var lookup *net.DNSError
	if errors.As(failed.Err, &lookup) && !lookup.IsNotFound {
		return &Problem{What: fmt.Sprintf("the name %s cannot be looked up: %s", host, lookup.Err),
			Next: "check that this machine is on the right network, and that its name server answers"}
	}
	return &Problem{What: fmt.Sprintf("the name %s is not known", host),
		Next: "check the spelling, and that this machine is on the right network"}
}

func portProblem(failed *connect.Error) *Problem {
	var (
		timeout net.Error
		other   *connect.ProtocolError
		common  *connect.NothingInCommonError
		way     *connect.WayError
		service = cmp.Or(failed.Service, "SSH")
		one     = "an " + service
	)
	switch {
	case errors.Is(failed.Err, syscall.ECONNREFUSED):
		return &Problem{What: fmt.Sprintf("nothing listens at %s (connection refused)", failed.Address),
			Next: "check the port, and that the " + service + " server runs"}
	case errors.Is(failed.Err, connect.ErrSilent):
		return &Problem{What: fmt.Sprintf("%s takes the connection and then says nothing", failed.Address),
			Next: "check that " + one + " server answers at this port; one that is overloaded may need a while: --wait-for-host 2m"}
	case errors.Is(failed.Err, connect.ErrHungUp):
		return &Problem{What: fmt.Sprintf("%s takes the connection and ends it at once", failed.Address),
			Next: "the server may limit who connects or how many do at once: try again, then look into its log"}
	case errors.As(failed.Err, &way):
		return &Problem{What: fmt.Sprintf("%s cannot be reached: %v", failed.Address, way),
			Next: "run the command by hand, and correct ProxyCommand in the SSH settings"}
	case errors.As(failed.Err, &other):
		return &Problem{What: fmt.Sprintf("%s speaks something else than %s: it says %q", failed.Address, service,
			other.Said), Next: "check the port"}
	case errors.As(failed.Err, &common):
		next := "have one of these allowed at the server: " + strings.Join(common.Able, ", ")
		if common.Unsafe {
			next = "some of these are no longer safe: have the server's software brought up to date, or a newer key added to it; or name one in the SSH settings, as for ssh"
		}
		return &Problem{What: fmt.Sprintf("%s and this program have %v", failed.Address, common), Next: next}
	case errors.As(failed.Err, &timeout) && timeout.Timeout():
		return &Problem{What: fmt.Sprintf("%s does not answer in time", failed.Address),
			Next: "check the address, and whether a firewall is in between"}
	default:
		return &Problem{What: fmt.Sprintf("%s cannot be reached: %v", failed.Address, failed.Err),
			Next: "check that " + one + " server answers at this port"}
	}
}
