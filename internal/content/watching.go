package content

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"tartine/internal/manifest"
)

// Watching keeps a content up to date: the system tells where something changed, and only folders in which something did
// are read again. Where it lost events everything is read again, and where it watches no more folders everything is looked at
// every second. It must be closed.
type Watching struct {
	// Stirred is called when something changes after a time of rest, before Next returns; may be nil.
	Stirred func()

	sources  []Source
	opt      Options
	tell     func(why error)
	settings string        // a file that is watched, too; may be empty
	every    time.Duration // 0: the system tells
	rest     time.Duration // Quiet, but in tests

	mu       sync.Mutex
	events   *fsnotify.Watcher // nil: everything is looked at, every so often
	folders  map[spot]*known
	names    map[string][]string // of folders that are watched: by what they are called where the system watches them
	touched  map[string]int      // how often something changed in a folder
	moves    int                 // how often something came, went, or got another name
	caches   []*digests
	first    time.Time            // of the changes that nobody was told of; zero: there are none
	latest   time.Time            // of them
	written  map[string]time.Time // when the system said last that a file was written to
	anew     bool                 // the settings changed
	told     bool
	looked   *Tree // when everything is looked at: what was found last
	listened chan struct{}
	changed  chan struct{} // has an element when something changed
}

// spot is a folder of a source, under its name here.
type spot struct {
	source int32
	name   string
}

// known is what a folder held when it was read.
type known struct {
	haul    haul
	folders []descent
}

// The times by which changes are taken together: a deployment is made when nothing changed for Quiet, and at the latest
// Longest after the first change.
const (
	Quiet   = 100 * time.Millisecond
	Longest = 2 * time.Second
	// lookEvery is how often everything is looked at where the system cannot tell what changed.
	lookEvery = time.Second
)

// Watch begins to watch sources, and a file of settings where its name is not empty. With every above 0 the system is not
// asked: everything is looked at so often. Tell is told once why everything is looked at although the system was asked; it
// may be nil.
func Watch(sources []Source, opt Options, settings string, every time.Duration, tell func(why error)) *Watching {
	w := &Watching{sources: sources, opt: opt, every: every, rest: Quiet, tell: tell, folders: map[spot]*known{}, written: map[string]time.Time{}, names: map[string][]string{},
		touched: map[string]int{},
		changed: make(chan struct{}, 1), listened: make(chan struct{})}
	w.opt.memory = w
	if settings != "" {
		if absolute, err := filepath.Abs(settings); err == nil {
			w.settings = absolute
		}
	}
	if every > 0 {
		close(w.listened)
		return w
	}
	events, err := fsnotify.NewBufferedWatcher(1000)
	if err != nil {
		w.every = lookEvery
		close(w.listened)
		return w
	}
	w.events = events
	go w.listen(events)
	if w.settings != "" {
		w.enter(filepath.Dir(w.settings))
	}
	return w
}

// Close ends the watch, and keeps what is known of digests.
func (w *Watching) Close() error {
	w.mu.Lock()
	events := w.events
	w.events = nil
	caches := w.caches
	w.mu.Unlock()
	var err error
	if events != nil {
		err = events.Close()
	}
	<-w.listened
	for _, cache := range caches {
		_ = cache.save() // see there
	}
	return err
}

func (w *Watching) listen(events *fsnotify.Watcher) {
	defer close(w.listened)
	for {
		select {
		case event, open := <-events.Events:
			if !open {
				return
			}
			w.note(event)
		case err, open := <-events.Errors:
			if !open {
				return
			}
			w.fallBack(err)
		}
	}
}

// note notes an event, under each name that it has here: links may lead to one folder in several ways.
func (w *Watching) note(event fsnotify.Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, folder := range w.names[filepath.Dir(event.Name)] {
		w.noteAs(event, filepath.Join(folder, filepath.Base(event.Name)))
	}
	for _, folder := range w.names[event.Name] {
		w.noteAs(event, folder)
	}
}

func (w *Watching) noteAs(event fsnotify.Event, name string) {
	now := time.Now()
	if name == w.settings {
		w.anew = true
	} else if !w.ours(name) {
		return
	}
	if event.Has(fsnotify.Write) {
		w.written[name] = now
	}
	if event.Has(fsnotify.Create) || event.Has(fsnotify.Remove) || event.Has(fsnotify.Rename) {
		w.forget(name) // with all below it: it may be another one now
		w.moves++
	}
	for _, folder := range []string{filepath.Dir(name), name} { // the name may be of a folder whose own mode changed
		for source := range w.sources {
			delete(w.folders, spot{int32(source), folder})
		}
		w.touched[folder]++
	}
	if w.first.IsZero() {
		w.first = now
	}
	w.latest = now
	w.signal()
}

func (w *Watching) signal() {
	select {
	case w.changed <- struct{}{}:
	default: // it has one
	}
}

// ours tells whether a name is a source or below one. The folder of a source that is a single file is watched, too.
func (w *Watching) ours(name string) bool {
	return slices.ContainsFunc(w.sources, func(s Source) bool {
		file := s.OnDisk()
		top := filepath.Clean(file)
		return file != "" && (name == top || strings.HasPrefix(name, top+string(filepath.Separator)) || top == ".")
	})
}

func (w *Watching) forget(name string) {
	below := name + string(filepath.Separator)
	maps.DeleteFunc(w.folders, func(at spot, _ *known) bool { return at.name == name || strings.HasPrefix(at.name, below) })
}

// fallBack has everything looked at from now on; after events were lost, once.
func (w *Watching) fallBack(why error) {
	w.mu.Lock()
	events := w.events
	w.folders = map[spot]*known{}
	w.moves++
	lost := errors.Is(why, fsnotify.ErrEventOverflow)
	if !lost {
		w.events, w.every = nil, lookEvery
	}
	now := time.Now()
	if w.first.IsZero() {
		w.first = now
	}
	w.latest = now
	tell := w.tell != nil && !w.told && !lost
	w.told = w.told || tell
	w.signal()
	w.mu.Unlock()
	if tell {
		w.tell(why)
	}
	if !lost && events != nil {
		go events.Close() // whoever listens ends with it
	}
}

// enter has the system tell what changes in a folder. It is called before the folder is read, so that nothing is missed.
func (w *Watching) enter(name string) {
	w.mu.Lock()
	events := w.events
	w.mu.Unlock()
	if events == nil {
		return
	}
	real, err := filepath.EvalSymlinks(name)
	if err == nil {
		real, err = filepath.Abs(real)
	}
	if err != nil {
		return // it is gone, which its folder tells
	}
	w.mu.Lock()
	if !slices.Contains(w.names[real], name) {
		w.names[real] = append(w.names[real], name)
	}
	w.mu.Unlock()
	if err := events.Add(real); err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fsnotify.ErrClosed) {
		w.fallBack(err)
	}
}

// recall gives what a folder held; nil: it must be read. State is to be given to remember then.
func (w *Watching) recall(at spot) (k *known, state int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.folders[at], w.touched[at.name] + w.moves
}

// remember keeps what a folder held, unless something changed since it was begun to be read.
func (w *Watching) remember(at spot, k *known, state int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.events != nil && w.touched[at.name]+w.moves == state {
		w.folders[at] = k
	}
}

// Next waits until something changed and then nothing for a while, or for retry if that is above 0. It tells whether the
// settings are to be read anew.
func (w *Watching) Next(ctx context.Context, retry time.Duration) (anew bool, err error) {
	var again <-chan time.Time
	if retry > 0 {
		again = time.After(retry)
	}
	for {
		var look <-chan time.Time
		w.mu.Lock()
		if w.events == nil {
			look = time.After(w.every)
		}
		w.mu.Unlock()
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-again:
			return w.take(), nil
		case <-look:
			if changed, err := w.lookAtAll(ctx); err != nil || changed {
				return false, err
			}
		case <-w.changed:
			if w.Stirred != nil {
				w.Stirred()
			}
			if err := w.quiet(ctx); err != nil {
				return false, err
			}
			return w.take(), nil
		}
	}
}

// quiet waits until nothing changed for a while.
func (w *Watching) quiet(ctx context.Context) error {
	for {
		w.mu.Lock()
		now := time.Now()
		left := min(w.latest.Add(w.rest).Sub(now), w.first.Add(Longest).Sub(now))
		w.mu.Unlock()
		if left <= 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(left):
		}
	}
}

func (w *Watching) take() (anew bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	anew = w.anew
	w.anew, w.first, w.latest = false, time.Time{}, time.Time{}
	select {
	case <-w.changed:
	default:
	}
	return anew
}

// lookAtAll reads everything, and tells whether something changed since it did so last and is at rest.
func (w *Watching) lookAtAll(ctx context.Context) (changed bool, err error) {
	for deadline := time.Now().Add(Longest); ; {
		tree, err := Scan(ctx, w.sources, w.opt)
		var missing *SourceError
		switch {
		case errors.As(err, &missing):
			return true, nil // whoever scans finds out
		case err != nil:
			return false, err
		case w.looked != nil && slices.EqualFunc(w.looked.Entries(), tree.Entries(), sameEntry):
			return changed, nil
		case time.Now().After(deadline):
			return true, nil
		}
		w.looked, changed = tree, true
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(w.rest):
		}
	}
}

func sameEntry(a, b manifest.Entry) bool { return a.Equal(b) && a.ModTime.Equal(b.ModTime) }

// Content scans what changed. Files that are still written to are left as they are at the site, and waiting tells that
// there are some.
func (w *Watching) Content(ctx context.Context) (out *Content, tree *Tree, waiting bool, err error) {
	began := time.Now()
	if tree, err = Scan(ctx, w.sources, w.opt); err != nil {
		return nil, nil, false, err
	}
	w.mu.Lock()
	if w.events == nil {
		w.looked = tree
	}
	restless := map[string]bool{}
	for name, when := range w.written {
		if began.Sub(when) < w.rest {
			restless[name] = true
		} else {
			delete(w.written, name)
		}
	}
	w.mu.Unlock()
	out = tree.Content()
	out.Failed = slices.DeleteFunc(slices.Clone(out.Failed), func(f Failure) bool {
		if !errors.Is(f.Err, ErrChanging) {
			return false
		}
		out.Left, waiting = append(out.Left, f.Path), true
		return true
	})
	if len(restless) > 0 {
		kept := make([]manifest.Entry, 0, len(tree.Entries()))
		for i := range tree.Entries() {
			if e := tree.Entries()[i]; e.Kind == manifest.File && restless[tree.Local(i)] {
				out.Left, waiting = append(out.Left, e.Path), true
			} else {
				kept = append(kept, e)
			}
		}
		out.Set(kept)
	}
	return out, tree, waiting, nil
}

// digests gives the caches, which stay in memory.
func (w *Watching) digests() []*digests {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.caches == nil {
		w.caches = w.opt.Cache.loadAll(w.sources)
		for _, cache := range w.caches {
			cache.whole = map[string]*folderDigests{}
		}
	}
	return w.caches
}
