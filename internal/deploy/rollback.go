package deploy

import (
	"context"
	"fmt"
	"io"

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
	held   map[manifest.Digest]string
}

// LookBack compares the site with an earlier deployment. It changes nothing. Its error may be a *site.NotKeptError or a
// *GoneError.
func LookBack(ctx context.Context, s Site, number int, told func(int64)) (*Back, error) {
	m, err := s.Deployment(ctx, number)
	if err != nil {
		return nil, err
	}
	b := &Back{Number: number}
	b.Tree = &content.Tree{Entries: m.Entries}
	if b.Survey, err = s.Survey(ctx, true); err != nil {
		return nil, err
	}
	rule := ruleFor(s, ByRecord)
	open := diff.Unresolved(m.Entries, b.Survey.Found, b.Survey.Entries(), rule)
	if err := s.Resolve(ctx, b.Survey, open, told); err != nil {
		return nil, err
	}
	b.Result = diff.Compare(m.Entries, b.Survey.Found, b.Survey.Entries(), rule, nil)
	var missing []string
	if b.held, missing, err = s.Held(ctx, b.Survey, b.Result); err != nil {
		return nil, err
	}
	if len(missing) > 0 {
		return nil, &GoneError{number, missing}
	}
	return b, nil
}

// Rollback publishes an earlier deployment again, as a new one. Its content is what the site holds; nothing is sent but
// where the far end can neither copy nor link.
func Rollback(ctx context.Context, s Site, b *Back, opt Options, watch *site.Watch) (*site.Outcome, error) {
	plan, err := b.plan(opt)
	if err != nil {
		return nil, err
	}
	plan.Rollback, plan.Held = b.Number, b.held
	plan.Open = func(path string) (io.ReadCloser, error) {
		i, ok := b.Tree.Find(path)
		if !ok {
			return nil, fmt.Errorf("%s is not part of deployment %d", path, b.Number)
		}
		return s.Read(ctx, b.held[b.Tree.Entries[i].Digest])
	}
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
	rule := ruleFor(s, ByRecord)
	rule.Modes = true
	return diff.Compare(after.Entries, before, entries, rule, nil), nil
}
