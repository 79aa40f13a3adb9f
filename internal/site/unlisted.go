package site

import (
	"context"
	"encoding/binary"
	"errors"
	"io"

	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// Where nothing exists yet there is nothing to compare, and all that is wanted is new. So there need be no list of it: what is
// wanted stays folded, its files are asked for in their order, and each is known only while it is written. That is done where
// the tree is staged whole (see fresh.go), as long as all goes its usual way. Where anything is to be taken from elsewhere, or is
// left of a deployment that was interrupted, there is a list.

// CompareUnlisted is Compare of what there is no list of; nil: that needs one.
func (s *Site) CompareUnlisted(survey *Survey, want *manifest.Folded) (*diff.Result, error) {
	if s.exists || survey.Anything || survey.Number > 0 || survey.brief != nil || len(survey.Found)+len(survey.Known())+len(survey.leaving) > 0 {
		return nil, nil
	}
	var (
		err  error
		rule = diff.Rule{Owners: map[manifest.Owner]diff.Owner{}}
	)
	want.Each(func(e *manifest.Entry) bool {
		err = errors.Join(s.apart("write", e.Path), s.addOwner(rule.Owners, e))
		return err == nil
	})
	if err != nil {
		return nil, err
	}
	result := &diff.Result{All: want}
	return result, s.mayGive(result, &rule)
}

// each calls visit with what is wanted, in the order of the paths, until it tells that that is enough. Visit must not keep it.
func (plan *Plan) each(visit func(e *manifest.Entry) bool) {
	plan.walk()(visit)
}

// walk is each, of what is wanted now: it may be listed meanwhile.
func (plan *Plan) walk() manifest.Walk {
	if plan.Unlisted != nil {
		return plan.Unlisted.Each
	}
	return manifest.Listed(plan.Want)
}

// at gives what is wanted by its index.
func (plan *Plan) at(index int) manifest.Entry {
	if plan.Unlisted != nil {
		return plan.Unlisted.At(index)
	}
	return plan.Want[index]
}

// list makes lists of what is wanted and of what must change, if there are none.
func (plan *Plan) list() {
	if plan.Unlisted == nil {
		return
	}
	plan.Want, plan.Unlisted = plan.Unlisted.Entries(), nil
	result := *plan.Result
	result.All, result.Changes = nil, make([]diff.Change, len(plan.Want))
	for i := range plan.Want {
		result.Changes[i] = diff.Change{Status: diff.New, Want: &plan.Want[i]}
	}
	plan.Result = &result
}

// needsList tells whether a list is needed although all of it is staged whole.
func (plan *Plan) needsList() bool {
	return plan.Beside != nil || plan.SendAll || plan.Hand || plan.Rollback > 0
}

// twin is two paths with the same content, by their indexes in what is wanted.
type twin struct{ first, other int }

// stageUnlisted stages what there is no list of.
func (st *staging) stageUnlisted(ctx context.Context) error {
	asked, twins, bytes := st.ask()
	files := asked.Len()
	if err := st.hasSpace(ctx, bytes, int64(files+len(twins))); err != nil {
		return err
	}
	for _, t := range twins {
		e := st.plan.at(t.other)
		bytes -= e.Size
	}
	st.watch.phase("stage", files, bytes)
	if err := st.supplied(ctx, asked); err != nil {
		return err
	}
	made, unmade, unmadeBytes, err := st.doubleUnlisted(ctx, twins)
	if err == nil && unmade.Len() > 0 {
		st.watch.phase("stage", unmade.Len(), unmadeBytes)
		err = st.supplied(ctx, unmade)
	}
	switch {
	case err != nil:
		return err
	case st.plan.Supply == nil:
		return st.checkUnlisted(ctx, asked, made, unmade)
	}
	st.out.Method = WhileWriting
	return st.checkUnlisted(ctx, made) // of what was copied there some nobody has digested
}

// ask gives the files that are to be sent, those that have the content of one of them, and how many bytes all of them have.
func (st *staging) ask() (asked Asked, twins []twin, bytes int64) {
	var (
		seen = newSeen(st.plan.Unlisted)
		at   = -1
	)
	st.plan.each(func(e *manifest.Entry) bool {
		if at++; e.Kind != manifest.File || st.failed(e.Path) {
			return true
		}
		bytes += e.Size
		if !e.Digest.IsZero() {
			if first, double := seen.add(at, &e.Digest); double {
				twins = append(twins, twin{first, at})
				return true
			}
		}
		asked.Add(at)
		return true
	})
	return asked, twins, bytes
}

// singlesAtOnce is how many files are known at a time where they are opened here.
const singlesAtOnce = 4096

// someOf calls do with parcels of some of the files that are asked for, and with their indexes, until it has been called with all.
func (st *staging) someOf(asked Asked, do func(parcels []*parcel, indexes []int) error) error {
	var (
		parcels []*parcel
		indexes []int
	)
	for r, run := range asked.Runs {
		for i := range run.Count {
			parcels, indexes = append(parcels, st.single(run.First+i)), append(indexes, run.First+i)
			if last := r == len(asked.Runs)-1 && i == run.Count-1; !last && len(parcels) < singlesAtOnce {
				continue
			}
			if err := do(parcels, indexes); err != nil {
				return err
			}
			parcels, indexes = parcels[:0], indexes[:0]
		}
	}
	return nil
}

// checkUnlisted compares what arrived with what was wanted, but for what was proved as it was written.
func (st *staging) checkUnlisted(ctx context.Context, asked ...Asked) error {
	var (
		open    Asked
		bytes   int64
		arrived int
	)
	for _, files := range asked {
		err := st.someOf(files, func(parcels []*parcel, indexes []int) error {
			for i, p := range parcels {
				if !st.inPlace(p) {
					continue
				}
				if arrived++; st.proof == nil || !st.proof.has(indexes[i]) {
					open.Add(indexes[i])
					bytes += p.change.Want.Size
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	if st.plan.Supply == nil {
		st.methodOf(arrived, open.Len())
	}
	if open.Len() == 0 {
		return nil
	}
	st.watch.phase("check", open.Len(), bytes)
	return st.someOf(open, func(parcels []*parcel, _ []int) error { return st.prove(ctx, parcels) })
}

// marks is which of many indexes are marked.
type marks []uint64

func (m marks) set(index int)      { m[index/64] |= 1 << (index % 64) }
func (m marks) clear(index int)    { m[index/64] &^= 1 << (index % 64) }
func (m marks) has(index int) bool { return m[index/64]&(1<<(index%64)) != 0 }

// proves has it be noted which files were proved as they were written.
func (st *staging) proves() {
	if st.proof == nil {
		st.proof = make(marks, st.plan.Unlisted.Len()/64+1)
	}
}

// supplied has files supplied, each of which is known only meanwhile.
func (st *staging) supplied(ctx context.Context, asked Asked) error {
	if st.plan.Supply == nil {
		st.proves()
		return st.someOf(asked, func(parcels []*parcel, indexes []int) error {
			err := st.sendAll(ctx, parcels)
			for i, p := range parcels {
				if p.checked {
					st.proof.set(indexes[i])
				}
			}
			return err
		})
	}
	find := asked.finder()
	return st.plan.Supply.Supply(ctx, asked, func(ctx context.Context, i int, content io.Reader, whole *Whole, err error) error {
		p := st.single(find(i))
		if err == nil {
			err = st.take(ctx, p, 0, content, whole)
		}
		return st.arrived(ctx, p, err)
	})
}

// single gives the parcel of one file of a tree that is all new.
func (st *staging) single(index int) *parcel {
	one := &struct {
		parcel
		change diff.Change
		want   manifest.Entry
	}{want: st.plan.at(index)}
	one.change = diff.Change{Status: diff.New, Want: &one.want}
	one.parcel = parcel{change: &one.change, copy: 1, at: int32(index)}
	return &one.parcel
}

// twinsAtOnce is how many twins are known at a time.
const twinsAtOnce = 1024

// doubleUnlisted has the far end copy what has been sent once and is needed again, and gives what it has copied and what not, and
// how many bytes that has.
func (st *staging) doubleUnlisted(ctx context.Context, twins []twin) (made, unmade Asked, bytes int64, err error) {
	st.proves()
	for len(twins) > 0 {
		var (
			some    = twins[:min(twinsAtOnce, len(twins))]
			firsts  = map[int]*parcel{}
			doubles = map[*parcel][]*parcel{}
			indexes = map[*parcel]int{}
		)
		twins = twins[len(some):]
		for _, t := range some {
			first := firsts[t.first]
			if first == nil {
				first = st.single(t.first)
				firsts[t.first] = first
			}
			other := st.single(t.other)
			doubles[first], indexes[other] = append(doubles[first], other), t.other
		}
		left, err := st.double(ctx, doubles)
		if err != nil {
			return made, unmade, 0, err
		}
		for p, index := range indexes {
			if p.checked {
				st.proof.set(index)
			}
		}
		open := make(map[int]bool, len(left))
		for _, p := range left {
			open[indexes[p]] = true
			bytes += p.change.Want.Size
		}
		for _, t := range some {
			if open[t.other] {
				unmade.Add(t.other)
			} else {
				made.Add(t.other)
			}
		}
	}
	return made, unmade, bytes, nil
}

// seen is which contents were seen, and at which indexes first: a table in which each has a place that its digest gives it, or
// one behind that.
type seen struct {
	of    *manifest.Folded
	slots []seenSlot // of which a part is free, always
}

type seenSlot struct {
	mark  uint32 // a part of the digest
	index int32  // from 1; 0: it is free
}

func newSeen(of *manifest.Folded) *seen {
	slots := 16
	for slots < 2*of.Len() {
		slots *= 2
	}
	return &seen{of, make([]seenSlot, slots)}
}

// add adds a content, unless it was seen: then it gives where.
func (s *seen) add(index int, digest *manifest.Digest) (first int, is bool) {
	at, mark := binary.LittleEndian.Uint64(digest[:]), binary.LittleEndian.Uint32(digest[8:])
	for ; ; at++ {
		slot := &s.slots[at&uint64(len(s.slots)-1)]
		if slot.index == 0 {
			*slot = seenSlot{mark, int32(index + 1)}
			return 0, false
		}
		if slot.mark == mark && s.of.At(int(slot.index-1)).Digest == *digest {
			return int(slot.index - 1), true
		}
	}
}
