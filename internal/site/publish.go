package site

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/filter"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// publish makes staged content visible.
type publish struct {
	site   *Site
	plan   *Plan
	out    *Outcome       // of staging
	wanted func() *marked // the tree digest of what is wanted, or nil; nil: it is not known
	number int
	phases [][]step
	tree   string // the tree that is built, when the site is switched; else empty
	fresh  bool   // a whole tree appears where nothing existed

	recovering bool // it was begun by a deployment that was interrupted

	keeps func(*diff.Found) bool // what is kept of what is replaced; in place alone

	mu     sync.Mutex
	failed []Failure
	undone map[string]bool // paths that are not as wanted

	modesLeft, timesLeft int // see Outcome
}

// newInPlace orders the changes: what is in the way goes first, then folders are made, assets placed, pages placed,
// what is retired removed, and folders that were emptied.
func newInPlace(s *Site, plan *Plan, staged *places, number int, keeps func(*diff.Found) bool) *publish {
	p := &publish{site: s, plan: plan, number: number, undone: map[string]bool{}, keeps: keeps}
	layout, isPage := layoutOf(plan), plan.pages()
	var assets, pages, removals, blocked []step
	for i := range plan.Result.Changes {
		c := &plan.Result.Changes[i]
		switch {
		case c.Status == diff.Stray && !plan.RemoveStrays:
		case c.Want == nil:
			st := step{Do: doRemove, Path: c.Path(), Keep: p.keepName(c.Found)}
			if c.Found.Kind == manifest.Dir {
				st.Do = doClear
			}
			if layout.inTheWay(c) {
				blocked = append(blocked, st)
			} else {
				removals = append(removals, st)
			}
		default:
			if c.Want.Kind == manifest.Dir && c.Found != nil && c.Found.Kind != manifest.Dir {
				blocked = append(blocked, step{Do: doRemove, Path: c.Path(), Keep: p.keepName(c.Found)})
			}
			st, ok := p.stepFor(c, staged, i)
			if !ok {
				p.undone[c.Path()] = true
				continue
			}
			if isPage(c.Path()) {
				pages = append(pages, st)
			} else {
				assets = append(assets, st)
			}
		}
	}
	p.phases = append(p.phases, filesFirst(blocked)...)
	p.phases = append(p.phases, layout.clearings()...)
	p.phases = append(p.phases, byDepth(layout.missingFolders(), false)...)
	p.phases = append(p.phases, assets, pages)
	p.phases = append(p.phases, filesFirst(removals)...)
	p.phases = append(p.phases, byDepth(layout.emptied(plan), true)...)
	p.phases = slices.DeleteFunc(p.phases, func(phase []step) bool { return len(phase) == 0 })
	return p
}

// pages tells what is published last.
func (plan *Plan) pages() func(path string) bool { return pagesOf(plan.Last) }

func pagesOf(patterns []string) func(path string) bool {
	set := &filter.Set{}
	for _, pattern := range patterns {
		if rule, err := filter.NewRule(pattern, "last"); err == nil { // who planned has seen to that
			set.Includes = append(set.Includes, rule)
		}
	}
	return func(path string) bool { return len(set.Includes) > 0 && set.Decide(path, false).Taken }
}

// keepName gives the name in the record under which a file is kept; none for what is not a file, has no known content, or
// is not kept.
func (p *publish) keepName(f *diff.Found) string {
	if f == nil || f.Kind != manifest.File || f.Other != 0 || f.Digest.IsZero() || !p.keeps(f) {
		return ""
	}
	return storeName(kept, f.Digest, 1)
}

// kept gives the digests of what the steps keep, and the names that they get.
func (p *publish) kept() (digests []manifest.Digest, names []string) {
	if p.tree != "" || p.fresh {
		return nil, nil // the trees before hold it, or there is nothing
	}
	for i := range p.plan.Result.Changes {
		c := &p.plan.Result.Changes[i]
		goes := c.Sends() || c.Want == nil && (c.Status != diff.Stray || p.plan.RemoveStrays) || c.Want != nil &&
			c.Found != nil && c.Want.Kind != c.Found.Kind
		if name := p.keepName(c.Found); goes && name != "" {
			digests, names = append(digests, c.Found.Digest), append(names, name)
		}
	}
	return digests, names
}

// stepFor gives the step that makes a path as wanted; not ok when its content has not arrived.
func (p *publish) stepFor(c *diff.Change, staged *places, i int) (step, bool) {
	st := step{Path: c.Path(), Mode: c.Want.Mode, Size: c.Want.Size, Owner: c.Want.Owner, first: true}
	switch {
	case c.Want.Kind == manifest.Link:
		st.Do, st.Link, st.Keep = doLink, c.Want.Link, p.keepName(c.Found)
		st.From = fmt.Sprintf("%s/link-%d-%d", incoming, p.number, i)
	case c.Want.Kind == manifest.Dir && c.Found != nil && c.Found.Kind == manifest.Dir, c.ModeOnly:
		st.Do = doMode
	case c.Want.Kind == manifest.Dir:
		st.Do = doFolder
	default:
		st.Like = p.plan.Like && c.Found != nil
		from, isStaged := staged.of(i)
		st.Do, st.From, st.Digest, st.Keep = doPlace, from, &c.Want.Digest, p.keepName(c.Found)
		return st, isStaged
	}
	return st, true
}

func filesFirst(steps []step) [][]step {
	var files, folders []step
	for _, st := range steps {
		if st.Do == doClear {
			folders = append(folders, st)
		} else {
			files = append(files, st)
		}
	}
	return append([][]step{files}, byDepth(folders, true)...)
}

// byDepth groups steps by how deep their paths are.
func byDepth(steps []step, deepestFirst bool) [][]step {
	groups := map[int][]step{}
	for _, st := range steps {
		depth := strings.Count(st.Path, "/")
		groups[depth] = append(groups[depth], st)
	}
	depths := make([]int, 0, len(groups))
	for depth := range groups {
		depths = append(depths, depth)
	}
	slices.Sort(depths)
	if deepestFirst {
		slices.Reverse(depths)
	}
	var out [][]step
	for _, depth := range depths {
		out = append(out, groups[depth])
	}
	return out
}

// layout is which folders and leaves will be wanted, and which folders exist.
type layout struct {
	folders  map[string]bool // wanted, explicitly or by what lies below them
	want     []manifest.Entry
	standing map[string]bool // folders found
}

func layoutOf(plan *Plan) *layout {
	l := &layout{map[string]bool{}, plan.Want, map[string]bool{}}
	last := "."
	plan.each(func(e *manifest.Entry) bool {
		if e.Kind == manifest.Dir {
			l.folders[e.Path] = true
		}
		dir, _ := fsys.Split(e.Path)
		if dir == last {
			return true
		}
		last = strings.Clone(dir)
		l.wants(last)
		return true
	})
	if plan.Survey.rest != nil {
		for _, dir := range plan.Survey.rest.stays {
			l.standing[dir] = true
			l.wants(dir)
		}
		for _, dir := range plan.Survey.rest.wanted {
			l.wants(dir)
		}
	}
	for i := range plan.Survey.Found {
		if f := &plan.Survey.Found[i]; f.Kind == manifest.Dir {
			l.standing[f.Path] = true
		}
	}
	if keep := Keeping(plan.Kept, plan.Gone); keep != nil {
		for _, e := range plan.Survey.Entries() {
			if e.Kind == manifest.Dir && l.standing[e.Path] && keep(e.Path) { // it stays, although nothing may be in it any more
				l.wants(e.Path)
			}
		}
	}
	return l
}

// wants notes that a folder will be wanted, with those above it.
func (l *layout) wants(dir string) {
	for ; dir != "." && !l.folders[dir]; dir, _ = fsys.Split(dir) {
		l.folders[dir] = true
	}
}

// inTheWay tells whether something must go before what is wanted can be placed.
func (l *layout) inTheWay(c *diff.Change) bool {
	return l.folders[c.Path()] || l.belowLeaf(c.Path())
}

// isLeaf tells whether a path will be a file or a link.
func (l *layout) isLeaf(path string) bool {
	at, found := manifest.Find(l.want, path)
	return found && l.want[at].Kind != manifest.Dir
}

func (l *layout) belowLeaf(path string) bool { return belowLeaf(l.want, path) }

// clearings removes folders that are where a file or link must go.
func (l *layout) clearings() [][]step {
	var steps []step
	for dir := range l.standing {
		if l.isLeaf(dir) || l.belowLeaf(dir) {
			steps = append(steps, step{Do: doClear, Path: dir})
		}
	}
	return byDepth(steps, true)
}

func (l *layout) missingFolders() []step {
	var steps []step
	for dir := range l.folders {
		if !l.standing[dir] {
			steps = append(steps, step{Do: doFolder, Path: dir, Mode: manifest.DirMode})
		}
	}
	return steps
}

// emptied gives the folders that may be empty once the removals are done and that nobody wants.
func (l *layout) emptied(plan *Plan) []step {
	seen := map[string]bool{}
	var steps []step
	for i := range plan.Result.Changes {
		c := &plan.Result.Changes[i]
		if c.Want != nil || c.Status == diff.Stray && !plan.RemoveStrays {
			continue
		}
		for dir, _ := fsys.Split(c.Path()); dir != "." && !seen[dir] && !l.folders[dir]; dir, _ = fsys.Split(dir) {
			seen[dir] = true
			if l.isLeaf(dir) || l.belowLeaf(dir) {
				continue // it had to go before what is in its place came
			}
			steps = append(steps, step{Do: doClear, Path: dir})
		}
	}
	return steps
}

// run writes the journal and does the steps. It fails only when the connection or the lock is lost or the record cannot
// be written; steps that fail are noted, and keep the phases after theirs from being done, unless the plan is to
// publish what can be.
func (p *publish) run(ctx context.Context, watch *Watch) error {
	total := 0
	for _, phase := range p.phases {
		total += len(phase)
	}
	if p.tree != "" && !p.fresh {
		total += p.plan.Result.Same // which is carried over
	}
	watch.phase("publish", total, 0)
	if p.fresh && len(p.failed) > 0 && !p.plan.Partial {
		p.undone["."] = true // nothing has begun
		return nil
	}
	if total == 0 {
		return nil
	}
	if p.tree != "" {
		// What a failed attempt at the same number left must not show.
		if err := p.site.removeAll(ctx, p.tree); err != nil {
			return err
		}
		defer func(live string) { p.noteTree(live) }(p.site.live)
	}
	digests, names := p.kept()
	if err := p.site.makeShelves(ctx, slices.Values(names)); err != nil {
		return err
	}
	if !p.fresh { // then there was nothing to keep
		if err := p.site.writeKept(ctx, p.number, digests); err != nil {
			return err
		}
	}
	if err := p.writeJournal(ctx); err != nil {
		return err
	}
	if p.tree != "" {
		p.site.live = p.tree
	}
	if err := p.doAll(ctx, watch, p.plan.Partial); err != nil {
		return err
	}
	return p.lookUp(ctx)
}

// doAll does the phases one after the other. Those behind one in which a step failed are not begun, unless it goes on
// all the same, or the step failed only because its staged file is gone; but folders that were emptied are removed at
// the end in any case. It never goes on where what stays was not carried over: a new tree without it is not to be seen.
func (p *publish) doAll(ctx context.Context, watch *Watch, goOn bool) error {
	stopped := false
	for i, phase := range p.phases {
		if stopped && !onlyClears(p.phases[i:]) {
			for _, st := range phase {
				p.undone[st.Path] = true
			}
			continue
		}
		before := len(p.failed)
		if err := p.doPhase(ctx, phase, watch); err != nil {
			return err
		}
		stopped = stopped || !goOn && len(p.blocking()) > 0 || len(p.failed) > before && carries(phase)
		if makesFolders(phase) && (i+1 == len(p.phases) || !makesFolders(p.phases[i+1])) {
			// What is put into a folder is lost where the folder is: no order of names is promised when the power
			// fails.
			if err := p.site.sync(ctx); err != nil {
				return err
			}
		}
	}
	return nil
}

// makesFolders tells whether a phase does nothing else, and carries what stays into them.
func makesFolders(phase []step) bool {
	return !slices.ContainsFunc(phase, func(st step) bool { return st.Do != doFolder && st.Do != doFill })
}

// carries tells whether a phase carries over what stays.
func carries(phase []step) bool {
	return slices.ContainsFunc(phase, func(st step) bool { return st.Do == doFill || st.Do == doCarry })
}

func onlyClears(phases [][]step) bool {
	for _, phase := range phases {
		if slices.ContainsFunc(phase, func(st step) bool { return st.Do != doClear }) {
			return false
		}
	}
	return true
}

// blocking gives the failures that may be fixed at the far end, so that the publish could go on.
func (p *publish) blocking() (out []Failure) {
	for _, f := range p.failed {
		if !p.recovering || !errors.Is(f.Err, errStagedGone) {
			out = append(out, f)
		}
	}
	return out
}

// noteTree puts back what the site takes for the tree that visitors see, when the new one was not switched to.
func (p *publish) noteTree(live string) {
	if p.undone["."] {
		p.site.live = live
	} else {
		p.site.exists = true
	}
}

func (p *publish) doPhase(ctx context.Context, phase []step, watch *Watch) error {
	if err := p.site.sure(ctx, true); err != nil {
		return err
	}
	g, err := p.site.lookAtGround(ctx, func(touched func(name string) bool) {
		for i := range phase {
			for _, name := range p.site.touches(&phase[i]) {
				touched(name)
			}
		}
	})
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(p.site.jobs)
	for _, st := range phase {
		group.Go(func() error {
			if err := p.site.sure(ctx, false); err != nil {
				return err
			}
			err := p.site.do(ctx, g, st)
			if err == nil && st.Do == doFill {
				return p.fill(ctx, st, watch)
			}
			if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
				return errors.Join(err, ctx.Err())
			}
			if err != nil {
				p.fail(st.Path, &StepError{st.Do, err})
			}
			watch.file(st.Path, st.Size)
			return nil
		})
	}
	return group.Wait()
}

func (p *publish) fail(path string, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.failed = append(p.failed, Failure{path, err})
	p.undone[path] = true
}

// count notes what a step wanted and the place does not do.
func (p *publish) count(st step, info fsys.Info) {
	able := p.site.Abilities()
	p.mu.Lock()
	defer p.mu.Unlock()
	if (st.Do == doPlace || st.Do == doMode) && !able.Modes && info.Mode.IsRegular() &&
		info.Mode.Perm() != st.Mode.Perm() {
		p.modesLeft++
	}
	if st.Do == doPlace && able.UnsetTimes {
		p.timesLeft++
	}
}

// lookUp looks every published name up again.
func (p *publish) lookUp(ctx context.Context) error {
	var (
		steps    []*step
		byFolder = map[string][]int32{} // steps, by index, or, below 0, what is wanted
	)
	for _, phase := range p.phases {
		for i := range phase {
			st := &phase[i]
			if (st.Do == doPlace || st.Do == doLink || st.Do == doMode || st.Do == doFolder && st.Owner != nil) && !p.undone[st.Path] {
				dir, _ := fsys.Split(st.Path)
				byFolder[dir] = append(byFolder[dir], int32(len(steps)))
				steps = append(steps, st)
			}
		}
	}
	if p.fresh {
		at := int32(-1)
		p.plan.each(func(e *manifest.Entry) bool {
			if at++; !p.undone[e.Path] {
				dir, _ := fsys.Split(e.Path)
				if _, known := byFolder[dir]; !known {
					dir = strings.Clone(dir) // of a text with many paths
				}
				byFolder[dir] = append(byFolder[dir], -1-at)
			}
			return true
		})
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(p.site.jobs)
	for dir, those := range byFolder {
		group.Go(func() error {
			found, err := p.site.lookInto(ctx, p.site.at(dir), len(those))
			if err != nil {
				return err
			}
			for _, at := range those {
				var st step
				if at >= 0 {
					st = *steps[at]
				} else {
					e := p.plan.at(int(-1 - at))
					st = expects(&e)
				}
				info, ok, err := found(p.site.at(st.Path))
				if err != nil {
					return err
				}
				p.count(st, info)
				if reason := p.site.differs(st, info, ok); reason != "" {
					p.fail(st.Path, fmt.Errorf("after publishing, %s", reason))
				}
			}
			return nil
		})
	}
	return group.Wait()
}

// fewNames is up to how many names in a folder are looked up one by one: there may be very many others in it.
const fewNames = 3

// finding looks up a name in a folder. It fails only where nothing can be looked up.
type finding func(name string) (info fsys.Info, found bool, err error)

// lookInto gives what looks up so many names in a folder. It fails only where nothing can be.
func (s *Site) lookInto(ctx context.Context, dir string, names int) (finding, error) {
	lost := func(err error) error {
		if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		return nil
	}
	if names <= fewNames {
		return func(name string) (fsys.Info, bool, error) {
			info, err := s.fs.Lstat(ctx, name)
			return info, err == nil, lost(err)
		}, nil
	}
	list, err := s.fs.List(ctx, dir)
	found := map[string]fsys.Info{}
	for _, info := range list {
		found[fsys.Join(dir, info.Name)] = info
	}
	return func(name string) (fsys.Info, bool, error) {
		info, ok := found[name]
		return info, ok, nil
	}, lost(err)
}

// expects gives the step that would make an entry, as far as looking it up needs it.
func expects(e *manifest.Entry) step {
	switch e.Kind {
	case manifest.Link:
		return step{Do: doLink, Path: e.Path, Link: e.Link}
	case manifest.Dir:
		return step{Do: doMode, Path: e.Path, Mode: e.Mode, Owner: e.Owner}
	}
	return step{Do: doPlace, Path: e.Path, Mode: e.Mode, Size: e.Size, Owner: e.Owner}
}
