package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"tartine/internal/archive"
	"tartine/internal/config"
	"tartine/internal/connect"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/filter"
	"tartine/internal/manifest"
	"tartine/internal/packed"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
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

var errInterrupted = &statusError{status: ExitInterrupted, what: "interrupted",
	next: "run it again: what was staged is kept, and an unfinished publish is finished first"}

// kinds are the words for the exit statuses of errors.
var kinds = map[int]string{ExitDiffers: "differs", ExitUsage: "usage", ExitConnection: "connection", ExitIncomplete: "incomplete",
	ExitRefused: "refused", ExitUnwell: "unwell", ExitInterrupted: "interrupted"}

// explain writes an error as a sentence with the next step and gives the exit status.
func (a *app) explain(err error) int {
	e := sentence(err)
	if a.json() && !a.deaf() {
		if err := render.ProblemJSON(a.stdout, e.status, kinds[e.status], e.what, e.paths, e.next); err != nil {
			render.Fprintf(a.stderr, "%v\n", err)
		}
	}
	a.problem(e)
	return e.status
}

// problem writes an error for a person.
func (a *app) problem(e *statusError) {
	p := &render.Printer{Out: a.stderr, Color: a.color(a.stderr), Width: columns(a.stderr)}
	p.Problem(e.what, e.paths, e.next)
}

// sentence turns causes into what a person needs: what failed, where, and what to try.
func sentence(err error) *statusError {
	for _, table := range []func(error) *statusError{ownSentence, aroundSentence, visitSentence, refusalSentence, secretSentence, webSentence, imageSentence, targetSentence,
		siteSentence, usageSentence} {
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
	case content.ErrGuard:
		e.next = `exclude these, or, when they are harmless, allow them: guard: {allow: ["PATTERN"]}`
	case content.ErrLinks:
		e.next = `exclude these, re-point them, or set "links: follow" to send what they lead to`
	case content.ErrKinds:
		e.next = "exclude these, or take a folder of it with inside"
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

// secretSentence is of what the settings say of a secret that a connection needed.
func secretSentence(err error) *statusError {
	var (
		failed *connect.Error
		secret *config.Error
	)
	if errors.As(err, &failed) && errors.As(err, &secret) {
		return &statusError{status: ExitUsage, what: secret.Error()}
	}
	return nil
}

// statuses are the exit statuses of what goes wrong on the way to a site.
var statuses = map[targets.Trouble]int{targets.Unreachable: ExitConnection, targets.Misused: ExitUsage,
	targets.Unsafe: ExitRefused, targets.Unfinished: ExitIncomplete}

func targetSentence(err error) *statusError {
	p := targets.Explain(err)
	if p == nil {
		return nil
	}
	return &statusError{status: statuses[p.Trouble], what: p.What, paths: p.Paths, next: p.Next}
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
		owner      *site.OwnerError
	)
	switch {
	case errors.As(err, &owner):
		return &statusError{status: ExitRefused, what: owner.Error() + "; nothing was changed",
			next: "correct attributes: in the settings; or write there as somebody who may, with as: root"}
	case errors.Is(err, site.ErrRecord):
		return &statusError{status: ExitUsage, what: err.Error(), next: "choose another path: what is there belongs to Tartine alone"}
	case errors.As(err, &lost):
		return &statusError{status: ExitRefused, what: lost.Error() + "; nothing more was changed", next: "run it again: it finishes what was begun, and compares anew"}
	case errors.As(err, &unfinished):
		return &statusError{status: ExitIncomplete, what: fmt.Sprintf("the interrupted publish of deployment %d cannot be finished", unfinished.Number), paths: failures(unfinished.Failed),
			next: "fix what these name and run it again; or give that publish up, and record the site as it is, with tartine unlock --give-up"}
	case errors.As(err, &untrusted):
		return &statusError{status: ExitRefused, what: err.Error() + ", so it is not used",
			next: "look who made it; move it away if it is not yours, and the next deployment makes a new one"}
	case errors.As(err, &gone):
		return &statusError{status: ExitRefused, what: gone.Error() + "; nothing was changed", paths: gone.Paths,
			next: "deploy that content anew, from the commit that tartine history names; or publish what is still kept with --publish-partial"}
	case errors.As(err, &notKept):
		e := &statusError{status: ExitUsage, what: err.Error(), next: "no deployment is recorded there"}
		if len(notKept.Kept) > 0 {
			e.next = fmt.Sprintf("recorded are %s", strings.Trim(fmt.Sprint(notKept.Kept), "[]"))
		}
		return e
	case errors.As(err, &space):
		what := fmt.Sprintf("%s are to be brought, and the far end has room for %s", render.Bytes(space.Need),
			render.Bytes(space.Free))
		if space.Files {
			what = space.Error()
		}
		return &statusError{status: ExitIncomplete, what: what + "; nothing was sent",
			next: "make room there and run it again"}
	case errors.As(err, &root):
		e := &statusError{status: ExitUsage, what: root.Error(),
			next: "check the target's path, and the rights of the user who logs in"}
		switch {
		case root.Parent:
			e.next = "check the target's path, or make the folders above it too with --make-root"
		case errors.Is(root.Err, fs.ErrPermission):
			e.status, e.next = ExitConnection, "check the target's path, and the rights of the user who logs in; tartine doctor tries each step"
		}
		return e
	case errors.As(err, &locked):
		return &statusError{status: ExitRefused, what: locked.Error(),
			next: "wait for it with --wait 5m; a lock that nothing has renewed for two minutes is taken over, or goes with tartine unlock"}
	case errors.As(err, &overtaken):
		return &statusError{status: ExitRefused, what: err.Error(), next: "run it again: it compares anew"}
	case errors.Is(err, site.ErrNewer):
		return &statusError{status: ExitRefused, what: err.Error() + ", so it is not used", next: "use the program that wrote it, or a later one: here, and with agent: PATH at the far end too"}
	case errors.Is(err, site.ErrOtherTree):
		return &statusError{status: ExitRefused, what: err.Error(),
			next: "the site is as it was, but somebody altered the record, or it is damaged: deploy once with --compare none, which sends all and writes it anew"}
	case errors.As(err, &record):
		return &statusError{status: ExitIncomplete, what: record.Error(),
			next: "check free space and rights at the far end, then run it again"}
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

// archiveSentence gives the status and the next step for an archive that is refused.
func archiveSentence(err error) (status int, next string) {
	switch {
	case errors.Is(err, archive.ErrFormat):
		return ExitUsage, "without unpack, a file is sent as it is"
	case errors.Is(err, archive.ErrEncrypted):
		return ExitRefused, "write the archive again without a password"
	case errors.Is(err, archive.ErrTimes):
		return ExitRefused, "if that is meant, unpack it yourself and deploy the folder"
	case errors.Is(err, archive.ErrTooMuch):
		return ExitRefused, "if so much is meant, let it with max_unpacked or --max-unpacked"
	case errors.Is(err, archive.ErrName):
		return ExitRefused, "nothing was sent; write the archive again without that, and ask who made it"
	}
	return ExitRefused, "nothing was sent; build or fetch the archive again"
}

func usageSentence(err error) *statusError {
	var (
		settings *config.Error
		pattern  *filter.PatternError
		source   *content.SourceError
		clash    *content.ClashError
		address  *targets.AddressError
		overlap  *targets.OverlapError
		format   *manifest.FormatError
		refused  *archive.Error
		digest   *content.DigestError
		inside   *content.InsideError
		unpacked *packed.FileError
		drift    *deploy.DriftError
		blank    *deploy.UnrecordedError
	)
	e := &statusError{status: ExitUsage, what: err.Error()}
	switch {
	case errors.As(err, &refused):
		e.status, e.next = archiveSentence(err)
	case errors.As(err, &digest):
		e.status, e.next = ExitRefused, "find out why it is another one; if that is meant, write down the new digest"
	case errors.As(err, &unpacked):
		e.status, e.what, e.paths = ExitIncomplete, "nothing was packed: some content could not be read", []string{err.Error()}
		e.next = "fix it, or exclude it"
	case errors.As(err, &drift):
		e.status, e.what, e.paths = ExitRefused, drift.Error(), drift.Paths
		e.next = fmt.Sprintf("deploy to %s again; or say what counts: --drifted recorded (what was deployed) or --drifted standing (what is there now)", drift.From)
	case errors.As(err, &blank):
		e.what, e.next = blank.Error(), "deploy there first, or bring what is there now with --drifted standing"
	case errors.As(err, &inside):
		e.next = "name a folder of the archive with inside, or leave it out to take all"
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
