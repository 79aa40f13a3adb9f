package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// SpaceError tells that the far end has too little room, in bytes or in files.
type SpaceError struct {
	Need, Free int64
	Files      bool
}

func (e *SpaceError) Error() string {
	if e.Files {
		return fmt.Sprintf("%d files are to be brought, and the far end has room for %d (inodes)", e.Need, e.Free)
	}
	return fmt.Sprintf("%d bytes are to be brought, and the far end has room for %d", e.Need, e.Free)
}

// checkSpace finds out, where the far end can tell, whether all will fit before anything is sent.
func (st *staging) checkSpace(ctx context.Context, missing []*parcel) error {
	var need int64
	for _, p := range missing {
		need += p.change.Want.Size - p.part
	}
	return st.hasSpace(ctx, need, int64(len(missing)))
}

// hasSpace finds out whether there is room for so many bytes and files.
func (st *staging) hasSpace(ctx context.Context, need, files int64) error {
	spacer, ok := st.site.fs.(fsys.Spacer)
	if !ok || files == 0 {
		return nil
	}
	free, err := spacer.FreeSpace(ctx)
	if errors.Is(err, farend.ErrLost) {
		return err
	}
	if err == nil && need > free.Bytes {
		return &SpaceError{Need: need, Free: free.Bytes}
	}
	if err == nil && free.Files >= 0 && files > free.Files {
		return &SpaceError{Need: files, Free: free.Files, Files: true}
	}
	return nil
}

// Only names that are long by some system's measure are worth a question (bytes).
const longName, longPath = 140, 900

// probeNames finds names that the far side cannot hold before anything is sent: looking one up fails in another way
// than for a name that is merely missing. Long elements are looked up at the top, since the folders above them may be
// missing too.
func (st *staging) probeNames(ctx context.Context) error {
	if err := st.probeSpelling(ctx); err != nil {
		return err
	}
	var lost error
	st.plan.Result.Each(func(c *diff.Change) bool {
		if c.Status != diff.New {
			return true
		}
		var probes []string
		if len(c.Path()) > longPath {
			probes = append(probes, c.Path())
		}
		for element := range strings.SplitSeq(c.Path(), "/") {
			if len(element) > longName {
				probes = append(probes, element)
			}
		}
		for _, probe := range probes {
			_, err := st.site.fs.Lstat(ctx, st.site.at(probe))
			if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
				lost = err
				return false
			}
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				st.fail(c.Path(), fmt.Errorf("the far side cannot hold a name of this length: %s", cause(err)))
				break
			}
		}
		return true
	})
	return lost
}

// spellingFolder is where names are tried, in the record.
const spellingFolder = "names"

// probeSpelling finds names that the far side would refuse or alter, before anything is sent, by making files with what
// is unusual about them.
func (st *staging) probeSpelling(ctx context.Context) error {
	s := st.site
	if !s.Abilities().OddNames {
		return nil
	}
	var fresh, elements []string
	seen := map[string]bool{}
	st.plan.Result.Each(func(c *diff.Change) bool {
		if c.Status != diff.New {
			return true
		}
		fresh = append(fresh, c.Path())
		for element := range strings.SplitSeq(c.Path(), "/") {
			if !seen[element] && !fsys.IsPlain(element) {
				elements = append(elements, element)
			}
			seen[element] = true
		}
		return true
	})
	if len(elements) == 0 {
		return nil
	}
	folder := s.inRecord(spellingFolder)
	if err := s.removeAll(ctx, folder); err != nil { // of a run that was killed
		return err
	}
	if err := s.fs.Mkdir(ctx, folder, s.private(0o700)); err != nil {
		return &RecordError{folder, err}
	}
	spelling, err := fsys.TrySpelling(ctx, s.fs, folder, elements)
	if err == nil {
		err = s.removeAll(ctx, folder)
	}
	if err != nil {
		return err
	}
	for _, path := range fresh {
		if why := spelling.Refuses(path); why != "" {
			st.fail(path, errors.New(why))
		}
	}
	return nil
}

// probeRemovals finds, where not everything can be removed, what could not be, before anything is sent.
func (st *staging) probeRemovals(ctx context.Context) error {
	remover, ok := st.site.fs.(fsys.Remover)
	if !ok || st.site.trees != "" {
		return nil
	}
	for i := range st.plan.Result.Changes {
		c := &st.plan.Result.Changes[i]
		goes := c.Want == nil && (c.Status != diff.Stray || st.plan.RemoveStrays) || c.Want != nil && c.Found != nil &&
			c.Want.Kind != c.Found.Kind
		if !goes {
			continue
		}
		if err := remover.CanRemove(ctx, st.site.at(c.Path())); err != nil {
			st.fail(c.Path(), err)
		}
	}
	return ctx.Err()
}

// probeRights finds, where the far end can tell, what may not be put in its folder, before anything is sent. A tree
// that is switched to is made anew, in folders of its own.
func (st *staging) probeRights(ctx context.Context) error {
	if err := st.probeRemovals(ctx); err != nil {
		return err
	}
	prober, ok := st.site.fs.(fsys.Prober)
	if !ok || st.site.trees != "" {
		return nil
	}
	stands := map[string]bool{".": true}
	for i := range st.plan.Survey.Found {
		if f := &st.plan.Survey.Found[i]; f.Kind == manifest.Dir {
			stands[f.Path] = true
		}
	}
	answers := map[string]error{}
	for i := range st.plan.Result.Changes {
		c := &st.plan.Result.Changes[i]
		if c.Status == diff.Stray || c.ModeOnly {
			continue
		}
		dir, _ := fsys.Split(c.Path())
		for !stands[dir] { // it is made in the one above
			dir, _ = fsys.Split(dir)
		}
		err, asked := answers[dir]
		if !asked {
			err = prober.Writable(ctx, st.site.at(dir))
			answers[dir] = err
		}
		switch {
		case errors.Is(err, fsys.ErrMount):
			st.fail(c.Path(), fmt.Errorf("its folder cannot be published into: %w; exclude it here, and make it a target of its own", err))
		case err != nil:
			st.fail(c.Path(), fmt.Errorf("its folder may not be written to: %s", cause(err)))
		}
	}
	return ctx.Err()
}
