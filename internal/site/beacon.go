package site

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"
	"strings"

	"tartine/internal/fsys"
)

// A beacon is a small file that is put into the root for a moment, to find out whether it comes through the web. It is
// not recorded, and nothing else may have its name.

var beaconPattern = regexp.MustCompile(`^tartine-[a-z2-7]{26}\.txt$`)

// mostBeacon is how much a beacon may say, in bytes.
const mostBeacon = 256

// PutBeacon puts a beacon into the root. It fails with fs.ErrExist where something has its name.
func (s *Site) PutBeacon(ctx context.Context, name, text string) error {
	if !beaconPattern.MatchString(name) || len(text) > mostBeacon {
		return fmt.Errorf("%w: %q is not a beacon", fs.ErrInvalid, name)
	}
	if !s.exists {
		return fs.ErrNotExist
	}
	if in, err := s.fs.Open(ctx, s.at(name)); !errors.Is(err, fs.ErrNotExist) {
		if err != nil {
			return err
		}
		defer in.Close()
		if there, err := io.ReadAll(io.LimitReader(in, mostBeacon+1)); err != nil || string(there) != text {
			return errors.Join(err, fs.ErrExist)
		}
		return nil // this was asked before
	}
	_, err := s.fs.Put(ctx, s.at(name), strings.NewReader(text), fsys.Attributes{Mode: 0o644})
	return err
}

// RemoveBeacon removes it.
func (s *Site) RemoveBeacon(ctx context.Context, name string) error {
	if !beaconPattern.MatchString(name) {
		return fmt.Errorf("%w: %q is not a beacon", fs.ErrInvalid, name)
	}
	if err := s.fs.Remove(ctx, s.at(name)); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
