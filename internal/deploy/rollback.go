package deploy

import (
	"context"
	"errors"
	"fmt"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/diff"
	"tartine/internal/site"
)

// GoneError tells that content of an earlier deployment is no longer kept, so that it cannot be published again.
type GoneError struct {
	Number int
	Paths  []string // sorted
}

func (e *GoneError) Error() string {
	return fmt.Sprintf("content of deployment %d is no longer kept", e.Number)
}

// Earlier gives an earlier deployment of a site as the content of a session with it. What that has is only known once it was compared.
// The site holds what it needs; nothing is sent but where the far end can neither copy nor link.
func Earlier(number int) func(context.Context) (*content.Content, error) {
	return func(context.Context) (*content.Content, error) { return &content.Content{Rollback: number}, nil }
}

// compareEarlier has the engine compare with an earlier deployment of its site, and notes what that is.
func (s *Session) compareEarlier(ctx context.Context, c *Comparison, q *calls.Comparing, watch *site.Watch) (*calls.Compared, error) {
	q.Earlier, q.Content = c.Content.Rollback, nil
	answer, err := calls.Compare.Watched(ctx, s.Engine, q, watch)
	switch {
	case err != nil:
		return nil, err
	case answer.Result != nil:
		e := answer.Earlier
		c.Content.Set(e.Entries)
		c.Content.Whole, c.tree = &content.Whole{Len: e.Paths, Contents: e.Contents, Tree: e.Tree}, e.Tree
		return answer, nil
	}
	m, err := calls.Deployment.On(ctx, s.Engine, q.Earlier)
	if err != nil {
		return nil, err
	}
	c.Content.Set(m.Entries)
	if q.Earlier, q.Content = 0, c.Content; s.Distant {
		c.tree = c.Content.Tree()
		q.Tree = c.tree
	}
	return calls.Compare.Watched(ctx, s.Engine, q, watch)
}

// Between gives what changed from one recorded deployment, or from nothing, to another.
func Between(ctx context.Context, s calls.Engine, from, to int) (*diff.Result, error) {
	between, err := calls.Between.On(ctx, s, calls.Steps{From: from, To: to})
	var notKept *site.NotKeptError
	if errors.As(err, &notKept) && notKept.Number == from {
		return nil, fmt.Errorf("compare with deployment %d: %w", from, err)
	}
	if err != nil {
		return nil, err
	}
	before := make([]diff.Found, len(between.Before))
	for i := range before {
		before[i].Entry = &between.Before[i]
	}
	out := diff.Compare(between.After, before, between.Before, diff.Rule{Modes: true, TimeStep: s.Abilities().TimeStep}, nil)
	out.Same, out.SameBytes = out.Same+between.Same, out.SameBytes+between.SameBytes
	return out, nil
}
