package site

import (
	"context"
	"slices"

	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// A watch deploys each change as it is made, and history shows all of that as one deployment: each of its deployments but
// the first takes up the one before, whose manifest goes. Numbers go on, so that whoever compared before a deployment of
// the watch finds out. What was current before the watch can be published again: what the watch replaced of it is kept, and
// what came in between is not.

// takesUp gives the number of the deployment that this one takes up, which the same watch made last; 0: none.
func (plan *Plan) takesUp() int {
	last := plan.Survey.Recorded
	if plan.Watched == nil || last == nil || last.Deployment == nil || last.Deployment.Watched == nil ||
		last.Deployment.Watched.ID != plan.Watched.ID {
		return 0
	}
	return plan.Survey.Number
}

// watched adds to a deployment of a watch what those that it takes up did.
func (plan *Plan) watched(d *manifest.Deployment) {
	if plan.Watched == nil {
		return
	}
	d.Watched = &manifest.Watched{ID: plan.Watched.ID, Since: plan.Watched.Since, Deployments: 1,
		Changes: d.New + d.Changed + d.Retired}
	if plan.takesUp() == 0 {
		return
	}
	last := plan.Survey.Recorded.Deployment
	d.Watched.Since = last.Watched.Since
	d.Watched.Deployments += last.Watched.Deployments
	d.Watched.Changes += last.Watched.Changes
	d.New, d.Changed, d.Retired = d.New+last.New, d.Changed+last.Changed, d.Retired+last.Retired
	d.SentFiles, d.SentBytes, d.Seconds = d.SentFiles+last.SentFiles, d.SentBytes+last.SentBytes, d.Seconds+last.Seconds
}

// keeping tells what a publish keeps of what it replaces: what some deployment that stays recorded had.
func (s *Site) keeping(ctx context.Context, plan *Plan) (func(*diff.Found) bool, error) {
	last := plan.takesUp()
	if last == 0 {
		return func(*diff.Found) bool { return true }, nil
	}
	numbers, err := s.numbers(ctx, last)
	if err != nil {
		return nil, err
	}
	for _, number := range numbers[:max(len(numbers)-1, 0)] {
		if s.contents[number] != nil {
			continue
		}
		m, err := s.recordedAs(ctx, number)
		if err != nil {
			return nil, err
		}
		digests := make(map[manifest.Digest]bool, len(m.Entries))
		for i := range m.Entries {
			digests[m.Entries[i].Digest] = true
		}
		if s.contents == nil {
			s.contents = map[int]map[manifest.Digest]bool{}
		}
		s.contents[number] = digests
	}
	return func(f *diff.Found) bool {
		return slices.ContainsFunc(numbers, func(number int) bool { return s.contents[number][f.Digest] })
	}, nil
}
