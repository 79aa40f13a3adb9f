// Package site is the engine of a site: the tree that stands at a target, and the record kept beside it.
//
// It works over any fsys.FS and promises, wherever that FS can:
//
//   - every file arrives under a private name in the record, is checked there, and gets its name by one rename;
//   - files that are what they should be are not touched;
//   - assets are published before pages, removals come after that, and emptied folders last;
//   - what is published is first written down in a journal, and whoever comes next finishes what a journal holds;
//   - one deployment at a time: the lock is a file that is renewed while its holder lives.
//
// The record lies beside the root as .NAME.tartine, or inside it as .tartine where nothing may be written beside it:
//
//	lock                 who deploys now, since when, until when
//	current              the number of the deployment that stands
//	deployments/N.json   its manifest, and who, when, from where, counts
//	deployments/N.index  the same entries, quicker to read (see index.go)
//	deployments/N.kept   the digests of what it replaced and kept
//	kept/xx/DIGEST       content that a later deployment replaced or removed, for rollback and for sending nothing twice
//	incoming/xx/DIGEST   content staged and not yet published
//	publish.json         the journal of a publish under way
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

	"tartine/internal/fsys"
)

// Site is one site. Its methods may not be called at the same time.
type Site struct {
	fs     fsys.FS
	root   string // a name in fs
	label  string // the root as a person knows it
	live   string // the name in fs of the tree that visitors see: the root, or where it leads
	trees  string // the folder of trees, when the root is a link to one of them; else empty
	record string // a name in fs; empty while no record stands
	jobs   int
	exists bool // the root stands
	shared bool // the root may be written by its group, and so may the record
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
}

// Open looks at a root, which need not stand yet, and finds its record. It writes nothing. The label is what messages
// call the root.
func Open(ctx context.Context, f fsys.FS, root, label string, opt Options) (*Site, error) {
	s := &Site{fs: f, root: root, live: root, label: label, jobs: opt.Jobs}
	if opt.Jobs <= 0 {
		s.jobs = DefaultJobs
	}
	if opt.Switch {
		s.trees = treesName(root)
	}
	info, err := f.Lstat(ctx, root)
	switch {
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return nil, &RootError{Root: label, Reason: "cannot be looked at: " + cause(err), Err: err}
	case s.trees != "":
		if err := s.followRoot(info, err); err != nil {
			return nil, err
		}
	case err == nil && !info.Mode.IsDir():
		return nil, &RootError{Root: label, Reason: "is no folder"}
	default:
		s.exists = err == nil
	}
	s.shared = err == nil && info.Mode.IsDir() && info.Mode&0o020 != 0
	for _, place := range s.recordPlaces() {
		info, err := f.Lstat(ctx, place)
		if errors.Is(err, fsys.ErrLost) {
			return nil, err
		}
		if err == nil && info.Mode.IsDir() {
			s.record = place
			break
		}
	}
	return s, nil
}

// RecordName gives the name of the record of a root, where it lies beside it.
func RecordName(root string) string { return "." + root + ".tartine" }

// recordPlaces gives where the record may lie, the better place first.
func (s *Site) recordPlaces() []string {
	inside := fsys.Join(s.root, InsideRecord)
	if s.root == "." {
		return []string{inside}
	}
	dir, base := fsys.Split(s.root)
	beside := fsys.Join(dir, RecordName(base))
	if s.trees != "" {
		return []string{beside} // the trees must be written beside the root too
	}
	return []string{beside, inside}
}

// Exists tells whether the root stands.
func (s *Site) Exists() bool { return s.exists }

// Abilities tells what the place can do.
func (s *Site) Abilities() fsys.Abilities { return s.fs.Abilities() }

// Close lets go of the place.
func (s *Site) Close() error { return s.fs.Close() }

func (s *Site) at(path string) string       { return fsys.Join(s.live, path) }
func (s *Site) inRecord(name string) string { return fsys.Join(s.record, name) }

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
		place := s.recordPlaces()[0]
		err := s.fs.Mkdir(ctx, place, s.private(0o700))
		switch {
		case err == nil, errors.Is(err, fs.ErrExist):
			s.record = place
		case errors.Is(err, fsys.ErrLost):
			return err
		default:
			makeRoot = true
		}
	}
	if !s.exists && makeRoot {
		made := s.root
		if s.trees != "" {
			made = s.trees
		}
		if err := s.fs.Mkdir(ctx, made, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return &RootError{Root: s.label, Reason: "cannot be made: " + cause(err), Err: err}
		}
		s.exists = s.trees == ""
	}
	for _, place := range s.recordPlaces() {
		if s.record != "" {
			break
		}
		err := s.fs.Mkdir(ctx, place, s.private(0o700))
		if err == nil || errors.Is(err, fs.ErrExist) {
			s.record = place
			if err := s.shut(ctx); err != nil {
				return err
			}
		} else if s.trees != "" || place == fsys.Join(s.root, InsideRecord) || errors.Is(err, fsys.ErrLost) {
			return &RootError{Root: s.label, Reason: "cannot be written to: " + cause(err), Err: err}
		}
	}
	for _, name := range []string{"deployments", incoming, kept} {
		if err := s.fs.Mkdir(ctx, s.inRecord(name), s.private(0o700)); err != nil && !errors.Is(err, fs.ErrExist) {
			return &RootError{Root: s.label, Reason: "its record cannot be written to: " + cause(err), Err: err}
		}
	}
	return nil
}

// shut keeps web servers from giving out a record that lies inside the root, by what those read that can be told.
func (s *Site) shut(ctx context.Context) error {
	if s.record != fsys.Join(s.root, InsideRecord) {
		return nil
	}
	for name, text := range map[string]string{
		".htaccess":  "# This folder is not for visitors.\n<IfModule mod_authz_core.c>\nRequire all denied\n</IfModule>\n<IfModule !mod_authz_core.c>\nDeny from all\n</IfModule>\n",
		"index.html": "<!doctype html><title>Nothing to see</title>\n",
	} {
		if _, err := s.fs.Put(ctx, s.inRecord(name), strings.NewReader(text), fsys.Attr{Mode: 0o644}); err != nil {
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
		return &RootError{Root: s.label, Reason: "the folder above it does not stand", Parent: true}
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
