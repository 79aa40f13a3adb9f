package fsystest

import (
	"context"
	"io"
	"io/fs"

	"tartine/internal/fsys"
)

// Between stands between a site and its FS, to watch operations or make them fail.
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
func (b *Between) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attr) (int64, error) {
	if err := b.Before("put", name); err != nil {
		return 0, err
	}
	if b.Cut != nil {
		content = b.Cut(name, content)
	}
	return b.FS.Put(ctx, name, content, attr)
}

// SetAttr implements fsys.FS.
func (b *Between) SetAttr(ctx context.Context, name string, attr fsys.Attr) error {
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
	return fsys.ErrUnsupported
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
func (b *Between) Extend(ctx context.Context, name string, offset int64, content io.Reader, attr fsys.Attr) (int64, error) {
	if err := b.Before("extend", name); err != nil {
		return 0, err
	}
	if b.Cut != nil {
		content = b.Cut(name, content)
	}
	extender, ok := b.FS.(fsys.Extender)
	if !ok {
		return 0, fsys.ErrUnsupported
	}
	return extender.Extend(ctx, name, offset, content, attr)
}

// FreeSpace implements fsys.Spacer.
func (b *Between) FreeSpace(ctx context.Context) (fsys.Space, error) {
	if spacer, ok := b.FS.(fsys.Spacer); ok {
		return spacer.FreeSpace(ctx)
	}
	return fsys.Space{}, fsys.ErrUnsupported
}
