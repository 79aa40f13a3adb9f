package packed

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tartine/internal/archive"
	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/fsys/archivefs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Site is the engine of a site that is an archive on this machine. A deployment writes it anew and replaces it in one
// step. There is no record beside it, and so no history: an archive that was written here says which tree it holds, and
// as long as it does, all in it counts as deployed, also what a person put there by hand. What is in any other archive
// counts as put there by somebody else.
//
// Nothing is locked: of two deployments at once the later one's archive is there in the end, whole.
type Site struct {
	*calls.Here // for everything that only reads
	name        string
	form        Form
	packed      *content.Packed
	listing     *archive.Listing // nil: there is no archive
	reader      *archive.Reader
	found       []diff.Found
	recorded    []manifest.Entry // what was found, in an archive that is as it was written; nil: it is another

	result *diff.Result
	id     calls.ID // of the comparison
	staged *staged
}

// staged is a new archive that is whole and not yet in its place.
type staged struct {
	id      calls.ID
	file    string
	outcome *site.Outcome
}

// ErrNoHistory tells that something needs a record, which an archive does not have.
var ErrNoHistory = errors.New("an archive keeps no history")

// ErrWiped tells that an archive is not emptied.
var ErrWiped = errors.New("an archive is not emptied: it is one file")

// ErrInPlace tells that something is at the place of an archive, and is none.
var ErrInPlace = errors.New("what is there is not an archive that could be replaced")

// Open opens the archive, or the place where one will be. Without a cache all of it is read.
func Open(ctx context.Context, name string, form Form, cache *content.Cache, dir string) (*Site, error) {
	s := &Site{name: name, form: form, packed: &content.Packed{Name: name, Inside: ".", Cache: cache, Dir: dir}}
	return s, s.look(ctx)
}

// look lists the archive as it is now.
func (s *Site) look(ctx context.Context) error {
	comment := ""
	if from, says := ofImage(s.name, s.packed.Dir); from != nil {
		comment, s.packed.Opened, s.packed.Identify = says, from.Unpack, from.Identify
	}
	listing, reader, err := s.packed.List(ctx)
	if err == nil && comment != "" {
		own := *listing
		own.Comment = comment
		listing = &own
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		listing, reader = nil, nil
	case err != nil && ctx.Err() == nil:
		return fmt.Errorf("%s: %w: %w", s.name, ErrInPlace, err)
	case err != nil:
		return err
	}
	s.listing, s.reader, s.found, s.recorded = listing, reader, nil, nil
	if listing != nil {
		s.found = found(listing)
		entries := Entries(listing)
		if tree := treeOf(listing.Comment); !tree.IsZero() && (&manifest.Manifest{Entries: entries}).Tree() == tree {
			s.recorded = entries
		}
	}
	files := archivefs.New(listing, reader)
	opened, err := site.Open(ctx, files, archivefs.Root, s.name, site.Options{})
	if err != nil {
		return err
	}
	s.Here = calls.NewHere(opened)
	return nil
}

// Close closes the archive, and removes what was staged.
func (s *Site) Close() error {
	s.drop()
	s.packed.Close()
	return nil
}

// Abilities implements calls.Engine.
func (s *Site) Abilities() fsys.Abilities {
	able := archivefs.New(nil, nil).Abilities()
	able.OneLine = false
	return able
}

// Do implements calls.Engine.
func (s *Site) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) (err error) {
	if watch == nil {
		watch = &site.Watch{}
	}
	switch call {
	case calls.Any(calls.Survey):
		if err = s.look(ctx); err == nil {
			*answer.(*site.Summary) = s.summary()
		}
	case calls.Any(calls.Compare):
		if question.(*calls.Comparing).Earlier > 0 {
			return ErrNoHistory
		}
		*answer.(**calls.Compared) = &calls.Compared{Result: s.compare(question.(*calls.Comparing))}
	case calls.Any(calls.Held):
	case calls.Any(calls.Affirm): // nothing is recorded that could be made surer
	case calls.Any(calls.Stage):
		*answer.(**site.Outcome), err = s.stage(ctx, question.(*calls.Staging), watch)
	case calls.Any(calls.Publish):
		*answer.(**site.Outcome), err = s.publish(question.(calls.ID), watch)
	case calls.Any(calls.Abandon):
		s.drop()
	case calls.Any(calls.Verify):
		*answer.(**site.Report), err = s.verify(ctx, question.(calls.Verifying), watch)
	case calls.Any(calls.Examine):
		*answer.(*[]site.Check) = s.examine()
	case calls.Any(calls.Current):
		now := &site.Current{}
		if s.recorded != nil {
			now.Number, now.Count, now.Entries = 1, len(s.recorded), manifest.Fold(s.recorded)
		}
		*answer.(**site.Current) = now
	case calls.Any(calls.Deployment):
		err = ErrNoHistory
		if s.recorded != nil && question.(int) == 1 {
			*answer.(**manifest.Manifest), err = &manifest.Manifest{Entries: s.recorded}, nil
		}
	case calls.Any(calls.Between):
		err = ErrNoHistory
		if q := question.(calls.Steps); s.recorded != nil && q.From == 0 && q.To == 1 {
			*answer.(**site.Between), err = &site.Between{After: s.recorded}, nil
		}
	case calls.Any(calls.History), calls.Any(calls.Recover), calls.Any(calls.GiveUp), calls.Any(calls.Unlock):
		err = ErrNoHistory
	case calls.Any(calls.Wipe):
		err = ErrWiped
	default:
		return s.Here.Do(ctx, call, question, answer, watch)
	}
	return err
}

func (s *Site) summary() site.Summary {
	out := site.Summary{Anything: len(s.found) > 0}
	if s.recorded != nil {
		out.Number, out.Paths = 1, len(s.recorded)
	}
	if s.listing != nil {
		for i := range s.listing.Entries {
			if path := s.listing.Entries[i].Path; manifest.CheckPath(path) != nil {
				out.Odd = append(out.Odd, fmt.Sprintf("%q", path))
			}
		}
	}
	return out
}

func (s *Site) compare(q *calls.Comparing) *diff.Result {
	rule := q.Rule
	rule.Modes, rule.Times, rule.TimeStep = true, false, time.Second // everything in an archive has one time
	s.result = diff.Compare(q.Listed(), s.found, s.recorded, rule, site.Keeping(q.Kept, q.Gone))
	s.id = q.As
	if s.recorded == nil && s.listing != nil { // it does not say what it holds, or not truly
		s.result.Stale = true
	}
	return s.result
}

// stage writes the new archive beside the one that is there, and reads it again.
func (s *Site) stage(ctx context.Context, q *calls.Staging, watch *site.Watch) (*site.Outcome, error) {
	if s.result == nil || q.Comparison != s.id {
		return nil, calls.ErrForgotten
	}
	s.drop()
	out := &site.Outcome{}
	q.Listed()
	entries, open, all := s.whole(&q.Plan)
	files, bytes := sizes(entries)
	if watch.Phase != nil {
		watch.Phase("stage", files, bytes)
	}
	if q.Incomplete && !q.Partial {
		s.staged = &staged{id: q.As, outcome: out}
		return out, nil
	}
	if q.MakeParents {
		if err := os.MkdirAll(filepath.Dir(s.name), 0o755); err != nil {
			return nil, err
		}
	}
	file := filepath.Join(filepath.Dir(s.name), ".tartine-"+rand.Text())
	tree := manifest.Digest{}
	if all {
		tree = (&manifest.Manifest{Entries: entries}).Tree()
	}
	_, err := s.form.WriteFile(ctx, file, entries, open, tree, watch)
	var failed *FileError
	if errors.As(err, &failed) {
		out.Failed = []site.Failure{{Path: failed.Path, Err: failed.Err}}
		s.staged = &staged{id: q.As, outcome: out}
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	out.SentFiles, out.SentBytes = files, bytes
	out.Verified, out.Method = true, site.ReadBack
	s.staged = &staged{q.As, file, out}
	return out, nil
}

// whole gives what will be in the archive, and what opens it. All tells that it is the content, and nothing else.
func (s *Site) whole(plan *site.Plan) (entries []manifest.Entry, open Opener, all bool) {
	old, held := map[string]*archive.Entry{}, map[manifest.Digest]*archive.Entry{}
	stays, keep := []manifest.Entry{}, site.Keeping(plan.Kept, plan.Gone)
	for i := range s.found {
		f := &s.found[i]
		if _, wanted := manifest.Find(plan.Want, f.Path); wanted || f.Other != 0 || f.Filled && f.Plain() {
			continue
		}
		_, known := manifest.Find(s.recorded, f.Path)
		if keep != nil && keep(f.Path) || !known && !plan.RemoveStrays {
			stays = append(stays, *f.Entry)
		}
	}
	if s.listing != nil {
		for i := range s.listing.Entries {
			e := &s.listing.Entries[i]
			old[e.Path], held[e.Digest] = e, e
		}
	}
	entries = append(slices.Clone(plan.Want), stays...)
	slices.SortFunc(entries, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	return entries, func(path string) (io.ReadCloser, error) {
		at, wanted := manifest.Find(plan.Want, path)
		e := old[path]
		switch {
		case wanted && plan.Open != nil:
			return plan.Open(path)
		case wanted: // it is there already, perhaps under another name
			e = held[plan.Want[at].Digest]
		}
		if e == nil {
			return nil, fs.ErrNotExist
		}
		return s.reader.Open(e)
	}, len(stays) == 0
}

// publish gives the new archive its name.
func (s *Site) publish(id calls.ID, watch *site.Watch) (*site.Outcome, error) {
	if s.staged == nil || s.staged.id != id {
		return nil, calls.ErrForgotten
	}
	out := s.staged.outcome
	defer s.drop()
	if s.staged.file == "" { // something failed
		return out, nil
	}
	if watch.Phase != nil {
		watch.Phase("publish", 1, 0)
	}
	if err := place(s.staged.file, s.name); err != nil {
		return nil, err
	}
	s.staged.file, out.Number = "", 1
	return out, nil
}

func (s *Site) drop() {
	if s.staged != nil && s.staged.file != "" {
		_ = os.Remove(s.staged.file) // it is in nobody's way
	}
	s.staged = nil
}

// verify reads the archive again, and compares it with a manifest, or with what it says of itself.
func (s *Site) verify(ctx context.Context, q calls.Verifying, watch *site.Watch) (*site.Report, error) {
	if s.listing == nil {
		return nil, &site.RootError{Root: s.name, Reason: "does not exist", Err: fs.ErrNotExist}
	}
	if !q.Recorded {
		var out *site.Report
		return out, s.Here.Do(ctx, calls.Verify, q, &out, watch)
	}
	switch tree := treeOf(s.listing.Comment); {
	case tree.IsZero():
		return nil, ErrNoTree
	case s.recorded == nil:
		return nil, &TreeError{Says: tree, Has: (&manifest.Manifest{Entries: Entries(s.listing)}).Tree()}
	}
	q = calls.VerifyingAgainst(&manifest.Manifest{Entries: s.recorded}, true)
	var out *site.Report
	return out, s.Here.Do(ctx, calls.Verify, q, &out, watch)
}

// ErrNoTree tells that an archive does not say what it should hold.
var ErrNoTree = errors.New("the archive does not say what it should hold")

// TreeError tells that an archive does not hold what it says.
type TreeError struct{ Says, Has manifest.Digest }

func (e *TreeError) Error() string {
	return fmt.Sprintf("the archive says that it holds the tree %s, and holds %s", e.Says, e.Has)
}

// examine tries what a deployment needs.
func (s *Site) examine() []site.Check {
	check := site.Check{Name: "archive", Verdict: site.Good, Found: "it does not exist yet"}
	if s.listing != nil {
		check.Found = fmt.Sprintf("%s of %d entries", s.listing.Format, len(s.listing.Entries))
		if s.recorded == nil {
			check.Found += ", not written by this program"
		}
	}
	folder := site.Check{Name: "folder", Verdict: site.Good, Found: "a file can be written beside it"}
	file, err := os.CreateTemp(filepath.Dir(s.name), ".tartine-*")
	if err != nil {
		folder.Verdict, folder.Found = site.Wrong, err.Error()
		folder.Fix = "make the folder, or get the right to write in it"
		return []site.Check{check, folder}
	}
	_ = errors.Join(file.Close(), os.Remove(file.Name())) // it held nothing
	return []site.Check{check, folder}
}
