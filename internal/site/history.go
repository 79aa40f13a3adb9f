package site

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"sync"

	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// Past is a recorded deployment.
type Past struct {
	manifest.Deployment
	Origin *manifest.Origin
	Tree   manifest.Digest
	Ran    *Ran // the commands that ran around it; nil: none did, or it is not known
}

// NotKeptError tells that a deployment is no longer recorded, or never was.
type NotKeptError struct {
	Number int
	Kept   []int // those that are
}

func (e *NotKeptError) Error() string { return fmt.Sprintf("deployment %d is not recorded", e.Number) }

// History gives the recorded deployments, the latest first. The first one is the current one.
func (s *Site) History(ctx context.Context) ([]Past, error) {
	numbers, err := s.recorded(ctx)
	if err != nil {
		return nil, err
	}
	var out []Past
	for _, number := range slices.Backward(numbers) {
		one, err := s.past(ctx, number)
		if err != nil {
			return nil, err
		}
		out = append(out, *one)
	}
	return out, nil
}

// past reads what there is to say of a recorded deployment.
func (s *Site) past(ctx context.Context, number int) (*Past, error) {
	h, m, err := s.readHead(ctx, number, false)
	if err != nil {
		return nil, err
	}
	if m == nil {
		m = h.manifest()
	}
	out := &Past{Deployment: *m.Deployment, Origin: m.Origin, Tree: h.Tree}
	if out.Commands > 0 {
		out.Ran, err = s.readRan(ctx, number)
	}
	return out, err
}

func (s *Site) recorded(ctx context.Context) ([]int, error) {
	current, err := s.current(ctx)
	if err != nil || current == 0 {
		return nil, err
	}
	return s.numbers(ctx, current)
}

// Deployment reads the manifest of a recorded deployment. Its error may be a *NotKeptError.
func (s *Site) Deployment(ctx context.Context, number int) (*manifest.Manifest, error) {
	if err := s.areRecorded(ctx, number); err != nil {
		return nil, err
	}
	return s.recordedAs(ctx, number)
}

// areRecorded fails with a *NotKeptError for the first of some deployments that is not recorded.
func (s *Site) areRecorded(ctx context.Context, some ...int) error {
	numbers, err := s.recorded(ctx)
	if err != nil {
		return err
	}
	for _, number := range some {
		if !slices.Contains(numbers, number) {
			return &NotKeptError{number, numbers}
		}
	}
	return nil
}

// Held finds the names under which the site or its kept store holds the content of changes, for a rollback, and gives
// the paths of those whose content neither holds.
func (s *Site) Held(ctx context.Context, survey *Survey, result *diff.Result) (missing []string, err error) {
	survey.held, missing, err = s.held(ctx, survey, result)
	return missing, err
}

// openHeld gives a function that opens the content of a rollback's paths.
func (s *Site) openHeld(ctx context.Context, plan *Plan) func(path string) (io.ReadCloser, error) {
	return func(path string) (io.ReadCloser, error) {
		i, ok := manifest.Find(plan.Want, path)
		if !ok {
			return nil, fmt.Errorf("%s is not part of deployment %d", path, plan.Rollback)
		}
		name := plan.Survey.held[plan.Want[i].Digest]
		if name == "" {
			return nil, errors.New("its content is no longer kept")
		}
		return s.fs.Open(ctx, name)
	}
}

func (s *Site) held(ctx context.Context, survey *Survey, result *diff.Result) (names map[manifest.Digest]string, missing []string, err error) {
	store, err := s.storeSizes(ctx, kept, nil)
	if err != nil {
		return nil, nil, err
	}
	staged, err := s.storeSizes(ctx, incoming, nil)
	if err != nil {
		return nil, nil, err
	}
	names = map[manifest.Digest]string{}
	for i := range survey.Found {
		if f := &survey.Found[i]; f.Kind == manifest.File && f.Other == 0 && !f.Digest.IsZero() {
			names[f.Digest] = s.at(f.Path)
		}
	}
	wanted := map[manifest.Digest]bool{}
	for i := range result.Changes {
		if c := &result.Changes[i]; c.Sends() {
			wanted[c.Want.Digest] = true
		}
	}
	var mu sync.Mutex
	if err := s.eachOther(ctx, survey, wanted, func(e *manifest.Entry) {
		mu.Lock()
		defer mu.Unlock()
		names[e.Digest] = s.at(e.Path)
	}); err != nil {
		return nil, nil, err
	}
	if s.trees != "" {
		inTrees, err := s.heldInTrees(ctx, wanted)
		if err != nil {
			return nil, nil, err
		}
		maps.Copy(names, inTrees)
	}
	for i := range result.Changes {
		c := &result.Changes[i]
		if !c.Sends() {
			continue
		}
		name := storeName(kept, c.Want.Digest, 1)
		if size, ok := store[name]; ok && size == c.Want.Size {
			names[c.Want.Digest] = s.inRecord(name)
		} else if size, ok := staged[storeName(incoming, c.Want.Digest, 1)]; ok && size == c.Want.Size &&
			names[c.Want.Digest] == "" {
			names[c.Want.Digest] = s.inRecord(storeName(incoming, c.Want.Digest, 1))
		}
		if names[c.Want.Digest] == "" {
			missing = append(missing, c.Path())
		}
	}
	return names, missing, nil
}
