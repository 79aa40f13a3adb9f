package site

import (
	"context"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// Where a site is compared by the content of its files, whatever their sizes and times are, a brief survey tells in which folders
// everything looks as it is recorded, and the files there are read afterwards, some thousand at a time. A folder in which a file
// is not what is recorded is odd from then on, as one is in which something else is. So there is no list of all files. The same is
// done where the record is believed, but very many files were dated too late to be.

// ReadFiles reads the files that a brief survey has found as they are recorded, where none is believed, or those that are not
// believed, where they are very many; else it does nothing.
// Told is called with the size of each file done, perhaps from several goroutines; it may be nil. It fails with an *OvertakenError
// where the deployment is no longer recorded.
func (s *Site) ReadFiles(ctx context.Context, survey *Survey, told func(bytes int64)) error {
	b := survey.brief
	if b == nil || !b.unread && len(b.young) <= little(b.count) {
		return nil
	}
	var young map[string]bool // nil: all are
	if !b.unread {
		young = b.youngOnes()
	}
	h, shelf, err := s.openRecord(ctx, survey.Number)
	defer shelf.close()
	if err != nil {
		return err
	}
	var (
		group, both = errgroup.WithContext(ctx)
		folders     = make(chan *readFolder, 16)
		odd         []*readFolder
	)
	group.Go(func() error {
		defer close(folders)
		return s.eachFolder(both, blocks.Ref{Name: h.Top, Entries: h.Count}, shelf, func(dir string, entries []manifest.Entry) {
			if _, isOdd := b.odd[dir]; isOdd {
				return
			}
			in := newReadFolder(dir, entries, young)
			if in.files == 0 {
				return
			}
			select {
			case folders <- in:
			case <-both.Done(): // which ends the walk
			}
		})
	})
	group.Go(func() error {
		return inBatches(folders, func(in *readFolder) int { return in.files }, func(some []*readFolder) error {
			ill, err := s.readFolders(both, some, told)
			odd = append(odd, ill...)
			return err
		})
	})
	if err := group.Wait(); err != nil {
		return err
	}
	for _, in := range odd {
		b.takeOdd(in)
	}
	b.unread, b.young = false, nil
	return nil
}

// mostYoung is how many files that are not believed are read before anything is compared: after a small deployment they are most often as they
// are recorded, and then nothing need be known of their folders.
const mostYoung = 64

// ReadYoung reads the files that are not believed although the record is, where they are few and on this machine; else it does nothing. Told and
// its errors are those of ReadFiles.
func (s *Site) ReadYoung(ctx context.Context, survey *Survey, told func(bytes int64)) error {
	b := survey.brief
	if b == nil || b.unread || len(b.young) == 0 || len(b.young) > mostYoung || !s.isNear() {
		return nil
	}
	h, shelf, err := s.openRecord(ctx, survey.Number)
	defer shelf.close()
	if err != nil {
		return err
	}
	var (
		young   = b.youngOnes()
		seen    = map[string]bool{}
		folders []*readFolder
	)
	for _, path := range b.young {
		dir, _ := fsys.Split(path)
		if seen[dir] {
			continue
		}
		seen[dir] = true
		entries, err := blocks.FolderAt(blocks.Ref{Name: h.Top, Entries: h.Count}, dir, shelf.block)
		if err != nil {
			return err
		}
		folders = append(folders, newReadFolder(dir, entries, young))
	}
	odd, err := s.readFolders(ctx, folders, told)
	if err != nil {
		return err
	}
	for _, in := range odd {
		b.takeOdd(in)
	}
	b.young = nil
	return nil
}

// readFolder is a folder that looks as it is recorded, with what is directly in it.
type readFolder struct {
	dir     string
	entries []manifest.Entry  // with their paths
	found   []manifest.Digest // what is in each; zero: it is not a file, is to be read, or could not be read
	files   int               // those that are to be read
}

// newReadFolder has those files be read that are not believed; nil: all.
func newReadFolder(dir string, entries []manifest.Entry, young map[string]bool) *readFolder {
	out := &readFolder{dir: dir, entries: slices.Clone(entries), found: make([]manifest.Digest, len(entries))}
	for i := range out.entries {
		e := &out.entries[i]
		e.Path, e.Link = strings.Clone(fsys.Join(dir, e.Path)), strings.Clone(e.Link)
		switch {
		case e.Kind != manifest.File:
		case young == nil || young[e.Path]:
			out.files++
		default:
			out.found[i] = e.Digest
		}
	}
	return out
}

// readFolders reads the files of some folders, and gives the folders in which one is not what is recorded, or could not be read.
func (s *Site) readFolders(ctx context.Context, folders []*readFolder, told func(bytes int64)) (odd []*readFolder, err error) {
	type file struct {
		in *readFolder
		at int
	}
	var (
		files []file
		names []string
	)
	for _, in := range folders {
		for i := range in.entries {
			if in.entries[i].Kind == manifest.File && in.found[i].IsZero() {
				files, names = append(files, file{in, i}), append(names, s.at(in.entries[i].Path))
			}
		}
	}
	if _, err := fsys.Digests(ctx, s.fs, names, s.jobs, func(i int, digest manifest.Digest, err error) {
		f := files[i]
		if err == nil {
			f.in.found[f.at] = digest
		}
		if told != nil {
			told(f.in.entries[f.at].Size)
		}
	}); err != nil {
		return nil, err
	}
	for _, in := range folders {
		for i := range in.entries {
			if in.entries[i].Kind == manifest.File && in.found[i] != in.entries[i].Digest {
				odd = append(odd, in)
				break
			}
		}
	}
	return odd, nil
}

// takeOdd has a folder that looked as it is recorded be one that is not.
func (b *brief) takeOdd(in *readFolder) {
	found := []diff.Found{}
	for i := range in.entries {
		e := &in.entries[i]
		if e.Kind == manifest.Dir { // which is among the folders
			continue
		}
		e.Digest = in.found[i]
		found = append(found, b.foundAs(e))
		b.bytes -= max(e.Size, 0)
	}
	b.entries -= len(in.entries)
	b.odd[in.dir] = found
}
