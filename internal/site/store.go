package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Two folders of the record hold content by its digest, as STORE/xx/DIGEST, where xx are the digest's first two digits.
//
//   - incoming holds what is staged. A name says what its content is to be, not that it has arrived: whatever an
//     interrupted deployment left there is checked by its bytes before it is taken for sent. Where several paths have
//     the same content the second is DIGEST-2, and so on: a rename uses each of them up.
//   - kept holds what deployments replaced or removed. What one of the kept deployments put at the site is either
//     still there or here. Its bytes, too, are checked before they are used.
const (
	incoming = "incoming"
	kept     = "kept"
)

// storeName gives the name in the record of content, or of its n-th copy.
func storeName(store string, d manifest.Digest, n int) string {
	digits := d.Hex()
	name := store + "/" + digits[:2] + "/" + digits
	if n > 1 {
		name = fmt.Sprintf("%s-%d", name, n)
	}
	return name
}

// usualPlace is where content is staged that no other path has, too.
func usualPlace(d *manifest.Digest) string { return storeName(incoming, *d, 1) }

// storeSizes lists a store: names in the record and bytes. Only shelves (xx) that are asked for are listed; nil: all.
func (s *Site) storeSizes(ctx context.Context, store string, shelves map[string]bool) (map[string]int64, error) {
	folders, err := s.fs.List(ctx, s.inRecord(store))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return s.sizesOf(ctx, store, folders, shelves)
}

// sizesOf is storeSizes for a store whose folders were listed.
func (s *Site) sizesOf(ctx context.Context, store string, folders []fsys.Info, shelves map[string]bool) (map[string]int64, error) {
	out := map[string]int64{}
	for _, folder := range folders {
		if folder.Mode&fs.ModeSymlink != 0 && !strings.HasPrefix(folder.Name, "link-") &&
			!strings.HasPrefix(folder.Name, "root-") {
			return nil, &RecordError{s.inRecord(store + "/" + folder.Name), &UntrustedError{"it is a link"}}
		}
	}
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(s.jobs)
	for _, folder := range folders {
		if !folder.Mode.IsDir() || shelves != nil && !shelves[folder.Name] {
			continue
		}
		group.Go(func() error {
			dir := store + "/" + folder.Name
			files, err := s.fs.List(ctx, s.inRecord(dir))
			mu.Lock()
			defer mu.Unlock()
			for _, f := range files {
				out[dir+"/"+f.Name] = f.Size
			}
			return err
		})
	}
	return out, group.Wait()
}

// makeShelves makes the folders in which names of the record are.
func (s *Site) makeShelves(ctx context.Context, names iter.Seq[string]) error {
	needed := map[string]bool{}
	for name := range names {
		dir, _ := fsys.Split(name)
		if !needed[dir] {
			needed[strings.Clone(dir)] = true // of a longer text
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(s.jobs)
	for dir := range needed {
		group.Go(func() error {
			return s.makeOwn(ctx, s.inRecord(dir))
		})
	}
	return group.Wait()
}

// discard removes names of the record, several at once.
func (s *Site) discard(ctx context.Context, names []string) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(s.jobs)
	for _, name := range names {
		group.Go(func() error {
			return ignoreMissing(s.fs.Remove(ctx, s.inRecord(name)))
		})
	}
	return group.Wait()
}

// clearIncoming removes staged content that nobody needs any more, and links that were staged. Folders go, too: those that
// would stay are looked into by each deployment from then on.
func (s *Site) clearIncoming(ctx context.Context) error {
	top, err := s.fs.List(ctx, s.inRecord(incoming))
	if err != nil {
		return ignoreMissing(err)
	}
	var files, folders []string
	left := map[string]bool{} // folders that have something in them, or that cannot be removed
	for _, info := range top {
		if !info.Mode.IsDir() {
			files = append(files, incoming+"/"+info.Name)
		} else {
			folders = append(folders, info.Name)
		}
	}
	var mu sync.Mutex
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(s.jobs)
	for _, name := range folders {
		group.Go(func() error {
			err := s.removeFolder(within, incoming+"/"+name)
			if err == nil || errors.Is(err, farend.ErrLost) || within.Err() != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			left[name] = true
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	if len(left) > 0 {
		staged, err := s.sizesOf(ctx, incoming, top, left)
		if err != nil {
			return err
		}
		files = append(files, slices.Collect(maps.Keys(staged))...)
	}
	if err := s.discard(ctx, files); err != nil {
		return err
	}
	for name := range left {
		if err := s.removeFolder(ctx, incoming+"/"+name); errors.Is(err, farend.ErrLost) {
			return err
		}
	}
	return nil
}

// removeFolder removes a folder of the record that should be empty.
func (s *Site) removeFolder(ctx context.Context, name string) error {
	if remover, ok := s.fs.(fsys.FolderRemover); ok {
		return ignoreMissing(remover.RemoveFolder(ctx, s.inRecord(name)))
	}
	return ignoreMissing(s.fs.Remove(ctx, s.inRecord(name)))
}

// A deployment writes down the digests of what it replaced and kept. Content that deployment N replaced was last wanted
// by deployment N-1; so once that one is forgotten, and no later deployment has kept the same content again, it can go.

func keptFile(number int) string { return fmt.Sprintf("deployments/%d.kept", number) }

func (s *Site) writeKept(ctx context.Context, number int, digests []manifest.Digest) error {
	var text strings.Builder
	for _, d := range digests {
		text.WriteString(d.String() + "\n")
	}
	return s.write(ctx, keptFile(number), []byte(text.String()))
}

func (s *Site) readKept(ctx context.Context, number int) ([]manifest.Digest, error) {
	text, err := s.read(ctx, keptFile(number), mostList)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []manifest.Digest
	for line := range strings.FieldsSeq(string(text)) {
		d, err := manifest.ParseDigest(line)
		if err != nil {
			return nil, &RecordError{s.inRecord(keptFile(number)), err}
		}
		out = append(out, d)
	}
	return out, nil
}
