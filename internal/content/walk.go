package content

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"tartine/internal/filter"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// walker collects what one source brings. Folders are read at the same time, as many as there are jobs.
type walker struct {
	source *Source
	index  int32
	opt    *Options
	at     origin
	single bool
	group  *errgroup.Group

	gathering *gathering

	mu       sync.Mutex
	leftOut  []LeftOut
	failed   []Failure
	refused  []Failure
	findings []Finding
}

// haul is what one folder brings. It is handed over whole, so that readers of different folders seldom meet.
type haul struct {
	found    []found
	leftOut  []LeftOut
	failed   []Failure
	refused  []Failure
	findings []Finding
	folders  []descent // that it is walked on to
}

func (w *walker) merge(h *haul) {
	w.gathering.take(h.found)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.leftOut = append(w.leftOut, h.leftOut...)
	w.failed = append(w.failed, h.failed...)
	w.refused = append(w.refused, h.refused...)
	w.findings = append(w.findings, h.findings...)
}

// descent is one descent on the way down.
type descent struct {
	local    string // at the origin of the source
	relative string // to the source; "." is the source itself
	mode     fs.FileMode
	decision filter.Decision
	chain    *ancestor // followed links only
}

// ancestor is a folder that the walk is inside of; a followed link must not lead back to one.
type ancestor struct {
	info  fs.FileInfo
	above *ancestor
}

func (w *walker) walk(ctx context.Context) error {
	at, name := w.source.origin()
	w.at = at
	if file := w.source.OnDisk(); w.opt.memory != nil && file != "" { // a source may go, and come again
		w.opt.memory.enter(filepath.Dir(filepath.Clean(file)))
	}
	info, err := at.stat(name)
	if err != nil {
		var inner *fs.PathError
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return &SourceError{w.source.Path, err}
	}
	switch {
	case info.Mode().IsRegular():
		w.single = true
		w.walkFile(info)
		return nil
	case !info.IsDir():
		return &SourceError{w.source.Path, fmt.Errorf("it is a %s, neither a folder nor a file", kindOf(info.Mode()))}
	}
	if w.source.Name != "" {
		return &SourceError{w.source.Path, errors.New(`it is a folder: "name" is for single files`)}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(w.opt.Jobs)
	w.group = group
	top := descent{name, ".", info.Mode(), w.source.Rules.Root(), &ancestor{info: info}}
	group.Go(func() error { return w.walkFolder(ctx, top) })
	return group.Wait()
}

// memory gives what was read of folders on the disk before; nil: nothing is kept.
func (w *walker) memory() *Watching {
	if w.source.isListed() {
		return nil
	}
	return w.opt.memory
}

// walkFile takes a source that is a single file.
func (w *walker) walkFile(info fs.FileInfo) {
	if w.source.Name == "" {
		w.source.Name = filepath.Base(w.source.Path)
	}
	var h haul
	if w.decide(&h, descent{relative: ".", decision: w.source.Rules.Root()}, w.source.Name, false).Taken {
		w.addFile(&h, fsys.Join(w.source.Dest, w.source.Name), factsOf(info))
	}
	w.merge(&h)
}

func (w *walker) walkFolder(ctx context.Context, dir descent) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	var before int
	if memory := w.memory(); memory != nil {
		known, state := memory.recall(spot{w.index, dir.local})
		if known != nil {
			return w.walkKnown(ctx, known)
		}
		memory.enter(dir.local)
		before = state
	}
	var h haul
	defer w.merge(&h)
	listing, err := w.at.list(dir.local)
	switch {
	case err != nil && dir.relative == ".":
		return &SourceError{w.source.Path, errors.Unwrap(err)}
	case err != nil:
		h.fail(w.path(dir.relative), dir.local, err)
	}
	h.found = make([]found, 0, len(listing)+1)
	w.addFolder(&h, dir, err == nil && len(listing) == 0)
	relatives := joinAll(dir.relative, listing)
	for i, item := range listing {
		relative := relatives[i]
		if !utf8.ValidString(item.name) {
			h.leave(LeftOut{Path: w.path(relative), Source: int(w.index), Reason: "the name is not valid UTF-8"})
			continue
		}
		if item.err != nil {
			h.fail(w.path(relative), w.at.join(dir.local, item.name), item.err)
			continue
		}
		if err := w.visit(ctx, &h, dir, relative, item); err != nil {
			return err
		}
	}
	if memory := w.memory(); memory != nil && err == nil {
		memory.remember(spot{w.index, dir.local}, &known{h, h.folders}, before)
	}
	return nil
}

// joinAll gives the paths of what is in a folder. They are parts of one text: that is one piece of memory for all of them.
func joinAll(dir string, listing []item) []string {
	prefix := ""
	if dir != "." {
		prefix = dir + "/"
	}
	size := 0
	for i := range listing {
		size += len(prefix) + len(listing[i].name)
	}
	var text strings.Builder
	text.Grow(size)
	out := make([]string, len(listing))
	for i := range listing {
		begin := text.Len()
		text.WriteString(prefix)
		text.WriteString(listing[i].name)
		out[i] = text.String()[begin:]
	}
	return out
}

// walkKnown takes what a folder held when it was read, and goes on below it.
func (w *walker) walkKnown(ctx context.Context, k *known) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	w.merge(&k.haul)
	for _, below := range k.folders {
		if err := w.goOn(ctx, below); err != nil {
			return err
		}
	}
	return nil
}

// visit decides about one name in a folder and takes what is behind it.
func (w *walker) visit(ctx context.Context, h *haul, dir descent, relative string, item item) error {
	local := func() string { return w.at.join(dir.local, item.name) }
	if item.mode&fs.ModeSymlink != 0 && w.opt.Links == FollowLinks {
		followed, err := w.at.stat(local())
		if err != nil {
			if w.decide(h, dir, relative, false).Taken {
				h.fail(w.path(relative), local(), fmt.Errorf("the link leads nowhere: %w", errors.Unwrap(err)))
			}
			return nil
		}
		item.facts = factsOf(followed)
	}
	decision := w.decide(h, dir, relative, item.mode.IsDir())
	switch {
	case decision.Excluded():
	case item.mode.IsDir():
		return w.visitFolder(ctx, h, dir.chain, descent{local(), relative, item.mode, decision, nil})
	case !decision.Taken:
	case item.mode.IsRegular():
		w.addFile(h, w.path(relative), item.facts)
	case item.mode&fs.ModeSymlink != 0 && w.opt.Links == SkipLinks:
		h.leave(LeftOut{Path: w.path(relative), Source: int(w.index), Reason: "links are skipped"})
	case item.mode&fs.ModeSymlink != 0:
		target, err := w.at.readlink(local())
		if err != nil {
			h.fail(w.path(relative), local(), err)
			return nil
		}
		h.found = append(h.found, found{source: w.index, Entry: manifest.Entry{
			Path: w.path(relative), Kind: manifest.Link, Link: target}})
	case w.source.isListed(): // nobody put it there for the system's own use
		h.refused = append(h.refused, Failure{w.path(relative), w.source.local(w.path(relative)),
			fmt.Errorf("%w: it is a %s", ErrSpecial, kindOf(item.mode))})
	default:
		h.leave(LeftOut{Path: w.path(relative), Source: int(w.index),
			Reason: "it is a " + kindOf(item.mode) + ", which is never sent"})
	}
	return nil
}

func (w *walker) visitFolder(ctx context.Context, h *haul, above *ancestor, dir descent) error {
	if w.opt.Links == FollowLinks {
		info, err := w.at.stat(dir.local)
		if err != nil {
			h.fail(w.path(dir.relative), dir.local, err)
			return nil
		}
		for a := above; a != nil; a = a.above {
			if sameFolder(a.info, info) {
				h.fail(w.path(dir.relative), dir.local, errors.New("the link leads back to a folder that it is in"))
				return nil
			}
		}
		dir.chain = &ancestor{info, above}
	}
	if finding, ok := guardName(dir.relative, true, w.opt.Allow); ok {
		finding.Path = w.path(dir.relative)
		h.findings = append(h.findings, finding)
		return nil
	}
	h.folders = append(h.folders, dir)
	return w.goOn(ctx, dir)
}

// goOn walks a folder, beside others where that can be.
func (w *walker) goOn(ctx context.Context, dir descent) error {
	walk := func() error { return w.walkFolder(ctx, dir) }
	if !w.group.TryGo(walk) {
		return walk()
	}
	return nil
}

// addFolder takes the folder itself when it is empty or has a mode of its own.
func (w *walker) addFolder(h *haul, dir descent, empty bool) {
	if dir.relative == "." || !dir.decision.Taken {
		return
	}
	e := manifest.Entry{Path: w.path(dir.relative), Kind: manifest.Dir,
		Attributes: manifest.Attributes{Mode: manifest.DirMode}}
	if w.opt.KeepModes {
		e.Mode = dir.mode.Perm()
	}
	if !empty {
		if e.Mode == manifest.DirMode {
			return
		}
		e.Size = -1 // stays only if something below it does
	}
	h.found = append(h.found, found{source: w.index, Entry: e})
}

// decide applies the rules and notes what they leave out.
func (w *walker) decide(h *haul, above descent, relative string, isFolder bool) filter.Decision {
	decision := w.source.Rules.Step(above.decision, relative, isFolder)
	if decision.Excluded() || !decision.Taken && !isFolder {
		h.leave(LeftOut{Path: w.path(relative), Source: int(w.index), Folder: isFolder, By: &decision})
	}
	return decision
}

func (w *walker) addFile(h *haul, path string, f facts) {
	if finding, ok := guardName(w.source.relative(path), false, w.opt.Allow); ok {
		finding.Path = path
		h.findings = append(h.findings, finding)
	}
	h.found = append(h.found, found{source: w.index, id: f.id, Entry: manifest.Entry{
		Path: path, Attributes: manifest.Attributes{Mode: fileMode(f.mode, w.opt.KeepModes), ModTime: f.id.modTime()},
		Size: f.id.size}})
}

func fileMode(mode fs.FileMode, keep bool) fs.FileMode {
	switch {
	case keep:
		return mode.Perm()
	case mode&0o111 != 0:
		return manifest.ExecMode
	default:
		return manifest.FileMode
	}
}

// path turns a path relative to the source into one of the tree.
func (w *walker) path(relative string) string { return fsys.Join(w.source.Dest, relative) }

func (h *haul) leave(l LeftOut) { h.leftOut = append(h.leftOut, l) }

func (h *haul) fail(path, local string, err error) {
	h.failed = append(h.failed, Failure{path, local, cause(err)})
}

func kindOf(mode fs.FileMode) string {
	switch {
	case mode&fs.ModeNamedPipe != 0:
		return "pipe"
	case mode&fs.ModeSocket != 0:
		return "socket"
	case mode&fs.ModeDevice != 0:
		return "device"
	case mode&fs.ModeSymlink != 0:
		return "link"
	default:
		return "special file"
	}
}

// item is one name in a folder.
type item struct {
	name string
	facts
	err error
}
