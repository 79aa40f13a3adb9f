package site

import (
	"context"
	"errors"
	"strings"

	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// Current is what the last deployment recorded, and how what is there now differs from it.
type Current struct {
	Number     int              // of the deployment; 0: none is recorded
	Count      int              // of its entries
	Entries    *manifest.Folded // sorted by path; nil where they were handed on
	Origin     *manifest.Origin
	Missing    []string // paths that are no longer there, sorted
	Altered    []string // paths that are there otherwise, sorted
	Unfinished bool     // a publish was interrupted, or is under way: nothing else is told then
}

// Current compares the site with its record, which is believed of files that have the recorded size and time. Told is
// called with bytes as they are read, and take with what is recorded, some entries at a time; both may be nil.
func (s *Site) Current(ctx context.Context, told func(bytes int64), take Taking) (*Current, error) {
	survey, err := s.SurveyBriefly(ctx, true)
	if err != nil {
		return nil, err
	}
	out := &Current{Number: survey.Number, Unfinished: survey.Unfinished}
	if out.Number == 0 || out.Unfinished {
		return out, nil
	}
	if err := s.ReadFiles(ctx, survey, told); err != nil {
		return nil, err
	}
	out.Origin = survey.Recorded.Origin
	give := giving{take: take}
	result, err := s.sinceRecorded(ctx, survey, give.add, told)
	if err != nil {
		return nil, err
	}
	if out.Count, out.Entries, err = give.end(); err != nil {
		return nil, err
	}
	for i := range result.Changes {
		switch c := &result.Changes[i]; c.Status {
		case diff.New:
			out.Missing = append(out.Missing, c.Path())
		case diff.Changed:
			out.Altered = append(out.Altered, c.Path())
		}
	}
	return out, nil
}

// sinceRecorded gives what would have to change for a site to be as it is recorded, and calls visit with all that is.
func (s *Site) sinceRecorded(ctx context.Context, survey *Survey, visit func(e *manifest.Entry), told func(bytes int64)) (*diff.Result, error) {
	b := survey.brief
	if b == nil {
		want := survey.Entries()
		for i := range want {
			visit(&want[i])
		}
		return s.Compare(ctx, survey, &Wanted{Entries: want}, told)
	}
	young, some := b.youngOnes(), []manifest.Entry(nil)
	if err := s.eachRecorded(ctx, survey.Number, func(e *manifest.Entry) bool {
		if visit(e); young[e.Path] || b.isOdd(e.Path) {
			some = append(some, lasting(e, strings.Clone(e.Path)))
		}
		return ctx.Err() == nil
	}); err != nil || ctx.Err() != nil {
		return nil, errors.Join(err, ctx.Err())
	}
	_, result, err := s.CompareParts(ctx, survey, &Different{survey: survey, contents: b.contents, recorded: some}, &Wanted{Entries: some}, b.count, told)
	return result, err
}
