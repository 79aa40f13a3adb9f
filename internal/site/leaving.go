package site

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// Pages that visitors have open ask for what they refer to for a while after a deployment. So files that are no pages
// may stay for some time after they were retired: they are leaving. Deployments/N.leaving says which, and until when,
// by the clock of whoever publishes. The first deployment after that time removes them; until then they are neither
// strays nor part of what is recorded.

// Retire says what becomes of files that are retired.
type Retire struct {
	After time.Duration // how long they stay when they are no pages; 0: they go at once
	Now   bool          // those that are leaving go, too
	Last  []string      // patterns of pages
}

// MostLeave is how long a file may stay that was retired.
const MostLeave = 366 * 24 * time.Hour

func leavingFile(number int) string {
	return deploymentFile(number)[:len(deploymentFile(number))-len("json")] + "leaving"
}

// leavingEntry is a file that is leaving, as it is recorded.
type leavingEntry struct {
	Path   string          `json:"path"`
	Size   int64           `json:"size"`
	Mode   string          `json:"mode"`
	Digest manifest.Digest `json:"digest"`
	Time   time.Time       `json:"modified"`
	Until  time.Time       `json:"until"`
}

// readLeaving gives the files that are leaving since a deployment or one before it, sorted by path.
func (s *Site) readLeaving(ctx context.Context, number int) ([]diff.Leaving, error) {
	if number == 0 {
		return nil, nil
	}
	text, err := s.read(ctx, leavingFile(number), mostList)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []leavingEntry
	if err := json.Unmarshal(text, &list); err != nil {
		return nil, &RecordError{s.inRecord(leavingFile(number)), err}
	}
	var out []diff.Leaving
	for _, l := range list {
		mode, err := strconv.ParseUint(l.Mode, 8, 9)
		if err == nil {
			err = manifest.CheckPath(l.Path)
		}
		if err != nil || l.Size < 0 || len(out) > 0 && out[len(out)-1].Path >= l.Path {
			return nil, &RecordError{s.inRecord(leavingFile(number)), untrusted(leavingFile(number), "the entry of %q is not one", l.Path)}
		}
		out = append(out, diff.Leaving{Entry: manifest.Entry{Path: l.Path, Size: l.Size,
			Attributes: manifest.Attributes{Mode: fs.FileMode(mode), ModTime: l.Time}, Digest: l.Digest},
			Until: l.Until})
	}
	return out, nil
}

// writeLeaving writes down what is leaving after a deployment.
func (s *Site) writeLeaving(ctx context.Context, number int, list []diff.Leaving) error {
	if len(list) == 0 {
		return s.discard(ctx, []string{leavingFile(number)}) // of one with this number that was not finished
	}
	entries := make([]leavingEntry, len(list))
	for i, l := range list {
		entries[i] = leavingEntry{l.Path, l.Size, fmt.Sprintf("%04o", l.Mode.Perm()), l.Digest, l.ModTime.UTC(),
			l.Until.UTC()}
	}
	text, err := json.Marshal(entries)
	if err != nil {
		return err
	}
	return s.write(ctx, leavingFile(number), text)
}

// part takes what is leaving out of what is to be removed.
func (s *Site) part(survey *Survey, want *Wanted, result *diff.Result) {
	if want.Retire.After <= 0 && len(survey.leaving) == 0 {
		return
	}
	now := time.Now().UTC()
	isPage := pagesOf(want.Retire.Last)
	already := inOrder(survey.leaving, func(l *diff.Leaving) string { return l.Path })
	result.Changes = slices.DeleteFunc(result.Changes, func(c diff.Change) bool {
		if c.Status != diff.Retired || c.Found.Kind != manifest.File || c.Found.Other != 0 {
			return false
		}
		l := already(c.Path())
		switch {
		case want.Retire.Now || inTheWay(want.Entries, c.Path()):
			return false
		case l != nil && !now.Before(l.Until):
			return false
		case l != nil:
			result.Leaving = append(result.Leaving, *l)
		case want.Retire.After <= 0 || c.Drifted || isPage(c.Path()):
			return false
		default:
			entry := *c.Found.Entry
			result.Leaving = append(result.Leaving, diff.Leaving{Entry: entry,
				Until: now.Add(min(want.Retire.After, MostLeave)).Truncate(time.Second)})
			result.Stale = true // it is no longer part of what is recorded
		}
		return true
	})
}

// inTheWay tells whether something is wanted below a file, or as a file above it.
func inTheWay(want []manifest.Entry, path string) bool {
	i, _ := manifest.Find(want, path+"/")
	return i < len(want) && strings.HasPrefix(want[i].Path, path+"/") || belowLeaf(want, path)
}

// belowLeaf tells whether a file or a link is wanted above a path.
func belowLeaf(want []manifest.Entry, path string) bool {
	for slash := strings.LastIndexByte(path, '/'); slash > 0; slash = strings.LastIndexByte(path[:slash], '/') {
		if i, found := manifest.Find(want, path[:slash]); found && want[i].Kind != manifest.Dir {
			return true
		}
	}
	return false
}

// Known gives what is recorded and what is leaving, sorted by path.
func (s *Survey) Known() []manifest.Entry {
	if len(s.leaving) == 0 {
		return s.Entries()
	}
	out := slices.Clone(s.Entries())
	for _, l := range s.leaving {
		out = append(out, l.Entry)
	}
	slices.SortStableFunc(out, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) }) // what is recorded comes first
	return slices.CompactFunc(out, func(a, b manifest.Entry) bool { return a.Path == b.Path })
}
