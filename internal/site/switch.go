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

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// A site that is switched is there as a whole tree for each of its last deployments, and its root is a link to one:
//
//	gannet -> .gannet.trees/12    what visitors see
//	.gannet.trees/11/             the deployment before, as it was
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
	doCarry  = "carry"  // gives a file or link of another tree a name in this one
	doSwitch = "switch" // makes the root lead to the tree
)

// followRoot finds the tree that the root leads to. Err is what looking at the root gave: nothing may be there yet.
func (s *Site) followRoot(root fsys.Info, err error) error {
	if err != nil {
		return nil
	}
	_, folder := fsys.Split(s.trees)
	number, ok := strings.CutPrefix(root.Link, folder+"/")
	if n, err := strconv.Atoi(number); !ok || err != nil || n < 1 {
		reason := `is not a link that a deployment made, and the target is published by "switch"`
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

// after gives the number of the deployment that follows another one. At a site that was wiped but for its strays those are
// in a tree whose number is taken.
func (s *Site) after(number int) int {
	_, live := fsys.Split(s.live)
	if taken, err := strconv.Atoi(live); err == nil && s.trees != "" && s.exists {
		number = max(number, taken)
	}
	return number + 1
}

func (s *Site) tree(number int) string { return fsys.Join(s.trees, strconv.Itoa(number)) }

// treeSteps is the steps that build a tree.
type treeSteps struct {
	number                         int // of the deployment
	folders, carried, files, links []step
}

// add adds what puts an entry in its place: do does it with a file.
func (t *treeSteps) add(e *manifest.Entry, from string, digest *manifest.Digest, do string) {
	switch {
	case e.Kind == manifest.Dir:
		t.folders = append(t.folders, step{Do: doFolder, Path: e.Path, Mode: e.Mode, Owner: e.Owner})
	case do == doCarry:
		t.carried = append(t.carried, step{Do: doCarry, Path: e.Path, From: from, Mode: e.Mode, Size: e.Size, Owner: e.Owner})
	case e.Kind == manifest.Link:
		t.links = append(t.links, step{Do: doLink, Path: e.Path, Link: e.Link,
			From: fmt.Sprintf("%s/link-%d-%d", incoming, t.number, len(t.links))})
	default:
		t.files = append(t.files, step{Do: do, Path: e.Path, From: from, Mode: e.Mode, Size: e.Size, Digest: digest, Owner: e.Owner})
	}
}

// phases gives all steps in their order, with the one that shows the tree at the end. What stays of the tree before, which is
// empty where there is none, is carried over.
func (t *treeSteps) phases(before string) [][]step {
	out := [][]step{{{Do: doFolder, Path: ".", Mode: manifest.DirMode}}, {{Do: doFill, Path: ".", From: before}}}
	out = append(out, byDepth(t.folders, false)...)
	out = append(out, t.carried, t.files, t.links, []step{{Do: doSwitch, Path: "."}})
	return slices.DeleteFunc(out, func(phase []step) bool { return len(phase) == 0 })
}

// newSwitch builds the steps of a publish into a new tree: those for what changes, and for what is carried over and is not as it will
// be recorded.
func newSwitch(s *Site, plan *Plan, staged *places, number int) *publish {
	p := &publish{site: s, plan: plan, number: number, undone: map[string]bool{}, tree: s.tree(number)}
	steps := &treeSteps{number: number}
	for i := range plan.Result.Changes {
		c := &plan.Result.Changes[i]
		from, isStaged := staged.of(i)
		switch {
		case c.Want == nil:
		case c.Sends() && !isStaged:
			p.undone[c.Path()] = true
			if c.Found != nil { // what is there stays
				steps.add(c.Found.Entry, s.at(c.Path()), nil, doCarry)
			}
		default:
			steps.add(c.Want, from, &c.Want.Digest, doPlace)
		}
	}
	var (
		keep     = Keeping(plan.Kept, plan.Gone)
		recorded = inOrder(plan.Survey.Entries(), func(e *manifest.Entry) string { return e.Path }) // a folder of its own
		wanted   = inOrder(plan.Want, func(e *manifest.Entry) string { return e.Path })
		leaving  = inOrder(plan.Result.Leaving, func(l *diff.Leaving) string { return l.Path })
		changes  = inOrder(plan.Result.Changes, func(c *diff.Change) string { return c.Path() })
		list, _  = p.list()
		next     = inOrder(list, func(e *manifest.Entry) string { return e.Path })
	)
	for i := range plan.Survey.Found {
		f := &plan.Survey.Found[i]
		c := changes(f.Path)
		stays := c != nil && c.Status == diff.Stray && !plan.RemoveStrays || leaving(f.Path) != nil
		r, e, isWanted := recorded(f.Path), next(f.Path), wanted(f.Path) != nil
		kept := keep != nil && keep(f.Path)
		if f.Kind == manifest.Dir { // one with a mode of its own, or that is empty
			kept = r != nil && (kept || r.Hand && e != nil)
		}
		kept = kept && !isWanted
		if (!stays || f.Other != 0) && !kept {
			continue
		}
		if e == nil || e.Kind != f.Kind || e.Link != f.Link || e.Kind == manifest.Dir && e.Mode != f.Mode {
			steps.add(f.Entry, s.at(f.Path), nil, doCarry)
		}
	}
	var (
		found = inOrder(plan.Survey.Found, func(f *diff.Found) string { return f.Path })
		alter = inOrder(plan.Result.Changes, func(c *diff.Change) string { return c.Path() })
	)
	for i := range list { // what somebody removed, which is still to be told, is not carried
		if path := list[i].Path; found(path) == nil && alter(path) == nil {
			steps.carried = append(steps.carried, step{Do: doRemove, Path: path})
		}
	}
	before := ""
	if s.exists {
		before = s.live
	}
	p.phases = steps.phases(before)
	return p
}

// carry gives a file or link of another tree a name in this one, or makes a copy of it where the far end cannot link.
func (s *Site) carry(ctx context.Context, st *step) error {
	info, err := s.fs.Lstat(ctx, st.From)
	return s.carryFound(ctx, st, info, err, s.secondName)
}

// secondName gives a file one. It fails with farend.ErrUnsupported where the place has none.
func (s *Site) secondName(ctx context.Context, from, to string) error {
	if linker, ok := s.fs.(fsys.Linker); ok {
		return linker.Link(ctx, from, to)
	}
	return farend.ErrUnsupported
}

// carryFound is carry of what was looked at. Err is what that gave; link gives a file a second name.
func (s *Site) carryFound(ctx context.Context, st *step, info fsys.Info, err error, link func(ctx context.Context, from, to string) error) error {
	if errors.Is(err, fs.ErrNotExist) {
		// The earlier tree may have been removed after all was done.
		there, failed := s.fs.Lstat(ctx, s.at(st.Path))
		switch {
		case errors.Is(failed, farend.ErrLost):
			return failed
		case failed == nil && (there.Mode.IsRegular() && there.Size == st.Size || there.Mode&fs.ModeSymlink != 0):
			return nil
		}
	}
	if err != nil {
		return err
	}
	if info.Mode&fs.ModeSymlink != 0 {
		return s.freshLink(ctx, info.Link, s.at(st.Path))
	}
	if !info.Mode.IsRegular() {
		return &fs.PathError{Op: "carry over", Path: st.From, Err: fmt.Errorf("it is %s", kindOf(info.Mode))}
	}
	switch err = link(ctx, st.From, s.at(st.Path)); {
	case err == nil, errors.Is(err, fs.ErrExist):
		return nil
	case errors.Is(err, farend.ErrLost):
		return err
	}
	content, err := s.fs.Open(ctx, st.From)
	if err != nil {
		return err
	}
	defer content.Close()
	_, err = s.fs.Put(ctx, s.at(st.Path), content, info.Attributes)
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
func (s *Site) removeTrees(ctx context.Context, current int) error {
	numbers, err := s.numbers(ctx, current)
	if err != nil {
		return err
	}
	list, err := s.fs.List(ctx, s.trees)
	if err != nil {
		return err
	}
	for _, info := range list {
		number, err := strconv.Atoi(info.Name)
		name := fsys.Join(s.trees, info.Name)
		if err != nil || name == s.live || slices.Contains(numbers, number) {
			continue
		}
		if err := s.removeAll(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// heldInTrees gives names under which the trees of recorded deployments hold content. They are read, since somebody may
// have edited what was there when visitors saw it.
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
		if err := s.eachRecorded(ctx, number, func(e *manifest.Entry) bool {
			if e.Kind == manifest.File && wanted[e.Digest] {
				out[e.Digest] = fsys.Join(s.tree(number), e.Path)
			}
			return true
		}); err != nil {
			return nil, err
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
