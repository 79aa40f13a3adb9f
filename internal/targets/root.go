package targets

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"tartine/internal/farend"
	"tartine/internal/site"
)

// place is where a root is found: a folder that exists, and the root's name below it.
type place struct{ base, root string }

// locate finds the nearest folder at or above a root that exists. Look follows links and tells whether there is a
// folder; resolve gives its true path.
func locate(root string, dir, base func(string) string, look func(string) (folder bool, err error),
	resolve func(string) (string, error)) (place, error) {
	rest := ""
	for at := root; ; at = dir(at) {
		folder, err := look(at)
		switch {
		case err == nil && !folder:
			return place{}, &site.RootError{Root: root, Reason: fmt.Sprintf("cannot be used: %s is not a folder", at)}
		case err == nil:
			real, err := resolve(at)
			if err != nil {
				return place{}, &site.RootError{Root: root, Reason: "cannot be looked at: " + err.Error(), Err: err}
			}
			if rest != "" || dir(real) == real {
				return place{real, joinOr(rest)}, nil
			}
			return place{dir(real), base(real)}, nil
		case !errors.Is(err, fs.ErrNotExist) && !isNotFolder(err):
			return place{}, err
		case dir(at) == at:
			return place{}, &site.RootError{Root: root, Reason: "cannot be found: nothing exists above it", Err: err}
		}
		rest = strings.TrimSuffix(base(at)+"/"+rest, "/")
	}
}

func isFolder(stat func(string) (fs.FileInfo, error)) func(string) (bool, error) {
	return func(name string) (bool, error) {
		info, err := stat(name)
		return err == nil && info.IsDir(), err
	}
}

func joinOr(rest string) string {
	if rest == "" {
		return "."
	}
	return rest
}

// find locates a root as the target is published.
func (s *Settings) find(root string, dir, base func(string) string, look func(string) (folder bool, err error),
	resolve func(string) (string, error)) (place, error) {
	if s.Switch {
		return locateSwitched(root, dir, base, look, resolve)
	}
	return locate(root, dir, base, look, resolve)
}

// locateSwitched is locate for a root that is a link, or will be one: the link itself is not followed.
func locateSwitched(root string, dir, base func(string) string, look func(string) (folder bool, err error),
	resolve func(string) (string, error)) (place, error) {
	above, err := locate(dir(root), dir, base, look, resolve)
	if err != nil {
		return place{}, err
	}
	if above.root != "." {
		// The folder above the root is itself found below a base.
		return place{above.base, above.root + "/" + base(root)}, nil
	}
	return place{above.base, base(root)}, nil
}

// moved tells where a root leads that is a link now, although a folder with a record beside it existed there once;
// empty: it is not so.
func moved(root string, dir, base func(string) string, join func(...string) string,
	lstat func(string) (fs.FileInfo, error), resolve func(string) (string, error)) string {
	info, err := lstat(root)
	if err != nil || info.Mode()&fs.ModeSymlink == 0 {
		return ""
	}
	if _, err := lstat(join(dir(root), site.RecordName(base(root)), "current")); err != nil {
		return ""
	}
	to, err := resolve(root)
	if err != nil {
		return ""
	}
	return to
}

func asRootError(root string, err error) error {
	var already *site.RootError
	if errors.As(err, &already) || errors.Is(err, farend.ErrLost) {
		return err
	}
	var inner *fs.PathError
	if errors.As(err, &inner) {
		err = inner.Err
	}
	return &site.RootError{Root: root, Reason: "cannot be looked at: " + err.Error(), Err: err}
}
