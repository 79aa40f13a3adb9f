package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// UnfinishedError tells that a publish that was interrupted cannot be finished, because steps of it fail.
type UnfinishedError struct {
	Number int       // of its deployment
	Failed []Failure // sorted by path; each error is a *StepError
}

func (e *UnfinishedError) Error() string {
	text := fmt.Sprintf("the interrupted publish of deployment %d cannot be finished", e.Number)
	if len(e.Failed) > 0 {
		text += ": " + e.Failed[0].Error()
	}
	return text
}

// Unfinished tells whether there is something to recover: a publish was interrupted or is under way, or somebody died
// who holds the lock.
func (s *Site) Unfinished(ctx context.Context) (bool, error) {
	if s.record == "" {
		return false, nil
	}
	if interrupted, err := s.interrupted(ctx); interrupted || err != nil {
		return interrupted, err
	}
	holder, err := s.Locked(ctx)
	if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
		return false, err
	}
	return holder != nil && holder.diedHere(), nil
}

// interrupted tells whether there is a journal, or the note of a wipe.
func (s *Site) interrupted(ctx context.Context) (bool, error) {
	if s.record == "" {
		return false, nil
	}
	for _, name := range []string{journalName, wipeName} {
		if _, err := s.fs.Lstat(ctx, s.inRecord(name)); err == nil || !errors.Is(err, fs.ErrNotExist) {
			return err == nil, err
		}
	}
	return false, nil
}

// Recover finishes a publish that was interrupted, if there is one, and tells its number; 0: there was none, or it only
// had something left to remove. Its error may be an *UnfinishedError.
func (s *Site) Recover(ctx context.Context, user string) (int, error) {
	if s.record == "" {
		return 0, nil
	}
	ctx, release, err := s.lock(ctx, user)
	if err != nil {
		return 0, err
	}
	defer release()
	number, err := s.recoverLocked(context.WithoutCancel(ctx))
	return number, lostLock(ctx, err)
}

// recoverLocked finishes a wipe, or what a journal holds.
func (s *Site) recoverLocked(ctx context.Context) (int, error) {
	if err := s.finishWipe(ctx); err != nil {
		return 0, err
	}
	j, err := s.readJournal(ctx)
	if err != nil || j == nil {
		return 0, err
	}
	if j.Done {
		return 0, s.clearUp(ctx, j)
	}
	if err := s.makeShelvesFor(ctx, j); err != nil {
		return 0, err
	}
	live := s.live
	if j.Tree != "" {
		s.live = j.Tree
	}
	p := &publish{site: s, plan: &Plan{}, number: j.Number, phases: j.Phases, undone: map[string]bool{},
		recovering: true}
	err = p.doAll(ctx, &Watch{}, false)
	if failed := p.blocking(); err == nil && len(failed) > 0 {
		slices.SortFunc(failed, func(a, b Failure) int { return strings.Compare(a.Path, b.Path) })
		err = &UnfinishedError{j.Number, failed}
	}
	if err != nil {
		s.live = live
		return 0, err
	}
	s.exists = true
	if len(p.failed) > 0 { // what was staged for these paths is gone: they are not what the deployment recorded
		if err := s.forget(ctx, j.Number, p.undone); err != nil {
			return 0, err
		}
	}
	return j.Number, s.complete(ctx, j)
}

// makeShelvesFor makes the folders of the record that a journal needs, should somebody have removed them.
func (s *Site) makeShelvesFor(ctx context.Context, j *journal) error {
	if err := s.makeParts(ctx); err != nil {
		return err
	}
	var keeps []string
	for _, phase := range j.Phases {
		for i := range phase {
			if phase[i].Keep != "" {
				keeps = append(keeps, phase[i].Keep)
			}
		}
	}
	return s.makeShelves(ctx, slices.Values(keeps))
}

// forget takes paths out of what a deployment recorded.
func (s *Site) forget(ctx context.Context, number int, paths map[string]bool) error {
	m, err := s.recordedAs(ctx, number)
	if err != nil {
		return err
	}
	m.Entries = slices.DeleteFunc(m.Entries, func(e manifest.Entry) bool { return paths[e.Path] })
	m.Deployment.Partial = true
	return s.writeManifest(ctx, m, &recording{walk: manifest.Listed(m.Entries)}, nil)
}

// GivenUp is what is there after an unfinished publish was given up. The paths are those that the publish was to
// change, sorted.
type GivenUp struct {
	Number  int  // of the deployment that was given up
	Stands  int  // the current deployment; with paths of Reached it is the one that was given up, in part
	Undone  bool // nothing of it is to be seen
	Reached []string
	Before  []string // as they were before, or still missing
	Other   []string // neither: somebody altered them, or they were being changed
}

// GiveUp ends a publish that was interrupted without finishing it, and records what is there now. What is staged stays.
// It gives nil where nothing is unfinished.
func (s *Site) GiveUp(ctx context.Context, user string) (*GivenUp, error) {
	if s.record == "" {
		return nil, nil
	}
	ctx, release, err := s.lock(ctx, user)
	if err != nil {
		return nil, err
	}
	defer release()
	out, err := s.giveUpLocked(context.WithoutCancel(ctx))
	return out, lostLock(ctx, err)
}

func (s *Site) giveUpLocked(ctx context.Context) (*GivenUp, error) {
	j, err := s.readJournal(ctx)
	if err != nil || j == nil {
		return nil, err
	}
	standing, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	out := &GivenUp{Number: j.Number, Stands: standing}
	switch {
	case j.Done:
		out.Stands = j.Number
		return out, s.clearUp(ctx, j)
	case j.Tree != "" && s.live != j.Tree:
		out.Undone = true
		if err := s.removeAll(ctx, j.Tree); err != nil {
			return nil, err
		}
		return out, s.dropDeployment(ctx, j.Number)
	case !s.exists:
		out.Undone = true
		return out, s.dropDeployment(ctx, j.Number)
	}
	m, err := s.whatStands(ctx, j, standing, out)
	if err != nil {
		return nil, err
	}
	if err := s.writeManifest(ctx, m, &recording{walk: manifest.Listed(m.Entries)}, nil); err != nil {
		return nil, err
	}
	out.Stands = j.Number
	j.Staged = true
	return out, s.complete(ctx, j)
}

// dropDeployment forgets a deployment of which nothing is to be seen, and its journal first: the rest means nothing
// without it.
func (s *Site) dropDeployment(ctx context.Context, number int) error {
	if err := s.endJournal(ctx); err != nil {
		return err
	}
	return s.discard(ctx, []string{deploymentFile(number), blocksFile(number), keptFile(number),
		fmt.Sprintf("deployments/%d.%s", number, handSuffix)})
}

// whatStands gives the manifest of what an unfinished publish has left: each path that it was to change as it is, if
// that is as the deployment wanted it or as it was recorded before.
func (s *Site) whatStands(ctx context.Context, j *journal, standing int, out *GivenUp) (*manifest.Manifest, error) {
	m, err := s.recordedAs(ctx, j.Number)
	if err != nil {
		return nil, err
	}
	earlier, err := s.recordedAs(ctx, standing)
	if err != nil {
		return nil, err
	}
	wanted, before := byPath(m.Entries), map[string]*manifest.Entry{}
	if earlier != nil {
		before = byPath(earlier.Entries)
	}
	touched := map[string]bool{}
	for _, phase := range j.Phases {
		for _, st := range phase {
			touched[st.Path] = true
		}
	}
	if touched["."] { // a whole tree appeared
		for path := range wanted {
			touched[path] = true
		}
	}
	found, err := s.foundAt(ctx, touched)
	if err != nil {
		return nil, err
	}
	entries := slices.DeleteFunc(slices.Clone(m.Entries), func(e manifest.Entry) bool { return touched[e.Path] })
	for path := range touched {
		if path == "." {
			continue
		}
		stands, want, was := found[path], wanted[path], before[path]
		switch {
		case s.same(stands, want):
			out.Reached = append(out.Reached, path)
		case s.same(stands, was):
			out.Before = append(out.Before, path)
			want = was
		default:
			out.Other = append(out.Other, path)
			want = was
		}
		if want != nil {
			entries = append(entries, *want)
		}
	}
	for _, list := range [][]string{out.Reached, out.Before, out.Other} {
		slices.Sort(list)
	}
	slices.SortFunc(entries, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	m.Entries, m.Deployment.Partial = consistent(entries), true
	return m, nil
}

// consistent leaves out what lies below a file or link of the same list: of two deployments that are mixed one may have
// had a folder where the other has a file.
func consistent(entries []manifest.Entry) []manifest.Entry {
	leaves := map[string]bool{}
	out := entries[:0]
	for _, e := range entries {
		below := false
		for dir, _ := fsys.Split(e.Path); dir != "."; dir, _ = fsys.Split(dir) {
			below = below || leaves[dir]
		}
		if below {
			continue
		}
		if e.Kind != manifest.Dir {
			leaves[e.Path] = true
		}
		out = append(out, e)
	}
	// An empty folder has an entry only while it is empty, unless its mode is another than usual.
	filled := map[string]bool{}
	for _, e := range out {
		dir, _ := fsys.Split(e.Path)
		filled[dir] = true
	}
	return slices.DeleteFunc(out, func(e manifest.Entry) bool {
		return e.Plain() && filled[e.Path]
	})
}

// foundAt describes what is at paths, with the digests of files. What cannot be looked at is left out.
func (s *Site) foundAt(ctx context.Context, paths map[string]bool) (map[string]*manifest.Entry, error) {
	survey := &Survey{}
	if err := s.walk(ctx, survey, nothingKnown); err != nil {
		return nil, err
	}
	out := map[string]*manifest.Entry{}
	var (
		names []string
		files []*manifest.Entry
	)
	for i := range survey.Found {
		f := &survey.Found[i]
		if !paths[f.Path] || f.Other != 0 {
			continue
		}
		out[f.Path] = f.Entry
		if f.Kind == manifest.File {
			names, files = append(names, s.at(f.Path)), append(files, f.Entry)
		}
	}
	var mu sync.Mutex
	_, err := fsys.Digests(ctx, s.fs, names, s.jobs, func(i int, digest manifest.Digest, err error) {
		mu.Lock()
		defer mu.Unlock()
		if err == nil {
			files[i].Digest = digest
		}
	})
	return out, err
}

// same tells whether what is there is what an entry says; nil stands for nothing.
func (s *Site) same(stands, e *manifest.Entry) bool {
	switch {
	case stands == nil || e == nil:
		return stands == nil && e == nil
	case stands.Kind != e.Kind:
		return false
	case e.Kind == manifest.Link:
		return stands.Link == e.Link
	case s.Abilities().Modes && stands.Mode != e.Mode:
		return false
	}
	return e.Kind == manifest.Dir || stands.Digest == e.Digest
}

func byPath(entries []manifest.Entry) map[string]*manifest.Entry {
	out := make(map[string]*manifest.Entry, len(entries))
	for i := range entries {
		out[entries[i].Path] = &entries[i]
	}
	return out
}
