package site

import (
	"context"
	"errors"
	"io/fs"
	"iter"
	"slices"
	"strings"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// An earlier deployment that is wanted again is known where the site is: what is recorded of it and what is recorded of the current one
// are gone through side by side, and only what differs is listed, and crosses a connection.

// Earlier is an earlier deployment, as far as it has to be compared with what is at the site.
type Earlier struct {
	Entries  []manifest.Entry // those that are not the same there, sorted by path
	Paths    int              // how many it has in all
	Contents int              // see manifest.Contents
	Tree     manifest.Digest
}

// Earlier gives what of an earlier deployment is, or may be, other than what is there, for CompareParts. It gives nil where all of both
// is to be compared. Its error may be a *NotKeptError.
func (s *Site) Earlier(ctx context.Context, survey *Survey, number int, want *Wanted) (*Earlier, *Different, error) {
	if err := s.areRecorded(ctx, number); err != nil {
		return nil, nil, err
	}
	if !s.InParts(survey, want) || len(want.Kept) > 0 {
		return nil, nil, nil
	}
	h, old, err := s.readHead(ctx, number, false)
	if err != nil || old != nil { // which is read as a whole
		return nil, nil, err
	}
	var (
		out    = &Earlier{Tree: h.Tree, Paths: h.Count}
		d      = &Different{survey: survey, contents: survey.brief.contents, much: &muchParts{}}
		dir    string // the last one in which something is wanted
		failed error
	)
	wanted := func(visit func(e *manifest.Entry) bool) {
		failed = s.eachRecorded(ctx, number, func(e *manifest.Entry) bool {
			if !e.Hand {
				out.Contents++
			}
			if in, _ := fsys.Split(e.Path); in != dir || len(d.wanted) == 0 {
				dir = strings.Clone(in)
				d.wanted = append(d.wanted, dir)
			}
			if e.Kind == manifest.Dir {
				d.dirs = append(d.dirs, strings.Clone(e.Path))
			}
			return visit(e)
		})
	}
	out.Entries, _, err = s.Narrow(ctx, d, want, wanted)
	d.dirs = slices.DeleteFunc(d.dirs, func(dir string) bool { // those that are left are recorded, and stay
		_, differs := manifest.Find(out.Entries, dir)
		return differs
	})
	return out, d, errors.Join(err, failed)
}

// eachRecorded calls visit with the entries of a deployment, in the order of their paths, until it tells that that is enough. Visit must
// not keep them.
func (s *Site) eachRecorded(ctx context.Context, number int, visit func(e *manifest.Entry) bool) error {
	h, old, err := s.readHead(ctx, number, true)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return &RecordError{s.inRecord(deploymentFile(number)), err}
	case err != nil:
		return err
	case old != nil:
		manifest.Each(old.Entries, visit)
		return nil
	}
	shelf, err := s.openShelf(ctx, h, true)
	defer shelf.close()
	if err != nil {
		return err
	}
	return blocks.Walk(blocks.Ref{Name: h.Top, Entries: h.Count}, shelf.block, visit)
}

// Between is what differs from one recorded deployment to another.
type Between struct {
	Before, After []manifest.Entry // of either, sorted by path
	Same          int              // entries that are the same in both
	SameBytes     int64            // of their files
}

// Between gives what differs from one recorded deployment to another; 0 stands for nothing. A folder of the one that has content in the
// other is no difference. Its error may be a *NotKeptError.
func (s *Site) Between(ctx context.Context, from, to int) (*Between, error) {
	some := slices.DeleteFunc([]int{from, to}, func(number int) bool { return number == 0 })
	if err := s.areRecorded(ctx, some...); err != nil {
		return nil, err
	}
	var (
		out    = &Between{}
		filled = map[string]bool{} // folders of the later one
		dir    = "."
		failed error
	)
	later := func(visit func(e *manifest.Entry) bool) {
		failed = s.eachOf(ctx, to, func(e *manifest.Entry) bool {
			if in, _ := fsys.Split(e.Path); in != dir {
				for dir = strings.Clone(in); in != "." && !filled[in]; in, _ = fsys.Split(in) {
					filled[strings.Clone(in)] = true
				}
			}
			return visit(e)
		})
	}
	next, stop := iter.Pull(iter.Seq[*manifest.Entry](later))
	defer stop()
	e, more := next()
	take := func() {
		out.After = append(out.After, lasting(e, strings.Clone(e.Path)))
		e, more = next()
	}
	err := s.eachOf(ctx, from, func(was *manifest.Entry) bool {
		for more && e.Path < was.Path {
			take()
		}
		switch isThere := more && e.Path == was.Path; {
		case isThere && e.Equal(*was):
			out.Same, out.SameBytes = out.Same+1, out.SameBytes+max(e.Size, 0)
			e, more = next()
			return ctx.Err() == nil
		case isThere:
			take()
		}
		out.Before = append(out.Before, lasting(was, strings.Clone(was.Path)))
		return ctx.Err() == nil
	})
	for more && err == nil {
		take()
	}
	out.Before = slices.DeleteFunc(out.Before, func(was manifest.Entry) bool {
		_, isThere := manifest.Find(out.After, was.Path)
		return !isThere && was.Kind == manifest.Dir && filled[was.Path]
	})
	return out, errors.Join(err, failed, ctx.Err())
}

// eachOf is eachRecorded, of nothing for 0.
func (s *Site) eachOf(ctx context.Context, number int, visit func(e *manifest.Entry) bool) error {
	if number == 0 {
		return nil
	}
	return s.eachRecorded(ctx, number, visit)
}
