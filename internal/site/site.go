// Package site is the engine of a site: the tree that is at a target, and the record kept beside it.
//
// It works over any fsys.FS and promises, wherever that FS can:
//
//   - every file arrives under a private name in the record, is checked there, and gets its name by one rename;
//   - files that are what they should be are not touched;
//   - assets are published before pages, removals come after that, and emptied folders last;
//   - what is published is first written down in a journal, and whoever comes next finishes what a journal holds;
//   - one deployment at a time: the lock is a file that is renewed while its holder lives.
//
// The record lies beside the root as .NAME.tartine, or inside it as .tartine where nothing may be written beside it (as
// NAME.tartine and tartine-record at servers that refuse names with a dot at the beginning):
//
//	lock                 who deploys now, since when, until when
//	current              the number of the current deployment
//	deployments/N.json   its manifest but for the entries, and who, when, from where, counts
//	deployments/N.blocks the entries that changed with it, by folders (see entries.go)
//	deployments/N.kept   the digests of what it replaced and kept
//	deployments/N.hand   it was made by hand; empty
//	kept/xx/DIGEST       content that a later deployment replaced or removed, for rollback and for sending nothing twice
//	incoming/xx/DIGEST   content staged and not yet published
//	publish.json         the journal of a publish under way
//	wipe.json            the site is being wiped (see wipe.go)
//	aside/               what could not be removed when it was
//	place.json           what the place was found to refuse
//
// Not promised: protection from other programs that write at the site in the moment of publishing. What they changed
// before the survey is found as drift; what they change between survey and publish is overwritten.
package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Site is one site. Its methods may not be called at the same time.
type Site struct {
	fs     fsys.FS
	root   string // a name in fs
	label  string // the root as a person knows it
	live   string // the name in fs of the tree that visitors see: the root, or where it leads
	trees  string // the folder of trees, when the root is a link to one of them; else empty
	record string // a name in fs; empty while no record exists
	jobs   int
	exists bool // the root exists
	shared bool // the root may be written by its group, and so may the record
	lease  time.Duration
	locked *hold // the lock, while it is held
	// digests of recorded deployments, as far as a watch needed them
	contents map[int]map[manifest.Digest]bool
	moved    string
	beside   func(Beside) (fsys.FS, error)
	briefAt  int      // entries; see Options.Brief
	narrowAt int      // entries; see Options.Narrow
	refused  []string // what the place is known to refuse, though it offers it; see place.go
	seen     int64    // when what the last survey found had changed last; see knownUntil
	shelved  *shelved // what is known of files of blocks
	foretold *foretelling
}

// InsideRecord is the record's name where it lies inside the root.
const InsideRecord = ".tartine"

// DefaultJobs is how many files are in flight at once unless told otherwise.
const DefaultJobs = 16

// RootError tells that the root cannot hold a site.
type RootError struct {
	Root   string
	Reason string
	Parent bool // the folder above it is missing
	Err    error
}

func (e *RootError) Error() string { return fmt.Sprintf("root %s: %s", e.Root, e.Reason) }

func (e *RootError) Unwrap() error { return e.Err }

// Failure is a path that could not be brought to the site, and why.
type Failure struct {
	Path string
	Err  error
}

func (f *Failure) Error() string { return fmt.Sprintf("%s: %v", f.Path, f.Err) }

// Options says how a site is opened.
type Options struct {
	Jobs   int  // files in flight at once; 0: DefaultJobs
	Switch bool // the root is a link to one of several trees (see switch.go)
	// Lease is how long a lock counts that is not renewed. It must be the same for all who deploy; 0: two minutes.
	Lease time.Duration
	// Moved is where the root leads, which is a link now and was a folder when it was deployed to last; empty: it is
	// not so.
	Moved string
	// Beside opens another tree of the same machine, to read it; nil: none can be.
	Beside func(Beside) (fsys.FS, error)
	// Brief is from how many entries on a survey may be brief (see brief.go); 0: 20,000, below which it would take longer to
	// unfold one than the memory is worth.
	Brief int
	// Narrow is how many entries may be in parts that differ for these to be compared as they are (see narrow.go); 0: an eighth of
	// all that is recorded, and 4,096 in any case.
	Narrow int
}

// Open looks at a root, which need not exist yet, and finds its record. It writes nothing. The label is what messages
// call the root.
func Open(ctx context.Context, f fsys.FS, root, label string, opt Options) (*Site, error) {
	s := &Site{fs: f, root: root, live: root, label: label, jobs: opt.Jobs, lease: opt.Lease, moved: opt.Moved, beside: opt.Beside, briefAt: opt.Brief, narrowAt: opt.Narrow, shelved: &shelved{}, foretold: &foretelling{}}
	if opt.Lease <= 0 {
		s.lease = DefaultLease
	}
	if opt.Jobs <= 0 {
		s.jobs = DefaultJobs
	}
	if opt.Brief <= 0 {
		s.briefAt = briefAt
	}
	if opt.Switch {
		s.trees = treesName(root)
	}
	if err := s.look(ctx); err != nil {
		return nil, err
	}
	return s, nil
}

// look finds out what of root and record exists.
func (s *Site) look(ctx context.Context) error {
	s.live, s.record, s.exists = s.root, "", false
	info, err := s.fs.Lstat(ctx, s.root)
	switch {
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return &RootError{Root: s.label, Reason: "cannot be looked at: " + cause(err), Err: err}
	case s.trees != "":
		if err := s.followRoot(info, err); err != nil {
			return err
		}
	case err == nil && !info.Mode.IsDir():
		return &RootError{Root: s.label, Reason: "is not a folder"}
	default:
		s.exists = err == nil
	}
	s.shared = err == nil && info.Mode.IsDir() && info.Mode&0o020 != 0
	if err := s.findRecord(ctx, info); err != nil {
		return err
	}
	return s.recall(ctx)
}

// RecordName gives the name of the record of a root, where it lies beside it.
func RecordName(root string) string { return "." + root + ".tartine" }

// recordPlaces gives where the record may lie, the better place first.
func (s *Site) recordPlaces() []string {
	dir, base := fsys.Split(s.root)
	if s.trees != "" {
		return []string{fsys.Join(dir, RecordName(base))} // the trees must be written beside the root too
	}
	var places []string
	if s.root != "." {
		places = append(places, fsys.Join(dir, RecordName(base)))
		if s.Abilities().OddNames {
			places = append(places, fsys.Join(dir, base+".tartine"))
		}
	}
	places = append(places, fsys.Join(s.root, InsideRecord))
	if s.Abilities().OddNames {
		places = append(places, fsys.Join(s.root, insideNoDot))
	}
	return places
}

// insideNoDot is the record's name inside the root where names may not begin with a dot. Beside the root it is
// NAME.tartine then.
const insideNoDot = "tartine-record"

// isInside tells whether the record lies inside the root.
func (s *Site) isInside() bool {
	return s.record != "" && (s.root == "." || strings.HasPrefix(s.record, s.root+"/"))
}

// Abilities tells what the place can do.
func (s *Site) Abilities() fsys.Abilities { return s.fs.Abilities() }

// Close lets go of the place.
func (s *Site) Close() error { return s.fs.Close() }

// isNear tells whether the place is on the machine of the engine, where nothing is lost between the two, and one file can be
// used while another one is.
func (s *Site) isNear() bool {
	_, syncs := s.fs.(fsys.Syncer)
	return syncs
}

func (s *Site) at(path string) string       { return fsys.Join(s.live, path) }
func (s *Site) inRecord(name string) string { return fsys.Join(s.record, name) }

// ErrRecord tells that a path of the site is where its record is.
var ErrRecord = errors.New("the record of the site is there")

// apart fails for a path that belongs to the record, where that is in the root.
func (s *Site) apart(op, path string) error {
	if !s.isInside() || s.at(path) != s.record && !strings.HasPrefix(s.at(path), s.record+"/") {
		return nil
	}
	return &fs.PathError{Op: op, Path: path, Err: ErrRecord}
}

// private gives the mode of what is in the record: for the owner alone, or, where the root is shared by a group, for
// that group too.
func (s *Site) private(mode fs.FileMode) fs.FileMode {
	if s.shared {
		return mode | mode>>3&0o070
	}
	return mode
}

// prepare makes what is missing of root and record. Parents of the root are made only when asked.
func (s *Site) prepare(ctx context.Context, makeParents, makeRoot bool) error {
	if !s.exists {
		if err := s.makeParents(ctx, makeParents); err != nil {
			return err
		}
	}
	if !makeRoot && s.record == "" { // the root comes later, unless the record can only lie in it
		var record *RecordError
		err := s.makeRecord(ctx, s.recordPlaces()[0])
		if errors.Is(err, farend.ErrLost) || errors.As(err, &record) {
			return err
		}
		makeRoot = err != nil
	}
	if !s.exists && makeRoot {
		if err := s.makeRoot(ctx); err != nil {
			return err
		}
	}
	if s.record == "" {
		if err := s.makeRecordSomewhere(ctx); err != nil {
			return err
		}
	}
	return s.makeParts(ctx)
}

// makeRoot makes the root, or, where that is a link, the folder of the trees that it leads to.
func (s *Site) makeRoot(ctx context.Context) error {
	made := s.root
	if s.trees != "" {
		made = s.trees
	}
	if err := s.fs.Mkdir(ctx, made, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return &RootError{Root: s.label, Reason: "cannot be made: " + cause(err), Err: err}
	}
	s.exists = s.trees == ""
	return nil
}

// makeRecordSomewhere makes the record in the first place where that can be.
func (s *Site) makeRecordSomewhere(ctx context.Context) error {
	var (
		record *RecordError
		err    error
	)
	for _, place := range s.recordPlaces() {
		err = s.makeRecord(ctx, place)
		switch {
		case err == nil:
			return s.shut(ctx)
		case errors.As(err, &record):
			return err
		case errors.Is(err, farend.ErrLost):
			return &RootError{Root: s.label, Reason: "cannot be written to: " + cause(err), Err: err}
		}
	}
	return &RootError{Root: s.label, Reason: "cannot be written to: " + cause(err), Err: err}
}

// makeParts makes the folders of the record that are missing.
func (s *Site) makeParts(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	for _, name := range []string{"deployments", incoming, kept} {
		group.Go(func() error {
			err := s.makeOwn(ctx, s.inRecord(name))
			var record *RecordError
			if err != nil && !errors.As(err, &record) {
				err = &RootError{Root: s.label, Reason: "its record cannot be written to: " + cause(err), Err: err}
			}
			return err
		})
	}
	return group.Wait()
}

// shut keeps web servers from giving out a record that lies inside the root, by what those read that can be told.
func (s *Site) shut(ctx context.Context) error {
	if !s.isInside() {
		return nil
	}
	for name, text := range map[string]string{
		".htaccess":  "# This folder is not for visitors.\n<IfModule mod_authz_core.c>\nRequire all denied\n</IfModule>\n<IfModule !mod_authz_core.c>\nDeny from all\n</IfModule>\n",
		"index.html": "<!doctype html><title>Nothing to see</title>\n",
	} {
		if _, err := s.fs.Put(ctx, s.inRecord(name), strings.NewReader(text),
			fsys.Attributes{Mode: 0o644}); err != nil && (!strings.HasSuffix(s.record, insideNoDot) ||
			errors.Is(err, farend.ErrLost)) {
			return &RootError{Root: s.label, Reason: "its record cannot be written to: " + cause(err), Err: err}
		}
	}
	return nil
}

func (s *Site) makeParents(ctx context.Context, allowed bool) error {
	parent, _ := fsys.Split(s.root)
	var missing []string
	for dir := parent; dir != "."; dir, _ = fsys.Split(dir) {
		_, err := s.fs.Lstat(ctx, dir)
		if err == nil {
			break
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		missing = append(missing, dir)
	}
	if len(missing) > 0 && !allowed {
		return &RootError{Root: s.label, Reason: "the folder above it does not exist", Parent: true}
	}
	for i := len(missing) - 1; i >= 0; i-- {
		if err := s.fs.Mkdir(ctx, missing[i], 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return &RootError{Root: s.label, Reason: "the folder above it cannot be made: " + cause(err), Err: err}
		}
	}
	return nil
}

// cause gives an error without the operation and name that a message around it has already.
func cause(err error) string {
	var inner *fs.PathError
	if errors.As(err, &inner) {
		return inner.Err.Error()
	}
	return err.Error()
}
