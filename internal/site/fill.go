package site

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// Most of a tree that is built is what the tree before it was. So one step has all of that carried over: the folders that the record of
// the deployment speaks of are made, and what is recorded is given its name, unless another step of the journal is about it. The record
// is written before the journal is, and is gone through folder by folder.

// doFill is the step that carries over what stays.
const doFill = "fill"

// errNoTree tells that there is nothing that could be carried over.
var errNoTree = errors.New("there is no tree before this one")

// filling is that step while it is done.
type filling struct {
	publish *publish
	from    string                         // the tree before; empty: there is none
	own     map[string]*step               // other steps of the journal, by their paths
	above   map[string]manifest.Attributes // folders that those need, and that are not made yet
	pool    *errgroup.Group
	open    *folders
	watch   *Watch

	mu     sync.Mutex
	failed int              // paths that could not be carried
	made   map[string]bool  // folders that have an entry of their own
	bad    map[string]error // folders from which nothing can be carried
	lost   error
}

// fill does the step. It fails only when the connection or the lock is lost, or the record cannot be read; what else fails is noted.
func (p *publish) fill(ctx context.Context, st step, watch *Watch) error {
	f := &filling{publish: p, from: st.From, own: map[string]*step{}, above: map[string]manifest.Attributes{}, watch: watch,
		made: map[string]bool{}, bad: map[string]error{}}
	if f.from == "" { // a name below it would be that of a neighbour
		f.bad["."] = &fs.PathError{Op: "carry over", Path: ".", Err: errNoTree}
	}
	for _, phase := range p.phases {
		for i := range phase {
			f.adds(&phase[i])
		}
	}
	h, shelf, err := p.site.openTree(ctx, p.number)
	defer shelf.close()
	if errors.Is(err, fs.ErrNotExist) {
		err = &RecordError{p.site.inRecord(deploymentFile(p.number)), err}
	}
	if err != nil {
		return err
	}
	pool, within := errgroup.WithContext(ctx)
	pool.SetLimit(p.site.jobs)
	f.pool, f.open = pool, p.site.openFolders()
	defer f.open.close()
	err = p.site.eachFolder(within, blocks.Ref{Name: h.Top, Entries: h.Count}, shelf, func(dir string, entries []manifest.Entry) {
		if err := f.folder(within, dir, entries); err != nil {
			f.loses(err)
		}
	})
	if failed := pool.Wait(); f.lost != nil || failed != nil || err != nil {
		return cmp.Or(failed, f.lost, err) // what failed first: all others were ended by it
	}
	var rest []step
	for dir, attr := range f.above { // which nothing is recorded of
		if f.from != "" && f.own[dir] == nil {
			if info, err := p.site.fs.Lstat(ctx, fsys.Join(f.from, dir)); err == nil && info.Mode.IsDir() {
				attr.Mode = info.Mode.Perm()
			}
		}
		rest = append(rest, step{Do: doFolder, Path: dir, Mode: attr.Mode, Owner: attr.Owner})
	}
	for _, phase := range byDepth(rest, false) {
		if err := p.doPhase(ctx, phase, &Watch{}); err != nil {
			return err
		}
	}
	return nil
}

// adds notes a step of the journal.
func (f *filling) adds(st *step) {
	switch st.Do {
	case doFill, doSwitch:
		return
	case doFolder:
		if st.Path == "." {
			return
		}
		f.above[st.Path] = manifest.Attributes{Mode: st.Mode, Owner: st.Owner}
	}
	f.own[st.Path] = st
	for dir, _ := fsys.Split(st.Path); dir != "." && st.Do != doRemove; dir, _ = fsys.Split(dir) {
		if _, known := f.above[dir]; !known {
			f.above[dir] = manifest.Attributes{Mode: manifest.DirMode}
		}
	}
}

// enough is how many paths that cannot be carried are named: nothing of the tree will be seen, and others fail for the same reason.
const enough = 100

// isOver tells that nothing more need be tried.
func (f *filling) isOver() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.lost != nil || f.failed >= enough
}

func (f *filling) fails(path string, err error) {
	f.mu.Lock()
	f.failed++
	f.mu.Unlock()
	f.publish.fail(path, &StepError{doCarry, err})
}

// loses notes what ends all of it.
func (f *filling) loses(err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.lost = errors.Join(f.lost, err)
}

// folder fills a folder of the tree. It fails where all does.
func (f *filling) folder(ctx context.Context, dir string, entries []manifest.Entry) error {
	if f.isOver() || ctx.Err() != nil {
		return ctx.Err()
	}
	s := f.publish.site
	if err := f.enter(ctx, dir); err != nil {
		return err
	}
	var carried []manifest.Entry
	for i := range entries {
		e := entries[i]
		e.Path = fsys.Join(dir, e.Path)
		st := f.own[e.Path]
		switch {
		case e.Kind == manifest.Dir && (st == nil || st.Do == doFolder):
			if err := f.make(ctx, e.Path, manifest.Attributes{Mode: e.Mode, Owner: e.Owner}); err != nil {
				return err
			}
		case e.Kind != manifest.Dir && st == nil:
			carried = append(carried, e)
		}
	}
	if len(carried) == 0 {
		return nil
	}
	f.mu.Lock()
	bad := f.bad[dir]
	f.mu.Unlock()
	var find finding
	if bad == nil {
		var err error
		if find, err = s.lookInto(ctx, fsys.Join(f.from, dir), len(carried)); err != nil {
			return err
		}
	}
	for i := range carried {
		e := &carried[i]
		f.pool.Go(func() error {
			if err := s.sure(ctx, false); err != nil || f.isOver() {
				return err
			}
			err := bad
			if err == nil {
				err = f.carry(ctx, e, find)
			}
			if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
				return errors.Join(err, ctx.Err())
			}
			if err != nil {
				f.fails(e.Path, err)
			}
			f.watch.file(e.Path, max(e.Size, 0))
			return nil
		})
	}
	return nil
}

// enter makes a folder, and looks whether there is one in the tree before: what is below a link does not belong to the site.
func (f *filling) enter(ctx context.Context, dir string) error {
	if dir == "." { // which has been looked at
		return nil
	}
	above, _ := fsys.Split(dir)
	f.mu.Lock()
	made, err := f.made[dir], f.bad[above]
	f.mu.Unlock()
	if !made {
		if err := f.make(ctx, dir, manifest.Attributes{Mode: manifest.DirMode}); err != nil {
			return err
		}
	}
	if err == nil {
		var info fsys.Info
		name := fsys.Join(f.from, dir)
		if info, err = f.publish.site.fs.Lstat(ctx, name); err == nil && !info.Mode.IsDir() {
			err = &fs.PathError{Op: "enter", Path: name, Err: fmt.Errorf("it is %s: %w", kindOf(info.Mode), errNoFolder)}
		}
	}
	switch {
	case errors.Is(err, farend.ErrLost) || ctx.Err() != nil:
		return errors.Join(err, ctx.Err())
	case err != nil:
		f.mu.Lock()
		defer f.mu.Unlock()
		f.bad[dir] = err
	}
	return nil
}

// make makes a folder. Where a step of the journal is about it, that says what it is like.
func (f *filling) make(ctx context.Context, dir string, attr manifest.Attributes) error {
	if st := f.own[dir]; st != nil && st.Do == doFolder {
		attr = manifest.Attributes{Mode: st.Mode, Owner: st.Owner}
	}
	err := f.publish.site.makeFolder(ctx, dir, attr)
	if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
		return errors.Join(err, ctx.Err())
	}
	if err != nil {
		f.publish.fail(dir, &StepError{doFolder, err})
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.made[dir] = true
	delete(f.above, dir)
	return nil
}

// carry carries one file or link over, which must be what is recorded.
func (f *filling) carry(ctx context.Context, e *manifest.Entry, find finding) error {
	st := &step{Do: doCarry, Path: e.Path, From: fsys.Join(f.from, e.Path), Size: e.Size}
	info, there, err := find(st.From)
	if err == nil && !there {
		err = &fs.PathError{Op: "carry over", Path: st.From, Err: fs.ErrNotExist}
	}
	if kind := describe(e.Path, info); err == nil && (kind.Kind != e.Kind || kind.Link != e.Link) {
		err = &fs.PathError{Op: "carry over", Path: st.From, Err: fmt.Errorf("it is %s now", kindOf(info.Mode))}
	}
	return f.publish.site.carryFound(ctx, st, info, err, f.link)
}

// link gives a file a second name, between two folders that are open where that can be.
func (f *filling) link(ctx context.Context, from, to string) error {
	if err := f.open.link(ctx, from, to); !errors.Is(err, farend.ErrUnsupported) {
		return err
	}
	return f.publish.site.secondName(ctx, from, to)
}
