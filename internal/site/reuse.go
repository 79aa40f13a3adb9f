package site

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// splitDoubles parts the parcels whose content is sent from those that have the same content as one of them.
func splitDoubles(parcels []*parcel) (firsts []*parcel, doubles map[*parcel][]*parcel) {
	order := make([]int32, len(parcels)) // takes far less than a map of all digests
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortFunc(order, func(a, b int32) int {
		digest, other := &parcels[a].change.Want.Digest, &parcels[b].change.Want.Digest
		if c := bytes.Compare(digest[:], other[:]); c != 0 {
			return c
		}
		return int(a - b)
	})
	isDouble := map[*parcel]bool{}
	for i := 0; i < len(order); {
		first := parcels[order[i]]
		for i++; i < len(order) && parcels[order[i]].change.Want.Digest == first.change.Want.Digest && !first.isOpen(); i++ {
			if doubles == nil {
				doubles = map[*parcel][]*parcel{}
			}
			p := parcels[order[i]]
			doubles[first], isDouble[p] = append(doubles[first], p), true
		}
	}
	if doubles == nil {
		return parcels, nil
	}
	for _, p := range parcels {
		if !isDouble[p] {
			firsts = append(firsts, p)
		}
	}
	return firsts, doubles
}

// double makes again at the far end what has been sent once, and gives the parcels that it did not make.
func (st *staging) double(ctx context.Context, doubles map[*parcel][]*parcel) (unmade []*parcel, err error) {
	if doubles, err = st.repeat(ctx, doubles); err != nil {
		return nil, err
	}
	var (
		pairs []fsys.Pair
		all   []*parcel
	)
	for first, others := range doubles {
		if !st.inPlace(first) {
			unmade = append(unmade, others...) // each has a file of its own here, which may be in order
			continue
		}
		for _, p := range others {
			pairs = append(pairs, fsys.Pair{From: st.site.inRecord(first.name()), To: st.site.inRecord(p.name())})
			all = append(all, p)
		}
	}
	copied, err := st.copies(ctx, pairs)
	if err != nil {
		return nil, err
	}
	for i, p := range all {
		if !copied[i] || st.setAttr(ctx, p) != nil {
			unmade = append(unmade, p)
			continue
		}
		st.isStaged(p)
		st.out.Reused++
	}
	return unmade, nil
}

// repeatAtOnce is how many small files are written after their content was read once.
const repeatAtOnce = 64

// repeat writes small files again, from bytes that were read and digested once, where folders can be kept open. It gives those that
// it did not write.
func (st *staging) repeat(ctx context.Context, doubles map[*parcel][]*parcel) (left map[*parcel][]*parcel, err error) {
	if _, opens := st.site.fs.(fsys.FolderOpener); !opens {
		return doubles, nil
	}
	var mu sync.Mutex
	left = map[*parcel][]*parcel{}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(st.site.jobs)
	for first, others := range doubles {
		if first.change.Want.Size > MostGathered || !st.inPlace(first) {
			mu.Lock()
			left[first] = others
			mu.Unlock()
			continue
		}
		for some := range slices.Chunk(others, repeatAtOnce) {
			group.Go(func() error {
				made, err := st.repeatSome(ctx, first, some)
				mu.Lock()
				defer mu.Unlock()
				if made < len(some) {
					left[first] = append(left[first], some[made:]...)
				}
				st.out.Reused += made
				return err
			})
		}
	}
	return left, group.Wait()
}

// repeatSome writes some files that have the content of another one, up to the first that it cannot write.
func (st *staging) repeatSome(ctx context.Context, first *parcel, some []*parcel) (made int, err error) {
	content, err := st.folders.read(ctx, st.site.inRecord(first.name()), MostGathered, nil)
	if err == nil && manifest.Digest(sha256.Sum256(content)) != first.change.Want.Digest {
		err = ErrWrongBytes // which is found out, and named, when it is looked at again
	}
	for made = 0; made < len(some) && err == nil; {
		p := some[made]
		if err = st.folders.put(ctx, st.site.inRecord(p.name()), content, p.change.Want.Attributes); err == nil {
			p.checked = true
			st.isStaged(p)
			made++
		}
	}
	if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
		return made, errors.Join(err, ctx.Err())
	}
	return made, nil
}

// copies has the far end copy files, where it can.
func (st *staging) copies(ctx context.Context, pairs []fsys.Pair) ([]bool, error) {
	copied := make([]bool, len(pairs))
	copier, ok := st.site.fs.(fsys.Copier)
	if !ok || len(pairs) == 0 {
		return copied, nil
	}
	return copied, copier.Copies(ctx, pairs, func(i int) { copied[i] = true })
}

func (st *staging) setAttr(ctx context.Context, p *parcel) error {
	attr := p.change.Want.Attributes
	return st.site.fs.SetAttr(ctx, st.site.inRecord(p.name()), attr)
}

// reuse finds content that need not be sent: in the kept store, or at the site under another name.
func (st *staging) reuse(ctx context.Context, parcels []*parcel) error {
	held, err := st.site.storeSizes(ctx, kept, shelvesOf(parcels))
	if err != nil {
		return err
	}
	stands := make(map[manifest.Digest]*diff.Found, len(parcels)) // nil: it is asked for
	others := map[manifest.Digest]*diff.Found{}
	for _, p := range parcels {
		stands[p.change.Want.Digest] = nil
	}
	for i := range st.plan.Survey.Found {
		f := &st.plan.Survey.Found[i]
		if _, asked := stands[f.Digest]; asked && f.Kind == manifest.File && f.Other == 0 && !f.Digest.IsZero() {
			stands[f.Digest] = f
		}
	}
	asked := map[manifest.Digest]bool{}
	for digest, f := range stands {
		if f == nil {
			asked[digest] = true
		}
	}
	var mu sync.Mutex
	if err := st.site.eachOther(ctx, st.plan.Survey, asked, func(e *manifest.Entry) {
		mu.Lock()
		defer mu.Unlock()
		others[e.Digest] = &diff.Found{Entry: e}
	}); err != nil {
		return err
	}
	maps.Copy(stands, others)
	var (
		pairs  []fsys.Pair
		copied []*parcel
		used   = map[string]bool{}
	)
	// What goes before anything is placed, or while that is done, is kept under the name that its digest gives it: what is there
	// already is not taken away meanwhile.
	able := st.site.Abilities()
	for i := range st.plan.Result.Changes {
		c := &st.plan.Result.Changes[i]
		f, goes := c.Found, false
		switch {
		case f == nil || f.Kind != manifest.File:
		case c.Want == nil:
			goes = inTheWay(st.plan.Want, c.Path())
		default:
			goes = c.Want.Kind == manifest.Dir || !c.ModeOnly && !able.Links // a link does not replace what is there, a copy does
		}
		if !goes {
			continue
		}
		if _, asked := stands[f.Digest]; asked {
			used[storeName(kept, f.Digest, 1)] = true
		}
	}
	for _, p := range parcels {
		want := p.change.Want
		name := storeName(kept, want.Digest, 1)
		size, isKept := held[name]
		switch f := stands[want.Digest]; {
		case p.there:
		case isKept && size == want.Size && !used[name]:
			used[name] = true // the next path with this content needs a copy of its own
			p.lies, p.there, p.reused = inKept, true, true
		case isKept && size == want.Size:
			pairs = append(pairs, fsys.Pair{From: st.site.inRecord(name), To: st.site.inRecord(p.name())})
			copied = append(copied, p)
		case st.plan.Survey.held[want.Digest] != "":
			pairs = append(pairs, fsys.Pair{From: st.plan.Survey.held[want.Digest], To: st.site.inRecord(p.name())})
			copied = append(copied, p)
		case f != nil && f.Size == want.Size:
			pairs = append(pairs, fsys.Pair{From: st.site.at(f.Path), To: st.site.inRecord(p.name())})
			copied = append(copied, p)
		}
	}
	done, err := st.copies(ctx, pairs)
	if err != nil {
		return err
	}
	for i, p := range copied {
		f := stands[p.change.Want.Digest]
		if done[i] || f != nil && st.borrow(ctx, p, f) {
			p.there, p.reused, p.part = true, true, 0
		}
	}
	return nil
}

// borrow gives a file that is about to go from the site a second name, where the far end cannot copy. It must go, and
// have the mode that is wanted: the two names are one file until then.
func (st *staging) borrow(ctx context.Context, p *parcel, f *diff.Found) bool {
	linker, ok := st.site.fs.(fsys.Linker)
	if !ok || f.Mode != p.change.Want.Mode || p.change.Want.Owner != nil || p.part > 0 || !st.goes(f.Path) {
		return false
	}
	return linker.Link(ctx, st.site.at(f.Path), st.site.inRecord(p.name())) == nil
}

// goes tells whether a path's content goes from the site with this deployment.
func (st *staging) goes(path string) bool {
	i, found := slices.BinarySearchFunc(st.plan.Result.Changes, path,
		func(c diff.Change, p string) int { return strings.Compare(c.Path(), p) })
	return found && st.plan.Result.Changes[i].Status == diff.Retired
}

// resume takes what is staged or kept, if its bytes are right, and gives the parcels that are missing.
func (st *staging) resume(ctx context.Context, parcels []*parcel) (missing []*parcel, err error) {
	var there []*parcel
	if !slices.ContainsFunc(parcels, func(p *parcel) bool { return p.there }) {
		return parcels, nil
	}
	for _, p := range parcels {
		if p.there {
			there = append(there, p)
		} else {
			missing = append(missing, p)
		}
	}
	st.checks(there)
	wrong, err := st.digests(ctx, there)
	if err != nil {
		return nil, err
	}
	for i, p := range there {
		if wrong[i] == nil {
			wrong[i] = st.setAttr(ctx, p)
		}
		switch {
		case errors.Is(wrong[i], farend.ErrLost), ctx.Err() != nil:
			return nil, wrong[i]
		case wrong[i] != nil:
			// It may be one file with something at the site: it must not be written into.
			if err := st.site.discard(ctx, []string{p.name()}); err != nil {
				return nil, err
			}
			if p.there, p.part = false, 0; !st.fresh {
				p.lies = inIncoming
			}
			missing = append(missing, p)
			continue
		case p.reused:
			st.out.Reused++
		default:
			st.out.Resumed++
		}
		st.isStaged(p)
	}
	return missing, nil
}
