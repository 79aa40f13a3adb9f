package agent

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"

	"tartine/internal/calls"
	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/treeparts"
)

// hello says who speaks.
type hello struct {
	Protocol int    `cbor:"protocol"`
	Build    string `cbor:"build"` // which program: both must be the same
}

// message is a call, its answer, or something that is told while a call is under way. A client makes one call at a
// time.
type message struct {
	Call   uint64          `cbor:"call"`             // which call it is about, from 1
	Method string          `cbor:"method,omitempty"` // of a call
	Event  string          `cbor:"event,omitempty"`  // of what is told
	Error  *calls.Error    `cbor:"error,omitempty"`  // of an answer that is a failure
	Body   cbor.RawMessage `cbor:"body,omitempty"`   // what the method or event is called with, or the answer
}

// The methods of the session itself. All others are calls, under their names.
const (
	methodOpen  = "open"
	methodLanes = "lanes"
)

// The events. All but need go to a watch.
const (
	eventPhase = "phase"
	eventDone  = "done"
	eventNeed  = "need"
)

// Root is which site is meant.
type Root struct {
	Path   string `cbor:"path"` // absolute; or relative to the home folder when Home is set
	Home   bool   `cbor:"home,omitempty"`
	Switch bool   `cbor:"switch,omitempty"`
	Jobs   int    `cbor:"jobs,omitempty"`
	Owner  string `cbor:"owner,omitempty"` // USER:GROUP, as numbers; empty: who the agent runs as
}

type opened struct {
	Root      string          `cbor:"root"` // as a person knows it
	Abilities fsys.Abilities  `cbor:"abilities"`
	Recorded  manifest.Digest `cbor:"recorded"` // see Client.Recorded
}

// compareCall has three stages, each of which may be the last: the tree digest; digests of its folders; entries.
type compareCall struct {
	As      calls.ID         `cbor:"as"`
	Survey  calls.ID         `cbor:"survey"`
	Tree    manifest.Digest  `cbor:"tree"`
	Paths   int              `cbor:"paths"`
	Times   bool             `cbor:"times,omitempty"`
	Nothing bool             `cbor:"nothing,omitempty"`
	Kept    []string         `cbor:"kept,omitempty"`
	Gone    []string         `cbor:"gone,omitempty"`
	Folders []treeparts.Part `cbor:"folders,omitempty"`
	Since   manifest.Digest  `cbor:"since"`             // where that tree is recorded, something else is wanted in the folders In alone, of which Folders are
	In      []string         `cbor:"in,omitempty"`      // none: Folders are all
	Entries int              `cbor:"entries,omitempty"` // how many came in frames of their own
	Whole   bool             `cbor:"whole,omitempty"`   // they are all there is
	Retire  wireRetire       `cbor:"retire"`
	Earlier int              `cbor:"earlier,omitempty"` // the deployment that is wanted, in the place of all that says what is
}

// wireEarlier is a site.Earlier.
type wireEarlier struct {
	Entries  manifest.Packed `cbor:"entries"`
	Paths    int             `cbor:"paths"`
	Contents int             `cbor:"contents"`
	Tree     manifest.Digest `cbor:"tree"`
}

func toWireEarlier(e *site.Earlier) *wireEarlier {
	return &wireEarlier{manifest.Pack(e.Entries), e.Paths, e.Contents, e.Tree}
}

func (w *wireEarlier) earlier() (*site.Earlier, error) {
	entries, err := w.Entries.Unpack()
	if err == nil && (!treeparts.InOrder(entries) || len(entries) > w.Paths || w.Contents < 0 || w.Contents > w.Paths) {
		err = errors.New("an earlier deployment that cannot be one")
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrProtocol, err)
	}
	return &site.Earlier{Entries: entries, Paths: w.Paths, Contents: w.Contents, Tree: w.Tree}, nil
}

// wireRetire is a site.Retire.
type wireRetire struct {
	After time.Duration `cbor:"after,omitempty"`
	Now   bool          `cbor:"now,omitempty"`
	Last  []string      `cbor:"last,omitempty"`
}

// wireLeaving is a diff.Leaving, as far as it is shown.
type wireLeaving struct {
	_     struct{} `cbor:",toarray"`
	Path  string
	Size  int64
	Until int64 // seconds since 1970
}

// compareAnswer is the result, or what is needed to find it.
type compareAnswer struct {
	NeedAll     bool `cbor:"need_all,omitempty"`
	NeedDigests bool `cbor:"need_digests,omitempty"`
	// folders of which digests are needed, too, beside In; none: of all
	More []string `cbor:"more,omitempty"`
	// indices into Folders; more than the tree digest was sent
	NeedFolders []int         `cbor:"need_folders,omitempty"`
	Same        int           `cbor:"same"`
	SameBytes   int64         `cbor:"same_bytes"`
	Stale       bool          `cbor:"stale,omitempty"`
	New         []wireRun     `cbor:"new,omitempty"` // changes that are new and nothing more
	Changes     []wireChange  `cbor:"changes,omitempty"`
	Leaving     []wireLeaving `cbor:"leaving,omitempty"`
	Done        bool          `cbor:"done,omitempty"`
	InParts     bool          `cbor:"in_parts,omitempty"` // indices are of the entries that were sent for this comparison, and not of all
	Narrowed    bool          `cbor:"narrowed,omitempty"` // of those of them that are left
	Left        []wireRun     `cbor:"left,omitempty"`
	Earlier     *wireEarlier  `cbor:"earlier,omitempty"` // what is wanted, of which indices are; nil: that was not asked about
}

// wireRuns gives runs as they cross the connection.
func wireRuns(runs site.Runs) (out []wireRun) {
	for _, r := range runs {
		out = append(out, wireRun{First: r.First, Count: r.Count})
	}
	return out
}

// leftOf gives which of the entries that were sent are left.
func (a *compareAnswer) leftOf(sent []int) ([]int, error) {
	if !a.Narrowed {
		return sent, nil
	}
	out, next := []int{}, 0
	for _, r := range a.Left {
		if r.First < next || r.Count < 0 || r.First > len(sent) || r.Count > len(sent)-r.First {
			return nil, fmt.Errorf("%w: %d entries are left from %d on", ErrProtocol, r.Count, r.First)
		}
		next = r.First + r.Count
		out = append(out, sent[r.First:next]...)
	}
	return out, nil
}

// add adds a change.
func (a *compareAnswer) add(c *diff.Change, want int) {
	if c.Status != diff.New || c.Found != nil || c.Drifted || c.Foreign || c.ModeOnly {
		a.Changes = append(a.Changes, toWireChange(c, want))
		return
	}
	if last := len(a.New) - 1; last >= 0 && a.New[last].First+a.New[last].Count == want {
		a.New[last].Count++
		return
	}
	a.New = append(a.New, wireRun{First: want, Count: 1})
}

// result gives what was found.
func (a *compareAnswer) result(of *wanted) (*diff.Result, error) {
	out := &diff.Result{Same: a.Same, SameBytes: a.SameBytes, Stale: a.Stale}
	if of.all != nil {
		out.All = of.all
	} else {
		var err error
		if out.Changes, err = a.changes(of); err != nil {
			return nil, err
		}
	}
	for _, l := range a.Leaving {
		out.Leaving = append(out.Leaving, diff.Leaving{Entry: manifest.Entry{Path: l.Path, Size: l.Size},
			Until: time.Unix(l.Until, 0)})
	}
	return out, nil
}

// changes gives all changes, in the order of their paths.
func (a *compareAnswer) changes(want *wanted) ([]diff.Change, error) {
	out := make([]diff.Change, 0, len(want.entries)+len(a.Changes))
	next := 0
	for _, run := range a.New {
		if run.First < next || run.Count < 0 || run.First > want.of || run.Count > want.of-run.First {
			return nil, fmt.Errorf("%w: new entries from %d on", ErrProtocol, run.First)
		}
		next = run.First + run.Count
		for at := run.First; at < run.First+run.Count; at++ {
			out = append(out, diff.Change{Status: diff.New, Want: want.entry(want.as, at)})
		}
	}
	for i := range a.Changes {
		change, err := a.Changes[i].change(want)
		if err != nil {
			return nil, err
		}
		out = append(out, change)
	}
	if len(a.New) > 0 && len(a.Changes) > 0 {
		slices.SortFunc(out, func(a, b diff.Change) int { return strings.Compare(a.Path(), b.Path()) })
	}
	return out, nil
}

// wanted is the entries of a comparison that an answer is about: some of those that are wanted, or all of them.
type wanted struct {
	as      calls.ID // the comparison
	of      int      // how many there are in all that an answer can name
	indexes []int    // of those here, ascending; nil: they are all
	entries []manifest.Entry
	sent    []int            // those that an answer can name, by their indexes among all; nil: it can name all
	listed  []manifest.Entry // all, in the place of entries, where only some can be named
	all     calls.Entries    // all of them, and all are new, in the place of a list; nil: it is otherwise
}

// wantedOf gives the entries that an answer is about, of those that were sent in parts, by index, or of all. What it says may be
// wrong.
func wantedOf(a *compareAnswer, q *calls.Comparing, sent []int) *wanted {
	if a.InParts {
		out := &wanted{as: q.As, of: len(sent), sent: sent}
		if q.In == nil && (q.Content == nil || !q.Content.Folded()) {
			out.listed = q.Listed()
		} else if len(sent) > 0 {
			out.entries = q.Some(sent)
		}
		return out
	}
	out := &wanted{as: q.As, of: q.Paths(), indexes: []int{}}
	listed := func() *wanted { return &wanted{as: q.As, of: out.of, entries: q.Listed()} }
	if q.Content == nil || !q.Content.Folded() { // the list is there, and digests that are open are noted in it
		return listed()
	}
	if len(a.Changes) == 0 && len(a.New) == 1 && a.New[0] == (wireRun{Count: out.of}) {
		out.all = q.Content
		return out
	}
	for _, run := range a.New {
		for i := range min(run.Count, out.of) {
			if out.indexes = append(out.indexes, run.First+i); len(out.indexes) > out.of/few {
				return listed()
			}
		}
	}
	for i := range a.Changes {
		if a.Changes[i].Want >= 0 {
			out.indexes = append(out.indexes, a.Changes[i].Want)
		}
	}
	if len(out.indexes) > out.of/few {
		return listed()
	}
	slices.Sort(out.indexes)
	out.indexes = slices.Compact(out.indexes)
	if len(out.indexes) > 0 {
		out.entries = q.Some(out.indexes)
	}
	return out
}

// few is the part of what is wanted of which no list is needed.
const few = 16

// entry gives one of them, by its index in what is wanted; nil: it is not here.
func (w *wanted) entry(as calls.ID, at int) *manifest.Entry {
	if w == nil || w.as != as {
		return nil
	}
	if w.indexes != nil {
		var found bool
		if at, found = slices.BinarySearch(w.indexes, at); !found {
			return nil
		}
	}
	if w.listed != nil && at >= 0 && at < len(w.sent) {
		return &w.listed[w.sent[at]]
	}
	if at < 0 || at >= len(w.entries) {
		return nil
	}
	return &w.entries[at]
}

// wireRun is entries one behind the other. (Of those that are new none is at the site, or was recorded.)
type wireRun struct {
	_     struct{} `cbor:",toarray"`
	First int      // index of the first
	Count int
}

// wireChange is a diff.Change. What is wanted is named by its index in what was compared.
type wireChange struct {
	_      struct{} `cbor:",toarray"`
	Want   int      // -1: not in the content
	Status diff.Status
	Flags  uint8
	Found  *wireFound
}

// The flags, in the order in which toWireChange sets them.
const (
	flagDrifted = 1 << iota
	flagForeign
	flagModeOnly
	flagHand
)

type wireFound struct {
	_      struct{}        `cbor:",toarray"`
	Entry  manifest.Packed // one
	Other  uint32
	Filled bool
}

func toWireChange(c *diff.Change, want int) wireChange {
	out := wireChange{Want: want, Status: c.Status}
	for i, set := range [...]bool{c.Drifted, c.Foreign, c.ModeOnly, c.Hand} {
		if set {
			out.Flags |= flagDrifted << i
		}
	}
	if c.Found != nil {
		out.Found = &wireFound{Entry: manifest.Pack([]manifest.Entry{*c.Found.Entry}), Other: uint32(c.Found.Other),
			Filled: c.Found.Filled}
	}
	return out
}

func (w *wireChange) change(want *wanted) (c diff.Change, err error) {
	c = diff.Change{Status: w.Status, Drifted: w.Flags&flagDrifted != 0, Foreign: w.Flags&flagForeign != 0,
		ModeOnly: w.Flags&flagModeOnly != 0, Hand: w.Flags&flagHand != 0}
	if w.Found != nil {
		f := &diff.Found{Other: fs.FileMode(w.Found.Other), Filled: w.Found.Filled}
		found, err := w.Found.Entry.Unpack()
		if err != nil {
			return c, fmt.Errorf("%w: %w", ErrProtocol, err)
		}
		if len(found) != 1 {
			return c, fmt.Errorf("%w: %d entries were found in the place of one", ErrProtocol, len(found))
		}
		f.Entry = &found[0]
		c.Found = f
	}
	switch {
	case w.Want >= want.of, w.Want < 0 && c.Found == nil, w.Status < diff.Same, w.Status > diff.Stray:
		return c, fmt.Errorf("%w: a change of entry %d", ErrProtocol, w.Want)
	case w.Want >= 0:
		c.Want = want.entry(want.as, w.Want)
	}
	return c, nil
}

// stageCall is a site.Plan without what the far end has already.
type stageCall struct {
	As           calls.ID         `cbor:"as"`
	Comparison   calls.ID         `cbor:"comparison"`
	Last         []string         `cbor:"last,omitempty"`
	Kept         []string         `cbor:"kept,omitempty"`
	Gone         []string         `cbor:"gone,omitempty"`
	Generator    string           `cbor:"generator,omitempty"`
	Origin       *manifest.Origin `cbor:"origin,omitempty"`
	RemoveStrays bool             `cbor:"remove_strays,omitempty"`
	MakeParents  bool             `cbor:"make_parents,omitempty"`
	Partial      bool             `cbor:"partial,omitempty"`
	Incomplete   bool             `cbor:"incomplete,omitempty"`
	SendAll      bool             `cbor:"send_all,omitempty"`
	History      int              `cbor:"history,omitempty"`
	Rollback     int              `cbor:"rollback,omitempty"`
	Sources      string           `cbor:"sources,omitempty"`
	Hand         bool             `cbor:"hand,omitempty"`
	Beside       *site.Beside     `cbor:"beside,omitempty"`
	Promoted     *promotedCall    `cbor:"promoted,omitempty"`
	Commands     int              `cbor:"commands,omitempty"`
	Like         bool             `cbor:"like,omitempty"`
	Tree         manifest.Digest  `cbor:"tree"`
	Took         time.Duration    `cbor:"took"` // since the deployment was begun
	Wait         time.Duration    `cbor:"wait,omitempty"`
	Watched      *watchedCall     `cbor:"watched,omitempty"`
}

// promotedCall is the deployment of another site that is brought.
type promotedCall struct {
	From       string          `cbor:"from"`
	Deployment int             `cbor:"deployment"`
	Tree       manifest.Digest `cbor:"tree"`
}

// watchedCall is the watch that deploys.
type watchedCall struct {
	ID    string    `cbor:"id"`
	Since time.Time `cbor:"since"`
}

// phase is what a watch is told of a phase; done is what has been done since the last time.
type (
	phase struct {
		Name  string `cbor:"name"`
		Files int    `cbor:"files"`
		Bytes int64  `cbor:"bytes"`
	}
	done struct {
		Files int   `cbor:"files"`
		Bytes int64 `cbor:"bytes"`
	}
)

// need asks for the content of files, each from an offset on, in this order.
type need struct {
	Runs    []wireRun     `cbor:"runs"`              // of indices into what was compared
	Offsets map[int]int64 `cbor:"offsets,omitempty"` // by position among all that is asked for; missing: from the beginning
	// Old is the chunks of versions that are at the far end, by position.
	Old map[int]packedChunks `cbor:"old,omitempty"`
}

// files gives how many files are asked for, of so many at most.
func (n *need) files(of int) (files int, err error) {
	for _, r := range n.Runs {
		if r.First < 0 || r.First >= of || r.Count < 1 || r.Count > min(of-r.First, of-files) {
			return 0, fmt.Errorf("%w: it needs %d entries from %d on", ErrProtocol, r.Count, r.First)
		}
		files += r.Count
	}
	return files, nil
}

// ascends tells whether all indexes are in order.
func (n *need) ascends() bool {
	next := 0
	for _, r := range n.Runs {
		if r.First < next {
			return false
		}
		next = r.First + r.Count
	}
	return true
}
