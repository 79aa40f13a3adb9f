package site

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// A site is wiped in this order:
//
//   - wipe.json says in the record that it is being wiped, so that whoever comes next finishes it;
//   - the root gets a name in the record by one rename, and is gone for visitors. Where it cannot have one, as a mount
//     or the top of what can be reached, what is in it is renamed, name by name, and what lies on another mount is
//     removed where it is;
//   - what was put aside is removed, then what the record holds, then wipe.json, the lock, and the record itself.
//
// What cannot be removed stays in the record, as aside/…, and nothing but that; another wipe tries again. A deployment
// may be made meanwhile.
//
// With strays that are to stay, what deployments put there is removed in place: pages first, then all else, then the
// folders that are empty then.

// Wiping asks for a site to be wiped.
type Wiping struct {
	User       string `cbor:"user"`
	KeepStrays bool   `cbor:"strays,omitempty"` // what no deployment of a content put there stays
	Trial      bool   `cbor:"trial,omitempty"`  // only tell what is there
	Files      int    `cbor:"files,omitempty"`  // how many files a trial found, for who watches; 0: there was none
}

// Wiped tells what is at a site, or what was removed.
type Wiped struct {
	Files, Folders int   // links are files
	Bytes          int64 // of what is there; of what was removed it is not told
	Strays         int   // of the files: what no deployment put there, or one by hand
	Drifted        int
	Deployments    int      // that are recorded
	Kept           int64    // bytes of content that the record holds
	Mounts         []string // folders in which another file system is; sorted
	Left           []Failure
	RootStays      bool
	Resumed        bool // what an earlier one left was removed
}

// ErrNoSite tells that no deployment put anything at a place.
var ErrNoSite = errors.New("no deployment is recorded there, so nothing is removed")

const (
	wipeName = "wipe.json"
	aside    = "aside" // the folder of the record for what is removed
)

// wipeNote is what wipe.json says.
type wipeNote struct {
	User       string    `json:"user,omitempty"`
	Since      time.Time `json:"since"`
	KeepStrays bool      `json:"keep_strays,omitempty"`
}

// Wipe removes the site and its record.
func (s *Site) Wipe(ctx context.Context, asked *Wiping, watch *Watch) (*Wiped, error) {
	if s.record == "" {
		return nil, ErrNoSite
	}
	if asked.Trial {
		return s.whatIsWiped(ctx)
	}
	locked, release, err := s.lock(ctx, asked.User)
	if err != nil {
		return nil, err
	}
	if asked.Files > 0 && !asked.KeepStrays {
		watch.phase("remove", asked.Files, 0)
	}
	w := &wipe{site: s, watch: watch, out: &Wiped{}, filled: map[string]bool{}}
	if err = w.begin(locked, asked); err == nil {
		err = w.dropRecord(locked, asked.KeepStrays)
	}
	if err == nil && !s.isInside() {
		w.removeEmptyRoot(locked)
	}
	err = lostLock(locked, err)
	release()
	if err != nil {
		return nil, err
	}
	if len(w.out.Left) == 0 {
		w.end(ctx)
	}
	_, err = s.fs.Lstat(ctx, s.root)
	w.out.RootStays = err == nil
	return w.out, nil
}

// whatIsWiped tells what is at the site.
func (s *Site) whatIsWiped(ctx context.Context) (*Wiped, error) {
	number, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	left, err := s.hasAside(ctx)
	if err != nil {
		return nil, err
	}
	if number == 0 && !left {
		return nil, ErrNoSite
	}
	out := &Wiped{Resumed: left}
	if number > 0 { // else a wipe was interrupted when nothing of it was recorded any more
		numbers, err := s.numbers(ctx, number)
		if err != nil {
			return nil, err
		}
		out.Deployments = len(numbers)
	}
	for _, store := range []string{kept, incoming} {
		sizes, err := s.storeSizes(ctx, store, nil)
		if err != nil {
			return nil, err
		}
		for _, size := range sizes {
			out.Kept += size
		}
	}
	if !s.exists {
		return out, nil
	}
	l := &lister{site: s, asked: &Listing{Recursive: true}, at: s.at, take: func(item *Listed, _ bool, _ manifest.Digest) {
		if item.Kind == manifest.Dir && item.Other == 0 {
			out.Folders++
			return
		}
		out.Files++
		if item.Kind == manifest.File {
			out.Bytes += item.Size
		}
		switch item.Word {
		case AsStray, AsHand:
			out.Strays++
		case AsDrifted:
			out.Drifted++
		}
	}}
	if l.recorded, err = s.openFolderRecord(ctx, number); err != nil {
		return nil, err
	}
	defer l.recorded.close()
	if err := l.run(ctx); err != nil {
		return nil, err
	}
	out.Files, out.Strays = out.Files+l.odd, out.Strays+l.odd
	out.Mounts, err = s.mounts(ctx)
	return out, err
}

// mounts gives the paths of the site at which another file system is, as far as the place tells.
func (s *Site) mounts(ctx context.Context) (out []string, err error) {
	mounter, ok := s.fs.(fsys.Mounter)
	if !ok {
		return nil, nil
	}
	found, err := mounter.Mounts(ctx)
	for _, name := range found {
		if below, inside := strings.CutPrefix(name, s.live+"/"); inside {
			out = append(out, below)
		} else if s.live == "." && name != "." {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out, err
}

func (s *Site) hasAside(ctx context.Context) (bool, error) {
	for _, name := range []string{aside, wipeName} {
		_, err := s.fs.Lstat(ctx, s.inRecord(name))
		if err == nil || !errors.Is(err, fs.ErrNotExist) {
			return err == nil, err
		}
	}
	return false, nil
}

// wiping reads wipe.json; nil: there is none.
func (s *Site) wiping(ctx context.Context) (*wipeNote, error) {
	text, err := s.read(ctx, wipeName, mostShort)
	if err != nil {
		return nil, ignoreMissing(err)
	}
	note := &wipeNote{}
	if err := json.Unmarshal(text, note); err != nil {
		return nil, &RecordError{s.inRecord(wipeName), err}
	}
	return note, nil
}

// finishWipe goes on with a wipe that was interrupted, if there is one. The record stays, and is empty then.
func (s *Site) finishWipe(ctx context.Context) error {
	note, err := s.wiping(ctx)
	if err != nil || note == nil {
		return err
	}
	w := &wipe{site: s, watch: &Watch{}, out: &Wiped{}, filled: map[string]bool{}}
	if err := w.goOn(ctx, note.KeepStrays); err != nil {
		return err
	}
	if err := w.dropRecord(ctx, note.KeepStrays); err != nil {
		return err
	}
	_, err = s.fs.Lstat(ctx, s.root)
	s.exists = err == nil
	return s.lookAgain(ctx)
}

// wipe is a wipe under way.
type wipe struct {
	site  *Site
	watch *Watch
	out   *Wiped

	mounts []string // names in fs at which another file system is
	put    int      // how many names were put aside

	mu     sync.Mutex
	filled map[string]bool // folders in which something stays that could not be removed
}

// begin notes the wipe in the record, and does it but for the record.
func (w *wipe) begin(ctx context.Context, asked *Wiping) error {
	s := w.site
	number, err := s.current(ctx)
	if err != nil {
		return err
	}
	if w.out.Resumed, err = s.hasAside(ctx); err != nil {
		return err
	}
	if number == 0 && !w.out.Resumed {
		return ErrNoSite
	}
	if asked.KeepStrays { // what is recorded must be what is there
		if _, err := s.recoverLocked(ctx); err != nil {
			return err
		}
	}
	text, err := json.Marshal(wipeNote{User: asked.User, Since: time.Now().UTC(), KeepStrays: asked.KeepStrays})
	if err != nil {
		return err
	}
	if err := s.writeDurably(ctx, wipeName, text); err != nil {
		return err
	}
	return w.goOn(ctx, asked.KeepStrays)
}

// goOn removes what is at the site. It may be called again after any of its steps.
func (w *wipe) goOn(ctx context.Context, keepStrays bool) error {
	s := w.site
	if err := s.makeOwn(ctx, s.inRecord(aside)); err != nil {
		return err
	}
	if mounter, ok := s.fs.(fsys.Mounter); ok {
		var err error
		if w.mounts, err = mounter.Mounts(ctx); err != nil {
			return err
		}
	}
	var err error
	if keepStrays {
		err = w.removeDeployed(ctx)
	} else {
		err = w.removeRoot(ctx)
	}
	if err == nil && s.trees != "" {
		err = w.removeTrees(ctx, keepStrays)
	}
	if err == nil {
		err = s.empty(ctx, s.inRecord(aside), w.removed, w.failed)
	}
	return err
}

// removeRoot puts the root aside, or what is in it.
func (w *wipe) removeRoot(ctx context.Context) error {
	s := w.site
	info, err := s.fs.Lstat(ctx, s.root)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if s.root != "." && !s.isInside() && !w.holdsMount(s.root) && s.canGo(ctx, s.root) {
		done, err := w.putAside(ctx, s.root)
		if done || err != nil {
			s.exists = s.exists && !done
			return err
		}
	}
	if !info.Mode.IsDir() {
		return &RootError{Root: s.label, Reason: "cannot be removed"}
	}
	return w.removeBelow(ctx, s.root)
}

// canGo tells whether a name can be removed, as far as the place tells before.
func (s *Site) canGo(ctx context.Context, name string) bool {
	remover, ok := s.fs.(fsys.Remover)
	return !ok || remover.CanRemove(ctx, name) == nil
}

// removeTrees puts the trees of a switched site aside, but for the one in which strays stay.
func (w *wipe) removeTrees(ctx context.Context, keepStrays bool) error {
	s := w.site
	if !keepStrays {
		if w.holdsMount(s.trees) {
			return w.removeBelow(ctx, s.trees)
		}
		done, err := w.putAside(ctx, s.trees)
		if err == nil && !done {
			err = w.removeBelow(ctx, s.trees)
		}
		return err
	}
	list, err := s.fs.List(ctx, s.trees)
	if err != nil {
		return ignoreMissing(err)
	}
	for _, info := range list {
		if name := fsys.Join(s.trees, info.Name); name != s.live {
			if _, err := w.putAside(ctx, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// holdsMount tells whether another file system begins at a name or below it.
func (w *wipe) holdsMount(name string) bool {
	return slices.ContainsFunc(w.mounts, func(at string) bool { return at == name || strings.HasPrefix(at, name+"/") })
}

// putAside gives a name another one in the record. It does nothing, and says so, where that cannot be done.
func (w *wipe) putAside(ctx context.Context, name string) (done bool, err error) {
	s := w.site
	if err := s.sure(ctx, false); err != nil {
		return false, err
	}
	w.put++
	err = s.fs.Rename(ctx, name, s.inRecord(fmt.Sprintf("%s/%s-%d", aside, rand.Text(), w.put)))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return true, nil
	case errors.Is(err, farend.ErrLost), ctx.Err() != nil:
		return false, err
	}
	return err == nil, nil
}

// removeBelow puts aside all that is in a folder, and goes into what cannot be: a mount, or a folder that holds one.
func (w *wipe) removeBelow(ctx context.Context, dir string) error {
	s := w.site
	list, err := s.fs.List(ctx, dir)
	if err != nil {
		return ignoreMissing(err)
	}
	for _, info := range list {
		name := fsys.Join(dir, info.Name)
		if name == s.record {
			continue
		}
		if !w.holdsMount(name) {
			done, err := w.putAside(ctx, name)
			if err != nil {
				return err
			}
			if done {
				continue
			}
		}
		if info.Mode.IsDir() {
			if err := w.removeBelow(ctx, name); err != nil {
				return err
			}
		}
		if err := s.fs.Remove(ctx, name); err != nil && !w.holdsMount(name) {
			if err := w.failed(name, err); err != nil {
				return err
			}
		}
	}
	return nil
}

// failed notes what cannot be removed. Only the loss of the connection, or of the lock, is an error.
func (w *wipe) failed(name string, err error) error {
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist):
		return nil
	case errors.Is(err, farend.ErrLost), errors.Is(err, context.Canceled):
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.filled[name] {
		return nil // what stays in it is named
	}
	for dir, _ := fsys.Split(name); dir != "."; dir, _ = fsys.Split(dir) {
		w.filled[dir] = true
	}
	if len(w.out.Left) < mostLeft {
		w.out.Left = append(w.out.Left, Failure{Path: w.nameOf(name), Err: errors.New(cause(err))})
	}
	return nil
}

// mostLeft is how many names that could not be removed are told.
const mostLeft = 1000

// nameOf gives a name as a person finds it: a path of the site, or a name in its record.
func (w *wipe) nameOf(name string) string {
	s := w.site
	if below, inside := strings.CutPrefix(name, s.record+"/"); inside {
		_, folder := fsys.Split(s.record)
		return folder + "/" + below
	}
	return strings.TrimPrefix(name, s.live+"/")
}

// removeDeployed removes what deployments put there, and the folders that are empty then.
func (w *wipe) removeDeployed(ctx context.Context) error {
	s := w.site
	m, err := s.Recorded(ctx)
	if err != nil || m == nil {
		return err
	}
	isPage := pagesOf([]string{"*.html", "*.htm"})
	var pages, others, folders []step
	known := map[string]bool{}
	for i := range m.Entries {
		e := &m.Entries[i]
		if e.Hand {
			continue
		}
		for dir, _ := fsys.Split(e.Path); dir != "." && !known[dir]; dir, _ = fsys.Split(dir) {
			known[dir] = true
			folders = append(folders, step{Do: doClear, Path: dir})
		}
		switch {
		case e.Kind == manifest.Dir && !known[e.Path]:
			known[e.Path] = true
			folders = append(folders, step{Do: doClear, Path: e.Path})
		case e.Kind == manifest.Dir:
		case isPage(e.Path):
			pages = append(pages, step{Do: doRemove, Path: e.Path})
		default:
			others = append(others, step{Do: doRemove, Path: e.Path})
		}
	}
	files := len(pages) + len(others)
	w.watch.phase("remove", files, 0)
	p := &publish{site: s, plan: &Plan{}, undone: map[string]bool{}}
	p.phases = append([][]step{pages, others}, byDepth(folders, true)...)
	p.phases = slices.DeleteFunc(p.phases, func(phase []step) bool { return len(phase) == 0 })
	if err := p.doAll(ctx, w.watch, true); err != nil {
		return err
	}
	for _, f := range p.failed {
		if err := w.failed(s.at(f.Path), f.Err); err != nil {
			return err
		}
	}
	w.out.Files += files - len(p.failed)
	return nil
}

// removed counts what was removed of the site.
func (w *wipe) removed(files, folders int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.out.Files += files
	w.out.Folders += folders
	for range files {
		w.watch.file("", 0)
	}
}

// dropRecord removes what the record holds, but for what could not be removed, and for the lock. Where paths that
// deployments put at a site with strays could not be removed, all of it stays, for another try.
func (w *wipe) dropRecord(ctx context.Context, keepStrays bool) error {
	s := w.site
	if err := s.sure(ctx, true); err != nil {
		return err
	}
	if keepStrays && len(w.out.Left) > 0 {
		return s.discard(ctx, []string{wipeName})
	}
	if err := s.discard(ctx, []string{"current", journalName}); err != nil { // from now on nothing is recorded
		return err
	}
	list, err := s.fs.List(ctx, s.record)
	if err != nil {
		return err
	}
	var last []string
	for _, info := range list {
		switch {
		case info.Name == wipeName, info.Name == aside, strings.HasPrefix(info.Name, "lock"):
		case info.Mode.IsDir():
			if err := s.empty(ctx, s.inRecord(info.Name), func(int, int) {}, w.failed); err != nil {
				return err
			}
		default: // what shuts a record inside the root, among others
			last = append(last, info.Name)
		}
	}
	if err := s.discard(ctx, last); err != nil {
		return err
	}
	if err := s.discard(ctx, []string{wipeName}); err != nil {
		return err
	}
	return s.sweepLocks(ctx)
}

// end removes the record, which is empty, and a root that it was in. Should somebody wait for the lock, it stays.
func (w *wipe) end(ctx context.Context) {
	s := w.site
	inside := s.isInside()
	if s.canGo(ctx, s.record) {
		_ = s.fs.Remove(ctx, s.record) // it stays where somebody waits
	}
	if inside {
		w.removeEmptyRoot(ctx)
	}
}

// removeEmptyRoot removes the root, with what leads to it, where nothing stays in it and it can go.
func (w *wipe) removeEmptyRoot(ctx context.Context) {
	s := w.site
	for _, name := range []string{s.live, s.trees} {
		if name != "" && name != "." && s.canGo(ctx, name) {
			_ = s.fs.Remove(ctx, name) // a root with strays in it, and a mount, stay
		}
	}
	if s.trees == "" {
		return
	}
	if _, err := s.fs.Lstat(ctx, s.live); errors.Is(err, fs.ErrNotExist) {
		_ = s.fs.Remove(ctx, s.root) // the link that led there
	}
}
