package deploy

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Adoption is what was changed at a site other than by a deployment of the content, and where it goes on this machine.
type Adoption struct {
	Taken []Adopted      // sorted by path
	Left  []AdoptionLeft // likewise: what has no home here
}

// Adopted is one path that goes home.
type Adopted struct {
	*diff.Change
	Home *content.Home
	Word string // drifted, stray, sent by hand, or removed by hand
	// Entry is what is there now; nil: it is gone there, and goes here.
	Entry *manifest.Entry
	// Newer tells that the source was changed, too, since the last deployment, or has something that none deployed.
	Newer bool
}

// AdoptionLeft is a path that stays as it is here, and why.
type AdoptionLeft struct {
	Path   string
	Status string
	Reason string
}

// adoptable gives the word for what no deployment of the content made of a path; empty: one did.
func adoptable(c *diff.Change) string {
	switch {
	case c.Hand:
		return "sent by hand"
	case c.Drifted:
		return "drifted"
	case c.Status == diff.Stray, c.Foreign && c.Found != nil:
		return "stray"
	}
	return ""
}

// Adopt finds what was changed at a site since it was compared with a content, below some paths; none: all of it.
func Adopt(ctx context.Context, engine calls.Engine, c *Comparison, tree *content.Tree, opt content.Options, paths []string) (*Adoption, error) {
	out := &Adoption{}
	before, err := lastOfContent(ctx, engine, c)
	if err != nil {
		return nil, err
	}
	var wanted []string
	for i := range c.Result.Changes {
		change := &c.Result.Changes[i]
		word := adoptable(change)
		if word == "" && change.Status == diff.New && before.has(change.Path()) {
			word = removedByHand
		}
		if word == "" || !isBelow(change.Path(), paths) || change.Found != nil && change.Found.Kind == manifest.Dir && change.Found.Filled {
			continue
		}
		if change.Found == nil && change.Want == nil {
			continue // gone at both
		}
		left := func(reason string) {
			out.Left = append(out.Left, AdoptionLeft{change.Path(), word, reason})
		}
		if change.Found != nil && change.Found.Other != 0 {
			left("it is neither a file nor a folder nor a link")
			continue
		}
		if change.Found != nil && change.Found.Kind == manifest.Link && manifest.LeadsOut(change.Path(), manifest.LinksOf(map[string]string{change.Path(): change.Found.Link})) {
			left("it is a link that leads out of the site")
			continue
		}
		home, err := tree.Home(change.Path(), change.Found != nil && change.Found.Kind == manifest.Dir, opt)
		if err != nil {
			left(err.Error())
			continue
		}
		if change.ModeOnly && home.Mode(change.Found.Mode) == change.Want.Mode {
			left(fmt.Sprintf("its mode alone differs, %04o, which sources do not have unless modes: keep is set", change.Found.Mode.Perm()))
			continue
		}
		if change.Found != nil {
			wanted = append(wanted, change.Path())
		}
		out.Taken = append(out.Taken, Adopted{Change: change, Home: home, Word: word, Newer: change.Want != nil && !before.had(change.Want)})
	}
	return out, out.lookAt(ctx, engine, wanted)
}

// removedByHand is the word for what a person removed or moved away there.
const removedByHand = "removed by hand"

// earlier is the last deployment that was not made by hand; nil: none is recorded any more.
type earlier struct{ *manifest.Manifest }

// lastOfContent reads it where there is something to compare with it.
func lastOfContent(ctx context.Context, engine calls.Engine, c *Comparison) (*earlier, error) {
	if c.Survey.Number == 0 || len(c.Result.Changes) == 0 {
		return &earlier{}, nil
	}
	past, err := calls.History.On(ctx, engine, calls.None{})
	if err != nil {
		return nil, err
	}
	for i := range past {
		if !past[i].Hand {
			m, err := calls.Deployment.On(ctx, engine, past[i].Number)
			return &earlier{m}, err
		}
	}
	return &earlier{}, nil
}

func (e *earlier) has(path string) bool {
	if e.Manifest == nil {
		return false
	}
	_, found := manifest.Find(e.Entries, path)
	return found
}

// had tells whether it deployed just this.
func (e *earlier) had(want *manifest.Entry) bool {
	if e.Manifest == nil {
		return false
	}
	at, found := manifest.Find(e.Entries, want.Path)
	return found && e.Entries[at].Equal(*want)
}

func isBelow(path string, paths []string) bool {
	return len(paths) == 0 || slices.ContainsFunc(paths, func(p string) bool {
		return fsys.Contains(p, path)
	})
}

// lookAt finds out what is at the site now, by its bytes.
func (a *Adoption) lookAt(ctx context.Context, engine calls.Engine, paths []string) error {
	if len(paths) == 0 {
		return nil
	}
	there, err := calls.Stands.On(ctx, engine, paths)
	if err != nil {
		return err
	}
	entries := there.Entries.Entries()
	kept := a.Taken[:0]
	for _, t := range a.Taken {
		if t.Found == nil {
			kept = append(kept, t)
			continue
		}
		if i, found := manifest.Find(entries, t.Path()); found {
			t.Entry = &entries[i]
			kept = append(kept, t)
			continue
		}
		reason := "it cannot be read at the site"
		for _, f := range there.Left {
			if f.Path == t.Path() {
				reason = f.Err.Error()
			}
		}
		a.Left = append(a.Left, AdoptionLeft{t.Path(), t.Word, reason})
	}
	a.Taken = kept
	return nil
}

// take writes one path into its source. Open reads files of the site; folders are those that are there.
func (a *Adopted) take(ctx context.Context, open func(ctx context.Context, path string) (io.ReadCloser, error), folders map[string]bool) error {
	if a.Entry == nil {
		return a.Home.Drop(a.Path(), func(folder string) bool { return folders[folder] })
	}
	return a.Home.Take(ctx, a.Entry, func() (io.ReadCloser, error) { return open(ctx, a.Path()) })
}

// Run writes everything into the sources and gives what could not be. Its error is that of the connection or the context.
func (a *Adoption) Run(ctx context.Context, open func(ctx context.Context, path string) (io.ReadCloser, error)) (done []Adopted, left []AdoptionLeft, err error) {
	folders := map[string]bool{}
	for i := range a.Taken {
		if e := a.Taken[i].Entry; e != nil && e.Kind == manifest.Dir {
			folders[e.Path] = true
		}
	}
	for i := range a.Taken {
		t := &a.Taken[i]
		err := t.take(ctx, open, folders)
		switch {
		case err == nil:
			done = append(done, *t)
		case ctx.Err() != nil:
			return done, left, ctx.Err()
		case errors.Is(err, farend.ErrLost):
			return done, left, fmt.Errorf("%s: %w", t.Path(), err)
		default:
			left = append(left, AdoptionLeft{t.Path(), t.Word, err.Error()})
		}
	}
	return done, left, nil
}
