package site

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"strconv"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// A check of the whole site goes through the site and the manifest folder by folder, side by side. What is recorded is read so
// from its blocks; any other manifest is made into blocks first. Of both no more is held than the folders of which files are read
// at the moment, and what is wrong.

// against is a manifest that the site is checked against.
type against struct {
	top  blocks.Ref
	find blocks.Finder
	tree manifest.Digest       // that it says it has; zero: it says nothing
	ill  func(err error) error // makes an error that tells that its blocks are not what they should be one about the file
}

// against gives a manifest as blocks; nil stands for what is recorded of the current deployment. Done must be called at last,
// also where this fails.
func (s *Site) against(ctx context.Context, number int, m *manifest.Manifest) (out *against, done func(), err error) {
	done = func() {}
	if m == nil {
		if number == 0 {
			return nil, done, ErrNotRecorded
		}
		h, old, err := s.readHead(ctx, number, true)
		if err != nil {
			return nil, done, err
		}
		if old == nil {
			shelf, err := s.openShelf(ctx, h, true)
			return &against{blocks.Ref{Name: h.Top, Entries: h.Count}, shelf.block, h.Tree, func(err error) error {
				return s.ofDeployment(number, err)
			}}, shelf.close, err
		}
		m = old
	}
	made := map[manifest.Digest][]byte{}
	top := blocks.Build(manifest.Listed(m.Entries), func(name manifest.Digest, block []byte) {
		if made[name] == nil {
			made[name] = bytes.Clone(block)
		}
	})
	find := func(name manifest.Digest) ([]byte, error) { return made[name], nil }
	return &against{top: top, find: find, ill: func(err error) error { return err }}, done, nil
}

// checking is a check under way.
type checking struct {
	site    *Site
	against *against
	watch   *Watch
	strays  bool
	leaving map[string]bool // paths
	rule    diff.Rule
	unowned map[manifest.Owner]bool // owners that are not known there
	report  *Report
}

func (c *checking) run(ctx context.Context) error {
	var (
		group, both = errgroup.WithContext(ctx)
		folders     = make(chan *checkedFolder, 16)
		counted     = make(chan struct{}) // closed once it is known how much lies ahead
		files       int
		bytes       int64
	)
	group.Go(func() error {
		defer close(counted)
		return c.count(&files, &bytes)
	})
	group.Go(func() error {
		defer close(folders)
		top := toCheck{path: ".", recorded: c.against.top, gone: !c.site.exists}
		return folderwise(both, c.site.jobs, top, func(ctx context.Context, in toCheck) ([]toCheck, error) {
			read, below, err := c.folder(ctx, in)
			if err != nil {
				return nil, err
			}
			select {
			case folders <- read:
				return below, nil
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		})
	})
	group.Go(func() error {
		<-counted
		if both.Err() != nil {
			return both.Err()
		}
		c.watch.phase("check", files, bytes)
		size := func(in *checkedFolder) int { return len(in.found) + len(in.want) }
		return inBatches(folders, size, func(some []*checkedFolder) error { return c.compare(both, some) })
	})
	err := group.Wait()
	c.report.sort()
	return err
}

// count finds out how much there is to be checked, and the tree digest of it.
func (c *checking) count(files *int, bytes *int64) error {
	var ill error
	tree, err := manifest.CheckedTree(func(visit func(e *manifest.Entry) bool) {
		ill = blocks.Walk(c.against.top, c.against.find, func(e *manifest.Entry) bool {
			if e.Kind == manifest.File {
				*files, *bytes = *files+1, *bytes+max(e.Size, 0)
			}
			return visit(e)
		})
	})
	if c.report.Tree = tree; ill == nil && err == nil && !c.against.tree.IsZero() && tree != c.against.tree {
		err = ErrOtherTree
	}
	return c.against.ill(errors.Join(ill, err))
}

// toCheck is a folder that is there, or is in the manifest, or both. Whatever is in the same folder is known as long as it is not read,
// so it holds nothing of what is in it.
type toCheck struct {
	path     string
	recorded blocks.Ref // zero: nothing is recorded below it
	entry    *manifest.Entry
	info     fsys.Info // of it, unless it is gone
	gone     bool      // it is not there
}

// checkedFolder is what is directly in a folder, but for folders that are there, and, unless it is the top, itself.
type checkedFolder struct {
	want  []manifest.Entry // sorted by path
	found []diff.Found     // the same
	odd   []string         // see Summary.Odd; and itself, where it may not be read
}

// folder reads what is directly in a folder at both sides, and gives the folders in it.
func (c *checking) folder(ctx context.Context, in toCheck) (read *checkedFolder, next []toCheck, err error) {
	read = &checkedFolder{}
	var (
		list    []fsys.Info
		entries []manifest.Entry
		below   []blocks.Below
	)
	if !in.gone {
		list, err = c.site.listIn(ctx, in.path)
		switch {
		case in.path != "." && errors.Is(err, fs.ErrNotExist): // removed since the folder above it was read
			in.gone = true
		case in.path != "." && errors.Is(err, fs.ErrPermission):
			in.gone, read.odd = true, append(read.odd, in.path)
		case err != nil:
			return nil, nil, err
		}
	}
	if in.recorded.Entries > 0 {
		if entries, below, err = blocks.Folder(in.recorded, nil, c.against.find); err != nil {
			return nil, nil, c.against.ill(err)
		}
	}
	if in.path != "." {
		if in.entry != nil {
			read.want = append(read.want, *in.entry)
		}
		if !in.gone {
			itself := describe(in.path, in.info)
			itself.Filled = len(list) > 0 || in.recorded.Entries > 0 // or is to be
			read.found = append(read.found, itself)
		}
	}
	folders := map[string]int{} // by name, in next
	for i := range list {
		info := &list[i]
		path := fsys.Join(in.path, info.Name)
		switch {
		case manifest.CheckPath(path) != nil:
			read.odd = append(read.odd, fsys.Join(in.path, strconv.Quote(info.Name)))
		case info.Mode.IsDir():
			folders[info.Name] = len(next)
			next = append(next, toCheck{path: path, info: *info})
		default:
			read.found = append(read.found, describe(path, *info))
		}
	}
	for i := range entries {
		e := entries[i]
		at, isThere := folders[e.Path]
		if e.Path = fsys.Join(in.path, e.Path); isThere {
			own := e
			next[at].entry = &own
			continue
		}
		read.want = append(read.want, e)
	}
	for _, b := range below {
		at, isThere := folders[b.Name]
		if !isThere {
			at, next = len(next), append(next, toCheck{path: fsys.Join(in.path, b.Name), gone: true})
		}
		next[at].recorded = b.Ref
	}
	return read, next, nil
}

// compare compares folders, after the digests of their files have been computed.
func (c *checking) compare(ctx context.Context, folders []*checkedFolder) error {
	var (
		survey = &Survey{}
		of     = make([][]diff.Found, len(folders)) // parts of survey.Found
		open   []int
		wanted int64 // bytes
		read   int64
	)
	for _, in := range folders {
		survey.Found = append(survey.Found, in.found...)
	}
	at := 0
	for i, in := range folders {
		of[i] = survey.Found[at : at+len(in.found)]
		for _, f := range diff.Unresolved(in.want, of[i], nil, c.rule) {
			open, read = append(open, at+f), read+of[i][f].Size
		}
		at += len(in.found)
		for j := range in.want {
			wanted += max(in.want[j].Size, 0)
		}
	}
	c.watch.bytes(max(wanted-read, 0)) // of what there is nothing to be read
	if err := c.site.resolve(ctx, survey, open, c.watch.bytes); err != nil {
		return err
	}
	c.report.Bytes += read
	for i, in := range folders {
		c.knowOwners(in.want)
		c.add(diff.Compare(in.want, of[i], nil, c.rule, nil).Changes, survey.unread)
		for _, odd := range in.odd {
			c.addStray(manifest.Entry{Path: odd})
		}
	}
	return nil
}

// knowOwners finds out the numbers of those to whom some entries belong. A user that is gone owns nothing.
func (c *checking) knowOwners(entries []manifest.Entry) {
	for i := range entries {
		e := &entries[i]
		if e.Owner == nil || c.unowned[*e.Owner] {
			continue
		}
		if c.site.addOwner(c.rule.Owners, e) != nil {
			c.unowned[*e.Owner] = true
		}
	}
}

// addStray notes what nobody deployed, where that is asked for.
func (c *checking) addStray(e manifest.Entry) {
	if c.strays {
		c.report.Strays = append(c.report.Strays, e)
	}
}

// add notes what is wrong with what a comparison found. Unread is files that could not be read, and why.
func (c *checking) add(changes []diff.Change, unread map[string]error) {
	r := c.report
	for i := range changes {
		change := &changes[i]
		switch {
		case change.Status == diff.New:
			r.Missing = append(r.Missing, *change.Want)
		case change.Status == diff.Stray && c.leaving[change.Path()]:
			r.Leaving = append(r.Leaving, *change.Found.Entry)
		case change.Status == diff.Stray:
			c.addStray(*change.Found.Entry)
		case change.Want.Kind == manifest.Link || change.Found.Kind == manifest.Link:
			r.Links = append(r.Links, LinkDifference{change.Path(), change.Want.Link, change.Found.Link})
		default:
			r.addAltered(change, &c.rule, unread[change.Path()])
		}
	}
}
