package content

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"unicode/utf8"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Home is where a path of the tree comes from on this machine, or would come from: the way of Scan backwards.
type Home struct {
	Local string // as a person knows it

	modes bool // the modes of files are taken as they are

	folder   string // in which everything is that may be written to
	relative string // to it
}

// NoHomeError tells why nothing of this machine may take what is at a path of the site.
type NoHomeError struct{ Path, Reason string }

func (e *NoHomeError) Error() string { return e.Reason }

// Home finds out where a path of the tree comes from. Of several sources that could bring it, it is the one that does;
// where none does, the last that would. It fails with a *NoHomeError.
func (t *Tree) Home(path string, folder bool, opt Options) (*Home, error) {
	none := func(format string, args ...any) (*Home, error) {
		return nil, &NoHomeError{path, fmt.Sprintf(format, args...)}
	}
	if !utf8.ValidString(path) || !filepath.IsLocal(filepath.FromSlash(path)) {
		return none("it is not a path of this machine")
	}
	if i, found := t.Find(path); found {
		return t.homeIn(t.SourceOf(i), path, opt)
	}
	reason := "no source brings what is there"
	for i := len(t.Sources) - 1; i >= 0; i-- {
		s := &t.Sources[i]
		if !s.covers(path) {
			continue
		}
		if s.Name != "" {
			return t.homeIn(i, path, opt)
		}
		relative := s.relative(path)
		decision := s.Rules.Decide(relative, folder)
		if decision.Excluded() { // it is not wanted, whatever another source says
			return none("source %s leaves it out: %q (%s)", s.Path, decision.Rule.Pattern, decision.Rule.Place)
		}
		if !decision.Taken {
			reason = fmt.Sprintf("no include of source %s takes it", s.Path)
			continue
		}
		for end := 1; end <= len(relative); end++ {
			if end < len(relative) && relative[end] != '/' {
				continue
			}
			if finding, found := guardName(relative[:end], end < len(relative) || folder, opt.Allow); found {
				return none("it does not belong on a public server: %s", finding.Why)
			}
		}
		return t.homeIn(i, path, opt)
	}
	return none("%s", reason)
}

func (t *Tree) homeIn(i int, path string, opt Options) (*Home, error) {
	s := &t.Sources[i]
	if s.isListed() {
		return nil, &NoHomeError{path, fmt.Sprintf("source %s is not a folder of this machine", s.Path)}
	}
	h := &Home{Local: s.local(path), modes: opt.KeepModes, folder: s.Path, relative: filepath.FromSlash(s.relative(path))}
	if s.Name != "" {
		h.folder, h.relative = filepath.Split(s.Path)
		if h.folder == "" {
			h.folder = "."
		}
	}
	return h, nil
}

// Mode gives the mode that a file has here, so that a scan finds it as it is at the site, as far as it can.
func (h *Home) Mode(there fs.FileMode) fs.FileMode { return fileMode(there, h.modes) }

// Take writes what an entry says into the source: a file whole and checked by its digest, in one step. It follows no link
// out of the source, and does not replace a folder or a link by a file. Open may be called for a file.
func (h *Home) Take(ctx context.Context, e *manifest.Entry, open func() (io.ReadCloser, error)) error {
	root, err := os.OpenRoot(h.folder)
	if err != nil {
		return err
	}
	defer root.Close()
	if above := filepath.Dir(h.relative); above != "." {
		if err := root.MkdirAll(above, 0o755); err != nil {
			return err
		}
	}
	there, err := root.Lstat(h.relative)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	case there.IsDir() && e.Kind == manifest.Dir:
		return nil
	case there.IsDir():
		return &NoHomeError{e.Path, "a folder is here in its place"}
	case there.Mode()&fs.ModeSymlink != 0 && e.Kind != manifest.Link:
		return &NoHomeError{e.Path, "a link is here in its place"}
	case e.Kind == manifest.Dir:
		return &NoHomeError{e.Path, "a file is here in its place"}
	}
	if e.Kind == manifest.Dir {
		return root.Mkdir(h.relative, 0o755)
	}
	fresh := filepath.Join(filepath.Dir(h.relative), ".tartine-"+rand.Text())
	if e.Kind == manifest.Link {
		err = root.Symlink(e.Link, fresh)
	} else {
		err = h.takeFile(ctx, root, fresh, e, open)
	}
	if err == nil {
		err = root.Rename(fresh, h.relative)
	}
	if err != nil {
		_ = root.Remove(fresh) // it may not be there
	}
	return err
}

func (h *Home) takeFile(ctx context.Context, root *os.Root, name string, e *manifest.Entry, open func() (io.ReadCloser, error)) error {
	in, err := open()
	if err != nil {
		return err
	}
	defer in.Close()
	file, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	hash := sha256.New()
	_, err = fsys.Copy(ctx, io.MultiWriter(file, hash), in)
	if err == nil && runtime.GOOS != "windows" {
		err = file.Chmod(h.Mode(e.Mode))
	}
	if err == nil {
		err = file.Sync()
	}
	if closing := file.Close(); err == nil {
		err = closing
	}
	if err == nil && manifest.Digest(hash.Sum(nil)) != e.Digest {
		err = errors.New("it changed at the site while it was brought")
	}
	if err == nil && !e.ModTime.IsZero() {
		err = root.Chtimes(name, e.ModTime, e.ModTime)
	}
	return err
}

// Drop removes what feeds a path from the source: a file or a link, or a folder that is empty; and the folders above it
// that are empty then, but for those that stay, by their paths in the tree.
func (h *Home) Drop(path string, stays func(folder string) bool) error {
	root, err := os.OpenRoot(h.folder)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.Remove(h.relative); err != nil {
		return err
	}
	for above := filepath.Dir(h.relative); above != "."; above = filepath.Dir(above) {
		if path, _ = fsys.Split(path); stays(path) || root.Remove(above) != nil {
			break
		}
	}
	return nil
}
