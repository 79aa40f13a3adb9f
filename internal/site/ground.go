package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// A place follows links on the way to a name. So before anything is done below a folder of the site or of the record,
// each folder on the way is looked at: it must be a folder itself, and not a link to one. Else a step could reach what
// does not belong to the site, or, when it is done again, another part of the site than the one that was meant.

// ground is which folders were found to be real before the steps of one phase.
type ground struct {
	site   *Site
	folder map[string]error // by name in fs; nil: it is real
}

// errNoFolder tells that something on the way to a name is not a folder.
var errNoFolder = errors.New("not a folder")

// lookAtGround looks at the folders above names, those above others first.
func (s *Site) lookAtGround(ctx context.Context, names iter.Seq[string]) (*ground, error) {
	g := &ground{s, map[string]error{}}
	var levels [][]string
	for name := range names {
		top := s.topOf(name)
		for dir, _ := fsys.Split(name); ; dir, _ = fsys.Split(dir) {
			if _, known := g.folder[dir]; known {
				break
			}
			dir = strings.Clone(dir) // of a longer text
			g.folder[dir] = nil
			depth := 0
			if dir != "." {
				depth = 1 + strings.Count(dir, "/")
			}
			for len(levels) <= depth {
				levels = append(levels, nil)
			}
			levels[depth] = append(levels[depth], dir)
			if dir == top || dir == "." {
				break
			}
		}
	}
	for _, level := range levels {
		if err := g.lookAt(ctx, level); err != nil {
			return nil, err
		}
	}
	return g, nil
}

// lookAt looks at folders of one depth.
func (g *ground) lookAt(ctx context.Context, level []string) error {
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(g.site.jobs)
	for _, dir := range level {
		above, _ := fsys.Split(dir)
		mu.Lock()
		blocked := g.folder[above] // of a top: not known, so nil
		if blocked != nil {
			g.folder[dir] = blocked
		}
		mu.Unlock()
		if blocked != nil {
			continue
		}
		group.Go(func() error {
			info, err := g.site.fs.Lstat(ctx, dir)
			switch {
			case errors.Is(err, farend.ErrLost) || ctx.Err() != nil:
				return errors.Join(err, ctx.Err())
			case err == nil && info.Mode.IsDir():
				return nil
			case err == nil:
				err = &fs.PathError{Op: "enter", Path: dir, Err: fmt.Errorf("it is %s: %w", kindOf(info.Mode),
					errNoFolder)}
			}
			mu.Lock()
			defer mu.Unlock()
			g.folder[dir] = err
			return nil
		})
	}
	return group.Wait()
}

func kindOf(mode fs.FileMode) string {
	switch mode.Type() {
	case 0:
		return "a file"
	case fs.ModeDir:
		return "a folder"
	case fs.ModeSymlink:
		return "a link"
	}
	return "a device, pipe or socket"
}

// topOf gives the folder from which on a name belongs to the site or to its record. What is above belongs to others.
func (s *Site) topOf(name string) string {
	for _, top := range []string{s.record, s.trees, s.live} {
		if top != "" && (name == top || strings.HasPrefix(name, top+"/")) {
			return top
		}
	}
	return "."
}

// under tells why nothing can be done below the folder of a name; nil: it is real.
func (g *ground) under(name string) error {
	dir, _ := fsys.Split(name)
	return g.folder[dir]
}

// gone tells whether an error of under means that nothing can be at the name: a folder on the way is missing, or is
// no folder any more.
func gone(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, errNoFolder) }
