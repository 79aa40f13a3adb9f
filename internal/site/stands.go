package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Standing is what is at a site.
type Standing struct {
	Count   int              // of the entries
	Entries *manifest.Folded // sorted by path; nil where they were handed on
	Raw     []manifest.Entry // files whose paths are no UTF-8
	Left    []Failure        // what is there, too, and cannot be brought, and why
}

// Stands gives what is at some paths and below them, with the digests of all files, in the order of their paths; no
// paths mean everything. A file that could not be read has a digest of zero. Folders are listed when nothing exists in
// them. It fails with fs.ErrNotExist for a path at which nothing exists. Told is called with bytes as they are read,
// perhaps from several goroutines. Take is called with the entries, some at a time, which it must not keep. Both may be nil.
func (s *Site) Stands(ctx context.Context, paths []string, told func(bytes int64), take Taking) (*Standing, error) {
	for _, p := range paths {
		if err := manifest.CheckPath(p); err != nil {
			return nil, &fs.PathError{Op: "find", Path: p, Err: err}
		}
	}
	survey, err := s.SurveyBriefly(ctx, true)
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
	var (
		out  = &Standing{}
		give = giving{take: take}
		open []int // files among those that are given next, of which the digest is not known
		odd  []Failure
	)
	give.before = func(entries []manifest.Entry) error {
		defer func() { open = open[:0] }()
		return s.digest(ctx, entries, open, told)
	}
	left := func(path, why string) { out.Left = append(out.Left, Failure{path, errors.New(why)}) }
	if err := s.eachFound(ctx, survey, func(f *diff.Found) {
		switch {
		case !wanted(f.Path):
		case f.Other != 0:
			odd = append(odd, Failure{f.Path, errors.New("it is not a file, folder or link")})
		case f.Kind != manifest.Dir || !f.Filled:
			if f.Kind == manifest.File && f.Digest.IsZero() {
				open = append(open, len(give.some))
			}
			give.add(f.Entry)
		}
	}); err != nil {
		return nil, err
	}
	if i := slices.Index(met, false); i >= 0 {
		return nil, &fs.PathError{Op: "find", Path: paths[i], Err: fmt.Errorf("nothing is there: %w", fs.ErrNotExist)}
	}
	if out.Count, out.Entries, err = give.end(); err != nil {
		return nil, err
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
		if wanted(odd) && !brought[odd] {
			left(odd, "its name is not valid UTF-8, or one that no manifest can hold")
		}
	}
	for _, shut := range survey.Shut {
		if wanted(shut) {
			left(shut, "the folder may not be read")
		}
	}
	out.Left = append(out.Left, odd...)
	return out, nil
}

// digest computes the digests of some of the files that were found, by index. One that cannot be read keeps a digest of zero.
func (s *Site) digest(ctx context.Context, entries []manifest.Entry, some []int, told func(bytes int64)) error {
	names := make([]string, len(some))
	for i, at := range some {
		names[i] = s.at(entries[at].Path)
	}
	_, err := fsys.Digests(ctx, s.fs, names, s.jobs, func(i int, digest manifest.Digest, err error) {
		e := &entries[some[i]]
		if err == nil {
			e.Digest = digest
		}
		if told != nil {
			told(e.Size)
		}
	})
	return err
}
