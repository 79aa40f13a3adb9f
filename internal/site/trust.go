package site

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// The record decides what a deployment moves, links and removes. Where the folder beside the root is shared with
// others, one of them may have made a record beforehand, or put links into it. So a record counts only when it is a
// folder that belongs to whoever deploys or to the owner of the root, that no one else may write into, and whose parts
// are what they should be.

// UntrustedError tells that the record, or a file of it, is not what this program makes, so that it is not used.
type UntrustedError struct{ Reason string }

func (e *UntrustedError) Error() string { return e.Reason }

func untrusted(file, format string, args ...any) error {
	return &RecordError{file, &UntrustedError{fmt.Sprintf(format, args...)}}
}

// findRecord looks for the record. The root is described by info, if it exists.
func (s *Site) findRecord(ctx context.Context, root fsys.Info) error {
	for _, place := range s.recordPlaces() {
		info, err := s.fs.Lstat(ctx, place)
		if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
			return err
		}
		if err != nil {
			continue
		}
		if err := s.trust(ctx, place, info, root.User); err != nil {
			return err
		}
		s.record = place
		return s.trustParts(ctx)
	}
	return nil
}

// trust refuses a record that somebody else made or may write into.
func (s *Site) trust(ctx context.Context, place string, info fsys.Info, rootOwner fsys.User) error {
	if !info.Mode.IsDir() {
		return untrusted(place, "it is %s, not a folder", kindOf(info.Mode))
	}
	if !info.User.Known {
		return nil
	}
	if info.User != rootOwner {
		self, err := s.self(ctx, place)
		if err != nil {
			return err
		}
		if info.User != self {
			return untrusted(place, "it belongs to user %d, who is neither the one who logs in nor the owner of the root", info.User.ID)
		}
	}
	if others := fs.FileMode(0o022); s.Abilities().Modes {
		if s.shared {
			others = 0o002
		}
		if info.Mode&others != 0 {
			return untrusted(place, "others may write into it (mode %04o)", info.Mode.Perm())
		}
	}
	return nil
}

// self finds out as whom we work. Where the place does not know, whom something belongs to that we make beside the
// record tells.
func (s *Site) self(ctx context.Context, place string) (fsys.User, error) {
	if selfer, ok := s.fs.(fsys.Selfer); ok {
		if user, known := selfer.Self(ctx); known {
			return fsys.User{ID: user, Known: true}, nil
		}
	}
	dir, _ := fsys.Split(place)
	probe := fsys.Join(dir, ".tartine-"+rand.Text())
	if err := s.fs.Mkdir(ctx, probe, 0o700); err != nil {
		return fsys.User{}, ignoreAllButLost(err)
	}
	info, err := s.fs.Lstat(ctx, probe)
	_ = s.fs.Remove(context.WithoutCancel(ctx), probe) // an empty folder; at worst it stays
	return info.User, ignoreAllButLost(err)
}

// trustParts refuses a record whose folders are links or files, or whose files are something else.
func (s *Site) trustParts(ctx context.Context) error {
	list, err := s.fs.List(ctx, s.record)
	if errors.Is(err, fs.ErrPermission) {
		return nil // whoever needs it will find out
	}
	if err != nil {
		return err
	}
	for _, info := range list {
		isFolder := slices.Contains([]string{"deployments", incoming, kept, freshTree, aside}, info.Name)
		if isFolder && !info.Mode.IsDir() || !isFolder && info.Mode&fs.ModeSymlink != 0 {
			return untrusted(s.inRecord(info.Name), "it is %s", kindOf(info.Mode))
		}
	}
	return nil
}

// makeOwn makes a folder of the record. One that exists must be a folder itself.
func (s *Site) makeOwn(ctx context.Context, name string) error {
	err := s.fs.Mkdir(ctx, name, s.private(0o700))
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	info, err := s.fs.Lstat(ctx, name)
	if err == nil && !info.Mode.IsDir() {
		err = untrusted(name, "it is %s, not a folder", kindOf(info.Mode))
	}
	return err
}

// makeRecord makes the record in a place, or takes the one that exists there if it can be trusted.
func (s *Site) makeRecord(ctx context.Context, place string) error {
	err := s.fs.Mkdir(ctx, place, s.private(0o700))
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	info, failed := s.fs.Lstat(ctx, place)
	if failed != nil {
		return failed
	}
	root, failed := s.fs.Lstat(ctx, s.root)
	if errors.Is(failed, farend.ErrLost) {
		return failed
	}
	owner := root.User
	if err == nil { // it is ours, as long as nobody has put another one in its place
		if owner, failed = s.self(ctx, place); failed != nil {
			return failed
		}
		if !owner.Known {
			owner = info.User
		}
	}
	if failed := s.trust(ctx, place, info, owner); failed != nil {
		return failed
	}
	s.record = place
	if err != nil { // it was
		return s.trustParts(ctx)
	}
	return nil
}
