package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"tartine/internal/fsys"
)

// deepest is how many folders may lie one in the other: there is no end to what a far end may list.
const deepest = 1000

// folderwise visits a folder, and those that visit gives for it, and so on, as many at once as there are jobs.
func folderwise[F any](ctx context.Context, jobs int, top F, visit func(ctx context.Context, folder F) (below []F, err error)) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(jobs)
	var enter func(folder F) error
	enter = func(folder F) error {
		below, err := visit(ctx, folder)
		for _, next := range below {
			if err != nil {
				break
			}
			deeper := func() error { return enter(next) }
			if !group.TryGo(deeper) {
				err = deeper()
			}
		}
		return errors.Join(err, ctx.Err())
	}
	group.Go(func() error { return enter(top) })
	return group.Wait()
}

// atOnce is of how many entries the files are read at a time.
const atOnce = 8192

// inBatches calls do with folders as they come, some at a time, which have so many entries.
func inBatches[F any](folders <-chan F, entries func(folder F) int, do func(some []F) error) error {
	var (
		some []F
		size int
	)
	for in := range folders {
		if some, size = append(some, in), size+entries(in); size < atOnce {
			continue
		}
		if err := do(some); err != nil {
			return err
		}
		some, size = nil, 0
	}
	return do(some)
}

// listIn lists a folder of the site, sorted by name, without the record.
func (s *Site) listIn(ctx context.Context, dir string) ([]fsys.Info, error) {
	if strings.Count(dir, "/") >= deepest {
		return nil, &fs.PathError{Op: "list", Path: s.at(dir[:100] + "…"),
			Err: fmt.Errorf("folders lie deeper than %d one in the other", deepest)}
	}
	list, err := s.fs.List(ctx, s.at(dir))
	if err != nil {
		return nil, err
	}
	if dir == "." && s.isInside() {
		list = slices.DeleteFunc(list, func(info fsys.Info) bool { return s.at(info.Name) == s.record })
	}
	slices.SortFunc(list, func(a, b fsys.Info) int { return strings.Compare(a.Name, b.Name) })
	return list, nil
}
