package site

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

// Ran is what ran around a deployment: commands before and after its publish, and checks. It is in deployments/N.ran.
// How much was to run is written down with the deployment itself, before it is published, so that one whose run was
// interrupted is known by the lack of Settled.
type Ran struct {
	Settled  bool         `json:"settled"`          // nothing is left to run
	Unwell   string       `json:"unwell,omitempty"` // what found the deployment unwell; empty: nothing did
	Commands []RanCommand `json:"commands"`         // in the order in which they ended
}

// RanCommand is a command, or a check, that ran.
type RanCommand struct {
	When    string  `json:"when"`  // before_publish, after_publish or check
	Where   string  `json:"where"` // here, there or web
	What    string  `json:"what"`  // the command, as a person would write it
	Status  int     `json:"status"`
	Error   string  `json:"error,omitempty"` // why it failed; empty: it ended well
	Seconds float64 `json:"seconds"`
	Output  string  `json:"output,omitempty"` // the end of it
}

// Owed is how far the commands of a deployment have come.
type Owed struct {
	Count  int  // how many there are
	Before int  // the deployment before; 0: there is none
	Ran    *Ran // nil: nothing is noted
}

// mostRan is how large what ran may be in the record, in bytes.
const mostRan = 16 << 20

func ranFile(number int) string {
	return strings.TrimSuffix(deploymentFile(number), "json") + "ran"
}

// NoteRan writes down what ran around a recorded deployment. It needs no lock: each deployment has a file of its own,
// which takes its place in one step.
func (s *Site) NoteRan(ctx context.Context, number int, ran *Ran) error {
	if number < 1 || number > mostNumber || s.record == "" {
		return &NotKeptError{Number: number}
	}
	if _, err := s.fs.Lstat(ctx, s.inRecord(deploymentFile(number))); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = &NotKeptError{Number: number}
		}
		return err
	}
	text, err := json.Marshal(ran)
	if err == nil && len(text) > mostRan {
		err = fmt.Errorf("what ran has %d bytes, and %d can be written down", len(text), mostRan)
	}
	if err != nil {
		return err
	}
	return s.write(ctx, ranFile(number), text)
}

// readRan gives what ran around a deployment; nil: nothing is noted, or nothing that can be read.
func (s *Site) readRan(ctx context.Context, number int) (*Ran, error) {
	text, err := s.read(ctx, ranFile(number), mostRan)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &Ran{}
	if json.Unmarshal(text, out) != nil {
		return nil, nil // it only says what ran: nothing depends on it but what runs once more
	}
	return out, nil
}

// Owed tells how far the commands of a recorded deployment have come.
func (s *Site) Owed(ctx context.Context, number int) (*Owed, error) {
	numbers, err := s.recorded(ctx)
	at := slices.Index(numbers, number)
	if err != nil || at < 0 {
		return &Owed{}, err
	}
	past, err := s.past(ctx, number)
	if err != nil {
		return nil, err
	}
	out := &Owed{Count: past.Commands, Ran: past.Ran}
	if at > 0 {
		out.Before = numbers[at-1]
	}
	return out, nil
}
