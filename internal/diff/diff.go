// Package diff compares the tree that is wanted with the tree that was found and the tree that was recorded.
//
// Every path gets one status:
//
//	new      in the content and not at the site
//	changed  at both and different
//	same     at both and equal
//	retired  recorded by an earlier deployment, found, and no longer in the content
//	stray    found, not in the content, and never recorded
//
// Beside its status a path may be drifted: recorded by a deployment, and altered or removed by somebody else since. A
// path whose found content is what is wanted has not drifted, whoever put it there.
package diff

import (
	"io/fs"
	"slices"
	"strings"
	"time"

	"tartine/internal/manifest"
)

// Status is one of the words above. It is no kind of byte: the compiler would take that for a character of a text.
type Status int8

// The statuses of a path.
const (
	Same Status = iota
	New
	Changed
	Retired
	Stray
)

func (s Status) String() string {
	if words := [...]string{"same", "new", "changed", "retired", "stray"}; s >= 0 && int(s) < len(words) {
		return words[s]
	}
	return "of a status that is not known"
}

// Found is an entry that a survey found. A digest of zero is not known. What was found as it is recorded has its entry in
// common with the record: an entry is not altered, but replaced.
type Found struct {
	*manifest.Entry
	Other  fs.FileMode // the type of what is no file, link or folder; 0 otherwise
	Filled bool        // a folder that something exists in
	// Owned tells that the place says whom it belongs to: the numbers of a user and a group.
	Owned       bool
	User, Group uint32
	// Changed is when anything about it changed last, by the clock of the place, in nanoseconds since 1970; 0: the
	// place does not tell.
	Changed int64
}

// Rule says what counts as equal.
type Rule struct {
	Modes    bool // permission bits are compared
	Times    bool // files of the same size and time are taken for the same without a look at their content
	Nothing  bool // every file counts as changed
	TimeStep time.Duration
	// Owners gives the numbers of owners at the place; owners that are not among them are not compared.
	Owners map[manifest.Owner]Owner
}

// Owner is the numbers of a user and a group; -1: not said.
type Owner struct{ User, Group int }

// Owns tells whether what was found belongs to whom an entry says.
func (r *Rule) Owns(e *manifest.Entry, f *Found) bool {
	if e.Owner == nil || !f.Owned {
		return true
	}
	o, known := r.Owners[*e.Owner]
	return !known || (o.User < 0 || uint32(o.User) == f.User) && (o.Group < 0 || uint32(o.Group) == f.Group)
}

// Change is one path that is not the same, or that is the same and must be recorded so. It is small: in a first deployment
// there is one for each path.
type Change struct {
	Want   *manifest.Entry // nil: not in the content
	Found  *Found          // nil: not at the site
	Status Status
	// Drifted tells that somebody else altered or removed what a deployment had put here.
	Drifted bool
	// Foreign tells that a deployment would overwrite or remove what no deployment put here as it is.
	Foreign bool
	// Hand tells that a person put there what was found.
	Hand bool
	// ModeOnly tells that the bytes are right, and only the mode or the owner is not.
	ModeOnly bool
}

// Path gives the path.
func (c *Change) Path() string {
	if c.Want != nil {
		return c.Want.Path
	}
	return c.Found.Path
}

// Size gives the bytes to speak of: those that are wanted, else those that were found.
func (c *Change) Size() int64 {
	switch {
	case c.Want != nil:
		return max(c.Want.Size, 0)
	case c.Found != nil:
		return max(c.Found.Size, 0)
	default:
		return 0
	}
}

// Sends tells whether a file's bytes must get to the site for this change.
func (c *Change) Sends() bool {
	return c.Want != nil && c.Want.Kind == manifest.File && !c.ModeOnly && (c.Status == New || c.Status == Changed)
}

// Result is what must change, sorted by path.
type Result struct {
	Changes   []Change
	All       Entries   // where these are all that there is, and all of them new, in the place of Changes; else nil
	Same      int       // entries
	SameBytes int64     //
	Leaving   []Leaving // retired, and left for a while; sorted by path
	Stale     bool      // something that is the same is recorded otherwise, or not at all
}

// Entries is entries of which there may be no list.
type Entries interface {
	Len() int
	// Each calls visit with one after the other, in the order of their paths, until it tells that that is enough. Visit must not
	// keep them.
	Each(visit func(e *manifest.Entry) bool)
}

// Each calls visit with one change after the other, until it tells that that is enough. Visit must not keep them.
func (r *Result) Each(visit func(c *Change) bool) {
	if r.All != nil {
		r.All.Each(func(e *manifest.Entry) bool { return visit(&Change{Status: New, Want: e}) })
		return
	}
	for i := range r.Changes {
		if !visit(&r.Changes[i]) {
			return
		}
	}
}

// Leaving is a file that is no longer in the content, and stays until some time for those who ask for it still.
type Leaving struct {
	manifest.Entry
	Until time.Time
}

// Count gives the number of changes with a status and the bytes of their files.
func (r *Result) Count(status Status) (n int, bytes int64) {
	if r.All != nil && status != New {
		return 0, 0
	}
	r.Each(func(c *Change) bool {
		if c.Status == status {
			n++
			bytes += c.Size()
		}
		return true
	})
	return n, bytes
}

// Publishes tells whether a deployment has anything to do at the site. Strays count only when they are removed.
func (r *Result) Publishes(removeStrays bool) bool {
	return r.All != nil && r.All.Len() > 0 ||
		slices.ContainsFunc(r.Changes, func(c Change) bool { return c.Status != Stray || removeStrays })
}

// Unresolved gives the found files whose digest must be known before Compare: where the size leaves it open whether
// they are as wanted, or as recorded.
func Unresolved(want []manifest.Entry, found []Found, recorded []manifest.Entry, rule Rule) []int {
	var open []int
	walk(want, found, recorded, func(w *manifest.Entry, f int, r *manifest.Entry) {
		if f < 0 || found[f].Kind != manifest.File || found[f].Other != 0 || !found[f].Digest.IsZero() {
			return
		}
		asWanted := w != nil && w.Kind == manifest.File && (w.Size == found[f].Size || w.Size < 0) && !rule.Times &&
			!rule.Nothing
		asRecorded := r != nil && r.Kind == manifest.File && (r.Size == found[f].Size || r.Size < 0)
		if asWanted || asRecorded {
			open = append(open, f)
		}
	})
	return open
}

// Compare finds what must change. All three lists are sorted by path. Paths below a folder of which keep says true
// are left as they are: they are wanted, but what they should be is not known.
func Compare(want []manifest.Entry, found []Found, recorded []manifest.Entry, rule Rule,
	keep func(path string) bool) *Result {
	out := &Result{}
	if len(found) == 0 {
		out.Changes = make([]Change, 0, len(want)) // all of it is new
	}
	walk(want, found, recorded, func(w *manifest.Entry, i int, r *manifest.Entry) {
		var f *Found
		if i >= 0 {
			f = &found[i]
		}
		altered := r != nil && (f == nil || !equal(r, f, rule))
		hand := r != nil && r.Hand
		switch {
		case w == nil && (f == nil || keep != nil && keep(f.Path)): // gone already, or not to be judged
		case w == nil && f.Kind == manifest.Dir && (f.Filled || anyBelow(want, f.Path)): // the folder follows from what is in it, or will be
		case w == nil && (r == nil || hand):
			out.Changes = append(out.Changes, Change{Status: Stray, Found: f, Hand: hand && !altered})
		case w == nil:
			out.Changes = append(out.Changes, Change{Status: Retired, Found: f, Drifted: altered,
				Foreign: altered})
		case f == nil:
			out.Changes = append(out.Changes, Change{Status: New, Want: w, Drifted: altered})
		case equal(w, f, rule) && (!rule.Nothing || w.Kind != manifest.File):
			out.Same++
			out.SameBytes += max(w.Size, 0)
			if r == nil || !r.Equal(*w) || r.Hand && !w.Hand || w.Kind == manifest.File && !SameTime(r.ModTime, f.ModTime, rule.TimeStep) {
				out.Stale = true
			}
		default:
			modeOnly := w.Kind == f.Kind && f.Other == 0 && sameContent(w, f, rule) && !rule.Nothing
			out.Changes = append(out.Changes, Change{Status: Changed, Want: w, Found: f, Drifted: altered,
				Foreign: r == nil || altered || hand && !w.Hand, Hand: hand && !altered,
				ModeOnly: modeOnly})
		}
	})
	return out
}

// anyBelow tells whether any entry lies below a folder.
func anyBelow(entries []manifest.Entry, folder string) bool {
	prefix := folder + "/"
	i, _ := slices.BinarySearchFunc(entries, prefix, func(e manifest.Entry, p string) int { return strings.Compare(e.Path, p) })
	return i < len(entries) && strings.HasPrefix(entries[i].Path, prefix)
}

// equal tells whether what was found is what an entry says.
func equal(e *manifest.Entry, f *Found, rule Rule) bool {
	if f.Other != 0 || e.Kind != f.Kind || !sameContent(e, f, rule) {
		return false
	}
	return (!rule.Modes || e.Kind == manifest.Link || e.Mode == f.Mode) && rule.Owns(e, f)
}

func sameContent(e *manifest.Entry, f *Found, rule Rule) bool {
	switch {
	case e.Kind == manifest.Link:
		return e.Link == f.Link
	case e.Kind == manifest.Dir:
		return true
	case !f.Digest.IsZero():
		return e.Digest == f.Digest
	case rule.Times && e.Size == f.Size:
		return SameTime(e.ModTime, f.ModTime, rule.TimeStep)
	default:
		return false // the size had said so, or the content could not be read
	}
}

// SameTime tells whether two times are the same to a granularity.
func SameTime(a, b time.Time, step time.Duration) bool {
	return a.UnixNano()/int64(step) == b.UnixNano()/int64(step)
}

// walk calls visit for each path of the three lists, in order, with what each has of it.
func walk(want []manifest.Entry, found []Found, recorded []manifest.Entry,
	visit func(w *manifest.Entry, f int, r *manifest.Entry)) {
	var w, f, r int
	for w < len(want) || f < len(found) || r < len(recorded) {
		var path string
		first := true
		earliest := func(p string) {
			if first || p < path {
				path, first = p, false
			}
		}
		if w < len(want) {
			earliest(want[w].Path)
		}
		if f < len(found) {
			earliest(found[f].Path)
		}
		if r < len(recorded) {
			earliest(recorded[r].Path)
		}
		var (
			wanted, record *manifest.Entry
			at             = -1
		)
		if w < len(want) && want[w].Path == path {
			wanted = &want[w]
			w++
		}
		if f < len(found) && found[f].Path == path {
			at = f
			f++
		}
		if r < len(recorded) && recorded[r].Path == path {
			record = &recorded[r]
			r++
		}
		visit(wanted, at, record)
	}
}

// Blockers gives the found paths that are in the way of what is wanted: files where a folder must go, and folders,
// with what is in them, where a file or link must go. Paths that a deployment removes anyway are not among them.
func Blockers(r *Result, removeStrays bool) []string {
	var (
		out      []string
		leaves   = map[string]bool{} // paths that will be files or links
		folders  = map[string]bool{} // paths that will be folders
		addAbove = func(p string) {
			for dir := parent(p); dir != "" && !folders[dir]; dir = parent(dir) {
				folders[dir] = true
			}
		}
	)
	isStray := func(c Change) bool { return c.Status == Stray }
	if removeStrays || !slices.ContainsFunc(r.Changes, isStray) {
		return nil
	}
	for i := range r.Changes {
		if c := &r.Changes[i]; c.Want != nil && (c.Status == New || c.Status == Changed) {
			addAbove(c.Path())
			if c.Want.Kind == manifest.Dir {
				folders[c.Path()] = true
			} else {
				leaves[c.Path()] = true
			}
		}
	}
	for i := range r.Changes {
		c := &r.Changes[i]
		if !isStray(*c) {
			continue
		}
		if folders[c.Path()] && c.Found.Kind != manifest.Dir {
			out = append(out, c.Path())
			continue
		}
		for dir := parent(c.Path()); dir != ""; dir = parent(dir) {
			if leaves[dir] {
				out = append(out, c.Path())
				break
			}
		}
	}
	return out
}

func parent(path string) string { return path[:max(strings.LastIndexByte(path, '/'), 0)] }
