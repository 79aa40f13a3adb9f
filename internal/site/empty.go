package site

import (
	"context"
	"errors"
	"io/fs"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// removeAll removes a folder with all below it. Links are removed, not followed.
func (s *Site) removeAll(ctx context.Context, dir string) error {
	return s.empty(ctx, dir, func(int, int) {}, func(_ string, err error) error { return ignoreMissing(err) })
}

// empty removes a folder with all below it. Links are removed, not followed. Removed is called with each that is below it,
// and failed with what cannot be removed, whose error ends it; both perhaps from several goroutines.
func (s *Site) empty(ctx context.Context, dir string, removed func(files, folders int), failed func(name string, err error) error) error {
	if emptier, ok := s.fs.(fsys.Emptier); ok {
		err := emptier.Empty(ctx, dir, s.jobs, removed, failed)
		if !errors.Is(err, farend.ErrUnsupported) {
			return err
		}
	}
	e := &emptying{s.fs, make(chan struct{}, s.jobs), removed, failed}
	err := e.enter(ctx, dir, true)
	if errors.Is(err, errNothing) {
		return failed(dir, fs.ErrNotExist)
	}
	if err != nil {
		return err
	}
	return failed(dir, s.fs.Remove(ctx, dir))
}

// emptying removes what is in folders, with as many requests in flight as there are turns.
type emptying struct {
	fs      fsys.FS
	turns   chan struct{}
	removed func(files, folders int)
	failed  func(name string, err error) error
}

// turn does something when it is its turn.
func (e *emptying) turn(do func() error) error {
	e.turns <- struct{}{}
	defer func() { <-e.turns }()
	return do()
}

// errNothing tells that there is no such folder.
var errNothing = errors.New("there is nothing to empty")

// enter removes what is in a folder. Of one that is the top it tells that it does not exist.
func (e *emptying) enter(ctx context.Context, dir string, top bool) error {
	var list []fsys.Info
	if err := e.turn(func() (err error) { list, err = e.fs.List(ctx, dir); return err }); err != nil {
		if top && errors.Is(err, fs.ErrNotExist) {
			return errNothing
		}
		return e.failed(dir, err)
	}
	group, below := errgroup.WithContext(ctx)
	next := make(chan fsys.Info)
	for range min(cap(e.turns), len(list)) {
		group.Go(func() error {
			for info := range next {
				if err := e.remove(below, fsys.Join(dir, info.Name), info); err != nil {
					return err
				}
			}
			return nil
		})
	}
	for i := range list {
		select {
		case next <- list[i]:
		case <-below.Done():
		}
	}
	close(next)
	if err := group.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}

func (e *emptying) remove(ctx context.Context, name string, info fsys.Info) error {
	if info.Mode.IsDir() {
		if err := e.enter(ctx, name, false); err != nil {
			return err
		}
	}
	err := e.turn(func() error { return e.fs.Remove(ctx, name) })
	switch {
	case err != nil:
		return e.failed(name, err)
	case info.Mode.IsDir():
		e.removed(0, 1)
	default:
		e.removed(1, 0)
	}
	return nil
}
