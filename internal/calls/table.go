package calls

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/treeparts"
)

// table is all calls.
var table = []Any{Survey, Compare, Held, Stage, Publish, Abandon, Recover, GiveUp, Affirm, Deployment, Between, History, Verify,
	Examine, Unfinished, Locked, Unlock, Stands, List, Usage, Gather, Read, Wipe, Current, Note, Owed, Beacon, Sized}

// Surveying asks what is at the site.
type Surveying struct {
	As      ID   `cbor:"as"`
	Believe bool `cbor:"believe"` // the record of files that have the recorded size and time
}

// Comparing asks what must change at the site, as it was surveyed.
type Comparing struct {
	As       ID
	Survey   ID
	Recorded bool            // the survey found a deployment that is recorded
	Tree     manifest.Digest // of the content; zero: it was not computed
	// Content gives the entries in the place of those of Wanted: an engine that can do without asks for none. Nil: they are there.
	Content Entries
	Digested
	// Parts are those that differ, of which the entries of Wanted are, in the place of all; nil: they are of all.
	Parts *site.Different
	InAll int // how many entries are wanted where Parts is not nil
	// Earlier is the deployment of this site that is wanted, in the place of entries; 0: there are entries.
	Earlier int
	site.Wanted
}

// Digested is the folders of what is wanted.
type Digested struct {
	// Folders is the digests of its folders, and Of the entries of each, by index, where somebody has computed them; else nil.
	Folders []treeparts.Part
	Of      [][]int32
	// In is the folders in which alone something else is wanted than in a tree with the digest Since, should that be recorded: then Folders are
	// of those alone, and Of the indexes among what is in them. Nil: they are of all.
	In    map[string]bool
	Since manifest.Digest
}

// DigestIn computes the digests of some folders of what is wanted, of a content that is as it was since a tree in all others.
func (q *Comparing) DigestIn(in map[string]bool, since manifest.Digest) {
	q.Digested = Digested{In: in, Since: since}
	q.Folders, q.Of = treeparts.Of(q.eachIn(in))
}

// DigestMore computes the digests of some more folders; unless that is enough: of all.
func (q *Comparing) DigestMore(more []string, enough bool) {
	switch {
	case !enough:
		q.DigestAll()
	case len(more) > 0:
		in := maps.Clone(q.In)
		for _, dir := range more {
			in[dir] = true
		}
		q.DigestIn(in, q.Since)
	}
}

// DigestAll computes the digests of all folders.
func (q *Comparing) DigestAll() {
	q.Digested = Digested{}
	q.Folders, q.Of = treeparts.Of(q.Each)
}

// Entries is entries that are sorted by path, and that it costs something to have.
type Entries interface {
	diff.Entries
	Folded() bool // there is no list of them
	Entries() []manifest.Entry
}

// Paths gives how many entries are wanted.
func (q *Comparing) Paths() int {
	if q.Content != nil {
		return q.Content.Len()
	}
	return len(q.Wanted.Entries)
}

// Each calls visit with the entries that are wanted as Entries.Each does.
func (q *Comparing) Each(visit func(e *manifest.Entry) bool) {
	if q.Content != nil {
		q.Content.Each(visit)
		return
	}
	manifest.Each(q.Wanted.Entries, visit)
}

// Some gives some of the entries that are wanted, by their indexes, which ascend.
func (q *Comparing) Some(indexes []int) []manifest.Entry {
	out := make([]manifest.Entry, 0, len(indexes))
	q.EachOf(indexes)(func(e *manifest.Entry) bool {
		out = append(out, *e)
		return true
	})
	return out
}

// EachOf walks through some of the entries that are wanted, by their indexes, which ascend. Folders in which there is none of them
// are passed over, where that can be.
func (q *Comparing) EachOf(indexes []int) manifest.Walk {
	each, in := manifest.Walk(q.Each), func(at int) int { return at }
	if q.Of != nil && (q.In != nil || q.Content != nil && q.Content.Folded()) {
		dirs, all := treeparts.FoldersOf(q.Folders, q.Of, indexes)
		each, in = q.eachIn(dirs), func(at int) int { return all[at] }
	}
	return func(visit func(e *manifest.Entry) bool) {
		at, left := 0, indexes
		each(func(e *manifest.Entry) bool {
			if len(left) > 0 && left[0] == in(at) {
				left = left[1:]
				if !visit(e) {
					return false
				}
			}
			at++
			return len(left) > 0
		})
	}
}

// eachIn walks through what is wanted directly in some folders.
func (q *Comparing) eachIn(dirs map[string]bool) manifest.Walk {
	if folded, ok := q.Content.(folderwise); ok && q.Content.Folded() {
		return func(visit func(e *manifest.Entry) bool) { folded.EachIn(dirs, visit) }
	}
	return func(visit func(e *manifest.Entry) bool) {
		q.Each(func(e *manifest.Entry) bool {
			dir, _ := fsys.Split(e.Path)
			return !dirs[dir] || visit(e)
		})
	}
}

// folderwise is entries that can be gone through in some folders alone.
type folderwise interface {
	EachIn(dirs map[string]bool, visit func(e *manifest.Entry) bool)
}

// Listed gives the entries that are wanted.
func (q *Comparing) Listed() []manifest.Entry {
	if q.Content != nil {
		q.Wanted.Entries, q.Content = q.Content.Entries(), nil
	}
	return q.Wanted.Entries
}

// Compared is the answer.
type Compared struct {
	Result *diff.Result // nil: the parts, or the number of an earlier deployment, are not enough for one
	// Earlier is what is wanted where it is an earlier deployment; nil: that was not asked about.
	Earlier *site.Earlier
	// of a later survey that it rests on, since the one that was asked about was forgotten; nil: it was not
	Later *site.Summary
}

// Staging asks for the content of a deployment to be brought to the site, as it was compared. What was surveyed is
// filled in.
type Staging struct {
	As         ID
	Comparison ID
	Content    Entries // as in Comparing, in the place of Plan.Want
	site.Plan
}

// Listed gives the entries that are wanted.
func (q *Staging) Listed() []manifest.Entry {
	if q.Content != nil {
		q.Plan.Want, q.Content = q.Content.Entries(), nil
	}
	return q.Plan.Want
}

// The calls of a deployment.
var (
	// Survey reads what is at the site.
	Survey = &Call[Surveying, site.Summary]{Name: "survey", Run: survey}
	// Compare finds what must change. Over a connection it takes several steps, as many as the two sides differ
	// (package agent).
	Compare = &Call[*Comparing, *Compared]{Name: "compare", Run: compare}
	// Sized tells which of some sizes, in bytes, files have that the site holds, as it was surveyed, or its record.
	Sized = &Call[Sizing, []int64]{Name: "sized", Run: sized}
	// Held finds the paths of a comparison whose content the site does not hold.
	Held = &Call[ID, []string]{Name: "held", Run: held}
	// Stage locks the site and brings there what it does not hold, and tells what was done so far. Over a connection
	// the content goes beside the call (package agent). The site stays locked until Publish or Abandon, one of which
	// must follow; an engine that ends abandons.
	Stage = &Call[*Staging, *site.Outcome]{Name: "stage", Writes: true, Run: stage, Pack: packOutcome,
		Unpack: unpackOutcome}
	// Publish makes visible what was staged, checks and records it.
	Publish = &Call[ID, *site.Outcome]{Name: "publish", Writes: true, Run: publish, Pack: packOutcome,
		Unpack: unpackOutcome}
	// Abandon keeps what was staged for the next deployment, and publishes nothing.
	Abandon = &Call[ID, None]{Name: "abandon", Run: abandon}
)

// outcome is a site.Outcome as it crosses a connection.
type outcome struct {
	site.Outcome
	Failures []Failure `cbor:"failures,omitempty"`
}

func packOutcome(o *site.Outcome) any { return outcome{*o, WireFailures(o.Failed)} }

func unpackOutcome(read func(any) error) (*site.Outcome, error) {
	var form outcome
	if err := read(&form); err != nil {
		return nil, err
	}
	out := form.Outcome
	out.Failed, out.Program = Failures(form.Failures), farend.Said(out.Program, 100)
	if out.Method == site.ReadBack { // there
		out.Method = site.ReadThere
	}
	return &out, nil
}

// Affirming is the deployment whose record is written anew, and by whom.
type Affirming struct {
	Number int    `cbor:"number"`
	User   string `cbor:"user"`
}

// Sizing asks about sizes.
type Sizing struct {
	Survey ID      `cbor:"survey"`
	Sizes  []int64 `cbor:"sizes"`
}

// Noting is what ran around a deployment.
type Noting struct {
	Number int
	Ran    site.Ran
}

// The calls about publishes that were interrupted, the record, and the lock.
var (
	// Unfinished tells whether a publish was interrupted.
	Unfinished = &Call[None, bool]{Name: "unfinished", Run: func(ctx context.Context, h *Here, _ None, _ *site.Watch) (bool, error) { return h.Site.Unfinished(ctx) }}
	// Recover finishes it, for a user, and gives the number of its deployment; 0: there was none.
	Recover = &Call[string, int]{Name: "recover", Writes: true,
		Run: func(ctx context.Context, h *Here, user string, _ *site.Watch) (int, error) {
			return h.Site.Recover(ctx, user)
		}}
	// GiveUp records the site as it is in its place, for a user; nil: there was none.
	GiveUp = &Call[string, *site.GivenUp]{Name: "give up", Writes: true,
		Run: func(ctx context.Context, h *Here, user string, _ *site.Watch) (*site.GivenUp, error) {
			return h.Site.GiveUp(ctx, user)
		}}
	// Affirm has the record say that all is as it was recorded, so that the next survey reads less.
	Affirm = &Call[Affirming, None]{Name: "affirm", Writes: true,
		Run: func(ctx context.Context, h *Here, q Affirming, _ *site.Watch) (None, error) {
			return None{}, h.Site.Affirm(ctx, q.Number, q.User)
		}}
	// History lists the deployments that are recorded, the last one first.
	History = &Call[None, []site.Past]{Name: "history", Run: func(ctx context.Context, h *Here, _ None, _ *site.Watch) ([]site.Past, error) {
		return h.Site.History(ctx)
	}}
	// Deployment gives the manifest of one of them.
	Deployment = &Call[int, *manifest.Manifest]{Name: "deployment", Pack: packManifest, Unpack: unpackManifest,
		Run: func(ctx context.Context, h *Here, number int, _ *site.Watch) (*manifest.Manifest, error) {
			return h.Site.Deployment(ctx, number)
		}}
	// Between gives what differs from one of them, or nothing, to another.
	Between = &Call[Steps, *site.Between]{Name: "between", Pack: packBetween, Unpack: unpackBetween,
		Run: func(ctx context.Context, h *Here, q Steps, _ *site.Watch) (*site.Between, error) {
			return h.Site.Between(ctx, q.From, q.To)
		}}
	// Note writes down what ran around a recorded deployment.
	Note = &Call[Noting, None]{Name: "note", Writes: true,
		Run: func(ctx context.Context, h *Here, q Noting, _ *site.Watch) (None, error) {
			return None{}, h.Site.NoteRan(ctx, q.Number, &q.Ran)
		}}
	// Owed tells how far the commands around a recorded deployment have come.
	Owed = &Call[int, *site.Owed]{Name: "owed", Run: func(ctx context.Context, h *Here, number int, _ *site.Watch) (*site.Owed, error) {
		return h.Site.Owed(ctx, number)
	}}
	// Locked tells who deploys there now; nil: nobody.
	Locked = &Call[None, *site.Holder]{Name: "locked", Run: func(ctx context.Context, h *Here, _ None, _ *site.Watch) (*site.Holder, error) {
		return h.Site.Locked(ctx)
	}}
	// Unlock removes the lock of a holder.
	Unlock = &Call[*site.Holder, None]{Name: "unlock", Writes: true,
		Run: func(ctx context.Context, h *Here, holder *site.Holder, _ *site.Watch) (None, error) {
			return None{}, h.Site.Unlock(ctx, holder)
		}}
)

// A manifest crosses a connection as the text of its JSON, which is checked like any other.
func packManifest(m *manifest.Manifest) any {
	var text strings.Builder
	_ = m.WriteJSON(&text) // a text takes everything
	return text.String()
}

func unpackManifest(read func(any) error) (*manifest.Manifest, error) {
	var text string
	if err := read(&text); err != nil {
		return nil, err
	}
	return manifest.ReadJSON(strings.NewReader(text))
}

// Steps is from which deployment to which; 0 stands for nothing.
type Steps struct {
	From int `cbor:"from"`
	To   int `cbor:"to"`
}

// between is a site.Between as it crosses a connection.
type between struct {
	Before    manifest.Packed `cbor:"before"`
	After     manifest.Packed `cbor:"after"`
	Same      int             `cbor:"same"`
	SameBytes int64           `cbor:"same_bytes"`
}

func packBetween(b *site.Between) any {
	return between{manifest.Pack(b.Before), manifest.Pack(b.After), b.Same, b.SameBytes}
}

func unpackBetween(read func(any) error) (*site.Between, error) {
	var form between
	if err := read(&form); err != nil {
		return nil, err
	}
	out := &site.Between{Same: form.Same, SameBytes: form.SameBytes}
	var err error
	if out.Before, err = form.Before.Unpack(); err == nil {
		out.After, err = form.After.Unpack()
	}
	if err == nil {
		err = errors.Join(manifest.Check(out.Before), manifest.Check(out.After))
	}
	return out, err
}

// Verifying is what the site is checked against.
type Verifying struct {
	Recorded bool            `cbor:"recorded"` // what is recorded, and not Entries
	Entries  manifest.Packed `cbor:"entries,omitempty"`
	Strays   bool            `cbor:"strays"` // what no deployment put there counts
}

// VerifyingAgainst asks for a check against a manifest, or, when it is nil, against what is recorded.
func VerifyingAgainst(m *manifest.Manifest, strays bool) Verifying {
	if m == nil {
		return Verifying{Recorded: true, Strays: strays}
	}
	return Verifying{Entries: manifest.Pack(m.Entries), Strays: strays}
}

// Lighting asks for a small file in the root, or for its removal.
type Lighting struct {
	Name   string
	Text   string
	Remove bool
}

// Beacon puts a small file into the root for a moment, or removes it.
var Beacon = &Call[Lighting, None]{Name: "beacon", Writes: true,
	Run: func(ctx context.Context, h *Here, q Lighting, _ *site.Watch) (None, error) {
		if q.Remove {
			return None{}, h.Site.RemoveBeacon(ctx, q.Name)
		}
		return None{}, h.Site.PutBeacon(ctx, q.Name, q.Text)
	}}

// The calls that only look.
var (
	// Verify reads every file of the site and compares it.
	Verify = &Call[Verifying, *site.Report]{Name: "verify", Run: verify}
	// Examine tries what a deployment needs, for the doctor.
	Examine = &Call[None, []site.Check]{Name: "examine", Clean: cleanChecks,
		Run: func(ctx context.Context, h *Here, _ None, _ *site.Watch) ([]site.Check, error) {
			return h.Site.Examine(ctx)
		}}
)

func verify(ctx context.Context, h *Here, q Verifying, watch *site.Watch) (*site.Report, error) {
	if q.Recorded {
		return h.Site.Verify(ctx, nil, q.Strays, watch)
	}
	entries, err := q.Entries.Unpack()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrProtocol, err)
	}
	return h.Site.Verify(ctx, &manifest.Manifest{Entries: entries}, q.Strays, watch)
}

func cleanChecks(checks []site.Check) {
	for i := range checks {
		for _, text := range []*string{&checks[i].Name, &checks[i].Found, &checks[i].Fix} {
			*text = farend.Said(*text, MostSaid)
		}
	}
}
