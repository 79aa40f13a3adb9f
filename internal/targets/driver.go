package targets

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tartine/internal/connect"
	"tartine/internal/farend"
	"tartine/internal/site"
)

// Driver is what there is to know of a kind of target. A new kind is one more of them, in a file of its own, and its
// place in the list.
type Driver struct {
	Kind Kind
	// parse reads an address, of which rest is what follows the scheme.
	parse func(text, rest string) (Address, error)
	open  func(context.Context, Settings) (*Opened, error)
	waits bool // for a machine that is not there yet
	// run runs a program in the root's folder; nil: none can be run there, and what to do in its place.
	run          func(context.Context, Settings, *farend.Program) (int, error)
	insteadOfRun string

	// Steps is the way there, as the doctor goes it; none: there is no way.
	Steps []Step
	// failed gives the step of the way that an error is of; empty: none.
	failed func(err error) connect.Step
	// problems give what a person needs to know of errors of this kind.
	problems []rule
	// reached says how an open site is reached, for the doctor; nil: there is nothing to say.
	reached func(*Opened) []site.Check

	// NoHostKey says of an address (%s) why it has no host key to trust; empty: it has one. Instead is what there is in
	// its place.
	NoHostKey, Instead string
	// Certificate tells that it is a certificate that a fingerprint pins.
	Certificate bool
}

// Step is a step on the way to a site.
type Step struct {
	connect.Step
	Good string        // what is said when it works; empty: nothing
	Long time.Duration // longer than this is slow; 0: no time is too long
	Fix  string        // what to do when it is slow
	// NoAgent tells that it is not gone where an agent runs at the far end.
	NoAgent bool
}

// Drivers is a list of kinds of target.
type Drivers []*Driver

// known gives the kinds that there are.
func known() Drivers {
	return Drivers{folderDriver(), sshDriver(SSH), sshDriver(SFTP), ftpDriver(FTPS), ftpDriver(FTP), containerDriver(), archiveDriver()}
}

func (d Drivers) find(kind Kind) *Driver {
	for _, driver := range d {
		if driver.Kind == kind {
			return driver
		}
	}
	return nil
}

// Parse reads an address that names its scheme.
func (d Drivers) Parse(text string) (Address, error) {
	scheme, rest, _ := strings.Cut(text, "://")
	if driver := d.find(Kind(scheme)); driver != nil {
		return driver.parse(text, rest)
	}
	var schemes []string
	for _, driver := range d {
		if driver.Kind != Archive {
			schemes = append(schemes, string(driver.Kind)+"://")
		}
	}
	schemes = append(schemes, ArchivePrefix+"PATH")
	return Address{}, &AddressError{text, fmt.Sprintf("begins with %q, which is not known", scheme+"://"),
		"use " + strings.Join(schemes, ", ") + " or a path"}
}

// Open connects and opens the site. The site must be closed.
func (d Drivers) Open(ctx context.Context, s Settings) (*Opened, error) {
	driver := d.find(s.Address.Kind)
	if s.As.User != "" {
		if err := s.checkRaised(); err != nil {
			return nil, err
		}
		if s.Address.Kind == Folder && len(s.Command) == 0 {
			s.Command = []string{"sh"} // the engine runs in another process
		}
	}
	switch {
	case len(s.Command) > 0:
		return openCommand(ctx, s)
	case driver == nil:
		return nil, fmt.Errorf("targets of the kind %q are not known", s.Address.Kind)
	case driver.waits:
		return openWaiting(ctx, s, driver.open)
	}
	return driver.open(ctx, s)
}

// Open connects and opens the site. The site must be closed.
func Open(ctx context.Context, s Settings) (*Opened, error) { return known().Open(ctx, s) }

// Driver gives the driver of an address.
func (a Address) Driver() *Driver { return known().find(a.Kind) }

// Failed gives the step of the way that an error is of; empty: none.
func (d *Driver) Failed(err error) connect.Step {
	if err == nil || d.failed == nil {
		return ""
	}
	return d.failed(err)
}

// Reached says how an open site is reached.
func (d *Driver) Reached(opened *Opened) []site.Check {
	if d.reached == nil {
		return nil
	}
	return d.reached(opened)
}

// stepOfConnecting gives the step at which connecting to a host failed.
func stepOfConnecting(err error) connect.Step {
	var failed *connect.Error
	if errors.As(err, &failed) {
		return failed.Step
	}
	return ""
}

// The steps to any host.
func lookupStep() Step {
	return Step{Step: connect.Lookup, Good: "the name is known", Long: time.Second,
		Fix: "a name server on the way does not answer: look at the resolver's settings of this machine"}
}

func portStep(service string) Step {
	return Step{Step: connect.Port, Good: service + " answers", Long: time.Second,
		Fix: "latency is high or the connection busy: many small files will take their time"}
}

func trustStep(step connect.Step) Step {
	return Step{Step: step, Good: "it is trusted", Long: 3 * time.Second, Fix: "latency is high, or the server busy"}
}

func loginStep() Step {
	return Step{Step: connect.Login, Good: "the login is accepted", Long: 3 * time.Second,
		Fix: "the server may look our name up: UseDNS no in its settings avoids that"}
}
