package site

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// Differing finds the parts of which same does not tell that what is recorded there is what is wanted. The parts are all in which
// anything is wanted, those of a folder one behind the other, or, of these, all that are in some folders: then of all others it must be known that what is recorded is
// what is wanted, and that it is there (see Survey.Outside). Of want it counts what is kept and what goes. Same is called from
// several goroutines at once, with some parts by index and what is recorded in each of them: entries whose paths are the names in the
// folder, which it must not keep. It gives nil where the parts are not in order. What differs may have to be narrowed: see IsMuch.
func (s *Site) Differing(ctx context.Context, survey *Survey, want *Wanted, parts []Part, in map[string]bool, same func(parts []int, recorded [][]manifest.Entry) []bool) (*Different, error) {
	h, shelf, err := s.openRecord(ctx, survey.Number)
	defer shelf.close()
	if err != nil {
		return nil, err
	}
	young := survey.brief.youngOnes()
	d := &differing{
		out: &Different{survey: survey, contents: survey.brief.contents},
		in:  in, leads: leadingTo(in),
		brief: survey.brief, young: young, youngIn: map[string]bool{}, stays: survey.brief.staying(want, young),
		parts: parts, same: same, first: make(map[string]int, len(parts)), seen: make([]bool, len(parts)),
		most: cmp.Or(s.narrowAt, little(survey.brief.count)),
	}
	for i := range parts {
		if _, known := d.first[parts[i].Dir]; !known {
			d.first[parts[i].Dir] = i
			d.out.wanted = append(d.out.wanted, parts[i].Dir)
		}
	}
	for path := range young {
		dir, _ := fsys.Split(path)
		d.youngIn[dir] = true
	}
	if err = s.takeFolders(ctx, blocks.Ref{Name: h.Top, Entries: h.Count}, shelf, d.pass, d.take); err != nil {
		return nil, err
	}
	d.compare(d.waiting)
	return d.result(), nil
}

// differing is how it is found out which parts differ. Folders are compared some at a time: their digests are computed together.
type differing struct {
	out     *Different
	brief   *brief
	young   map[string]bool
	youngIn map[string]bool                            // the folders of those
	stays   func(path string, kind manifest.Kind) bool // what is not wanted; nil: nothing does
	parts   []Part
	in      map[string]bool // the folders that parts are of; nil: all
	leads   map[string]bool // those, and all above them
	same    func(parts []int, recorded [][]manifest.Entry) []bool
	first   map[string]int // the first part of each folder
	most    int            // how much of what is recorded may differ for a list to be kept of it

	mu      sync.Mutex
	waiting []recordedFolder
	entries int    // in those
	seen    []bool // parts of folders of which something is recorded
	ill     bool   // the parts of a folder are not in order
}

// leadingTo gives some folders and those above them; nil where they are.
func leadingTo(in map[string]bool) map[string]bool {
	if in == nil {
		return nil
	}
	out := map[string]bool{".": true}
	for dir := range in {
		for ; !out[dir]; dir, _ = fsys.Split(dir) {
			out[dir] = true
		}
	}
	return out
}

// pass passes over a folder of which it was foretold that all that is recorded there is what is wanted, and over one in which, and below which, nothing is looked
// at.
func (d *differing) pass(dir string, of blocks.Ref) bool {
	if d.in != nil {
		if !d.leads[dir] {
			d.mu.Lock()
			defer d.mu.Unlock()
			d.out.wanted = append(d.out.wanted, dir)
			return true
		}
		return false
	}
	i, wanted := d.first[dir]
	if _, isOdd := d.brief.odd[dir]; !wanted || isOdd || d.youngIn[dir] || !d.brief.foretold.is(of.Name, d.parts[i].Digest) {
		return false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.seen[i] = true
	return true
}

// mostCompared is how many entries wait to be compared, but for those of one folder.
const mostCompared = 4096

// take takes what is recorded in a folder.
func (d *differing) take(in recordedFolder, done func(recordedFolder)) {
	if d.in != nil && !d.in[in.dir] {
		d.onTheWay(in)
		done(in)
		return
	}
	d.mu.Lock()
	some := append(d.waiting, in)
	if d.entries += len(in.entries); d.entries < mostCompared {
		d.waiting, some = some, nil
	} else {
		d.waiting, d.entries = nil, 0
	}
	d.mu.Unlock()
	d.compare(some)
	for _, in := range some {
		done(in)
	}
}

// compare compares some folders.
func (d *differing) compare(some []recordedFolder) {
	var (
		asked []int
		lists [][]manifest.Entry
		spans = make([][]span, len(some))
	)
	for i, in := range some {
		spans[i] = d.spansOf(in)
		for _, sp := range spans[i] {
			asked, lists = append(asked, sp.part), append(lists, in.entries[sp.from:sp.until])
		}
	}
	same := d.same(asked, lists)
	for i, in := range some {
		d.note(in, spans[i], same[:len(spans[i])])
		same = same[len(spans[i]):]
	}
}

// onTheWay notes of a folder that what is wanted in it is what is recorded.
func (d *differing) onTheWay(in recordedFolder) {
	dirs := foldersOf(in)
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.out.dirs = append(d.out.dirs, dirs...); len(in.entries) > 0 {
		d.out.wanted = append(d.out.wanted, in.dir)
	}
}

// foldersOf gives the folders that have an entry of their own in another one.
func foldersOf(in recordedFolder) (dirs []string) {
	for i := range in.entries {
		if e := &in.entries[i]; e.Kind == manifest.Dir {
			dirs = append(dirs, fsys.Join(in.dir, e.Path))
		}
	}
	return dirs
}

// span is which entries of a folder are in a part of it.
type span struct{ part, from, until int }

// spansOf gives them for each part of a folder.
func (d *differing) spansOf(in recordedFolder) (out []span) {
	first, wanted := d.first[in.dir]
	rest := 0
	for i := first; wanted && i < len(d.parts) && d.parts[i].Dir == in.dir; i++ {
		from, until := within(in.entries, d.parts[i])
		if from < rest {
			d.mu.Lock()
			d.ill = true
			d.mu.Unlock()
			return nil
		}
		out, rest = append(out, span{i, from, until}), until
	}
	return out
}

// note notes what differs of a folder, of whose parts it is known whether they are the same.
func (d *differing) note(in recordedFolder, spans []span, same []bool) {
	var (
		differ, was []int // parts, and what is recorded in them by index
		kept, rest  int
		bytes       int64
		dir         = in.dir
		dirs        = foldersOf(in)
		_, isOdd    = d.brief.odd[dir]
	)
	unwanted := func(from, until int) {
		for j := from; j < until; j++ {
			if e := &in.entries[j]; d.stays != nil && d.stays(fsys.Join(dir, e.Path), e.Kind) {
				kept, bytes = kept+1, bytes+max(e.Size, 0)
			} else {
				was = append(was, j)
			}
		}
	}
	for i, sp := range spans {
		unwanted(rest, sp.from) // between two parts nothing is
		differs := isOdd || !same[i]
		for j := sp.from; !differs && len(d.young) > 0 && j < sp.until; j++ {
			differs = d.young[fsys.Join(dir, in.entries[j].Path)]
		}
		if rest = sp.until; differs {
			differ = append(differ, sp.part)
			for j := sp.from; j < sp.until; j++ {
				was = append(was, j)
			}
		}
	}
	unwanted(rest, len(in.entries))
	d.mu.Lock()
	defer d.mu.Unlock()
	out := d.out
	if out.dirs = append(out.dirs, dirs...); d.ill {
		return
	}
	for _, sp := range spans {
		d.seen[sp.part] = true
	}
	out.Parts, out.kept, out.bytes = append(out.Parts, differ...), out.kept+kept, out.bytes+bytes
	if kept > 0 {
		out.stay = append(out.stay, dir)
	}
	if out.much == nil && len(out.recorded)+len(was) > d.most {
		out.much, out.recorded = &muchParts{parts: d.parts, first: d.first}, nil
	}
	if out.much != nil {
		return
	}
	for _, j := range was {
		e := in.entries[j]
		e.Path = fsys.Join(dir, e.Path)
		out.recorded = append(out.recorded, e)
	}
}

// result gives what was found; nil: the parts of a folder are not in order.
func (d *differing) result() *Different {
	if d.ill {
		return nil
	}
	out := d.out
	for i := range d.parts {
		if !d.seen[i] { // of a folder of which nothing is recorded
			out.Parts = append(out.Parts, i)
		}
	}
	slices.Sort(out.Parts)
	slices.SortFunc(out.recorded, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out
}
