package site

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"tartine/internal/manifest"
)

// Stands gives what stands at some paths and below them, with the digests of all files, in the order of their paths; no
// paths mean everything. A file that could not be read has a digest of zero. Folders are listed when nothing stands in
// them. It fails with fs.ErrNotExist for a path at which nothing stands. Told is called with bytes as they are read,
// perhaps from several goroutines; it may be nil.
func (s *Site) Stands(ctx context.Context, paths []string, told func(bytes int64)) ([]manifest.Entry, error) {
	for _, p := range paths {
		if err := manifest.CheckPath(p); err != nil {
			return nil, &fs.PathError{Op: "find", Path: p, Err: err}
		}
	}
	survey, err := s.Survey(ctx, true)
	if err != nil {
		return nil, err
	}
	if !s.exists {
		return nil, &RootError{Root: s.label, Reason: "does not stand", Err: fs.ErrNotExist}
	}
	met := make([]bool, len(paths))
	wanted := func(path string) bool {
		found := len(paths) == 0
		for i, p := range paths {
			if path == p || strings.HasPrefix(path, p+"/") {
				met[i], found = true, true
			}
		}
		return found
	}
	var chosen, open []int
	for i := range survey.Found {
		f := &survey.Found[i]
		if !wanted(f.Path) || f.Other != 0 || f.Kind == manifest.Dir && f.Filled {
			continue
		}
		chosen = append(chosen, i)
		if f.Kind == manifest.File && f.Digest.IsZero() {
			open = append(open, i)
		}
	}
	if i := slices.Index(met, false); i >= 0 {
		return nil, &fs.PathError{Op: "find", Path: paths[i], Err: fmt.Errorf("nothing stands there: %w", fs.ErrNotExist)}
	}
	if err := s.resolve(ctx, survey, open, told); err != nil {
		return nil, err
	}
	out := make([]manifest.Entry, len(chosen))
	for i, at := range chosen {
		out[i] = survey.Found[at].Entry
	}
	return out, nil
}
