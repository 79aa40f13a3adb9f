package site

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"

	"tartine/internal/fsys"
)

// Some places say that they do what they refuse then. What was found out by trying is written beside the record, so
// that it is not tried, and told, each time anew. The doctor tries everything again.

const placeName = "place.json"

// knownPlace is what is known of the place of a site.
type knownPlace struct {
	Refuses []string `json:"refuses"`
}

// recall tells the place's FS what was found out of it before.
func (s *Site) recall(ctx context.Context) error {
	learner, ok := s.fs.(fsys.Learner)
	if !ok || s.record == "" || !s.Abilities().OddNames {
		return nil
	}
	text, err := s.read(ctx, placeName, mostShort)
	if err != nil {
		return ignoreAllButLost(err)
	}
	var p knownPlace
	if json.Unmarshal(text, &p) == nil { // else it is found out again
		learner.Know(p.Refuses)
		s.refused = p.Refuses
	}
	return nil
}

// note writes down what was found out since. It is a help only: where it cannot be written, it is found out again.
func (s *Site) note(ctx context.Context) error {
	learner, ok := s.fs.(fsys.Learner)
	if !ok || s.record == "" {
		return nil
	}
	refused := learner.Refused()
	if slices.Equal(refused, s.refused) {
		return nil
	}
	text, err := json.Marshal(knownPlace{refused})
	if err == nil {
		_, err = s.fs.Put(ctx, s.inRecord(placeName), bytes.NewReader(text), fsys.Attributes{Mode: s.private(0o600)})
	}
	if err == nil {
		s.refused = refused
	}
	return ignoreAllButLost(err)
}
