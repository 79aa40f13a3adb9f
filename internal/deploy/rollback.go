package deploy

import (
	"context"
	"fmt"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// GoneError tells that content of an earlier deployment is no longer kept, so that it cannot be published again.
type GoneError struct {
	Number int
	Paths  []string // sorted
}

func (e *GoneError) Error() string {
	return fmt.Sprintf("content of deployment %d is no longer kept", e.Number)
}

// Earlier gives an earlier deployment of a site as the content of a session with it. The site holds what it needs;
// nothing is sent but where the far end can neither copy nor link.
func Earlier(e calls.Engine, number int) func(context.Context) (*content.Content, error) {
	return func(ctx context.Context) (*content.Content, error) {
		m, err := calls.Deployment.On(ctx, e, number)
		if err != nil {
			return nil, err
		}
		out := content.Of(m.Entries)
		out.Rollback = number
		return out, nil
	}
}

// Between gives what changed from one recorded deployment to another.
func Between(ctx context.Context, s calls.Engine, from, to int) (*diff.Result, error) {
	var (
		before  []diff.Found
		entries []manifest.Entry
	)
	if from > 0 {
		m, err := calls.Deployment.On(ctx, s, from)
		if err != nil {
			return nil, fmt.Errorf("compare with deployment %d: %w", from, err)
		}
		entries = m.Entries
		for i := range entries {
			before = append(before, diff.Found{Entry: &entries[i]})
		}
	}
	after, err := calls.Deployment.On(ctx, s, to)
	if err != nil {
		return nil, err
	}
	return diff.Compare(after.Entries, before, entries, diff.Rule{Modes: true, TimeStep: s.Abilities().TimeStep}, nil),
		nil
}
