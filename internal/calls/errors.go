package calls

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"github.com/fxamacker/cbor/v2"

	"tartine/internal/farend"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Error is an error in the form in which it crosses a connection, with what a person must be told.
type Error struct {
	Kind string          `cbor:"kind,omitempty"`
	Text string          `cbor:"text"`
	Data cbor.RawMessage `cbor:"data,omitempty"` // of errors that carry facts
}

// causes are the errors that are told by what they are; those behind an error are looked for in this order.
var causes = []struct {
	kind string
	err  error
}{
	{"changed since scan", site.ErrChangedSinceScan},
	{"wrong bytes", site.ErrWrongBytes},
	{"in record", site.ErrRecord},
	{"no site", site.ErrNoSite},
	{"newer", site.ErrNewer},
	{"other tree", site.ErrOtherTree},
	{"not exist", fs.ErrNotExist},
	{"exist", fs.ErrExist},
	{"permission", fs.ErrPermission},
	{"invalid", fs.ErrInvalid},
	{"unsupported", farend.ErrUnsupported},
	{"canceled", context.Canceled},
	{"forgotten", ErrForgotten},
}

// The facts of errors that carry some.
type (
	rootFacts struct {
		Root, Reason string
		Parent       bool
		Cause        *Error
	}
	recordFacts struct {
		File  string
		Cause *Error
	}
	lockLostFacts struct {
		Holder *site.Holder
		Cause  *Error
	}
	unfinishedFacts struct {
		Number int
		Failed []Failure
	}
	pathFacts struct {
		Op, Path string
		Cause    *Error
	}
	stepFacts struct {
		Do    string
		Cause *Error
	}
)

// Wire gives the form in which an error crosses the connection; nil is nil.
func Wire(err error) *Error {
	if err == nil {
		return nil
	}
	out := &Error{Text: err.Error()}
	facts := func(kind string, data any) *Error {
		out.Kind, out.Data = kind, must(Encoding.Marshal(data))
		return out
	}
	var (
		root      *site.RootError
		record    *site.RecordError
		locked    *site.LockedError
		overtaken *site.OvertakenError
		notKept   *site.NotKeptError
		space     *site.SpaceError
		clash     *site.CaseError

		lost       *site.LockLostError
		untrusted  *site.UntrustedError
		unfinished *site.UnfinishedError
		step       *site.StepError
		owner      *site.OwnerError
	)
	switch {
	case errors.As(err, &lost):
		return facts("lock lost", lockLostFacts{lost.Holder, Wire(lost.Err)})
	case errors.As(err, &unfinished):
		return facts("unfinished", unfinishedFacts{unfinished.Number, WireFailures(unfinished.Failed)})
	case errors.As(err, &step):
		return facts("step", stepFacts{step.Do, Wire(step.Err)})
	case errors.As(err, &root):
		return facts("root", rootFacts{root.Root, root.Reason, root.Parent, Wire(root.Err)})
	case errors.As(err, &record):
		return facts("record", recordFacts{record.File, Wire(record.Err)})
	case errors.As(err, &untrusted):
		return facts("untrusted", untrusted.Reason)
	case errors.As(err, &locked):
		return facts("locked", locked.Holder)
	case errors.As(err, &overtaken):
		return facts("overtaken", overtaken)
	case errors.As(err, &notKept):
		return facts("not kept", notKept)
	case errors.As(err, &space):
		return facts("space", space)
	case errors.As(err, &clash):
		return facts("case", clash.Clashes)
	case errors.As(err, &owner):
		return facts("owner", owner)
	}
	if path, is := err.(*fs.PathError); is { //nolint:errorlint // what is around it would be lost
		return facts("path", pathFacts{path.Op, path.Path, Wire(path.Err)})
	}
	for _, c := range causes {
		if errors.Is(err, c.err) {
			out.Kind = c.kind
			return out
		}
	}
	return out
}

// Failure is a site.Failure in the form in which it crosses the connection.
type Failure struct {
	_     struct{} `cbor:",toarray"`
	Path  string
	Error *Error
}

// WireFailures gives the form in which failures cross the connection.
func WireFailures(list []site.Failure) (out []Failure) {
	for _, f := range list {
		out = append(out, Failure{Path: f.Path, Error: Wire(f.Err)})
	}
	return out
}

// Failures gives what came in that form.
func Failures(list []Failure) (out []site.Failure) {
	for _, f := range list {
		out = append(out, site.Failure{Path: f.Path, Err: f.Error.Err()})
	}
	return out
}

// caused is an error from the far end, in its words, with its cause.
type caused struct {
	text  string
	cause error
}

func (c *caused) Error() string { return c.text }

func (c *caused) Unwrap() error { return c.cause }

// Err gives the error that came in this form; of nil it is nil.
func (w *Error) Err() error {
	if w == nil {
		return nil
	}
	w.Text = farend.Said(w.Text, MostSaid)
	for _, c := range causes {
		if c.kind == w.Kind {
			return &caused{w.Text, c.err}
		}
	}
	err, broken := w.factual()
	if broken != nil {
		return fmt.Errorf("%w: error %q: %w", ErrProtocol, w.Kind, broken)
	}
	return err
}

// factual gives an error that carries facts.
func (w *Error) factual() (err, broken error) {
	switch w.Kind {
	case "root":
		var f rootFacts
		broken = Decoding.Unmarshal(w.Data, &f)
		err = &site.RootError{Root: f.Root, Reason: f.Reason, Parent: f.Parent, Err: f.Cause.Err()}
	case "path":
		var f pathFacts
		broken = Decoding.Unmarshal(w.Data, &f)
		cause := f.Cause.Err()
		if cause == nil {
			cause = errors.New("it failed")
		}
		err = &fs.PathError{Op: farend.Said(f.Op, MostSaid), Path: farend.Said(f.Path, MostSaid), Err: cause}
	case "record":
		var f recordFacts
		broken = Decoding.Unmarshal(w.Data, &f)
		err = &site.RecordError{File: f.File, Err: f.Cause.Err()}
	case "untrusted":
		e := &site.UntrustedError{}
		broken, err = Decoding.Unmarshal(w.Data, &e.Reason), e
	case "lock lost":
		var f lockLostFacts
		broken = Decoding.Unmarshal(w.Data, &f)
		err = &site.LockLostError{Holder: f.Holder, Err: f.Cause.Err()}
	case "unfinished":
		var f unfinishedFacts
		broken = Decoding.Unmarshal(w.Data, &f)
		err = &site.UnfinishedError{Number: f.Number, Failed: Failures(f.Failed)}
	case "step":
		var f stepFacts
		broken = Decoding.Unmarshal(w.Data, &f)
		err = &site.StepError{Do: f.Do, Err: f.Cause.Err()}
	case "locked":
		e := &site.LockedError{}
		broken, err = Decoding.Unmarshal(w.Data, &e.Holder), e
	case "overtaken":
		e := &site.OvertakenError{}
		broken, err = Decoding.Unmarshal(w.Data, e), e
	case "not kept":
		e := &site.NotKeptError{}
		broken, err = Decoding.Unmarshal(w.Data, e), e
	case "space":
		e := &site.SpaceError{}
		broken, err = Decoding.Unmarshal(w.Data, e), e
	case "owner":
		owner := &site.OwnerError{}
		broken = Decoding.Unmarshal(w.Data, owner)
		owner.Reason, owner.Owner = farend.Said(owner.Reason, MostSaid), farend.Said(owner.Owner, MostSaid)
		err = owner
	case "case":
		var clashes []manifest.CaseClash
		broken = Decoding.Unmarshal(w.Data, &clashes)
		if broken == nil && len(clashes) == 0 {
			broken = errors.New("no clash")
		}
		err = &site.CaseError{Clashes: clashes}
	default:
		err = errors.New(w.Text)
	}
	return err, broken
}
