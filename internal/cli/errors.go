package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"slices"
	"strings"
	"syscall"

	"tartine/internal/config"
	"tartine/internal/connect"
	"tartine/internal/connect/engine"
	"tartine/internal/connect/sshconfig"
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

// kinds are the words for the exit statuses of errors.
var kinds = map[int]string{ExitUsage: "usage", ExitConnection: "connection", ExitIncomplete: "incomplete", ExitRefused: "refused", ExitInterrupted: "interrupted"}

// explain writes an error as a sentence with the next step and gives the exit status.
func (a *app) explain(err error) int {
	e := sentence(err)
	if a.json() && !a.deaf() {
		if err := render.ProblemJSON(a.stdout, e.status, kinds[e.status], e.what, e.paths, e.next); err != nil {
			render.Fprintf(a.stderr, "%v\n", err)
		}
	}
	p := &render.Printer{Out: a.stderr, Color: a.color(a.stderr), Width: columns(a.stderr)}
	p.Problem(e.what, e.paths, e.next)
	return e.status
}

// sentence turns causes into what a person needs: what failed, where, and what to try.
func sentence(err error) *statusError {
	for _, table := range []func(error) *statusError{ownSentence, refusalSentence, connectionSentence, containerSentence, siteSentence, usageSentence} {
		if e := table(err); e != nil {
			return e
		}
	}
	return &statusError{status: ExitUsage, what: err.Error()}
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
	case deploy.ErrHold:
		e.next = `set "links: follow" to send what links lead to, or "links: skip"; give files other names`
	case deploy.ErrBlocked:
		e.next = "move these away at the site, or remove them with --remove-strays"
	case deploy.ErrMoved:
		e.next = "look where it leads; deploy there without --remove-strays first, if that is meant"
	case deploy.ErrCase:
		e.next = "rename one of each pair"
	}
	return e
}

func connectionSentence(err error) *statusError {
	var (
		failed  *connect.Error
		command *target.CommandError
		file    *sshconfig.Error
		clear   *target.InsecureError
	)
	switch {
	case errors.Is(err, fsys.ErrLost):
		return &statusError{status: ExitConnection, what: "the connection was lost: " + err.Error(),
			next: "run it again: what was staged is kept, and an unfinished publish is finished first"}
	case errors.Is(err, sshconfig.ErrForeign):
		return &statusError{status: ExitUsage, what: err.Error(), next: "install OpenSSH's client, or name a file that is plainer with --ssh-config"}
	case errors.As(err, &file):
		next := "correct that line: ssh refuses it, too"
		if file.Line == 0 {
			next = "it must be a file that you can read and nobody else can write; another one is named with --ssh-config"
		}
		return &statusError{status: ExitUsage, what: file.Error(), next: next}
	case errors.As(err, &clear):
		return &statusError{status: ExitRefused, what: clear.Error(), next: "use ftps:// where the server has it; where it has not, say insecure: true in the target"}
	case errors.As(err, &command):
		return &statusError{status: ExitConnection, what: command.Error(), next: "what command: starts must lead to a POSIX shell that reads its standard input, such as sh"}
	case !errors.As(err, &failed):
		return nil
	}
	e := &statusError{status: ExitConnection}
	var (
		key      *connect.HostKeyError
		identity *connect.IdentityError
		login    *connect.LoginError
		secret   *config.Error

		certificate *connect.CertificateError
		full        *connect.FullError
	)
	switch {
	case errors.As(err, &key):
		e.status = ExitRefused
		e.what = fmt.Sprintf("the host key of %s is not trusted: %v", failed.Address, key)
		e.next = hostKeyAdvice(key)
	case errors.As(err, &secret):
		return &statusError{status: ExitUsage, what: secret.Error()}
	case errors.As(err, &certificate):
		e.status = ExitRefused
		e.what = fmt.Sprintf("%s is not trusted: %v", failed.Address, certificate)
		e.next = "compare the fingerprint with one from the server's owner, then put certificate: " + certificate.Fingerprint + " into the target"
		if certificate.Pinned != "" {
			e.next = "ask the server's owner whether the certificate was changed: if it was not, somebody else answers in its place"
		}
	case errors.As(err, &full):
		e.what = fmt.Sprintf("%s takes no more connections of user %s: %v", failed.Address, failed.User, full.Err)
		e.next = "end other programs that are connected there, or wait: --wait-for-host 2m"
	case failed.Step == connect.Login && failed.Service == "FTP":
		e.what = fmt.Sprintf("%s does not accept the login of user %s: %v", failed.Address, failed.User, failed.Err)
		e.next = "check the user name, and the password that password: leads to"
	case errors.As(err, &identity):
		e.what = identity.Error()
		e.next = identityAdvice(identity)
	case failed.Step == connect.Lookup:
		e.what, e.next = lookupSentence(failed)
	case failed.Step == connect.Port:
		e.what, e.next = portSentence(failed)
	case errors.As(err, &login):
		e.what = fmt.Sprintf("%s does not accept the login of user %s: %v", failed.Address, failed.User, login)
		e.next = loginAdvice(login)
	case failed.Step == connect.Login && errors.Is(err, os.ErrDeadlineExceeded):
		e.what = fmt.Sprintf("%s does not answer the login of user %s in time", failed.Address, failed.User)
		e.next = "try again; where it happens each time, look into the server's log"
	case failed.Step == connect.Login:
		e.what = fmt.Sprintf("%s does not accept the login of user %s: %v", failed.Address, failed.User, failed.Err)
		e.next = "check the user name, and name the key with --identity or identity:, or say where the password is found with password:"
	case failed.Step == connect.Start:
		e.what = fmt.Sprintf("%s lets user %s in but offers no file transfer: %v", failed.Address, failed.User, failed.Err)
		e.next = "ask the server's owner to switch its SFTP subsystem on; where it is on, the user's login shell must print nothing when it starts"
	default:
		e.what = failed.Error()
	}
	return e
}

func hostKeyAdvice(key *connect.HostKeyError) string {
	switch {
	case key.Revoked != nil:
		return "ask the server's owner for its new key: this one is known to have been stolen or given up"
	case key.Certificate != nil:
		return "ask the server's owner for a new certificate, or pin the key with host_key: " + key.Fingerprint
	case !key.Unknown():
		return "ask the server's owner whether the key was changed: if it was not, somebody else answers in its place"
	}
	return fmt.Sprintf("compare the fingerprint with one from the server's owner, then: tartine trust TARGET --fingerprint %s, or put host_key: %s into the target", key.Fingerprint, key.Fingerprint)
}

func identityAdvice(identity *connect.IdentityError) string {
	switch {
	case identity.Open:
		return "chmod 600 " + identity.File
	case identity.Locked:
		return "hand it to your key agent first: ssh-add " + identity.File + "; or say where it is found with passphrase:"
	case identity.Public:
		return "name the private key in identity: or --identity, or hand it to your key agent with ssh-add"
	}
	return "name the private key, not the public one, in identity: or --identity"
}

func loginAdvice(login *connect.LoginError) string {
	accepts := func(method string) bool { return slices.Contains(login.Accepts, method) }
	switch {
	case login.Ended && len(login.Tried) > 1:
		return "it allows fewer tries than there are keys: name the one key with --identity or identity:"
	case accepts("publickey") && len(login.Tried) == 0:
		return "name a key with --identity or identity:, or hand one to your key agent with ssh-add"
	case slices.Contains(login.Tried, "the password"):
		return "check the user name, and the password that password: leads to"
	case !accepts("publickey") && (accepts("password") || accepts("keyboard-interactive")):
		return "check the user name, and say where the password is found with password: {env: NAME} or the like"
	}
	return "check the user name, and that this key is among the user's authorized keys at the server"
}

func lookupSentence(failed *connect.Error) (what, next string) {
	host, _, _ := net.SplitHostPort(failed.Address)
	var lookup *net.DNSError
	if errors.As(failed.Err, &lookup) && !lookup.IsNotFound {
		return fmt.Sprintf("the name %s cannot be looked up: %s", host, lookup.Err), "check that this machine is on the right network, and that its name server answers"
	}
	return fmt.Sprintf("the name %s is not known", host), "check the spelling, and that this machine is on the right network"
}

func portSentence(failed *connect.Error) (what, next string) {
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
		return fmt.Sprintf("nothing listens at %s (connection refused)", failed.Address), "check the port, and that the " + service + " server runs"
	case errors.Is(failed.Err, connect.ErrSilent):
		return fmt.Sprintf("%s takes the connection and then says nothing", failed.Address), "check that " + one + " server answers at this port; one that is overloaded may need a while: --wait-for-host 2m"
	case errors.Is(failed.Err, connect.ErrHungUp):
		return fmt.Sprintf("%s takes the connection and ends it at once", failed.Address), "the server may limit who connects or how many do at once: try again, then look into its log"
	case errors.As(failed.Err, &way):
		return fmt.Sprintf("%s cannot be reached: %v", failed.Address, way), "run the command by hand, and correct ProxyCommand in the SSH settings"
	case errors.As(failed.Err, &other):
		return fmt.Sprintf("%s speaks something else than %s: it says %q", failed.Address, service, other.Said), "check the port"
	case errors.As(failed.Err, &common):
		next := "have one of these allowed at the server: " + strings.Join(common.Able, ", ")
		if common.Unsafe {
			next = "some of these are no longer safe: have the server's software brought up to date, or a newer key added to it; or name one in the SSH settings, as for ssh"
		}
		return fmt.Sprintf("%s and this program have %v", failed.Address, common), next
	case errors.As(failed.Err, &timeout) && timeout.Timeout():
		return fmt.Sprintf("%s does not answer in time", failed.Address), "check the address, and whether a firewall is in between"
	default:
		return fmt.Sprintf("%s cannot be reached: %v", failed.Address, failed.Err), "check that " + one + " server answers at this port"
	}
}

func containerSentence(err error) *statusError {
	var (
		none    *engine.Error
		unknown *engine.NotFoundError
		failed  *target.ContainerError
		unfit   *target.UnfitError
	)
	switch {
	case errors.As(err, &none) && none.Group != "":
		return &statusError{status: ExitConnection, what: none.Error(),
			next: fmt.Sprintf("have an administrator add you to the group %s, which owns the socket; log in anew, and run it again", none.Group)}
	case errors.As(err, &none) && none.Denied:
		return &statusError{status: ExitConnection, what: none.Error(),
			next: "have its owner let you use the socket, and run it again"}
	case errors.As(err, &none) && none.Old:
		return &statusError{status: ExitConnection, what: none.Error(), next: "bring the engine up to date"}
	case errors.As(err, &none):
		return &statusError{status: ExitConnection, what: none.Error(),
			next: "start the engine, or say where it is with engine: or DOCKER_HOST"}
	case errors.As(err, &unknown) && len(unknown.Several) > 0:
		return &statusError{status: ExitConnection, what: unknown.Error(), paths: unknown.Several, next: "write more of the id, or the name"}
	case errors.As(err, &unknown):
		e := &statusError{status: ExitConnection, what: unknown.Error(), next: "start one with this name, or name another"}
		switch {
		case len(unknown.Nearest) > 0:
			e.next = "did you mean " + strings.Join(unknown.Nearest, " or ") + "?"
		case len(unknown.Known) > 0:
			e.next = "it has: " + strings.Join(unknown.Known, ", ")
		}
		return e
	case errors.As(err, &unfit):
		return &statusError{status: ExitConnection, what: unfit.Error(), next: "give it more, or write agent: off for this target: then files are carried there in archives"}
	case errors.As(err, &failed) && failed.Paused:
		return &statusError{status: ExitConnection, what: failed.Error(), next: "unpause it and run this again"}
	case errors.As(err, &failed) && failed.Stopped:
		return &statusError{status: ExitConnection, what: failed.Error(), next: "start it and run this again"}
	case errors.As(err, &failed) && failed.Carrying:
		return &statusError{status: ExitIncomplete, what: failed.Error(), next: "fix that and run it again: it finishes what has begun, and nothing that is to stay is lost"}
	case errors.As(err, &failed) && failed.Runs:
		return &statusError{status: ExitConnection, what: failed.Error(), next: "stop it and run this again; a deployment stops it for as long as it takes where the target says while: stopped"}
	case errors.As(err, &failed):
		return &statusError{status: ExitConnection, what: failed.Error(), next: "a program must be able to run in it: mount a volume, or a memory disk on which programs run (tmpfs with exec), at /tmp; for another processor name builds with agents:"}
	}
	return nil
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

		lost       *site.LockLostError
		untrusted  *site.UntrustedError
		unfinished *site.UnfinishedError
	)
	switch {
	case errors.As(err, &lost):
		return &statusError{status: ExitRefused, what: lost.Error() + "; nothing more was changed", next: "run it again: it finishes what was begun, and compares anew"}
	case errors.As(err, &unfinished):
		return &statusError{status: ExitIncomplete, what: fmt.Sprintf("the interrupted publish of deployment %d cannot be finished", unfinished.Number), paths: failures(unfinished.Failed),
			next: "fix what these name and run it again; or give that publish up, and record the site as it is, with tartine unlock --give-up"}
	case errors.As(err, &untrusted):
		return &statusError{status: ExitRefused, what: err.Error() + ", so it is not used", next: "look who made it; move it away if it is not yours, and the next deployment makes a new one"}
	case errors.As(err, &gone):
		return &statusError{status: ExitRefused, what: gone.Error() + "; nothing was changed", paths: gone.Paths, next: "deploy that content anew, from the commit that tartine history names; or publish what is still kept with --publish-partial"}
	case errors.As(err, &notKept):
		e := &statusError{status: ExitUsage, what: err.Error(), next: "no deployment is recorded there"}
		if len(notKept.Kept) > 0 {
			e.next = fmt.Sprintf("recorded are %s", strings.Trim(fmt.Sprint(notKept.Kept), "[]"))
		}
		return e
	case errors.As(err, &space):
		what := fmt.Sprintf("%s are to be brought, and the far end has room for %s", render.Bytes(space.Need), render.Bytes(space.Free))
		if space.Files {
			what = space.Error()
		}
		return &statusError{status: ExitIncomplete, what: what + "; nothing was sent", next: "make room there and run it again"}
	case errors.As(err, &root):
		e := &statusError{status: ExitUsage, what: root.Error(), next: "check the target's path, and the rights of the user who logs in"}
		switch {
		case root.Parent:
			e.next = "check the target's path, or make the folders above it too with --make-root"
		case errors.Is(root.Err, fs.ErrPermission):
			e.status, e.next = ExitConnection, "check the target's path, and the rights of the user who logs in; tartine doctor tries each step"
		}
		return e
	case errors.As(err, &locked):
		return &statusError{status: ExitRefused, what: locked.Error(), next: "wait for it with --wait 5m; a lock that nothing has renewed for two minutes is taken over, or goes with tartine unlock"}
	case errors.As(err, &overtaken):
		return &statusError{status: ExitRefused, what: err.Error(), next: "run it again: it compares anew"}
	case errors.As(err, &record):
		return &statusError{status: ExitIncomplete, what: record.Error(), next: "check free space and rights at the far end, then run it again"}
	}
	return nil
}

// failures gives one line for each failure: its path, and why.
func failures(list []site.Failure) (lines []string) {
	for _, f := range list {
		lines = append(lines, fmt.Sprintf("%s  (%v)", f.Path, f.Err))
	}
	return lines
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
