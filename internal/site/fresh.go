package site

import (
	"context"
	"errors"
	"io/fs"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// A site that does not exist yet is staged as the whole tree that it will be, in the record's folder "fresh", and gets
// its name by one rename: it shows all at once, and no file is renamed for itself. Of a site that is switched it becomes the
// first tree. What an interrupted deployment left there is checked by its bytes, as anything else that is staged.

const freshTree = "fresh"

// doAppear is the step that gives a fresh tree the root's name.
const doAppear = "appear"

// freshStart tells whether a deployment may be staged as a whole tree: nothing exists, the record lies beside the root,
// and nothing is recorded whose content could be had without sending it.
func (s *Site) freshStart(plan *Plan) bool {
	return !s.exists && plan.Survey.Number == 0 && !plan.Survey.Anything && plan.Rollback == 0 &&
		!s.isInside() && s.root != "."
}

// prepareFresh makes the folders of the tree, and finds what is in it already. If that is anything, there is a list of what is
// wanted.
func (st *staging) prepareFresh(ctx context.Context) (left map[string]*diff.Found, err error) {
	s := st.site
	if err := s.fs.Mkdir(ctx, s.inRecord(freshTree), manifest.DirMode); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, &RootError{Root: s.label, Reason: "cannot be made: " + cause(err), Err: err}
	}
	if left, err = s.leftFresh(ctx); err != nil {
		return nil, err
	}
	if len(left) > 0 {
		st.plan.list()
	}
	folders := layoutOf(st.plan).folders
	if err := s.clearUnwanted(ctx, left, folders, st.plan.Want); err != nil {
		return nil, err
	}
	var steps []step
	for dir := range folders {
		if left[dir] == nil {
			steps = append(steps, step{Do: doFolder, Path: dir, Mode: manifest.DirMode})
		}
	}
	for _, phase := range byDepth(steps, false) {
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(s.jobs)
		for _, made := range phase {
			group.Go(func() error { return s.fs.Mkdir(ctx, s.inFresh(made.Path), made.Mode) })
		}
		if err := group.Wait(); err != nil {
			return nil, err
		}
	}
	return left, nil
}

// freshParcels names what must be staged, of which some may be left.
func (st *staging) freshParcels(left map[string]*diff.Found) []*parcel {
	all := make([]parcel, 0, len(st.plan.Result.Changes)) // one piece of memory: there may be very many
	out := make([]*parcel, 0, len(st.plan.Result.Changes))
	for i := range st.plan.Result.Changes {
		c := &st.plan.Result.Changes[i]
		if !c.Sends() || st.failed(c.Path()) {
			continue
		}
		all = append(all, parcel{change: c, copy: 1})
		p := &all[len(all)-1]
		if there := left[c.Path()]; there != nil {
			p.stands(there.Size)
		}
		out = append(out, p)
	}
	return out
}

func (s *Site) inFresh(path string) string { return s.inRecord(fsys.Join(freshTree, path)) }

// leftFresh lists what is in the fresh tree: files and folders by their paths.
func (s *Site) leftFresh(ctx context.Context) (map[string]*diff.Found, error) {
	out := &Survey{}
	at := *s
	at.live, at.record = s.inRecord(freshTree), ""
	if err := at.walk(ctx, out, nothingKnown); err != nil {
		return nil, err
	}
	left := map[string]*diff.Found{}
	for i := range out.Found {
		left[out.Found[i].Path] = &out.Found[i]
	}
	return left, nil
}

// clearUnwanted removes what is in the fresh tree and is not to, and folders in the place of files.
func (s *Site) clearUnwanted(ctx context.Context, left map[string]*diff.Found, folders map[string]bool,
	want []manifest.Entry) error {
	if len(left) == 0 {
		return nil
	}
	wanted := map[string]bool{}
	for i := range want {
		if want[i].Kind == manifest.File {
			wanted[want[i].Path] = true
		}
	}
	var files, dirs []step
	for path, f := range left {
		isFile := f.Kind == manifest.File && f.Other == 0
		switch {
		case f.Kind == manifest.Dir && !folders[path]:
			dirs = append(dirs, step{Path: path})
		case f.Kind != manifest.Dir && !(isFile && wanted[path]):
			files = append(files, step{Path: path})
		default:
			continue
		}
		delete(left, path)
	}
	for _, phase := range append([][]step{files}, byDepth(dirs, true)...) {
		var names []string
		for _, st := range phase {
			names = append(names, freshTree+"/"+st.Path)
		}
		if err := s.discard(ctx, names); err != nil {
			return err
		}
	}
	return nil
}

// newFresh builds the steps of a publish of a fresh tree. Links, and folders with a mode of their own, are made here.
func (s *Site) newFresh(ctx context.Context, plan *Plan, failed func(path string) bool, number int) (*publish, error) {
	p := &publish{site: s, plan: plan, number: number, undone: map[string]bool{}, fresh: true}
	p.phases = [][]step{{{Do: doAppear, Path: ".", From: freshTree}}}
	if s.trees != "" {
		p.tree, p.phases = s.tree(number), append(p.phases, []step{{Do: doSwitch, Path: "."}})
	}
	var lost error
	plan.each(func(e *manifest.Entry) bool {
		var err error
		switch {
		case e.Kind == manifest.Link:
			err = s.fs.Symlink(ctx, e.Link, s.inFresh(e.Path))
		case e.Kind == manifest.Dir:
			err = s.fs.SetAttr(ctx, s.inFresh(e.Path), fsys.Attributes{Mode: e.Mode, Owner: e.Owner})
		case failed(e.Path):
			p.undone[e.Path] = true
		}
		if errors.Is(err, farend.ErrLost) {
			lost = err
		} else if err != nil {
			p.fail(e.Path, err)
		}
		return lost == nil
	})
	return p, lost
}

// appear gives the fresh tree the root's name, or that of the tree that the root will lead to; or finds that it has it.
func (s *Site) appear(ctx context.Context, st step) error {
	err := s.fs.Rename(ctx, s.inRecord(st.From), s.live)
	if errors.Is(err, fs.ErrNotExist) {
		info, failed := s.fs.Lstat(ctx, s.live)
		switch {
		case errors.Is(failed, farend.ErrLost):
			return failed
		case failed == nil && info.Mode.IsDir():
			err = nil
		}
	}
	if err == nil {
		s.exists = s.trees == "" // else it is not seen yet
	}
	return err
}
