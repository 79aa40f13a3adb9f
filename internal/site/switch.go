package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// A site that is switched stands as a whole tree for each of its last deployments, and its root is a link to one:
//
//	gannet -> .gannet.trees/12    what visitors see
//	.gannet.trees/11/             the deployment before, as it stood
//	.gannet.trees/12/
//	.gannet.tartine/              the record, as always
//
// A deployment builds its tree where nobody looks and then replaces the link by one rename, so that all of it shows at
// once. A file that did not change is the same file in both trees (a hard link), where the far end can: it costs
// neither room nor time. That is why nobody should edit files in place at such a site: the edit would show in the trees
// before, too. Strays are carried along. The trees hold what the kept store holds elsewhere, so nothing is kept twice.

// treesName gives the folder of trees of a root.
func treesName(root string) string {
	dir, base := fsys.Split(root)
	return fsys.Join(dir, "."+base+".trees")
}

// What a step of a switched publish does, beside those of publish.go.
const (
	doCarry  = "carry"  // gives a file of another tree a name in this one
	doSwitch = "switch" // makes the root lead to the tree
)

// followRoot finds the tree that the root leads to. Err is what looking at the root gave: nothing may stand there yet.
func (s *Site) followRoot(root fsys.Info, err error) error {
	if err != nil {
		return nil
	}
	_, folder := fsys.Split(s.trees)
	number, ok := strings.CutPrefix(root.Link, folder+"/")
	if n, err := strconv.Atoi(number); !ok || err != nil || n < 1 {
		reason := `is no link that a deployment made, and the target is published by "switch"`
		return &RootError{Root: s.label, Reason: reason}
	}
	s.live, s.exists = fsys.Join(s.trees, number), true
	return nil
}

// lookAgain finds the tree that the root leads to now. It is called after the record has been read: should another
// deployment be published in between, its number gives that away before anything is written.
func (s *Site) lookAgain(ctx context.Context) error {
	if s.trees == "" {
		return nil
	}
	info, err := s.fs.Lstat(ctx, s.root)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	s.exists = false
	return s.followRoot(info, err)
}

func (s *Site) tree(number int) string { return fsys.Join(s.trees, strconv.Itoa(number)) }

// newSwitch builds the steps of a publish into a new tree.
func newSwitch(s *Site, plan *Plan, staged map[string]string, number int) *publish {
	p := &publish{site: s, plan: plan, number: number, undone: map[string]bool{}, tree: s.tree(number)}
	folders := map[string]fs.FileMode{}
	above := func(path string) {
		for dir, _ := fsys.Split(path); dir != "."; dir, _ = fsys.Split(dir) {
			if _, ok := folders[dir]; !ok {
				folders[dir] = manifest.DirMode
			}
		}
	}
	changes := map[string]*diff.Change{}
	for i := range plan.Result.Changes {
		changes[plan.Result.Changes[i].Path] = &plan.Result.Changes[i]
	}
	var files, links []step
	add := func(e *manifest.Entry, from string, digest *manifest.Digest, do string) {
		above(e.Path)
		switch e.Kind {
		case manifest.Dir:
			folders[e.Path] = e.Mode
		case manifest.Link:
			links = append(links, step{Do: doLink, Path: e.Path, Link: e.Link, From: fmt.Sprintf("%s/link-%d-%d", incoming, number, len(links))})
		default:
			files = append(files, step{Do: do, Path: e.Path, From: from, Mode: e.Mode, Size: e.Size, Digest: digest})
		}
	}
	for i := range plan.Want {
		e := &plan.Want[i]
		c := changes[e.Path]
		switch {
		case c == nil || c.Found != nil && c.Found.Kind == e.Kind && e.Kind != manifest.File:
			add(e, s.at(e.Path), nil, doCarry)
		case c.Sends() && staged[e.Path] == "":
			p.undone[e.Path] = true
			if c.Found != nil { // what stands stays
				add(&c.Found.Entry, s.at(e.Path), nil, doCarry)
			}
		default:
			add(e, staged[e.Path], &e.Digest, doPlace)
		}
	}
	keep := keeper(plan.Kept)
	leaving := inOrder(plan.Result.Leaving, func(l *diff.Leaving) string { return l.Path })
	for i := range plan.Survey.Found {
		f := &plan.Survey.Found[i]
		c := changes[f.Path]
		stays := c != nil && c.Status == diff.Stray && !plan.RemoveStrays || leaving(f.Path) != nil
		if stays && f.Other == 0 || keep != nil && keep(f.Path) && f.Kind != manifest.Dir {
			add(&f.Entry, s.at(f.Path), nil, doCarry)
		}
	}
	var make []step
	for dir, mode := range folders {
		make = append(make, step{Do: doFolder, Path: dir, Mode: mode})
	}
	p.phases = append(p.phases, []step{{Do: doFolder, Path: ".", Mode: manifest.DirMode}})
	p.phases = append(p.phases, byDepth(make, false)...)
	p.phases = append(p.phases, files, links, []step{{Do: doSwitch, Path: "."}})
	p.phases = slices.DeleteFunc(p.phases, func(phase []step) bool { return len(phase) == 0 })
	return p
}

// carry gives a file of another tree a name in this one, or a copy where the far end cannot link.
func (s *Site) carry(ctx context.Context, st step) error {
	info, err := s.fs.Lstat(ctx, st.From)
	if errors.Is(err, fs.ErrNotExist) {
		// The earlier tree may have been removed after all was done.
		there, failed := s.fs.Lstat(ctx, s.at(st.Path))
		switch {
		case errors.Is(failed, fsys.ErrLost):
			return failed
		case failed == nil && there.Mode.IsRegular() && there.Size == st.Size:
			return nil
		}
	}
	if err != nil {
		return err
	}
	if !info.Mode.IsRegular() {
		return &fs.PathError{Op: "carry over", Path: st.From, Err: fmt.Errorf("it is %s", kindOf(info.Mode))}
	}
	err = fsys.ErrUnsupported
	if linker, ok := s.fs.(fsys.Linker); ok {
		err = linker.Link(ctx, st.From, s.at(st.Path))
	}
	switch {
	case err == nil, errors.Is(err, fs.ErrExist):
		return nil
	case errors.Is(err, fsys.ErrLost):
		return err
	}
	content, err := s.fs.Open(ctx, st.From)
	if err != nil {
		return err
	}
	defer content.Close()
	_, err = s.fs.Put(ctx, s.at(st.Path), content, fsys.Attr{Mode: info.Mode, ModTime: info.ModTime})
	return err
}

// switchTo makes the root lead to a tree, in one step.
func (s *Site) switchTo(ctx context.Context, tree string) error {
	_, folder := fsys.Split(s.trees)
	_, number := fsys.Split(tree)
	link := folder + "/" + number
	if info, err := s.fs.Lstat(ctx, s.root); err == nil && info.Link == link {
		return nil
	}
	fresh := s.inRecord(incoming + "/root-" + number)
	if err := s.freshLink(ctx, link, fresh); err != nil {
		return err
	}
	return s.fs.Rename(ctx, fresh, s.root)
}

// removeTrees removes the trees of deployments that are no longer kept, and what a failed one left of its own.
func (s *Site) removeTrees(ctx context.Context, current, history int) error {
	if history <= 0 {
		history = DefaultHistory
	}
	list, err := s.fs.List(ctx, s.trees)
	if err != nil {
		return err
	}
	for _, info := range list {
		number, err := strconv.Atoi(info.Name)
		name := fsys.Join(s.trees, info.Name)
		if err != nil || name == s.live || number > current-history && number <= current {
			continue
		}
		if err := s.removeAll(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// removeAll removes a folder with all below it. Links are removed, not followed.
func (s *Site) removeAll(ctx context.Context, dir string) error {
	list, err := s.fs.List(ctx, dir)
	if err != nil {
		return ignoreMissing(err)
	}
	group, below := errgroup.WithContext(ctx)
	group.SetLimit(s.jobs)
	for _, info := range list {
		name := fsys.Join(dir, info.Name)
		if info.Mode.IsDir() {
			if err := s.removeAll(ctx, name); err != nil {
				return errors.Join(err, group.Wait())
			}
			continue
		}
		group.Go(func() error { return ignoreMissing(s.fs.Remove(below, name)) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return ignoreMissing(s.fs.Remove(ctx, dir))
}

// heldInTrees gives names under which the trees of recorded deployments hold content. They are read, since somebody may
// have edited what stood there when visitors saw it.
func (s *Site) heldInTrees(ctx context.Context, wanted map[manifest.Digest]bool) (map[manifest.Digest]string, error) {
	out := map[manifest.Digest]string{}
	numbers, err := s.recorded(ctx)
	if err != nil {
		return nil, err
	}
	for _, number := range numbers {
		if s.tree(number) == s.live {
			continue // a survey knows better what that one holds
		}
		m, err := s.recordedAs(ctx, number)
		if err != nil {
			return nil, err
		}
		for i := range m.Entries {
			if e := &m.Entries[i]; e.Kind == manifest.File && wanted[e.Digest] {
				out[e.Digest] = fsys.Join(s.tree(number), e.Path)
			}
		}
	}
	var (
		digests []manifest.Digest
		names   []string
		mu      sync.Mutex
	)
	for digest, name := range out {
		digests, names = append(digests, digest), append(names, name)
	}
	_, err = fsys.Digests(ctx, s.fs, names, s.jobs, func(i int, found manifest.Digest, err error) {
		mu.Lock()
		defer mu.Unlock()
		if err != nil || found != digests[i] {
			delete(out, digests[i])
		}
	})
	return out, err
}
