package containerfs

import (
	"archive/tar"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"syscall"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// bundle is what goes into the container.
type bundle struct {
	anew  []string // folders that go, and come again; sorted
	names []string // what comes, sorted; folders with everything below them where they are new

	makes []string            // folders that are new; sorted
	note  *note               // nil: nothing is put aside
	aside map[string]heldLink // files that are put aside, by the names that they get in the end

	postponed, ending bool // Options.Last is still to come; all else has come
}

// Push carries what was changed into the container, and reads it back there: it fails when anything is not as it should
// be.
func (f *FS) Push(ctx context.Context) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	p, err := f.pack(ctx)
	if err != nil || len(p.anew)+len(p.names) == 0 && f.unfinished == nil {
		return err
	}
	if err := f.putAside(ctx, p); err != nil {
		return err
	}
	if err := f.settleRemotes(ctx, p); err != nil {
		return err
	}
	sent := map[string]manifest.Digest{}
	out, in := io.Pipe()
	writing := make(chan error, 1)
	go func() {
		err := f.write(ctx, in, p, sent)
		in.CloseWithError(err)
		writing <- err
	}()
	err = f.place.Put(ctx, f.base, out)
	out.CloseWithError(errors.New("the engine takes no more"))
	if failed := <-writing; failed != nil && err == nil {
		err = failed
	}
	if err != nil {
		return err
	}
	if err := f.check(ctx, p, sent); err != nil {
		return err
	}
	f.changed, f.unfinished = map[string]bool{}, nil
	for name, r := range f.remotes {
		f.remotes[name] = remote{name, r.digest}
	}
	return nil
}

// pack finds out what must go and what must come.
func (f *FS) pack(ctx context.Context) (*bundle, error) {
	anew := map[string]bool{}
	p := &bundle{}
	for _, name := range slices.Sorted(maps.Keys(f.changed)) {
		info, err := f.local.Lstat(ctx, name)
		switch {
		case err == nil && under(name, p.makes):
		case err == nil:
			p.names = append(p.names, name)
			if _, there := f.there[name]; !there && info.Mode.IsDir() {
				p.makes = append(p.makes, name)
			}
		case !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR): // else a folder above it is gone, or a file now
			return nil, err
		default:
			if _, there := f.there[name]; !there {
				continue // it came and went here
			}
			dir, _ := fsys.Split(name)
			for ; dir != "."; dir, _ = fsys.Split(dir) {
				if info, err := f.local.Lstat(ctx, dir); err == nil && info.Mode.IsDir() {
					break
				}
			}
			if dir == "." {
				return nil, f.noneGoes(name)
			}
			anew[dir] = true
		}
	}
	for _, dir := range slices.Sorted(maps.Keys(anew)) {
		if under(dir, p.anew) {
			continue
		}
		if err := f.comesAnew(dir); err != nil {
			return nil, err
		}
		p.anew = append(p.anew, dir)
	}
	p.names = slices.DeleteFunc(p.names, func(name string) bool { return isOne(name, p.anew) || under(name, p.anew) })
	return p, nil
}

func (f *FS) noneGoes(name string) error {
	return fmt.Errorf("%s cannot be removed from a container in which nothing can be started", path.Join(f.base, name))
}

// comesAnew fails where a folder cannot go and come anew, so that nothing can be removed from it.
func (f *FS) comesAnew(dir string) error {
	for _, odd := range f.odd {
		if strings.HasPrefix(odd, dir+"/") {
			return fmt.Errorf("%s holds %s, which the engine cannot carry: remove it in the container first",
				path.Join(f.base, dir), odd)
		}
	}
	for _, mount := range f.opt.Mounts {
		if within(mount, dir) {
			return fmt.Errorf("%s holds the mount %s, so nothing can be removed from it", path.Join(f.base, dir),
				path.Join(f.base, mount))
		}
	}
	return nil
}

// CanRemove implements fsys.Remover.
func (f *FS) CanRemove(_ context.Context, name string) error {
	dir, _ := fsys.Split(name)
	if dir == "." {
		return f.noneGoes(name)
	}
	return f.comesAnew(dir)
}

// within tells whether a name is a folder's, or of something below it.
func within(name, folder string) bool {
	return name == folder || strings.HasPrefix(name, folder+"/")
}

// under tells whether a name lies in one of some folders, which are sorted.
func under(name string, folders []string) bool {
	for dir, _ := fsys.Split(name); dir != "."; dir, _ = fsys.Split(dir) {
		if isOne(dir, folders) {
			return true
		}
	}
	return false
}

// isOne tells whether a name is one of some that are sorted.
func isOne(name string, sorted []string) bool {
	_, found := slices.BinarySearch(sorted, name)
	return found
}

// write writes the archive. What a site keeps for later comes first, and the rest of its record last: while something
// is missing, what is recorded is what was before.
func (f *FS) write(ctx context.Context, to io.Writer, p *bundle, sent map[string]manifest.Digest) error {
	out := tar.NewWriter(to)
	if err := f.beginAside(ctx, out, p); err != nil {
		return err
	}
	all := slices.Concat(p.anew, p.names)
	slices.SortFunc(all, func(a, b string) int {
		return cmp.Or(f.turn(a)-f.turn(b), strings.Compare(a, b))
	})
	for _, name := range all {
		anew := isOne(name, p.anew)
		if anew { // a file in the folder's place makes it go
			if err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o600,
				Format: tar.FormatPAX}); err != nil {
				return err
			}
		}
		if err := f.writeTree(ctx, out, p, name, anew, sent); err != nil {
			return err
		}
	}
	if p.postponed {
		p.ending = true
		if err := f.writeTree(ctx, out, p, f.opt.Last, true, sent); err != nil {
			return err
		}
	}
	if err := f.endAside(out, p); err != nil {
		return err
	}
	return out.Close()
}

// turn tells when a name comes.
func (f *FS) turn(name string) int {
	record, _ := fsys.Split(f.opt.Aside)
	switch {
	case f.opt.Aside == "" || !within(name, record):
		return 1
	case strings.HasPrefix(name, record+"/kept/"):
		return 0
	}
	return 2
}

func (f *FS) writeTree(ctx context.Context, out *tar.Writer, p *bundle, name string, whole bool,
	sent map[string]manifest.Digest) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if name == f.opt.Last && !p.ending {
		p.postponed = true
		return nil
	}
	info, err := f.local.Lstat(ctx, name)
	if err != nil {
		return err
	}
	owner, known := f.there[name]
	if !known {
		owner = standing{user: f.opt.Owner.User, group: f.opt.Owner.Group}
	}
	head := &tar.Header{Name: name, Mode: int64(info.Mode.Perm()), ModTime: info.ModTime, Uid: owner.user,
		Gid: owner.group, Format: tar.FormatPAX}
	switch {
	case info.Mode.IsDir():
		head.Typeflag, head.Name = tar.TypeDir, name+"/"
		if err := out.WriteHeader(head); err != nil {
			return err
		}
		if known && !whole {
			return nil // what is in it has been noted for itself
		}
		list, err := f.local.List(ctx, name)
		if err != nil {
			return err
		}
		slices.SortFunc(list, func(a, b fsys.Info) int { return strings.Compare(a.Name, b.Name) })
		for _, below := range list {
			if err := f.writeTree(ctx, out, p, fsys.Join(name, below.Name), true, sent); err != nil {
				return err
			}
		}
		return nil
	case info.Mode&fs.ModeSymlink != 0:
		head.Typeflag, head.Linkname = tar.TypeSymlink, info.Link
		return out.WriteHeader(head)
	}
	if held, ok := p.aside[name]; ok { // it is there, and needs its name alone
		head.Typeflag, head.Linkname = tar.TypeLink, f.heldName(held.number)
		sent[name] = manifest.Digest{}
		return out.WriteHeader(head)
	}
	head.Typeflag, head.Size = tar.TypeReg, info.Size
	if err := out.WriteHeader(head); err != nil {
		return err
	}
	content, err := f.local.Open(ctx, name)
	if err != nil {
		return err
	}
	defer content.Close()
	hash := sha256.New()
	if _, err := fsys.Copy(ctx, io.MultiWriter(out, hash), content); err != nil {
		return err
	}
	sent[name] = manifest.Digest(hash.Sum(nil))
	return nil
}

// check reads what was sent back, and notes what is there now.
func (f *FS) check(ctx context.Context, p *bundle, sent map[string]manifest.Digest) error {
	tops := map[string]bool{}
	for _, name := range slices.Concat(p.anew, p.names) {
		top, _, _ := strings.Cut(name, "/")
		tops[top] = true
	}
	maps.DeleteFunc(f.there, func(name string, _ standing) bool {
		top, _, _ := strings.Cut(name, "/")
		return tops[top]
	})
	for _, top := range slices.Sorted(maps.Keys(tops)) {
		archive, err := f.place.Get(ctx, path.Join(f.base, top))
		if err != nil {
			return err
		}
		err = walkArchive(ctx, archive, top, func(at string, head *tar.Header, content io.Reader) error {
			if aside, _ := f.belowAside(at); aside {
				return nil
			}
			f.there[at] = f.standing(head)
			want, ok := sent[at]
			if !ok {
				return nil
			}
			delete(sent, at)
			if head.Typeflag == tar.TypeLink || want.IsZero() {
				return nil // of a file that is checked under its other name, or that was there before
			}
			hash := sha256.New()
			if _, err := io.Copy(hash, content); err != nil {
				return err
			}
			if manifest.Digest(hash.Sum(nil)) != want {
				return fmt.Errorf("%s of the container is not what was sent", path.Join(f.base, at))
			}
			return nil
		})
		if closing := archive.Close(); err == nil {
			err = closing
		}
		if err != nil {
			return err
		}
	}
	for name := range sent {
		return fmt.Errorf("%s of the container is missing after it was sent", path.Join(f.base, name))
	}
	return nil
}
