package site

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"strconv"
	"time"

	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// The order in which a publish is written down makes every point at which it can end safe:
//
//  1. deployments/N.json is written. It is not current yet, so nothing depends on it.
//  2. publish.json is written in one step. From now on the publish will be completed, by this run or the next.
//  3. The steps are done.
//  4. deployments/N.json is written again when some steps failed, then current names N.
//  5. publish.json is removed.
//
// Ending before 2 leaves the site as it was; after it, whoever comes next does steps 3 to 5 again.

const journalName = "publish.json"

type journal struct {
	Number  int       `json:"number"`
	Started time.Time `json:"started"`
	Tree    string    `json:"tree,omitempty"` // the tree that is built, when the site is switched
	Phases  [][]step  `json:"phases"`
}

func (s *Site) writeJournal(ctx context.Context, p *publish) error {
	if err := s.writeDeployment(ctx, p, p.out); err != nil {
		return err
	}
	text, err := json.Marshal(journal{p.number, time.Now().UTC(), p.tree, p.phases})
	if err != nil {
		return err
	}
	return s.write(ctx, journalName, text)
}

func (s *Site) writeDeployment(ctx context.Context, p *publish, out *Outcome) error {
	host, _ := os.Hostname()
	d := &manifest.Deployment{Number: p.number, At: time.Now().UTC().Truncate(time.Second), Host: host, Same: p.plan.Result.Same,
		SentFiles: out.SentFiles, SentBytes: out.SentBytes, Partial: len(p.undone) > 0 || p.plan.Incomplete, Rollback: p.plan.Rollback}
	if !p.plan.Started.IsZero() {
		d.Seconds = math.Round(time.Since(p.plan.Started).Seconds()*1000) / 1000
	}
	d.New, _ = p.plan.Result.Count(diff.New)
	d.Changed, _ = p.plan.Result.Count(diff.Changed)
	d.Retired, _ = p.plan.Result.Count(diff.Retired)
	if p.plan.Origin != nil {
		d.User = p.plan.Origin.User
	}
	m := &manifest.Manifest{Created: d.At, Generator: p.plan.Generator, Origin: p.plan.Origin, Deployment: d, Entries: p.entries()}
	tree := m.Tree()
	if err := s.writeIndex(ctx, p.number, m, tree); err != nil {
		return err
	}
	var text bytes.Buffer
	if err := m.WriteJSONAs(&text, tree); err != nil {
		return err
	}
	return s.write(ctx, deploymentFile(p.number), text.Bytes())
}

// finish makes a deployment current and ends its journal.
func (s *Site) finish(ctx context.Context, number int) error {
	if err := s.write(ctx, "current", []byte(strconv.Itoa(number)+"\n")); err != nil {
		return err
	}
	if err := s.fs.Remove(ctx, s.inRecord(journalName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return &RecordError{s.inRecord(journalName), err}
	}
	return nil
}

// recoverLocked finishes what a journal holds.
func (s *Site) recoverLocked(ctx context.Context) (int, error) {
	text, err := s.read(ctx, journalName)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	var j journal
	if err := json.Unmarshal(text, &j); err != nil || j.Number < 1 {
		return 0, &RecordError{s.inRecord(journalName), fmt.Errorf("the journal cannot be read: %w", err)}
	}
	for _, phase := range j.Phases {
		for _, st := range phase {
			if err := manifest.CheckPath(st.Path); err != nil && st.Path != "." {
				return 0, &RecordError{s.inRecord(journalName), err}
			}
		}
	}
	if j.Tree != "" {
		if s.trees == "" || j.Tree != s.tree(j.Number) {
			return 0, &RecordError{s.inRecord(journalName), errors.New(`the journal is of a target that is published by "switch"`)}
		}
		s.live = j.Tree
	}
	if len(j.Phases) == 0 {
		return 0, &RecordError{s.inRecord(journalName), errors.New("the journal has no steps")}
	}
	p := &publish{site: s, plan: &Plan{}, number: j.Number, phases: j.Phases, undone: map[string]bool{}}
	for _, phase := range p.phases {
		if err := p.doPhase(ctx, phase, &Watch{}); err != nil {
			return 0, err
		}
		if len(p.failed) > 0 {
			return 0, &RecordError{s.inRecord(journalName), fmt.Errorf("the interrupted publish cannot be finished: %w", &p.failed[0])}
		}
	}
	s.exists = true
	return j.Number, s.finish(ctx, j.Number)
}
