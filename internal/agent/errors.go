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
	{"lock lost", site.ErrLockLost},
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
	)
	switch {
	case errors.As(err, &root):
		return facts("root", rootFacts{root.Root, root.Reason, root.Parent, errorToWire(root.Err)})
	case errors.As(err, &record):
		return facts("record", recordFacts{record.File, errorToWire(record.Err)})
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
