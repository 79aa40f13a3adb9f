package deploy

import (
	"context"
	"fmt"

	"tartine/internal/content"
	"tartine/internal/diff"
	"tartine/internal/manifest"
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

// Back is an earlier deployment beside the site as it stands.
type Back struct {
	Comparison
	Number int
}

// LookBack compares the site with an earlier deployment. It changes nothing. Its error may be a *site.NotKeptError or, unless a part is
// wanted too, a *GoneError.
func LookBack(ctx context.Context, s Site, number int, partial bool, retire site.Retire, told func(int64)) (*Back, error) {
	m, err := s.Deployment(ctx, number)
	if err != nil {
		return nil, err
	}
	b := &Back{Number: number}
	b.able = s.Abilities()
	b.Tree = &content.Tree{Entries: m.Entries}
	if b.Survey, err = s.Survey(ctx, true); err != nil {
		return nil, err
	}
	if b.Result, err = s.Compare(ctx, b.Survey, &site.Wanted{Entries: m.Entries, Retire: retire}, told); err != nil {
		return nil, err
	}
	missing, err := s.Held(ctx, b.Survey, b.Result)
	if err != nil {
		return nil, err
	}
	if len(missing) > 0 && !partial {
		return nil, &GoneError{number, missing}
	}
	return b, nil
}

// Rollback publishes an earlier deployment again, as a new one. Its content is what the site holds; nothing is sent but
// where the far end can neither copy nor link.
func Rollback(ctx context.Context, s Site, b *Back, opt Options, watch *site.Watch) (*site.Outcome, error) {
	plan := b.plan(opt)
	plan.Rollback = b.Number
	return s.Deploy(ctx, plan, watch)
}

// Between gives what changed from one recorded deployment to another.
func Between(ctx context.Context, s Site, from, to int) (*diff.Result, error) {
	var (
		before  []diff.Found
		entries []manifest.Entry
	)
	if from > 0 {
		m, err := s.Deployment(ctx, from)
		if err != nil {
			return nil, fmt.Errorf("compare with deployment %d: %w", from, err)
		}
		entries = m.Entries
		for _, e := range entries {
			before = append(before, diff.Found{Entry: e})
		}
	}
	after, err := s.Deployment(ctx, to)
	if err != nil {
		return nil, err
	}
	return diff.Compare(after.Entries, before, entries, diff.Rule{Modes: true, TimeStep: s.Abilities().TimeStep}, nil), nil
}
