package site

import (
	"context"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// timeStep gives to what granularity times are compared. Where they cannot be set they say nothing, but that a file
// that is older than the record has not been altered since.
func timeStep(able fsys.Abilities) time.Duration {
	if able.NoTimes {
		return math.MaxInt64
	}
	return able.TimeStep
}

// Where a place tells when anything about a file changed last, which unlike its time nobody can set, a file is believed
// only when that was not later than the record was completed: then nothing has touched it since. An alteration that
// keeps size and time is found by that. So is what altered nothing, such as a change of rights there and back; it is
// read once, and when it is as recorded deployments/N.seen notes up to when changes are known to have altered nothing:
// up to the latest that the survey found.
//
// Changes are dated in steps. What is altered after the record was completed, or after a file was read, may bear the
// same time, or one of the step before; so only what changed a whole step before that is known.

// longestStep is the coarsest step in which systems date changes: a timer ticks at least 100 times a second. See
// changeStep.
const longestStep = 10 * time.Millisecond

func seenFile(number int) string { return fmt.Sprintf("deployments/%d.seen", number) }

// knownUntil gives up to when changes of files are known; 0: the place does not tell.
func (s *Site) knownUntil(ctx context.Context, number int) (int64, error) {
	info, err := s.fs.Lstat(ctx, s.inRecord("current"))
	if err != nil || info.Changed.IsZero() {
		return 0, err
	}
	known := info.Changed.Add(-changeStep()).UnixNano()
	text, err := s.read(ctx, seenFile(number), mostShort)
	if err != nil {
		return known, ignoreMissing(err)
	}
	seen, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	if err != nil {
		return 0, &RecordError{s.inRecord(seenFile(number)), err}
	}
	return max(known, seen), nil
}

// changed gives when anything that was found changed last.
func (s *Survey) changed() (last int64) {
	for i := range s.Found {
		last = max(last, s.Found[i].Changed)
	}
	return last
}

// believe takes digests from the record for files that have the recorded size and time, if that is before settled, and
// of which nothing has changed after what is known; 0: the place does not tell. It gives those that it would believe if
// they were older.
func (s *Survey) believe(abilities fsys.Abilities, settled time.Time, known int64) (young []int) {
	step := timeStep(abilities)
	recorded := s.Known()
	r := 0
	for i := range s.Found {
		f := &s.Found[i]
		for r < len(recorded) && recorded[r].Path < f.Path {
			r++
		}
		if r == len(recorded) {
			break
		}
		e := &recorded[r]
		if e.Path == f.Path && e.Kind == manifest.File && f.Kind == manifest.File && f.Other == 0 &&
			e.Size == f.Size && diff.SameTime(e.ModTime, f.ModTime, step) {
			dated := e.ModTime
			if abilities.NoTimes {
				dated = f.ModTime
			}
			if dated.Before(settled) && (known == 0 || f.Changed <= known) {
				if f.Digest != e.Digest {
					f.Entry = knownAs(with(f.Entry, e.Digest), e, abilities)
				}
				continue
			}
			young = append(young, i)
		}
		if !f.Digest.IsZero() { // it has its entry in common with what is recorded, and is not believed
			f.Entry = with(f.Entry, manifest.Digest{})
		}
	}
	return young
}

// knownAs gives a file the attributes that are recorded of it where the place does not tell them.
func knownAs(found, recorded *manifest.Entry, able fsys.Abilities) *manifest.Entry {
	if !able.Modes {
		found.Mode = recorded.Mode
	}
	if able.NoTimes {
		found.ModTime = recorded.ModTime
	}
	return found
}

// datesOf asks for the dates of files that are too young by a listing, where the place tells more exactly of single
// files than in its listings, and believes those that were dated before the record after all.
func (s *Site) datesOf(ctx context.Context, out *Survey, young []int, record string) error {
	paths := make([]string, len(young))
	for n, i := range young {
		paths[n] = out.Found[i].Path
	}
	older, err := s.older(ctx, paths, record)
	if err != nil || older == nil {
		return err
	}
	entries := inOrder(out.Known(), func(e *manifest.Entry) string { return e.Path })
	for n, i := range young {
		f := &out.Found[i]
		if older(n) {
			e := entries(f.Path)
			f.Entry = knownAs(with(f.Entry, e.Digest), e, s.Abilities())
		}
	}
	return nil
}

// older asks for the dates of files, and gives what tells which were dated before the record; nil: the place tells no more than in
// its listings.
func (s *Site) older(ctx context.Context, paths []string, record string) (is func(i int) bool, err error) {
	dater, ok := s.fs.(fsys.Dater)
	if !ok || len(paths) == 0 || s.Abilities().TimeStep < time.Minute {
		return nil, nil
	}
	names := []string{s.inRecord(record)}
	for _, path := range paths {
		names = append(names, s.at(path))
	}
	dates := make([]time.Time, len(names))
	if err := dater.Dates(ctx, names, func(i int, when time.Time) { dates[i] = when }); err != nil {
		return nil, ignoreAllButLost(err)
	}
	return func(i int) bool {
		when := dates[i+1]
		return !when.IsZero() && when.Before(dates[0].Add(-settleTime))
	}, nil
}
