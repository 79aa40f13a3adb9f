package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"github.com/fxamacker/cbor/v2"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// wireError is an error that crosses the line with what a person must be told.
type wireError struct {
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
	{"not exist", fs.ErrNotExist},
	{"exist", fs.ErrExist},
	{"permission", fs.ErrPermission},
	{"unsupported", fsys.ErrUnsupported},
	{"canceled", context.Canceled},
}

// The facts of errors that carry some.
type (
	rootFacts struct {
		Root, Reason string
		Parent       bool
		Cause        *wireError
	}
	recordFacts struct {
		File  string
		Cause *wireError
	}
	lockLostFacts struct {
		Holder *site.Holder
		Cause  *wireError
	}
	unfinishedFacts struct {
		Number int
		Failed []wireFailure
	}
	stepFacts struct {
		Do    string
		Cause *wireError
	}
)

func errorToWire(err error) *wireError {
	if err == nil {
		return nil
	}
	out := &wireError{Text: err.Error()}
	facts := func(kind string, data any) *wireError {
		out.Kind, out.Data = kind, must(encoding.Marshal(data))
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
	)
	switch {
	case errors.As(err, &lost):
		return facts("lock lost", lockLostFacts{lost.Holder, errorToWire(lost.Err)})
	case errors.As(err, &unfinished):
		return facts("unfinished", unfinishedFacts{unfinished.Number, failuresToWire(unfinished.Failed)})
	case errors.As(err, &step):
		return facts("step", stepFacts{step.Do, errorToWire(step.Err)})
	case errors.As(err, &root):
		return facts("root", rootFacts{root.Root, root.Reason, root.Parent, errorToWire(root.Err)})
	case errors.As(err, &record):
		return facts("record", recordFacts{record.File, errorToWire(record.Err)})
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
	}
	for _, c := range causes {
		if errors.Is(err, c.err) {
			out.Kind = c.kind
			return out
		}
	}
	return out
}

func failuresToWire(list []site.Failure) (out []wireFailure) {
	for _, f := range list {
		out = append(out, wireFailure{Path: f.Path, Error: errorToWire(f.Err)})
	}
	return out
}

func failuresFromWire(list []wireFailure) (out []site.Failure) {
	for _, f := range list {
		out = append(out, site.Failure{Path: f.Path, Err: f.Error.err()})
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

func (w *wireError) err() error {
	if w == nil {
		return nil
	}
	w.Text = fsys.Said(w.Text, mostSaid)
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
func (w *wireError) factual() (err, broken error) {
	switch w.Kind {
	case "root":
		var f rootFacts
		broken = decoding.Unmarshal(w.Data, &f)
		err = &site.RootError{Root: f.Root, Reason: f.Reason, Parent: f.Parent, Err: f.Cause.err()}
	case "record":
		var f recordFacts
		broken = decoding.Unmarshal(w.Data, &f)
		err = &site.RecordError{File: f.File, Err: f.Cause.err()}
	case "untrusted":
		e := &site.UntrustedError{}
		broken, err = decoding.Unmarshal(w.Data, &e.Reason), e
	case "lock lost":
		var f lockLostFacts
		broken = decoding.Unmarshal(w.Data, &f)
		err = &site.LockLostError{Holder: f.Holder, Err: f.Cause.err()}
	case "unfinished":
		var f unfinishedFacts
		broken = decoding.Unmarshal(w.Data, &f)
		err = &site.UnfinishedError{Number: f.Number, Failed: failuresFromWire(f.Failed)}
	case "step":
		var f stepFacts
		broken = decoding.Unmarshal(w.Data, &f)
		err = &site.StepError{Do: f.Do, Err: f.Cause.err()}
	case "locked":
		e := &site.LockedError{}
		broken, err = decoding.Unmarshal(w.Data, &e.Holder), e
	case "overtaken":
		e := &site.OvertakenError{}
		broken, err = decoding.Unmarshal(w.Data, e), e
	case "not kept":
		e := &site.NotKeptError{}
		broken, err = decoding.Unmarshal(w.Data, e), e
	case "space":
		e := &site.SpaceError{}
		broken, err = decoding.Unmarshal(w.Data, e), e
	case "case":
		var clashes []manifest.CaseClash
		broken = decoding.Unmarshal(w.Data, &clashes)
		if broken == nil && len(clashes) == 0 {
			broken = errors.New("no clash")
		}
		err = &site.CaseError{Clashes: clashes}
	default:
		err = errors.New(w.Text)
	}
	return err, broken
}
