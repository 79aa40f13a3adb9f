package targets

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"tartine/internal/calls"
	"tartine/internal/connect"
	"tartine/internal/farend"
	"tartine/internal/fsys/osfs"
	"tartine/internal/site"
)

// folderDriver reaches folders of this machine.
func folderDriver() *Driver {
	return &Driver{Kind: Folder, parse: parseFolder, open: openFolder,
		run:       func(ctx context.Context, _ Settings, p *farend.Program) (int, error) { return connect.RunHere(ctx, p) },
		NoHostKey: "%s is a folder of this machine and has no host key"}
}

func openFolder(ctx context.Context, s Settings) (*Opened, error) {
	opened, place, err := s.openLocal(ctx)
	if err != nil {
		return nil, err
	}
	return &Opened{Engine: calls.NewHere(opened), place: place}, nil
}

func (s *Settings) openLocal(ctx context.Context) (*site.Site, io.Closer, error) {
	p, err := s.find(s.Address.Path, filepath.Dir, filepath.Base, isFolder(os.Stat), filepath.EvalSymlinks)
	if err != nil {
		return nil, nil, asRootError(s.Address.Path, err)
	}
	if !strings.Contains(p.root, "/") && p.root != "." && osfs.IsMount(filepath.Join(p.base, p.root)) {
		p = place{filepath.Join(p.base, p.root), "."} // nothing beside it lies on the same file system
	}
	f, err := osfs.Open(p.base)
	if errors.Is(err, fs.ErrPermission) && !strings.Contains(p.root, "/") {
		// The folder above the root may be closed to this user.
		f, err = osfs.Open(filepath.Join(p.base, p.root))
		p.root = "."
	}
	if err != nil {
		return nil, nil, asRootError(s.Address.Path, err)
	}
	if f.Owner, err = parseOwner(s.Owner); err != nil {
		f.Close()
		return nil, nil, err
	}
	opt := site.Options{Jobs: s.Jobs, Switch: s.Switch, Beside: s.beside}
	if !s.Switch {
		opt.Moved = moved(s.Address.Path, filepath.Dir, filepath.Base, filepath.Join, os.Lstat, filepath.EvalSymlinks)
	}
	opened, err := site.Open(ctx, s.between(f), p.root, s.Address.Path, opt)
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return opened, f, nil
}

// parseOwner reads USER:GROUP, as numbers. An empty text is nil.
func parseOwner(text string) (*osfs.Owner, error) {
	if text == "" {
		return nil, nil
	}
	user, group, both := strings.Cut(text, ":")
	uid, err := strconv.ParseUint(user, 10, 31)
	gid, failed := strconv.ParseUint(group, 10, 31)
	if err != nil || failed != nil || !both {
		return nil, fmt.Errorf("owner %q is not USER:GROUP as numbers", text)
	}
	return &osfs.Owner{User: int(uid), Group: int(gid)}, nil
}

// OverlapError tells that a source and a folder target lie in one another.
type OverlapError struct{ Source, Root string }

func (e *OverlapError) Error() string {
	return fmt.Sprintf("source %s and target %s lie in one another", e.Source, e.Root)
}

// CheckOverlap refuses a source that holds the root of a folder target, or lies in it or in its record.
func CheckOverlap(a Address, sources []string) error {
	if a.Kind != Folder && a.Kind != Archive {
		return nil
	}
	root := trueFolder(a.Path)
	record := filepath.Join(filepath.Dir(root), site.RecordName(filepath.Base(root)))
	for _, source := range sources {
		absolute, err := filepath.Abs(source)
		if err != nil {
			continue
		}
		real := trueFolder(absolute)
		if within(real, root) || within(root, real) || within(real, record) {
			return &OverlapError{source, a.Path}
		}
	}
	return nil
}

// trueFolder resolves the links of as much of a path as exists.
func trueFolder(name string) string {
	if real, err := filepath.EvalSymlinks(name); err == nil {
		return real
	}
	if dir := filepath.Dir(name); dir != name {
		return filepath.Join(trueFolder(dir), filepath.Base(name))
	}
	return name
}

// within tells whether a path is a folder or lies in it.
func within(name, folder string) bool {
	relative, err := filepath.Rel(folder, name)
	return err == nil && relative != ".." && !strings.HasPrefix(relative, ".."+string(filepath.Separator))
}
