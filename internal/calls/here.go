package calls

import (
	"cmp"
	"context"
	"math/rand/v2"
	"sync"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/treeparts"
)

// ID stands for something that an engine keeps for later calls. Whoever asks gives it.
type ID uint64

// NewID gives an ID that is not used yet.
func NewID() ID { return ID(rand.Uint64() | 1) }

// Here is an engine in this process. It keeps the last survey, and the last comparison.
type Here struct {
	Site *site.Site
	// Surveyed is called with each survey; nil: nothing is to be done.
	Surveyed func(ctx context.Context, survey *site.Survey) error
	// Passed takes the entries of an answer that has very many, where they cross a connection before it; nil: they are in it.
	Passed site.Taking

	turn     sync.Mutex
	survey   *site.Survey
	surveyID ID
	parts    *site.Survey // in its place, where some parts of the site were compared; else nil
	want     []manifest.Entry
	unlisted *manifest.Folded // in the place of want: nothing exists, and all is new; else nil
	result   *diff.Result
	resultID ID
	brief    *Comparing // of the comparison, where only its result is known; else nil
	staged   *site.Staged
	stagedID ID
}

// NewHere gives the engine of a site.
func NewHere(s *site.Site) *Here { return &Here{Site: s} }

// Do implements Engine.
func (h *Here) Do(ctx context.Context, call Any, question, answer any, watch *site.Watch) error {
	h.turn.Lock()
	defer h.turn.Unlock()
	if watch == nil {
		watch = &site.Watch{}
	}
	return call.here(ctx, h, question, answer, watch)
}

// Foretell implements Foreteller.
func (h *Here) Foretell() { h.Site.Foretell(&treeparts.Ahead{}) }

// Abilities implements Engine.
func (h *Here) Abilities() fsys.Abilities { return h.Site.Abilities() }

// Survey gives the survey that an ID stands for, which may have to be unfolded; or ErrForgotten.
func (h *Here) Survey(id ID) (*site.Survey, error) {
	if h.survey == nil || id != h.surveyID {
		return nil, ErrForgotten
	}
	return h.survey, nil
}

// comparison gives what was wanted in the comparison that an ID stands for, and what was found to change; or
// ErrForgotten.
func (h *Here) comparison(ctx context.Context, id ID) (want []manifest.Entry, result *diff.Result, err error) {
	if h.result == nil || id != h.resultID {
		return nil, nil, ErrForgotten
	}
	if q := h.brief; q != nil {
		if err := h.Site.Unfold(ctx, h.survey); err != nil {
			return nil, nil, err
		}
		q.Entries, q.Content = h.survey.Entries(), nil
		if _, err := compare(ctx, h, q, &site.Watch{}); err != nil {
			return nil, nil, err
		}
	}
	return h.want, h.result, nil
}

// ReadFiles reads the files of a site that are to be compared by their content, so far as nobody has.
func (h *Here) ReadFiles(ctx context.Context, q *Comparing, watch *site.Watch) error {
	found, err := h.Survey(q.Survey)
	if err != nil {
		return err
	}
	if err := h.Site.ReadFiles(ctx, found, watch.Bytes); err != nil {
		return err
	}
	return h.Site.ReadYoung(ctx, found, watch.Bytes)
}

// SameAsRecorded tells whether a content, of which the tree digest and the number of paths are known, is what is recorded and is at the
// site, as it was surveyed. Then the comparison is answered by the result.
func (h *Here) SameAsRecorded(q *Comparing, paths int) (result *diff.Result, same bool) {
	found, err := h.Survey(q.Survey)
	if err != nil || q.Rule.Nothing {
		return nil, false
	}
	if result, same = found.IsRecorded(q.Tree, paths); same {
		h.forget()
		h.result, h.resultID, h.brief = result, q.As, q
	}
	return result, same
}

func (h *Here) forget() { h.parts, h.want, h.unlisted, h.result, h.brief = nil, nil, nil, nil, nil }

// surveyed gives the survey that the last comparison was made with.
func (h *Here) surveyed() *site.Survey { return cmp.Or(h.parts, h.survey) }

func (h *Here) unfolded(ctx context.Context, id ID) (*site.Survey, error) {
	found, err := h.Survey(id)
	if err == nil {
		err = h.Site.Unfold(ctx, found)
	}
	return found, err
}

func survey(ctx context.Context, h *Here, q Surveying, _ *site.Watch) (site.Summary, error) {
	h.survey = nil
	h.forget()
	look := h.Site.SurveyBriefly
	if h.Surveyed != nil {
		look = h.Site.Survey
	}
	found, err := look(ctx, q.Believe)
	if err == nil && h.Surveyed != nil {
		err = h.Surveyed(ctx, found)
	}
	if err != nil {
		return site.Summary{}, err
	}
	h.survey, h.surveyID = found, q.As
	return found.Summary, nil
}

func compare(ctx context.Context, h *Here, q *Comparing, watch *site.Watch) (*Compared, error) {
	h.forget()
	if q.Parts != nil {
		return compareParts(ctx, h, q, watch)
	}
	if err := h.ReadFiles(ctx, q, watch); err != nil {
		return nil, err
	}
	if q.Earlier > 0 {
		return compareEarlier(ctx, h, q, watch)
	}
	all, sent := q.Content.(*manifest.Folded)
	near := q.Content != nil && !sent // it was not sent here, but is here
	if near {
		if out, err := compareNear(ctx, h, q, watch); err != nil || out != nil {
			return out, err
		}
	}
	found, err := h.unfolded(ctx, q.Survey)
	if err != nil {
		return nil, err
	}
	if near && q.Content.Folded() && found.Number == 0 && !found.Anything {
		all = manifest.FoldAll(q.Content.Each)
	}
	if all != nil {
		result, err := h.Site.CompareUnlisted(found, all)
		if err != nil {
			return nil, err
		}
		if result != nil {
			h.unlisted, h.result, h.resultID = all, result, q.As
			return &Compared{Result: result}, nil
		}
	}
	q.Listed()
	result, err := h.Site.Compare(ctx, found, &q.Wanted, watch.Bytes)
	if err != nil {
		return nil, err
	}
	h.want, h.result, h.resultID = q.Entries, result, q.As
	return &Compared{Result: result}, nil
}

// compareNear compares a content that is here: nil where all of the site must be compared.
func compareNear(ctx context.Context, h *Here, q *Comparing, watch *site.Watch) (*Compared, error) {
	found, err := h.Survey(q.Survey)
	if err != nil {
		return nil, err
	}
	if !q.Tree.IsZero() {
		if result, same := h.SameAsRecorded(q, q.Paths()); same {
			return &Compared{Result: result}, nil
		}
	}
	if !h.Site.InParts(found, &q.Wanted) {
		return nil, nil
	}
	if q.Folders == nil && q.In == nil {
		q.DigestAll()
	}
	if q.In != nil {
		q.DigestMore(found.Outside(q.Since, q.In))
	}
	different, err := h.differing(ctx, found, q)
	if err == nil && q.In != nil && (different == nil || different.IsMuch()) {
		q.DigestAll()
		different, err = h.differing(ctx, found, q)
	}
	if err != nil || different == nil {
		return nil, err
	}
	some, err := treeparts.Entries(q.Of, different.Parts)
	if err != nil {
		return nil, err
	}
	own := *q
	own.Parts, own.InAll = different, q.Paths()
	if different.IsMuch() {
		if own.Entries, _, err = h.Site.Narrow(ctx, different, &q.Wanted, q.EachOf(some)); err != nil {
			return nil, err
		}
	} else {
		own.Entries = q.Some(some)
	}
	out, err := compareParts(ctx, h, &own, watch)
	if err != nil || out.Result == nil {
		return nil, err
	}
	return out, nil
}

// Differing finds the folders in which something else is wanted than is recorded, among those that a comparison has the digests of.
func (h *Here) differing(ctx context.Context, found *site.Survey, q *Comparing) (*site.Different, error) {
	return h.Site.Differing(ctx, found, &q.Wanted, treeparts.OfSite(q.Folders), q.In, treeparts.SameAs(q.Folders))
}

// compareEarlier compares with an earlier deployment. The result is nil where all of both must be compared.
func compareEarlier(ctx context.Context, h *Here, q *Comparing, watch *site.Watch) (*Compared, error) {
	found, err := h.Survey(q.Survey)
	if err != nil {
		return nil, err
	}
	earlier, different, err := h.Site.Earlier(ctx, found, q.Earlier, &q.Wanted)
	if err != nil || earlier == nil {
		return &Compared{}, err
	}
	own := *q
	own.Parts, own.InAll, own.Entries = different, earlier.Paths, earlier.Entries
	out, err := compareParts(ctx, h, &own, watch)
	if err == nil && out.Result != nil {
		out.Earlier = earlier
	}
	return out, err
}

func compareParts(ctx context.Context, h *Here, q *Comparing, watch *site.Watch) (*Compared, error) {
	found, err := h.Survey(q.Survey)
	if err != nil {
		return nil, err
	}
	parts, result, err := h.Site.CompareParts(ctx, found, q.Parts, &q.Wanted, q.InAll, watch.Bytes)
	if err != nil || parts == nil {
		return &Compared{}, err
	}
	h.parts, h.want, h.result, h.resultID = parts, q.Entries, result, q.As
	return &Compared{Result: result}, nil
}

func sized(ctx context.Context, h *Here, q Sizing, _ *site.Watch) ([]int64, error) {
	found, err := h.Survey(q.Survey)
	if err != nil {
		return nil, err
	}
	return h.Site.Sized(ctx, found, q.Sizes)
}

func held(ctx context.Context, h *Here, comparison ID, _ *site.Watch) ([]string, error) {
	_, result, err := h.comparison(ctx, comparison)
	if err != nil {
		return nil, err
	}
	return h.Site.Held(ctx, h.surveyed(), result)
}

func stage(ctx context.Context, h *Here, q *Staging, watch *site.Watch) (*site.Outcome, error) {
	want, result, err := h.comparison(ctx, q.Comparison)
	if err != nil {
		return nil, err
	}
	if err := h.release(ctx); err != nil {
		return nil, err
	}
	plan := q.Plan
	plan.Want, plan.Unlisted, plan.Survey, plan.Result = want, h.unlisted, h.surveyed(), result
	staged, err := h.Site.Stage(ctx, &plan, watch)
	if err != nil {
		return nil, err
	}
	h.staged, h.stagedID = staged, q.As
	return staged.Outcome, nil
}

// claimStaged gives what was staged, which is not known any more from then on; or ErrForgotten.
func (h *Here) claimStaged(id ID) (*site.Staged, error) {
	if h.staged == nil || id != h.stagedID {
		return nil, ErrForgotten
	}
	out := h.staged
	h.staged, h.survey = nil, nil // what was surveyed is of before
	h.forget()
	return out, nil
}

func publish(ctx context.Context, h *Here, id ID, watch *site.Watch) (*site.Outcome, error) {
	staged, err := h.claimStaged(id)
	if err != nil {
		return nil, err
	}
	return staged.Publish(ctx, watch)
}

func abandon(ctx context.Context, h *Here, id ID, _ *site.Watch) (None, error) {
	staged, err := h.claimStaged(id)
	if err != nil {
		return None{}, err
	}
	return None{}, staged.Abandon(ctx)
}

// release abandons what is staged.
func (h *Here) release(ctx context.Context) error {
	if h.staged == nil {
		return nil
	}
	staged := h.staged
	h.staged = nil
	return staged.Abandon(ctx)
}

// End abandons what was staged and neither published nor abandoned, so that the site is not locked any longer.
func (h *Here) End(ctx context.Context) error {
	h.turn.Lock()
	defer h.turn.Unlock()
	return h.release(ctx)
}
