package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Survey is what is at a site. What was found and recorded stays with the engine; the rest is for whoever asks.
type Survey struct {
	Recorded *manifest.Manifest // nil: no deployment is recorded
	Found    []diff.Found       // sorted by path, folders included

	Summary
	tree manifest.Digest            // of what is recorded
	held map[manifest.Digest]string // see Held

	leaving []diff.Leaving // sorted by path
	raw     []diff.Found   // files whose paths no manifest can hold, among Odd

	unread map[string]error // files that could not be read, and why
	brief  *brief           // not nil: all is as it is recorded, and neither that nor what was found is here; see brief.go
	rest   *rest            // not nil: what was found and is recorded is here of some parts of the site; see parts.go
}

// Summary is what there is to say of a survey as a whole.
type Summary struct {
	Number     int      // of the current deployment; 0: none is recorded
	Paths      int      // entries that it recorded, without what a person put there
	Sources    string   // what the content of the current deployment was made of; empty: that is not recorded
	Anything   bool     // something exists
	Odd        []string // paths that no manifest can hold, their last element in Go's quotes
	Shut       []string // folders that may not be read and hold nothing that was deployed: they are left alone
	FoldsCase  bool     // names that differ only in case are one name here
	Unfinished bool     // a publish was interrupted; the next deployment finishes it
	// where the root leads, which is a link now and was a folder at the last deployment; empty: it is not so
	Moved string
	// files of the recorded size and time that were dated too shortly before the record, or changed in some way since
	Unsettled int
}

// settleTime is how long before the record was written a file must be dated to be believed by size and time. One that
// is altered within a step of the far end's clock keeps its time; the longest step, of FAT, is two seconds.
const settleTime = 2 * time.Second

// Tree gives the tree digest of what is recorded.
func (s *Survey) Tree() manifest.Digest { return s.tree }

// Entries gives what is recorded.
func (s *Survey) Entries() []manifest.Entry {
	if s.Recorded == nil {
		return nil
	}
	return s.Recorded.Entries
}

// Survey reads what is there. When the record is to be believed, a file of the recorded size and time is taken to have
// the recorded digest; the digests of all others are left open, for Resolve.
func (s *Site) Survey(ctx context.Context, believe bool) (*Survey, error) {
	out := &Survey{}
	begun := time.Now()
	// The number is read first: should another deployment be published from here on, it gives that away at the lock.
	number, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	if out.Unfinished, err = s.interrupted(ctx); err != nil {
		return nil, err
	}
	if err := s.lookAgain(ctx); err != nil {
		return nil, err
	}
	group, both := errgroup.WithContext(ctx)
	read := make(chan struct{}) // closed once it is known what is recorded
	group.Go(func() (err error) {
		defer close(read)
		out.Recorded, out.tree, err = s.recordedTree(both, number)
		return err
	})
	known := func() []manifest.Entry { // to be believed
		<-read
		return out.Entries()
	}
	if !believe {
		known = func() []manifest.Entry { return nil }
	}
	group.Go(func() (err error) {
		out.leaving, err = s.readLeaving(both, number)
		return err
	})
	if s.exists {
		group.Go(func() error { return s.walk(both, out, known) })
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	if out.Recorded != nil {
		out.Number, out.Paths = number, manifest.Contents(out.Recorded.Entries)
		if d := out.Recorded.Deployment; d != nil {
			out.Sources = d.Sources
		}
	}
	if out.Number == 0 {
		out.Moved = s.moved
	}
	out.Anything = len(out.Found)+len(out.Shut) > 0
	if !s.exists {
		return out, nil
	}
	if err := s.checkShut(out, out.Entries()); err != nil {
		return nil, err
	}
	if believe && out.Recorded != nil {
		record, err := s.fs.Lstat(ctx, s.inRecord(deploymentFile(number)))
		if err != nil {
			return nil, err
		}
		known := int64(0)
		if out.changed() > 0 {
			if known, err = s.knownUntil(ctx, number); err != nil {
				return nil, err
			}
		}
		young := out.believe(s.Abilities(), record.ModTime.Add(-max(settleTime, s.Abilities().TimeStep)), known)
		if err := s.datesOf(ctx, out, young, deploymentFile(number)); err != nil {
			return nil, err
		}
		out.Unsettled = len(young)
	}
	s.seen = min(out.changed(), begun.Add(-changeStep()).UnixNano())
	out.FoldsCase, err = s.FoldsCase(ctx)
	return out, err
}

// checkShut fails when any of some paths lies in a folder that may not be read.
func (s *Site) checkShut(survey *Survey, entries []manifest.Entry) error {
	for _, shut := range survey.Shut {
		i, _ := slices.BinarySearchFunc(entries, shut+"/", func(e manifest.Entry, prefix string) int { return strings.Compare(e.Path, prefix) })
		if i < len(entries) && strings.HasPrefix(entries[i].Path, shut+"/") {
			return &RootError{Root: s.label, Reason: fmt.Sprintf("its folder %s may not be read, and %s belongs into it", shut, entries[i].Path), Err: fs.ErrPermission}
		}
	}
	return nil
}

// walk lists the site, many folders at once. What is as known says, when that is asked for, has its entry in common with
// it.
func (s *Site) walk(ctx context.Context, out *Survey, known func() []manifest.Entry) error {
	var (
		mu      sync.Mutex
		folders = map[string][]diff.Found{}
		total   int
	)
	err := folderwise(ctx, s.jobs, ".", func(ctx context.Context, dir string) (below []string, err error) {
		list, err := s.listIn(ctx, dir)
		if errors.Is(err, fs.ErrNotExist) && dir != "." {
			return nil, nil // removed since the folder above it was read
		}
		if errors.Is(err, fs.ErrPermission) && dir != "." {
			mu.Lock()
			defer mu.Unlock()
			out.Shut = append(out.Shut, dir)
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		found := make([]diff.Found, 0, len(list))
		var (
			odd []string
			raw []diff.Found
			as  = knownIn(known(), dir)
		)
		for i := range list {
			info := &list[i]
			if e := as.find(info.Name); e != nil && isAs(e, info, time.Nanosecond) {
				found = append(found, foundAs(e, info))
				continue
			}
			path := fsys.Join(dir, info.Name)
			if manifest.CheckPath(path) != nil {
				odd = append(odd, fsys.Join(dir, strconv.Quote(info.Name)))
				if info.Mode.IsRegular() && manifest.CheckBytes(path) == nil {
					raw = append(raw, describe(path, *info))
				}
				continue
			}
			if found = append(found, describe(path, *info)); info.Mode.IsDir() {
				below = append(below, path)
			}
		}
		mu.Lock()
		defer mu.Unlock()
		folders[dir] = found
		total += len(found)
		out.Odd, out.raw = append(out.Odd, odd...), append(out.raw, raw...)
		return below, nil
	})
	if err != nil {
		return err
	}
	out.Found = byPaths(folders, ".", make([]diff.Found, 0, total))
	slices.Sort(out.Odd)
	slices.Sort(out.Shut)
	out.Found = slices.DeleteFunc(out.Found, func(f diff.Found) bool {
		_, shut := slices.BinarySearch(out.Shut, f.Path)
		return shut
	})
	out.markFilled()
	return nil
}

// nothingKnown is for a walk that believes nothing.
func nothingKnown() []manifest.Entry { return nil }

// byPaths puts what was found in a folder and below it in the order of paths, in which what is in a folder comes where its
// name with a slash behind it comes. What each folder has is in the order of names.
func byPaths(folders map[string][]diff.Found, dir string, out []diff.Found) []diff.Found {
	found := folders[dir]
	delete(folders, dir)
	var below []string // paths with a slash
	for i := range found {
		if found[i].Kind == manifest.Dir {
			below = append(below, found[i].Path+"/")
		}
	}
	slices.Sort(below)
	for i := range found {
		for len(below) > 0 && below[0] < found[i].Path {
			out, below = byPaths(folders, strings.TrimSuffix(below[0], "/"), out), below[1:]
		}
		out = append(out, found[i])
	}
	for _, dir := range below {
		out = byPaths(folders, strings.TrimSuffix(dir, "/"), out)
	}
	return out
}

// inFolder is entries below a folder, among which those in it are looked for in the order of their names.
type inFolder struct {
	entries []manifest.Entry
	prefix  int // bytes of the folder's path, with a slash
}

func knownIn(entries []manifest.Entry, dir string) *inFolder {
	if dir == "." {
		return &inFolder{entries, 0}
	}
	first, _ := manifest.Find(entries, dir+"/")
	end, _ := manifest.Find(entries, dir+"0") // the character behind the slash
	return &inFolder{entries[first:end], len(dir) + 1}
}

// find gives the entry of a name; nil: there is none.
func (in *inFolder) find(name string) *manifest.Entry {
	at := func(i int) string { return in.entries[i].Path[in.prefix:] }
	step := 1 // most often it is the next one
	for step < len(in.entries) && at(step-1) < name {
		step *= 2
	}
	low, high := step/2, min(step, len(in.entries))
	for low < high {
		if middle := (low + high) / 2; at(middle) < name {
			low = middle + 1
		} else {
			high = middle
		}
	}
	in.entries = in.entries[low:]
	if len(in.entries) > 0 && at(0) == name {
		return &in.entries[0]
	}
	return nil
}

// isAs tells whether what was found is all that an entry says, but for its content, where times are kept to some granularity.
func isAs(e *manifest.Entry, info *fsys.Info, step time.Duration) bool {
	switch {
	case e.Owner != nil || e.Hand:
		return false // which what was found does not say
	case e.Kind == manifest.File:
		return info.Mode.IsRegular() && e.Size == info.Size && e.Mode == info.Mode.Perm() && (e.ModTime.Equal(info.ModTime) || diff.SameTime(e.ModTime, info.ModTime, step))
	case e.Kind == manifest.Link:
		return info.Mode.Type() == fs.ModeSymlink && e.Link == info.Link
	}
	return false
}

// foundAs gives what was found as an entry says.
func foundAs(e *manifest.Entry, info *fsys.Info) diff.Found {
	f := diff.Found{Entry: e, Owned: info.User.Known, User: info.User.ID, Group: info.Group}
	if !info.Changed.IsZero() {
		f.Changed = info.Changed.UnixNano()
	}
	return f
}

func describe(path string, info fsys.Info) diff.Found {
	f := foundAs(&manifest.Entry{Path: path, Size: info.Size,
		Attributes: manifest.Attributes{Mode: info.Mode.Perm(), ModTime: info.ModTime}}, &info)
	switch info.Mode.Type() {
	case 0:
	case fs.ModeDir:
		f.Kind, f.Size = manifest.Dir, 0
	case fs.ModeSymlink:
		f.Kind, f.Size, f.Mode, f.Link = manifest.Link, 0, 0, info.Link
	default:
		f.Other = info.Mode.Type()
	}
	return f
}

// with gives an entry another digest, without altering one that it may have in common with the record.
func with(e *manifest.Entry, digest manifest.Digest) *manifest.Entry {
	own := *e
	own.Digest = digest
	return &own
}

// Adopt takes some paths for recorded as they were found: an earlier deployment of this program left them so, and
// nobody else altered them.
func (s *Site) Adopt(ctx context.Context, survey *Survey, which func(path string) bool) error {
	recorded := map[string]manifest.Entry{}
	for _, e := range survey.Entries() {
		if !which(e.Path) {
			recorded[e.Path] = e
		}
	}
	for i := range survey.Found {
		f := &survey.Found[i]
		if !which(f.Path) || f.Other != 0 {
			continue
		}
		e := *f.Entry
		if f.Kind == manifest.File {
			var err error
			if e.Digest, e.Size, err = fsys.DigestOf(ctx, s.fs, s.at(f.Path)); err != nil {
				return err
			}
			f.Entry = with(f.Entry, e.Digest)
		}
		recorded[f.Path] = e
	}
	m := &manifest.Manifest{}
	if survey.Recorded != nil {
		own := *survey.Recorded
		m = &own
	}
	m.Entries = make([]manifest.Entry, 0, len(recorded))
	for _, path := range slices.Sorted(maps.Keys(recorded)) {
		m.Entries = append(m.Entries, recorded[path])
	}
	survey.Recorded = m
	return nil
}

// markFilled marks the folders that something exists in.
func (s *Survey) markFilled() {
	folders := map[string]int{}
	for i := range s.Found {
		if s.Found[i].Kind == manifest.Dir {
			folders[s.Found[i].Path] = i
		}
	}
	last := ""
	for i := range s.Found {
		if dir, _ := fsys.Split(s.Found[i].Path); dir != "." && dir != last {
			last = dir
			if at, ok := folders[dir]; ok {
				s.Found[at].Filled = true
			}
		}
	}
	for _, odd := range append(slices.Clip(s.Odd), s.Shut...) {
		dir, _ := fsys.Split(odd)
		if at, ok := folders[dir]; ok {
			s.Found[at].Filled = true
		}
	}
}

// FoldsCase finds out, without writing, whether names that differ only in case are one name here: it looks the root,
// or what is above it, up in the other case. Where none of them has a letter in its name the answer is no.
func (s *Site) FoldsCase(ctx context.Context) (bool, error) { return s.foldsCaseAt(ctx, s.root) }

func (s *Site) foldsCaseAt(ctx context.Context, name string) (bool, error) {
	if s.fs.Abilities().WindowsNames {
		return true, nil
	}
	for ; name != "."; name, _ = fsys.Split(name) {
		dir, base := fsys.Split(name)
		swapped := swapCase(base)
		if swapped == base {
			continue
		}
		a, err := s.fs.Lstat(ctx, name)
		if err != nil {
			return false, ignoreAllButLost(err)
		}
		b, err := s.fs.Lstat(ctx, fsys.Join(dir, swapped))
		if err != nil {
			return false, ignoreAllButLost(err)
		}
		if a.Mode != b.Mode || !a.ModTime.Equal(b.ModTime) {
			return false, nil
		}
		// Two folders that look alike may still be two: then the one above lists both.
		list, err := s.fs.List(ctx, dir)
		if err != nil {
			return false, ignoreAllButLost(err)
		}
		return !slices.ContainsFunc(list, func(i fsys.Info) bool { return i.Name == swapped }), nil
	}
	return false, nil
}

func ignoreAllButLost(err error) error {
	if errors.Is(err, farend.ErrLost) || errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}

func swapCase(s string) string {
	if lower := strings.ToLower(s); lower != s {
		return lower
	}
	return strings.ToUpper(s)
}

// Wanted is a content beside which a site is put.
type Wanted struct {
	Entries []manifest.Entry // sorted by path
	Rule    diff.Rule        // by what files count as equal; what the place can tell apart is filled in
	Retire  Retire
	Kept    []string // paths that stay as they are, with all below them: what they should be is not known
	Gone    []string // paths of those that do not stay, with all below them
}

func (s *Site) allApart(want manifest.Walk) (err error) {
	if !s.isInside() {
		return nil
	}
	want(func(e *manifest.Entry) bool {
		err = s.apart("write", e.Path)
		return err == nil
	})
	return err
}

// Compare finds what must change at the site, reading there what it must. Told is called with bytes as they are read,
// perhaps from several goroutines; it may be nil.
func (s *Site) Compare(ctx context.Context, survey *Survey, want *Wanted,
	told func(bytes int64)) (*diff.Result, error) {
	if err := s.checkShut(survey, want.Entries); err != nil {
		return nil, err
	}
	if err := s.allApart(manifest.Listed(want.Entries)); err != nil {
		return nil, err
	}
	able := s.Abilities()
	rule, known := want.Rule, survey.Known()
	rule.Modes, rule.TimeStep = able.Modes, timeStep(able)
	var err error
	if rule.Owners, err = s.owners(want.Entries, known); err != nil {
		return nil, err
	}
	if err := s.resolve(ctx, survey, diff.Unresolved(want.Entries, survey.Found, known, rule), told); err != nil {
		return nil, err
	}
	result := diff.Compare(want.Entries, survey.Found, known, rule, Keeping(want.Kept, want.Gone))
	if err := s.mayGive(result, &rule); err != nil {
		return nil, err
	}
	s.part(survey, want, result)
	return result, nil
}

// Keeping tells which paths are kept, or lie below one that is, and do not go; nil: none.
func Keeping(kept, gone []string) func(path string) bool {
	if len(kept) == 0 {
		return nil
	}
	stays := map[string]bool{}
	for _, path := range kept {
		stays[path] = true
	}
	for _, path := range gone {
		stays[path] = false
	}
	return func(path string) bool {
		for ; path != "."; path, _ = fsys.Split(path) {
			if is, said := stays[path]; said {
				return is
			}
		}
		return stays["."]
	}
}

// resolve computes the digests of found files from their bytes. A file that cannot be read keeps a digest of zero.
// Told is called with the size of each file done, perhaps from several goroutines; it may be nil.
func (s *Site) resolve(ctx context.Context, survey *Survey, open []int, told func(bytes int64)) error {
	names := make([]string, len(open))
	for i, at := range open {
		names[i] = s.at(survey.Found[at].Path)
	}
	var mu sync.Mutex
	_, err := fsys.Digests(ctx, s.fs, names, s.jobs, func(i int, digest manifest.Digest, err error) {
		f := &survey.Found[open[i]]
		if err == nil {
			f.Entry = with(f.Entry, digest)
		} else {
			mu.Lock()
			if survey.unread == nil {
				survey.unread = map[string]error{}
			}
			survey.unread[f.Path] = err
			mu.Unlock()
		}
		if told != nil {
			told(f.Size)
		}
	})
	return err
}
