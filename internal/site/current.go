package site

import (
	"context"

	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// Current is what the last deployment recorded, and how what is there now differs from it.
type Current struct {
	Manifest   *manifest.Manifest // nil: no deployment is recorded
	Number     int                // of the deployment
	Missing    []string           // paths that are no longer there, sorted
	Altered    []string           // paths that are there otherwise, sorted
	Unfinished bool               // a publish was interrupted, or is under way
}

// Current compares the site with its record, which is believed of files that have the recorded size and time. Told is
// called with bytes as they are read; it may be nil.
func (s *Site) Current(ctx context.Context, told func(bytes int64)) (*Current, error) {
	survey, err := s.Survey(ctx, true)
	if err != nil {
		return nil, err
	}
	out := &Current{Manifest: survey.Recorded, Number: survey.Number, Unfinished: survey.Unfinished}
	if out.Manifest == nil || out.Unfinished {
		return out, nil
	}
	result, err := s.Compare(ctx, survey, &Wanted{Entries: out.Manifest.Entries}, told)
	if err != nil {
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
