package containerfs

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"tartine/internal/fsys"
)

// note is what an archive writes down in the container before it changes anything.
type note struct {
	Changes []string  `json:"changes"` // names that are made, replaced or removed
	Makes   []string  `json:"makes"`   // folders that are made, with all that comes in them
	Keeps   []keeping `json:"keeps"`   // what is in folders that come anew
}

// keeping is something that stays, though the folder that it is in goes and comes.
type keeping struct {
	Path string      `json:"path"`
	Mode fs.FileMode `json:"mode"` // with its type
	Link string      `json:"link,omitempty"`
	Held int         `json:"held,omitempty"` // the number of a file's second name, from 1
}

// heldLink is the second name of a file of the container.
type heldLink struct {
	number int
	origin string // its first one
}

// belowAside tells whether a name is what is put belowAside, or below it, and what it is there.
func (f *FS) belowAside(name string) (bool, string) {
	if f.opt.Aside == "" || !within(name, f.opt.Aside) {
		return false, ""
	}
	return true, strings.TrimPrefix(strings.TrimPrefix(name, f.opt.Aside), "/")
}

// NoteName is the name below Options.Aside that is there where an archive ended early.
const NoteName = "note.json"

const mostNote = 1 << 30 // bytes

func (f *FS) heldName(number int) string {
	return fmt.Sprintf("%s/%s/%d", f.opt.Aside, heldFolder, number)
}

// heldFile is where this machine has what is put aside under a name, held/NUMBER.
func (f *FS) heldFile(below string) string {
	return filepath.Join(f.dir, heldFolder, filepath.Base(below))
}

// putAside decides what is noted and held before the bundle's archive changes anything. Where there is no record, or
// that goes and comes itself, nothing can be held.
func (f *FS) putAside(ctx context.Context, p *bundle) error {
	if f.opt.Aside == "" {
		return nil
	}
	record, _ := fsys.Split(f.opt.Aside)
	if _, err := f.local.Lstat(ctx, record); errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	p.note = &note{Changes: slices.Sorted(maps.Keys(f.changed)), Makes: p.makes}
	if !under(f.opt.Aside, p.anew) {
		f.hold(ctx, p)
	}
	if f.unfinished != nil { // what an archive before has begun is not finished yet
		p.note.Changes = append(p.note.Changes, f.unfinished.Changes...)
		p.note.Makes = append(p.note.Makes, f.unfinished.Makes...)
	}
	return nil
}

// hold decides which files get second names: those that stay in folders that come anew, and large ones that get others.
func (f *FS) hold(ctx context.Context, p *bundle) {
	p.aside = map[string]heldLink{}
	for _, name := range slices.Sorted(maps.Keys(f.there)) {
		if !isOne(name, p.anew) && !under(name, p.anew) {
			continue
		}
		info, err := f.local.Lstat(ctx, name)
		if err != nil || f.changed[name] && !info.Mode.IsDir() { // it is to go, or to be another
			continue
		}
		k := keeping{Path: name, Mode: info.Mode, Link: info.Link}
		if f.there[name].file {
			k.Held = len(p.aside) + 1
			p.aside[name] = heldLink{k.Held, name}
		}
		p.note.Keeps = append(p.note.Keeps, k)
	}
	for _, name := range slices.Sorted(maps.Keys(f.remotes)) {
		r := f.remotes[name]
		if _, held := p.aside[name]; !held && f.comes(name, p) && f.linkable(r.origin) {
			p.aside[name] = heldLink{len(p.aside) + 1, r.origin}
		}
	}
}

// beginAside writes what is put aside, which must come before all else.
func (f *FS) beginAside(ctx context.Context, out *tar.Writer, p *bundle) error {
	if p.note == nil {
		return nil
	}
	record, _ := fsys.Split(f.opt.Aside)
	owner := func(h *tar.Header) *tar.Header {
		h.Uid, h.Gid, h.Format = f.opt.Owner.User, f.opt.Owner.Group, tar.FormatPAX
		return h
	}
	if _, there := f.there[record]; !there {
		info, err := f.local.Lstat(ctx, record)
		if err != nil {
			return err
		}
		if err := out.WriteHeader(owner(&tar.Header{Typeflag: tar.TypeDir, Name: record + "/",
			Mode: int64(info.Mode.Perm()), ModTime: info.ModTime})); err != nil {
			return err
		}
	}
	text, err := json.Marshal(p.note)
	if err != nil {
		return err
	}
	for _, h := range []*tar.Header{
		{Typeflag: tar.TypeDir, Name: f.opt.Aside + "/", Mode: 0o700},
		{Typeflag: tar.TypeReg, Name: f.opt.Aside + "/" + NoteName, Mode: 0o600, Size: int64(len(text))},
	} {
		if err := out.WriteHeader(owner(h)); err != nil {
			return err
		}
	}
	if _, err := out.Write(text); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(p.aside)) {
		info, err := f.local.Lstat(ctx, name)
		if err != nil {
			return err
		}
		held := p.aside[name]
		at := f.there[held.origin]
		if err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeLink, Name: f.heldName(held.number),
			Linkname: held.origin, Mode: int64(info.Mode.Perm()),
			ModTime: info.ModTime, Uid: at.user, Gid: at.group, Format: tar.FormatPAX}); err != nil {
			return err
		}
	}
	return nil
}

// endAside makes what was put aside go: an empty folder stays. An engine sets the times of all folders once it has
// unpacked everything, so one that is named in an archive must exist in the end.
func (f *FS) endAside(out *tar.Writer, p *bundle) error {
	if p.note == nil {
		return nil
	}
	own := tar.Header{Typeflag: tar.TypeReg, Name: f.opt.Aside, Mode: 0o600, Uid: f.opt.Owner.User,
		Gid: f.opt.Owner.Group, Format: tar.FormatPAX}
	if err := out.WriteHeader(&own); err != nil {
		return err
	}
	own.Typeflag, own.Name, own.Mode = tar.TypeDir, f.opt.Aside+"/", 0o700
	return out.WriteHeader(&own)
}

// takeAside takes what an archive that ended early had put aside.
func (f *FS) takeAside(top, below string, head *tar.Header, content io.Reader) error {
	switch {
	case below == NoteName && head.Typeflag == tar.TypeReg:
		n := &note{}
		text, err := io.ReadAll(io.LimitReader(content, mostNote))
		if err != nil {
			return err
		}
		if json.Unmarshal(text, n) == nil { // one that did not arrive whole came before any change
			f.unfinished = n
		}
		return nil
	case !strings.HasPrefix(below, heldFolder+"/"):
		return nil
	}
	if _, err := strconv.Atoi(below[len(heldFolder)+1:]); err != nil {
		return nil
	}
	if head.Typeflag == tar.TypeLink {
		first := linked(top, head)
		from := filepath.Join(f.dir, treeFolder, filepath.FromSlash(first))
		if aside, other := f.belowAside(first); aside {
			from = f.heldFile(other)
		}
		return os.Link(from, f.heldFile(below))
	}
	to, err := os.OpenFile(f.heldFile(below), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, content)
	if err = errors.Join(err, to.Close()); err != nil {
		return err
	}
	return os.Chtimes(to.Name(), head.ModTime, head.ModTime)
}

// restore puts back what is gone and was to stay.
func (f *FS) restore(ctx context.Context) error {
	if f.unfinished == nil {
		return nil
	}
	for _, k := range f.unfinished.Keeps {
		if !fs.ValidPath(k.Path) {
			return fmt.Errorf("what was put aside in the container names %q", k.Path)
		}
		info, err := f.local.Lstat(ctx, k.Path)
		if err == nil && info.Mode.IsDir() == k.Mode.IsDir() {
			continue
		}
		if err == nil { // a file stands for a folder that has just gone
			if err := f.Remove(ctx, k.Path); err != nil {
				return err
			}
		}
		if err := f.restoreFolder(ctx, k.Path); err != nil {
			return err
		}
		switch {
		case k.Mode.IsDir():
			err = f.Mkdir(ctx, k.Path, k.Mode.Perm())
		case k.Mode&fs.ModeSymlink != 0:
			err = f.Symlink(ctx, k.Link, k.Path)
		default:
			err = f.restoreFile(ctx, &k)
		}
		if err != nil {
			return fmt.Errorf("put back %s: %w", k.Path, err)
		}
	}
	return nil
}

// restoreFolder makes the folder again that a name is in.
func (f *FS) restoreFolder(ctx context.Context, name string) error {
	dir, _ := fsys.Split(name)
	if dir == "." {
		return nil
	}
	if _, err := f.local.Lstat(ctx, dir); err == nil {
		return nil
	}
	if err := f.restoreFolder(ctx, dir); err != nil {
		return err
	}
	return f.Mkdir(ctx, dir, 0o755)
}

func (f *FS) restoreFile(ctx context.Context, k *keeping) error {
	held, err := os.Open(f.heldFile(strconv.Itoa(k.Held)))
	if err != nil {
		return err
	}
	defer held.Close()
	info, err := held.Stat()
	if err != nil {
		return err
	}
	_, err = f.Put(ctx, k.Path, held, fsys.Attributes{Mode: k.Mode.Perm(), ModTime: info.ModTime()})
	return err
}

// Interrupted tells whether an archive ended early, and what it was about to change.
func (f *FS) Interrupted() (changed func(name string) bool, interrupted bool) {
	if f.unfinished == nil {
		return nil, false
	}
	changes := map[string]bool{}
	for _, name := range slices.Concat(f.unfinished.Changes, f.unfinished.Makes) {
		changes[name] = true
	}
	makes := slices.Sorted(slices.Values(f.unfinished.Makes)) // it came from the container
	return func(name string) bool { return changes[name] || under(name, makes) }, true
}
