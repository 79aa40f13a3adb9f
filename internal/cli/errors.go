package cli

import (
	"errors"
	"fmt"
	"net"
	"strings"
	"syscall"

	"tartine/internal/config"
	"tartine/internal/connect"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/filter"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/target"
)

// statusError is an error with its exit status and the next step.
type statusError struct {
	status int
	what   string
	paths  []string // what it is about, one a line
	next   string
}

func (e *statusError) Error() string { return e.what }

func usageError(what, next string) error {
	return &statusError{status: ExitUsage, what: what, next: next}
}

var errInterrupted = &statusError{status: ExitInterrupted, what: "interrupted", next: "run it again: what was staged is kept, and an unfinished publish is finished first"}

// explain writes an error as a sentence with the next step and gives the exit status.
func (a *app) explain(err error) int {
	e := sentence(err)
	p := &render.Printer{Out: a.stderr, Color: a.color(a.stderr)}
	p.Problem(e.what, e.paths, e.next)
	return e.status
}

// sentence turns causes into what a person needs: what failed, where, and what to try.
func sentence(err error) *statusError {
	for _, table := range []func(error) *statusError{ownSentence, refusalSentence, connectionSentence, siteSentence, usageSentence} {
		if e := table(err); e != nil {
			return e
		}
	}
	if strings.HasPrefix(err.Error(), "unknown command") {
		return &statusError{status: ExitUsage, what: firstLine(err.Error()), next: "tartine --help lists the commands"}
	}
	return &statusError{status: ExitUsage, what: err.Error()}
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

func ownSentence(err error) *statusError {
	var own *statusError
	if errors.As(err, &own) {
		return own
	}
	return nil
}

func refusalSentence(err error) *statusError {
	var refusal *deploy.Refusal
	if !errors.As(err, &refusal) {
		return nil
	}
	e := &statusError{status: ExitRefused, what: refusal.Reason.Error(), paths: refusal.Paths}
	switch refusal.Reason {
	case deploy.ErrGuard:
		e.next = `exclude these, or, when they are harmless, allow them: guard: {allow: ["PATTERN"]}`
	case deploy.ErrLinks:
		e.next = `exclude these, re-point them, or set "links: follow" to send what they lead to`
	case deploy.ErrBlocked:
		e.next = "move these away at the site, or remove them with --remove-strays"
	case deploy.ErrCase:
		e.next = "rename one of each pair"
	}
	return e
}

func connectionSentence(err error) *statusError {
	var failed *connect.Error
	switch {
	case errors.Is(err, fsys.ErrLost):
		return &statusError{status: ExitConnection, what: "the connection was lost: " + err.Error(),
			next: "run it again: what was staged is kept, and an unfinished publish is finished first"}
	case !errors.As(err, &failed):
		return nil
	}
	e := &statusError{status: ExitConnection}
	var (
		key      *connect.HostKeyError
		identity *connect.IdentityError
		secret   *config.Error
	)
	switch {
	case errors.As(err, &key):
		e.status = ExitRefused
		e.what = fmt.Sprintf("the host key of %s is not trusted: %v", failed.Address, key)
		e.next = fmt.Sprintf("compare the fingerprint with one from the server's owner, then: tartine trust TARGET --fingerprint %s, or put host_key: %s into the target", key.Fingerprint, key.Fingerprint)
		if key.Pinned != "" || len(key.Known) > 0 {
			e.next = "ask the server's owner whether the key was changed: if it was not, somebody else answers in its place"
		}
	case errors.As(err, &secret):
		return &statusError{status: ExitUsage, what: secret.Error()}
	case errors.As(err, &identity):
		e.what = identity.Error()
		switch {
		case identity.Open:
			e.next = "chmod 600 " + identity.File
		case identity.Locked:
			e.next = "hand it to your key agent first: ssh-add " + identity.File + "; or say where it is found with passphrase:"
		default:
			e.next = "name the private key, not the public one, in identity: or --identity"
		}
	case failed.Step == connect.Lookup:
		e.what = fmt.Sprintf("the name of %s cannot be found: %v", failed.Address, failed.Err)
		e.next = "check the spelling, and that this machine is on the right network"
	case failed.Step == connect.Port:
		e.what, e.next = portSentence(failed)
	case failed.Step == connect.Login:
		e.what = fmt.Sprintf("%s does not let user %s in: %v", failed.Address, failed.User, failed.Err)
		e.next = "check the user name, and name the key with --identity or identity:, or say where the password is found with password:"
	case failed.Step == connect.Start:
		e.what = fmt.Sprintf("%s lets user %s in but offers no file transfer: %v", failed.Address, failed.User, failed.Err)
		e.next = "ask the server's owner to switch its SFTP subsystem on"
	default:
		e.what = failed.Error()
	}
	return e
}

func portSentence(failed *connect.Error) (what, next string) {
	var timeout net.Error
	switch {
	case errors.Is(failed.Err, syscall.ECONNREFUSED):
		return fmt.Sprintf("nothing listens at %s (connection refused)", failed.Address), "check the port, and that the SSH server runs"
	case errors.As(failed.Err, &timeout) && timeout.Timeout():
		return fmt.Sprintf("%s does not answer in time", failed.Address), "check the address, and whether a firewall is in between"
	default:
		return fmt.Sprintf("%s cannot be reached: %v", failed.Address, failed.Err), "check that an SSH server answers at this port"
	}
}

func siteSentence(err error) *statusError {
	var (
		root      *site.RootError
		locked    *site.LockedError
		overtaken *site.OvertakenError
		record    *site.RecordError
		gone      *deploy.GoneError
		notKept   *site.NotKeptError
		space     *site.SpaceError
	)
	switch {
	case errors.As(err, &gone):
		return &statusError{status: ExitRefused, what: gone.Error() + "; nothing was changed", paths: gone.Paths, next: "deploy that content anew, from the commit that tartine history names"}
	case errors.As(err, &notKept):
		e := &statusError{status: ExitUsage, what: err.Error(), next: "no deployment is recorded there"}
		if len(notKept.Kept) > 0 {
			e.next = fmt.Sprintf("recorded are %s", strings.Trim(fmt.Sprint(notKept.Kept), "[]"))
		}
		return e
	case errors.As(err, &space):
		return &statusError{status: ExitIncomplete, what: fmt.Sprintf("%s are to be brought, and the far end has room for %s; nothing was sent", render.Bytes(space.Need), render.Bytes(space.Free)),
			next: "make room there and run it again"}
	case errors.As(err, &root):
		e := &statusError{status: ExitUsage, what: root.Error(), next: "check the target's path, and the rights of the user who logs in"}
		if root.Parent {
			e.next = "check the target's path, or make the folders above it too with --make-root"
		}
		return e
	case errors.As(err, &locked):
		return &statusError{status: ExitRefused, what: locked.Error(), next: "wait for it with --wait 5m; a lock left by a run that died runs out after two minutes, or goes with tartine unlock"}
	case errors.Is(err, site.ErrLockLost), errors.As(err, &overtaken):
		return &statusError{status: ExitRefused, what: err.Error(), next: "run it again: it compares anew"}
	case errors.As(err, &record):
		return &statusError{status: ExitIncomplete, what: record.Error(), next: "check free space and rights at the far end, then run it again"}
	}
	return nil
}

func usageSentence(err error) *statusError {
	var (
		settings *config.Error
		pattern  *filter.PatternError
		source   *content.SourceError
		clash    *content.ClashError
		address  *target.AddressError
		overlap  *target.OverlapError
		format   *manifest.FormatError
	)
	e := &statusError{status: ExitUsage, what: err.Error()}
	switch {
	case errors.As(err, &source):
		e.next = "check the path: it is relative to the folder of tartine.yaml, or, with --source, to this one"
	case errors.As(err, &clash):
		e.next = "exclude one of them, or give one source another dest"
	case errors.As(err, &overlap):
		e.next = "choose a target outside of every source: a deployment must not feed on itself"
	case errors.As(err, &format):
		e.next = "write the manifest again with tartine manifest"
	case errors.As(err, &settings), errors.As(err, &pattern), errors.As(err, &address):
	default:
		return nil
	}
	return e
}
