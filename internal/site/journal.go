package site

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// The order in which a publish is written down makes every point at which it can end safe, also when the power fails
// and what was not synced is lost. "Sync" is that of the place as a whole where it has one (see fsys.Syncer), and
// stands for every file and every name written before.
//
//  1. Everything is staged. deployments/N.json is written aside; sync; it gets its name.
//     It is not current, so nothing depends on it.
//  2. publish.json, the journal, is written aside; sync; it gets its name; sync. The first sync makes what is staged and
//     deployments/N.json durable before the journal speaks of them, the second makes the journal durable before its first
//     step is done. From now on the publish will be completed, by this run or by the next of anything.
//  3. The steps are done, with a sync behind those that make folders: a file is not to be moved to where it may be lost.
//  4. deployments/N.json is written again when some steps failed. current, which names N, is written aside; sync, which
//     makes the steps durable; it gets its name; sync.
//  5. publish.json is replaced by one that says that all is done; sync. What is no longer of use is removed: staged files,
//     old trees, deployments that are no longer kept.
//  6. publish.json is removed.
//
// Ending before 2 leaves the site as it was. After it, whoever comes next does steps 3 to 6 again, or from 5 on step 6
// alone with what is left to remove; step.go says why doing steps again is right. At a place without a sync of the
// whole (SFTP, FTP) files are durable one by one, if the server can, and the order of names is up to its file system.

const journalName = "publish.json"

type journal struct {
	Version int       `json:"version,omitempty"` // see runs.go
	Number  int       `json:"number"`
	Started time.Time `json:"started"`
	Tree    string    `json:"tree,omitempty"`     // the tree that is built, when the site is switched
	History int       `json:"history,omitempty"`  // how many deployments are kept; 0: DefaultHistory
	TakesUp int       `json:"takes_up,omitempty"` // the deployment that it takes up; 0: none
	Staged  bool      `json:"staged,omitempty"`   // what is staged is still wanted when all is done: some of it failed
	// the steps are done and N is current; there is only something to remove
	Done   bool     `json:"done,omitempty"`
	Phases [][]step `json:"phases,omitempty"`
}

func (p *publish) writeJournal(ctx context.Context) error {
	if err := p.site.writeDeployment(ctx, p, p.out); err != nil {
		return err
	}
	if err := p.site.sure(ctx, true); err != nil {
		return err
	}
	return p.site.putJournal(ctx, &journal{Number: p.number, Started: time.Now().UTC(), Tree: p.tree,
		History: p.plan.History, TakesUp: p.plan.takesUp(), Phases: p.phases})
}

func (s *Site) putJournal(ctx context.Context, j *journal) error {
	file := &making{site: s, ctx: ctx, name: journalName, streams: s.isNear()}
	defer file.giveUp()
	if err := j.writeTo(file); err != nil {
		return cmp.Or(file.giveUp(), err)
	}
	if err := file.end(); err != nil {
		return err
	}
	return s.makeDurable(ctx, journalName)
}

// readJournal reads and checks the journal; nil: there is none.
func (s *Site) readJournal(ctx context.Context) (*journal, error) {
	text, err := s.read(ctx, journalName, mostList)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	j, err := parseJournal(text)
	if err != nil {
		return nil, &RecordError{s.inRecord(journalName), fmt.Errorf("the journal cannot be read: %w", err)}
	}
	if err := s.checkJournal(j); err != nil {
		return nil, &RecordError{s.inRecord(journalName), err}
	}
	return j, nil
}

// checkJournal checks that every name in a journal has just the shape that publish gives it. Whoever can write in the
// record must not be able to have us move or overwrite what does not belong to the site.
func (s *Site) checkJournal(j *journal) error {
	untrusted := func(format string, args ...any) error { return &UntrustedError{fmt.Sprintf(format, args...)} }
	switch {
	case j.Number < 1 || j.Number > mostNumber:
		return untrusted("%d is not the number of a deployment", j.Number)
	case j.TakesUp < 0 || j.TakesUp >= j.Number:
		return untrusted("it takes up deployment %d", j.TakesUp)
	case j.History < 0:
		return untrusted("it keeps %d deployments", j.History)
	case j.Tree != "" && (s.trees == "" || j.Tree != s.tree(j.Number)):
		return untrusted(`it is of a target that is published by "switch"`)
	case !j.Done && len(j.Phases) == 0:
		return untrusted("it has no steps")
	}
	links := map[string]string{}
	for _, phase := range j.Phases {
		for i := range phase {
			if phase[i].Do == doLink {
				links[phase[i].Path] = phase[i].Link
			}
		}
	}
	for _, phase := range j.Phases {
		for i := range phase {
			if err := s.checkStep(j, &phase[i], links); err != nil {
				return untrusted("step %q for %q: %v", phase[i].Do, phase[i].Path, err)
			}
		}
	}
	return nil
}

func (s *Site) checkStep(j *journal, st *step, links map[string]string) error {
	top := st.Do == doAppear || st.Do == doSwitch || (st.Do == doFolder || st.Do == doFill) && j.Tree != ""
	if err := manifest.CheckPath(st.Path); err != nil && (st.Path != "." || !top) {
		return err
	}
	if at := s.at(st.Path); s.isInside() && (at == s.record || strings.HasPrefix(at, s.record+"/")) {
		return errors.New("it lies in the record")
	}
	from, link := "", ""
	switch st.Do {
	case doPlace:
		if st.Digest == nil {
			return errors.New("it names no digest")
		}
		if from = st.From; from != storeName(kept, *st.Digest, 1) &&
			!isCopyOf(from, storeName(incoming, *st.Digest, 1)) {
			return fmt.Errorf("%q is not where its content is staged", from)
		}
	case doLink:
		from, link = st.From, st.Link
		if !isLinkName(from, j.Number) {
			return fmt.Errorf("%q is not where a link is staged", from)
		}
		if link == "" || strings.IndexByte(link, 0) >= 0 || manifest.LeadsOut(st.Path, manifest.LinksOf(links)) {
			return fmt.Errorf("a link to %q", link)
		}
	case doCarry:
		number, isTree := treeNumber(s.trees, st.From, st.Path)
		if from = st.From; !isTree || number == j.Number || j.Tree == "" {
			return fmt.Errorf("%q is not the path in an earlier tree", from)
		}
	case doFill:
		number, isTree := treeNumber(s.trees, st.From+"/"+st.Path, st.Path)
		if from = st.From; from != "" && (!isTree || number == j.Number) || st.Path != "." {
			return fmt.Errorf("%q is not an earlier tree", from)
		}
	case doAppear:
		if from = st.From; from != freshTree || st.Path != "." {
			return fmt.Errorf("%q is not a fresh tree", from)
		}
	case doSwitch:
		if j.Tree == "" || st.Path != "." {
			return errors.New("there is no tree to switch to")
		}
	case doMode, doFolder, doRemove, doClear:
	default:
		return errors.New("there is no such step")
	}
	if st.Owner != nil {
		if owner, err := manifest.NewOwner(st.Owner.User, st.Owner.Group); err != nil || owner == nil || st.Do == doLink || st.Do == doRemove || st.Do == doClear {
			return fmt.Errorf("an owner %q", st.Owner)
		}
	}
	if st.Like && st.Do != doPlace {
		return errors.New("it hands attributes on")
	}
	keeps := st.Do == doPlace || st.Do == doLink || st.Do == doRemove
	switch {
	case st.From != from, st.Link != link, st.Keep != "" && !(keeps && isKeptName(st.Keep)):
		return fmt.Errorf("it has names that it does not need: %q %q %q", st.From, st.Link, st.Keep)
	case st.Mode != st.Mode.Perm():
		return fmt.Errorf("mode %o", uint32(st.Mode))
	case st.Size < 0:
		return fmt.Errorf("%d bytes", st.Size)
	}
	return nil
}

// isCopyOf tells whether a name of a store is that of content, or of one of its further copies.
func isCopyOf(name, first string) bool {
	if name == first {
		return true
	}
	count, ok := strings.CutPrefix(name, first+"-")
	n, err := strconv.Atoi(count)
	return ok && err == nil && n > 1 && count == strconv.Itoa(n)
}

func isLinkName(name string, number int) bool {
	i, ok := strings.CutPrefix(name, fmt.Sprintf("%s/link-%d-", incoming, number))
	n, err := strconv.Atoi(i)
	return ok && err == nil && n >= 0 && i == strconv.Itoa(n)
}

func isKeptName(name string) bool {
	digest, err := manifest.ParseDigest("sha256:" + name[strings.LastIndexByte(name, '/')+1:])
	return err == nil && name == storeName(kept, digest, 1)
}

// treeNumber gives which tree a name is in, if it is that of a path.
func treeNumber(trees, name, path string) (number int, ok bool) {
	digits, ok := strings.CutSuffix(name, "/"+path)
	if !ok || trees == "" {
		return 0, false
	}
	digits, ok = strings.CutPrefix(digits, trees+"/")
	number, err := strconv.Atoi(digits)
	return number, ok && err == nil && number > 0 && digits == strconv.Itoa(number)
}

func (s *Site) writeDeployment(ctx context.Context, p *publish, out *Outcome) error {
	host, _ := os.Hostname()
	d := &manifest.Deployment{Number: p.number, At: time.Now().UTC().Truncate(time.Second), Host: host,
		Same:      p.plan.Result.Same,
		SentFiles: out.SentFiles, SentBytes: out.SentBytes, Partial: len(p.undone) > 0 || p.plan.Incomplete,
		Rollback: p.plan.Rollback, Sources: p.plan.Sources, Hand: p.plan.Hand, Promoted: p.plan.Promoted, Commands: p.plan.Commands}
	if p.plan.Hand {
		d.Sources = p.plan.Survey.Sources
	}
	if !p.plan.Started.IsZero() {
		d.Seconds = math.Round(time.Since(p.plan.Started).Seconds()*1000) / 1000
	}
	d.New, _ = p.plan.Result.Count(diff.New)
	d.Changed, _ = p.plan.Result.Count(diff.Changed)
	d.Retired, _ = p.plan.Result.Count(diff.Retired)
	if p.plan.Origin != nil {
		d.User = p.plan.Origin.User
	}
	p.plan.watched(d)
	if err := s.writeLeaving(ctx, p.number, p.plan.Result.Leaving); err != nil {
		return err
	}
	var tree func() (*marked, error)
	entries, asWanted := p.entries(ctx)
	if asWanted && p.wanted != nil {
		tree = p.wantedTree
	}
	return s.writeManifest(ctx, &manifest.Manifest{Created: d.At, Generator: p.plan.Generator, Origin: p.plan.Origin,
		Deployment: d}, entries, tree)
}

// wantedTree gives the tree digest of what is wanted, or nil. It fails where that follows from what is recorded, and is another one than that of the
// content: since what was recorded was another tree than it says, it was not compared with all of the content.
func (p *publish) wantedTree() (*marked, error) {
	out, content := p.wanted(), p.plan.mustBe()
	if out != nil && !content.IsZero() && out.tree != content {
		return nil, &RecordError{p.site.inRecord(deploymentFile(p.plan.Survey.Number)), ErrOtherTree}
	}
	return out, nil
}

// mustBe gives the tree digest that must follow from what is recorded and the changes, or none: it is not known, or nothing need follow.
func (p *Plan) mustBe() manifest.Digest {
	if rest := p.Survey.rest; rest == nil || rest.hands != 0 || len(p.Kept) != 0 {
		return manifest.Digest{}
	}
	return p.Tree
}

// writeManifest writes a deployment down, whose entries are not those of the manifest. Known gives its tree digest, or nil; nil: it
// is not known, or that of entries that cannot be a manifest.
func (s *Site) writeManifest(ctx context.Context, m *manifest.Manifest, entries *recording, known func() (*marked, error)) error {
	var (
		number  = m.Deployment.Number
		tree    *marked
		working errgroup.Group // a watch waits for all of this, so several processors share it
	)
	working.Go(func() (err error) {
		if known != nil {
			tree, err = known()
		}
		if tree == nil && err == nil {
			tree, err = s.treeOf(entries, manifest.Digest{})
		}
		return err
	})
	h, err := s.writeEntries(ctx, number, entries)
	failed := cmp.Or(working.Wait(), entries.failed())
	if err = cmp.Or(err, s.ofDeployment(number, failed)); err != nil {
		return err
	}
	h.Tree, h.Created, h.Generator, h.Origin, h.Deployment = tree.tree, m.Created.UTC().Truncate(time.Second), m.Generator, m.Origin, m.Deployment
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	if m.Deployment.Hand {
		if err := s.write(ctx, fmt.Sprintf("deployments/%d.%s", number, handSuffix), nil); err != nil {
			return err
		}
	}
	if h.Count >= s.briefAt {
		s.writeMarks(ctx, tree)
	}
	return s.write(ctx, deploymentFile(number), append(text, '\n'))
}

// complete makes a deployment current, removes what is no longer of use, and ends its journal.
func (s *Site) complete(ctx context.Context, j *journal) error {
	if err := s.sure(ctx, true); err != nil {
		return err
	}
	if err := s.writeDurably(ctx, "current", []byte(strconv.Itoa(j.Number)+"\n")); err != nil {
		return err
	}
	j.Done, j.Phases = true, nil
	if err := s.putJournal(ctx, j); err != nil {
		return err
	}
	return s.clearUp(ctx, j)
}

// clearUp removes what is no longer of use, and the journal. The deployment is complete without it: what cannot be
// removed is left to the next one.
func (s *Site) clearUp(ctx context.Context, j *journal) error {
	if err := s.tidy(ctx, j); errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
		return errors.Join(err, ctx.Err())
	}
	if err := s.sure(ctx, true); err != nil {
		return err
	}
	if err := s.touch(ctx); errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
		return errors.Join(err, ctx.Err())
	}
	return s.endJournal(ctx)
}

func (s *Site) endJournal(ctx context.Context) error {
	if err := s.fs.Remove(ctx, s.inRecord(journalName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return &RecordError{s.inRecord(journalName), err}
	}
	return nil
}

// touch makes the record younger, by more than the step in which changes are dated, than everything that was published,
// and than files whose second names went with an old tree, which changes them; see believe. The clock that dates
// changes may stop for longer than a step on a machine that is short of processors: so the wait ends when that clock
// has moved, and not when ours has.
func (s *Site) touch(ctx context.Context) error {
	info, err := s.fs.Lstat(ctx, s.inRecord("current"))
	if err != nil || info.Changed.IsZero() {
		return err
	}
	first, err := s.dateCurrent(ctx)
	step := changeStep()
	wait, next := step, step/4 // most often a step is enough
	for range mostTouches {
		if err != nil {
			return err
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
		wait, next = next, min(2*next, 2*step)
		var now time.Time
		if now, err = s.dateCurrent(ctx); now.Sub(first) > step {
			break
		}
	}
	return err
}

// mostTouches is how often it is tried. Where the clock has not moved then, files are read once more by the next
// survey.
const mostTouches = 50

// dateCurrent has the file of the current deployment's number changed now, and tells how that is dated.
func (s *Site) dateCurrent(ctx context.Context) (time.Time, error) {
	name := s.inRecord("current")
	if err := s.fs.SetAttr(ctx, name, fsys.Attributes{Mode: s.private(0o600)}); err != nil {
		return time.Time{}, err
	}
	info, err := s.fs.Lstat(ctx, name)
	return info.Changed, err
}
