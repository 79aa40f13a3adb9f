package fsystest

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"time"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Between is between a site and its FS, to watch operations or make them fail. It has all the optional interfaces, so
// that what runs over it takes the ways that it takes without; where the FS lacks one it says so as an FS over a wire
// would.
type Between struct {
	fsys.FS
	// Before is called ahead of each operation with its name ("put", "rename", …) and the names that it is about. An
	// error is returned in the operation's place. It may be called from several goroutines at once.
	Before func(op string, names ...string) error
	// Cut is called with the content of a Put and may give another in its place; nil: none does.
	Cut func(name string, content io.Reader) io.Reader
	// Can changes what the FS says of itself; nil: nothing is changed.
	Can func(fsys.Abilities) fsys.Abilities
}

// Abilities implements fsys.FS.
func (b *Between) Abilities() fsys.Abilities {
	if b.Can != nil {
		return b.Can(b.FS.Abilities())
	}
	return b.FS.Abilities()
}

// Lstat implements fsys.FS.
func (b *Between) Lstat(ctx context.Context, name string) (fsys.Info, error) {
	if err := b.Before("lstat", name); err != nil {
		return fsys.Info{}, err
	}
	return b.FS.Lstat(ctx, name)
}

// List implements fsys.FS.
func (b *Between) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	if err := b.Before("list", dir); err != nil {
		return nil, err
	}
	return b.FS.List(ctx, dir)
}

// Open implements fsys.FS.
func (b *Between) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	if err := b.Before("open", name); err != nil {
		return nil, err
	}
	return b.FS.Open(ctx, name)
}

// Put implements fsys.FS.
func (b *Between) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return b.put(name, content, func(in io.Reader) (int64, error) { return b.FS.Put(ctx, name, in, attr) })
}

// Create implements fsys.FS.
func (b *Between) Create(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return b.put(name, content, func(in io.Reader) (int64, error) { return b.FS.Create(ctx, name, in, attr) })
}

func (b *Between) put(name string, content io.Reader, put func(io.Reader) (int64, error)) (int64, error) {
	if err := b.Before("put", name); err != nil {
		return 0, err
	}
	if b.Cut != nil {
		content = b.Cut(name, content)
	}
	return put(content)
}

// SetAttr implements fsys.FS.
func (b *Between) SetAttr(ctx context.Context, name string, attr fsys.Attributes) error {
	if err := b.Before("setattr", name); err != nil {
		return err
	}
	return b.FS.SetAttr(ctx, name, attr)
}

// Symlink implements fsys.FS.
func (b *Between) Symlink(ctx context.Context, target, name string) error {
	if err := b.Before("symlink", name); err != nil {
		return err
	}
	return b.FS.Symlink(ctx, target, name)
}

// Mkdir implements fsys.FS.
func (b *Between) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	if err := b.Before("mkdir", name); err != nil {
		return err
	}
	return b.FS.Mkdir(ctx, name, mode)
}

// Rename implements fsys.FS.
func (b *Between) Rename(ctx context.Context, from, to string) error {
	if err := b.Before("rename", from, to); err != nil {
		return err
	}
	return b.FS.Rename(ctx, from, to)
}

// Remove implements fsys.FS.
func (b *Between) Remove(ctx context.Context, name string) error {
	if err := b.Before("remove", name); err != nil {
		return err
	}
	return b.FS.Remove(ctx, name)
}

// Link implements fsys.Linker.
func (b *Between) Link(ctx context.Context, from, to string) error {
	if err := b.Before("link", from, to); err != nil {
		return err
	}
	if linker, ok := b.FS.(fsys.Linker); ok {
		return linker.Link(ctx, from, to)
	}
	return farend.ErrUnsupported
}

// Copies implements fsys.Copier.
func (b *Between) Copies(ctx context.Context, pairs []fsys.Pair, done func(int)) error {
	names := []string{"copies"}
	for _, pair := range pairs {
		names = append(names, pair.From, pair.To)
	}
	if err := b.Before(names[0], names[1:]...); err != nil {
		return err
	}
	if copier, ok := b.FS.(fsys.Copier); ok {
		return copier.Copies(ctx, pairs, done)
	}
	return nil
}

// Extend implements fsys.Extender.
func (b *Between) Extend(ctx context.Context, name string, offset int64, content io.Reader,
	attr fsys.Attributes) (int64, error) {
	if err := b.Before("extend", name); err != nil {
		return 0, err
	}
	if b.Cut != nil {
		content = b.Cut(name, content)
	}
	extender, ok := b.FS.(fsys.Extender)
	if !ok {
		return 0, farend.ErrUnsupported
	}
	return extender.Extend(ctx, name, offset, content, attr)
}

// Sync implements fsys.Syncer. An FS without it makes each file durable as it is written.
func (b *Between) Sync(ctx context.Context) error {
	if err := b.Before("sync"); err != nil {
		return err
	}
	if syncer, ok := b.FS.(fsys.Syncer); ok {
		return syncer.Sync(ctx)
	}
	return nil
}

// Hash implements fsys.Hasher.
func (b *Between) Hash(ctx context.Context, names []string, each func(int, manifest.Digest)) error {
	hasher, ok := b.FS.(fsys.Hasher)
	if !ok {
		return farend.ErrUnsupported
	}
	for _, name := range names {
		if err := b.Before("open", name); err != nil {
			return farend.ErrUnsupported // whatever is wrong is found out one by one
		}
	}
	return hasher.Hash(ctx, names, each)
}

// Digests implements fsys.Digester.
func (b *Between) Digests(ctx context.Context, names []string, each func(int, manifest.Digest)) error {
	if err := b.Before("digests", names...); err != nil {
		return err
	}
	if digester, ok := b.FS.(fsys.Digester); ok {
		return digester.Digests(ctx, names, each)
	}
	return farend.ErrUnsupported
}

// Writable implements fsys.Prober.
func (b *Between) Writable(ctx context.Context, dir string) error {
	if err := b.Before("writable", dir); err != nil {
		return err
	}
	if prober, ok := b.FS.(fsys.Prober); ok {
		return prober.Writable(ctx, dir)
	}
	return nil
}

// Self implements fsys.Selfer.
func (b *Between) Self(ctx context.Context) (user uint32, known bool) {
	if selfer, ok := b.FS.(fsys.Selfer); ok {
		return selfer.Self(ctx)
	}
	return 0, false
}

// OpenFolder implements fsys.FolderOpener.
func (b *Between) OpenFolder(ctx context.Context, name string) (fsys.Folder, error) {
	if err := b.Before("open folder", name); err != nil {
		return nil, err
	}
	opener, ok := b.FS.(fsys.FolderOpener)
	if !ok {
		return nil, farend.ErrUnsupported
	}
	inner, err := opener.OpenFolder(ctx, name)
	if err != nil {
		return nil, err
	}
	return &folderBetween{inner, b, name}, nil
}

type folderBetween struct {
	fsys.Folder
	between *Between
	name    string
}

// Put implements fsys.Folder.
func (f *folderBetween) Put(name string, content []byte, attr fsys.Attributes) error {
	full := fsys.Join(f.name, name)
	if err := f.between.Before("put", full); err != nil {
		return err
	}
	if f.between.Cut != nil {
		cut, err := io.ReadAll(f.between.Cut(full, bytes.NewReader(content)))
		if err != nil {
			_ = f.Folder.Put(name, cut, attr) // what had come
			return err
		}
		content = cut
	}
	return f.Folder.Put(name, content, attr)
}

// Numbers implements fsys.Giver.
func (b *Between) Numbers(owner manifest.Owner) (user, group int, err error) {
	if giver, ok := b.FS.(fsys.Giver); ok {
		return giver.Numbers(owner)
	}
	return -1, -1, farend.ErrUnsupported
}

// MayGive implements fsys.Giver.
func (b *Between) MayGive(user, group int) error {
	if giver, ok := b.FS.(fsys.Giver); ok {
		return giver.MayGive(user, group)
	}
	return farend.ErrUnsupported
}

// CanRemove implements fsys.Remover.
func (b *Between) CanRemove(ctx context.Context, name string) error {
	if remover, ok := b.FS.(fsys.Remover); ok {
		return remover.CanRemove(ctx, name)
	}
	return nil
}

// Refused implements fsys.Learner.
func (b *Between) Refused() []string {
	if learner, ok := b.FS.(fsys.Learner); ok {
		return learner.Refused()
	}
	return nil
}

// Know implements fsys.Learner.
func (b *Between) Know(refused []string) {
	if learner, ok := b.FS.(fsys.Learner); ok {
		learner.Know(refused)
	}
}

// Dates implements fsys.Dater.
func (b *Between) Dates(ctx context.Context, names []string, each func(i int, when time.Time)) error {
	if err := b.Before("dates", names...); err != nil {
		return err
	}
	if dater, ok := b.FS.(fsys.Dater); ok {
		return dater.Dates(ctx, names, each)
	}
	return farend.ErrUnsupported
}

// Plain is an FS without any optional interface.
type Plain struct{ fsys.FS }

// FreeSpace implements fsys.Spacer.
func (b *Between) FreeSpace(ctx context.Context) (fsys.Space, error) {
	if err := b.Before("free space"); err != nil {
		return fsys.Space{}, err
	}
	if spacer, ok := b.FS.(fsys.Spacer); ok {
		return spacer.FreeSpace(ctx)
	}
	return fsys.Space{}, farend.ErrUnsupported
}

// UserName implements fsys.Namer.
func (b *Between) UserName(id uint32) string {
	if namer, ok := b.FS.(fsys.Namer); ok {
		return namer.UserName(id)
	}
	return ""
}

// Mounts implements fsys.Mounter.
func (b *Between) Mounts(ctx context.Context) ([]string, error) {
	if err := b.Before("mounts"); err != nil {
		return nil, err
	}
	if mounter, ok := b.FS.(fsys.Mounter); ok {
		return mounter.Mounts(ctx)
	}
	return nil, nil
}

// RemoveFolder implements fsys.FolderRemover.
func (b *Between) RemoveFolder(ctx context.Context, name string) error {
	remover, ok := b.FS.(fsys.FolderRemover)
	if !ok {
		return b.Remove(ctx, name)
	}
	if err := b.Before("remove", name); err != nil {
		return err
	}
	return remover.RemoveFolder(ctx, name)
}

// Empty implements fsys.Emptier.
func (b *Between) Empty(ctx context.Context, dir string, jobs int, removed func(files, folders int),
	failed func(name string, err error) error) error {
	if err := b.Before("empty", dir); err != nil {
		return err
	}
	if emptier, ok := b.FS.(fsys.Emptier); ok {
		return emptier.Empty(ctx, dir, jobs, removed, failed)
	}
	return farend.ErrUnsupported
}

// Read implements fsys.Folder.
func (f *folderBetween) Read(name string, most int64, room []byte) ([]byte, error) {
	if err := f.between.Before("open", fsys.Join(f.name, name)); err != nil {
		return room, err
	}
	return f.Folder.Read(name, most, room)
}

// Link implements fsys.Folder.
func (f *folderBetween) Link(from fsys.Folder, old, name string) error {
	other := from.(*folderBetween)
	if err := f.between.Before("link", fsys.Join(other.name, old), fsys.Join(f.name, name)); err != nil {
		return err
	}
	return f.Folder.Link(other.Folder, old, name)
}
