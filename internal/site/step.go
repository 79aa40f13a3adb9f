package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// A publish is a list of phases, each of them steps that may be done in any order or at the same time. An interrupted
// publish is finished by doing all of its steps again from the first on, as often as it takes. That is right because
// each step looks at what is there before it acts, and what is there tells whether it has been done:
//
//	step    before it                              after it                               done, when
//	folder  nothing is there, or a folder      a folder with that mode                a folder exists there
//	place   the staged file is in the record   the file, with that digest             the staged file is gone, and the digest is right
//	link    a file, a link, or nothing             a link that says so                    such a link exists there
//	mode    a file or folder                       the same with that mode and owner      always done again
//	remove  a file or link                         no file and no link                    nothing is there, or a folder
//	clear   an empty folder                        no empty folder                        nothing is there, or no folder, or one with content
//	carry   a file or link is in an earlier tree   the same file, or its copy, or such a link   a file of that size, or a link, exists there
//	fill    what is recorded is in an earlier tree, or a step is about it   its folders, and all that no step is about, as by carry   always done again
//	appear  the fresh tree is in the record    it is the root, or its first tree      it is gone from there, and a folder is here
//	switch  the root is a link, or nothing         the link leads to the tree             it does
//
// A path that a journal removes as a file is never a file again by the same journal, and one that it clears as a folder
// never a folder; so "done" cannot be mistaken. Where a folder on the way to a path is missing or is not a folder,
// nothing exists at the path, which is all that remove and clear want, and no other step may go on: see ground.

// step is one change of the site.
type step struct {
	Do   string      `json:"do,omitempty"`
	Path string      `json:"path,omitempty"`
	From string      `json:"from,omitempty"` // the name in the record that is put in place; empty, of a file: its usual place
	Keep string      `json:"keep,omitempty"` // the name in the record that what is replaced or removed gets
	Link string      `json:"link,omitempty"`
	Mode fs.FileMode `json:"mode,omitempty"`
	Size int64       `json:"size,omitempty"`
	// Like tells that what is replaced hands its access lists and extended attributes on.
	Like bool `json:"like,omitempty"`
	// Owner is whom a file or folder belongs to; nil: that is not said.
	Owner *manifest.Owner `json:"owner,omitempty"`
	// Digest is of the file that is put in place.
	Digest *manifest.Digest `json:"digest,omitempty"`

	first bool // it is done for the first time: no journal says so
}

// What a step does.
const (
	doPlace  = "place"  // puts a staged file under its name
	doLink   = "link"   // makes or re-points a link
	doMode   = "mode"   // gives a file or folder its mode
	doFolder = "folder" // makes a folder
	doRemove = "remove" // removes a file or link
	doClear  = "clear"  // removes a folder, if it is empty
)

// StepError tells which step of a publish failed, and why.
type StepError struct {
	Do  string // what the step does: place, link, mode, folder, remove, clear, carry, appear or switch
	Err error
}

func (e *StepError) Error() string { return fmt.Sprintf("%s: %v", e.Do, e.Err) }

func (e *StepError) Unwrap() error { return e.Err }

// errStagedGone tells that a staged file is gone and was not put in place.
var errStagedGone = errors.New("what was staged for it is gone")

// from gives the name in the record that is put in place; empty: there is none.
func (st *step) from() string {
	if st.Do == doPlace && st.From == "" && st.Digest != nil {
		return usualPlace(st.Digest)
	}
	return st.From
}

// touches gives the names in fs that a step reads or writes.
func (s *Site) touches(st *step) []string {
	var names []string
	switch st.Do {
	case doAppear, doSwitch: // the root itself
	case doFill: // what is in the two trees
		names = append(names, s.at("."+doFill))
		if st.From != "" {
			names = append(names, fsys.Join(st.From, "."+doFill))
		}
		return names
	default:
		names = append(names, s.at(st.Path))
	}
	switch {
	case st.Do == doCarry:
		names = append(names, st.From)
	case st.from() != "":
		names = append(names, s.inRecord(st.from()))
	}
	if st.Keep != "" {
		names = append(names, s.inRecord(st.Keep))
	}
	return names
}

// do does one step, or finds that it has been done.
func (s *Site) do(ctx context.Context, g *ground, st step) error {
	st.From = st.from()
	removes := st.Do == doRemove || st.Do == doClear
	for i, name := range s.touches(&st) {
		if err := g.under(name); err != nil {
			switch {
			case removes && i == 0 && gone(err):
				return nil
			case st.Do == doPlace && i == 1 && errors.Is(err, fs.ErrNotExist):
				return s.placedAlready(ctx, st)
			}
			return err
		}
	}
	name := s.at(st.Path)
	switch st.Do {
	case doPlace:
		return s.place(ctx, st)
	case doLink:
		return s.link(ctx, st)
	case doMode:
		info, err := s.fs.Lstat(ctx, name)
		if err != nil {
			return err
		}
		if !info.Mode.IsRegular() && !info.Mode.IsDir() { // a link would be followed
			return &fs.PathError{Op: "set mode of", Path: name, Err: fmt.Errorf("it is %s", kindOf(info.Mode))}
		}
		return s.fs.SetAttr(ctx, name, fsys.Attributes{Mode: st.Mode, Owner: st.Owner})
	case doFolder:
		return s.makeFolder(ctx, st.Path, fsys.Attributes{Mode: st.Mode, Owner: st.Owner})
	case doFill:
		return nil // there is ground for it; see publish.fill
	case doCarry:
		return s.carry(ctx, &st)
	case doAppear:
		return s.appear(ctx, st)
	case doSwitch:
		return s.switchTo(ctx, s.live)
	case doRemove:
		return s.remove(ctx, st)
	case doClear:
		return s.clear(ctx, name)
	default:
		return fmt.Errorf("the journal has an unknown step %q", st.Do)
	}
}

// makeFolder makes a folder that is like attr, or has the one that is there be.
func (s *Site) makeFolder(ctx context.Context, path string, attr fsys.Attributes) error {
	name := s.at(path)
	err := s.fs.Mkdir(ctx, name, attr.Mode)
	if errors.Is(err, fs.ErrExist) {
		info, failed := s.fs.Lstat(ctx, name)
		switch {
		case errors.Is(failed, farend.ErrLost):
			return failed
		case failed == nil && info.Mode.IsDir():
			return s.fs.SetAttr(ctx, name, attr) // it may have been cut short between the two
		}
	}
	if err == nil && attr.Owner != nil {
		err = s.fs.SetAttr(ctx, name, attr)
	}
	return err
}

// place puts a staged file under its name.
func (s *Site) place(ctx context.Context, st step) error {
	if st.Keep != "" {
		if err := s.keep(ctx, st); err != nil {
			return err
		}
	}
	if st.Like {
		if err := s.liken(ctx, st); err != nil {
			return err
		}
	}
	err := s.fs.Rename(ctx, s.inRecord(st.From), s.at(st.Path))
	if errors.Is(err, fs.ErrNotExist) {
		return s.placedAlready(ctx, st)
	}
	return err
}

// liken gives a staged file the access lists and extended attributes of the file that it replaces, if there is one.
func (s *Site) liken(ctx context.Context, st step) error {
	likener, ok := s.fs.(fsys.Likener)
	if !ok {
		return errNoLikener
	}
	from := s.inRecord(st.From)
	if info, err := s.fs.Lstat(ctx, s.at(st.Path)); err != nil || !info.Mode.IsRegular() {
		return ignoreAllButLost(err)
	}
	if _, err := s.fs.Lstat(ctx, from); err != nil {
		return ignoreMissing(err) // placed already
	}
	if err := likener.Liken(ctx, s.at(st.Path), from); err != nil {
		return err
	}
	return s.fs.SetAttr(ctx, from, fsys.Attributes{Mode: st.Mode, Owner: st.Owner}) // an access list has a part in the mode
}

var errNoLikener = errors.New("in the way in which this site is reached the attributes of what is replaced cannot be kept (keep_attributes)")

// placedAlready tells a staged file that was put in place before from one that is missing.
func (s *Site) placedAlready(ctx context.Context, st step) error {
	digest, _, err := fsys.DigestOf(ctx, s.fs, s.at(st.Path))
	switch {
	case err == nil && st.Digest != nil && digest == *st.Digest:
		return nil
	case errors.Is(err, farend.ErrLost), ctx.Err() != nil:
		return err
	}
	return errStagedGone
}

// link makes or re-points a link.
func (s *Site) link(ctx context.Context, st step) error {
	name, from := s.at(st.Path), s.inRecord(st.From)
	if info, err := s.fs.Lstat(ctx, name); err == nil && info.Mode&fs.ModeSymlink != 0 && info.Link == st.Link {
		return nil
	}
	if st.Keep != "" {
		if err := s.keep(ctx, st); err != nil {
			return err
		}
	}
	if err := s.freshLink(ctx, st.Link, from); err != nil {
		return err
	}
	return s.fs.Rename(ctx, from, name)
}

// freshLink makes a link where nobody looks yet. What an attempt before left under its name goes.
func (s *Site) freshLink(ctx context.Context, target, name string) error {
	err := s.fs.Symlink(ctx, target, name)
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if info, failed := s.fs.Lstat(ctx, name); failed == nil && info.Mode&fs.ModeSymlink != 0 && info.Link == target {
		return nil
	}
	if err := s.fs.Remove(ctx, name); err != nil {
		return err
	}
	return s.fs.Symlink(ctx, target, name)
}

// remove removes a file or link; a file is moved to the kept store where there is a name for it.
func (s *Site) remove(ctx context.Context, st step) error {
	name := s.at(st.Path)
	info, err := s.fs.Lstat(ctx, name)
	if err != nil {
		return ignoreMissing(err)
	}
	if info.Mode.IsDir() {
		return nil
	}
	if st.Keep != "" && info.Mode.IsRegular() {
		if err := s.fs.Rename(ctx, name, s.inRecord(st.Keep)); errors.Is(err, farend.ErrLost) {
			return err
		}
		// Where both names were one file, a rename leaves both; and one that cannot be kept goes all the same.
	}
	return ignoreMissing(s.fs.Remove(ctx, name))
}

// clear removes a folder if it is empty. One that is not stays, and so does what is no folder.
func (s *Site) clear(ctx context.Context, name string) error {
	info, err := s.fs.Lstat(ctx, name)
	if err != nil {
		return ignoreMissing(err)
	}
	if !info.Mode.IsDir() { // Remove would take a file too
		return nil
	}
	err = s.fs.Remove(ctx, name)
	if err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, farend.ErrLost) {
		return ignoreMissing(err)
	}
	list, failed := s.fs.List(ctx, name)
	switch {
	case errors.Is(failed, farend.ErrLost):
		return failed
	case failed == nil && len(list) > 0:
		return nil
	}
	return err
}

// keep gives what is about to be replaced a second name in the kept store. Where the far end cannot do that the content
// is not kept, and a rollback says so; replacing it in one step matters more.
func (s *Site) keep(ctx context.Context, st step) error {
	linker, ok := s.fs.(fsys.Linker)
	if !ok {
		return nil
	}
	if st.first && !s.Abilities().Links { // each look-up may be a round trip, and a copy is made of nothing but a file there
		return ignoreAllButLost(linker.Link(ctx, s.at(st.Path), s.inRecord(st.Keep)))
	}
	if st.Do == doPlace {
		if _, err := s.fs.Lstat(ctx, s.inRecord(st.From)); err != nil {
			return ignoreAllButLost(err) // placed already: what is there is the new content
		}
	}
	if info, err := s.fs.Lstat(ctx, s.at(st.Path)); err != nil || !info.Mode.IsRegular() {
		return ignoreAllButLost(err) // only files are kept
	}
	return ignoreAllButLost(linker.Link(ctx, s.at(st.Path), s.inRecord(st.Keep)))
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// differs tells how what is there after a step is not what the step wanted; empty: it is.
func (s *Site) differs(st step, info fsys.Info, there bool) string {
	switch {
	case !there:
		return "it is missing"
	case st.Do == doLink && (info.Mode&fs.ModeSymlink == 0 || info.Link != st.Link):
		return fmt.Sprintf("it is not a link to %s", st.Link)
	case st.Do == doPlace && (!info.Mode.IsRegular() || info.Size != st.Size):
		return fmt.Sprintf("it has %d bytes instead of %d", info.Size, st.Size)
	case st.Do != doLink && s.Abilities().Modes && info.Mode.Perm() != st.Mode.Perm():
		return fmt.Sprintf("it has mode %04o instead of %04o", info.Mode.Perm(), st.Mode.Perm())
	}
	if st.Do != doLink {
		return s.owned(st.Owner, info)
	}
	return ""
}
