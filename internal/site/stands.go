package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Standing is what is at a site.
type Standing struct {
	Entries []manifest.Entry // sorted by path
	Raw     []manifest.Entry // files whose paths are no UTF-8
	Left    []Failure        // what is there, too, and cannot be brought, and why
}

// Stands gives what is at some paths and below them, with the digests of all files, in the order of their paths; no
// paths mean everything. A file that could not be read has a digest of zero. Folders are listed when nothing exists in
// them. It fails with fs.ErrNotExist for a path at which nothing exists. Told is called with bytes as they are read,
// perhaps from several goroutines; it may be nil.
func (s *Site) Stands(ctx context.Context, paths []string, told func(bytes int64)) (*Standing, error) {
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
		return nil, &RootError{Root: s.label, Reason: "does not exist", Err: fs.ErrNotExist}
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
		return nil, &fs.PathError{Op: "find", Path: paths[i], Err: fmt.Errorf("nothing is there: %w", fs.ErrNotExist)}
	}
	if err := s.resolve(ctx, survey, open, told); err != nil {
		return nil, err
	}
	out := &Standing{Entries: make([]manifest.Entry, len(chosen))}
	for i, at := range chosen {
		out.Entries[i] = *survey.Found[at].Entry
	}
	left := func(path, why string) {
		if wanted(path) {
			out.Left = append(out.Left, Failure{path, errors.New(why)})
		}
	}
	brought := map[string]bool{}
	for _, f := range survey.raw {
		if !wanted(f.Path) {
			continue
		}
		digest, size, err := fsys.DigestOf(ctx, s.fs, s.at(f.Path))
		if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
			return nil, errors.Join(err, ctx.Err())
		}
		if err == nil {
			f.Digest, f.Size = digest, size
			dir, base := fsys.Split(f.Path)
			out.Raw, brought[fsys.Join(dir, strconv.Quote(base))] = append(out.Raw, *f.Entry), true
		}
	}
	for _, odd := range survey.Odd {
		if brought[odd] {
			continue
		}
		left(odd, "its name is not valid UTF-8, or one that no manifest can hold")
	}
	for _, shut := range survey.Shut {
		left(shut, "the folder may not be read")
	}
	for i := range survey.Found {
		if f := &survey.Found[i]; f.Other != 0 {
			left(f.Path, "it is not a file, folder or link")
		}
	}
	return out, nil
}
