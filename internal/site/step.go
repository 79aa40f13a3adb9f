package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"tartine/internal/fsys"
)

// do does one step, or finds that it has been done.
func (s *Site) do(ctx context.Context, st step) error {
	name := s.at(st.Path)
	switch st.Do {
	case doPlace:
		if st.Keep != "" {
			if err := s.keep(ctx, st); err != nil {
				return err
			}
		}
		err := s.fs.Rename(ctx, s.inRecord(st.From), name)
		if errors.Is(err, fs.ErrNotExist) {
			return s.placedAlready(ctx, st, err)
		}
		return err
	case doLink:
		if info, err := s.fs.Lstat(ctx, name); err == nil && info.Mode&fs.ModeSymlink != 0 && info.Link == st.Link {
			return nil
		}
		if st.Keep != "" {
			if err := s.keep(ctx, st); err != nil {
				return err
			}
		}
		if err := s.fs.Symlink(ctx, st.Link, s.inRecord(st.From)); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		return s.fs.Rename(ctx, s.inRecord(st.From), name)
	case doMode:
		return s.fs.SetAttr(ctx, name, fsys.Attr{Mode: st.Mode})
	case doFolder:
		err := s.fs.Mkdir(ctx, name, st.Mode)
		if errors.Is(err, fs.ErrExist) {
			if info, err := s.fs.Lstat(ctx, name); err == nil && info.Mode.IsDir() {
				return nil
			}
		}
		return err
	case doCarry:
		return s.carry(ctx, st)
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

// remove removes a file or link, or moves it to the kept store.
func (s *Site) remove(ctx context.Context, st step) error {
	name := s.at(st.Path)
	if st.Keep != "" {
		if err := s.fs.Rename(ctx, name, s.inRecord(st.Keep)); err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fsys.ErrLost) {
			return ignoreMissing(err)
		}
	}
	if err := s.fs.Remove(ctx, name); err != nil {
		return s.ignoreGone(ctx, name, err)
	}
	return nil
}

// ignoreGone passes over an error about a name that is gone, perhaps because what was a folder above it is one no more.
func (s *Site) ignoreGone(ctx context.Context, name string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for dir, _ := fsys.Split(name); dir != "."; dir, _ = fsys.Split(dir) {
		if info, failed := s.fs.Lstat(ctx, dir); failed == nil {
			if !info.Mode.IsDir() {
				return nil
			}
			break
		}
	}
	return err
}

// clear removes a folder if it is empty. One that is not stays, and so does what is no folder.
func (s *Site) clear(ctx context.Context, name string) error {
	info, err := s.fs.Lstat(ctx, name)
	if err != nil {
		return s.ignoreGone(ctx, name, err)
	}
	if !info.Mode.IsDir() { // Remove would take a file too
		return nil
	}
	err = s.fs.Remove(ctx, name)
	if err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fsys.ErrLost) {
		return ignoreMissing(err)
	}
	if list, failed := s.fs.List(ctx, name); failed == nil && len(list) > 0 {
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
	if st.Do == doPlace {
		if _, err := s.fs.Lstat(ctx, s.inRecord(st.From)); err != nil {
			return ignoreAllButLost(err) // placed already: what stands is the new content
		}
	}
	return ignoreAllButLost(linker.Link(ctx, s.at(st.Path), s.inRecord(st.Keep)))
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// placedAlready tells a staged file that was put in place before from one that is missing.
func (s *Site) placedAlready(ctx context.Context, st step, missing error) error {
	digest, _, err := fsys.DigestOf(ctx, s.fs, s.at(st.Path))
	if err == nil && st.Digest != nil && digest == *st.Digest {
		return nil
	}
	if errors.Is(err, fsys.ErrLost) {
		return err
	}
	return missing
}

func (s *Site) differs(st step, info fsys.Info, there bool) string {
	switch {
	case !there:
		return "it is missing"
	case st.Do == doLink && (info.Mode&fs.ModeSymlink == 0 || info.Link != st.Link):
		return fmt.Sprintf("it is no link to %s", st.Link)
	case st.Do == doPlace && (!info.Mode.IsRegular() || info.Size != st.Size):
		return fmt.Sprintf("it has %d bytes instead of %d", info.Size, st.Size)
	case st.Do != doLink && s.Abilities().Modes && info.Mode.Perm() != st.Mode.Perm():
		return fmt.Sprintf("it has mode %04o instead of %04o", info.Mode.Perm(), st.Mode.Perm())
	}
	return ""
}
