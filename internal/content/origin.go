package content

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// File is one file, folder or link of a source that is not on this machine's disk: an entry of an archive, a file of
// another site.
type File interface {
	// Path is slash-separated and relative to the source. Folders need no File of their own.
	Path() string
	// Lstat describes it without following a link. A link is also a Link.
	Lstat() (fs.FileInfo, error)
	// Open opens the bytes of a file.
	Open() (io.ReadCloser, error)
}

// Link is a File that is a symbolic link.
type Link interface {
	File
	// Readlink gives what it says.
	Readlink() (string, error)
}

// Known is a File whose content was read before: its digest, and what the guard said of it.
type Known interface {
	File
	Known() (digest manifest.Digest, verdict byte)
}

// origin is where the names of a source are looked up.
type origin interface {
	// stat describes what a name leads to.
	stat(name string) (fs.FileInfo, error)
	lstat(name string) (fs.FileInfo, error)
	list(folder string) ([]item, error)
	readlink(name string) (string, error)
	open(name string) (opened, error)
	join(folder, name string) string
}

// opened is a file that is read once, from its beginning to its end.
type opened interface {
	io.ReadCloser
	facts() (facts, error)
}

// origin gives where the source is, and the name there of its top.
func (s *Source) origin() (at origin, top string) {
	if s.listing != nil {
		return s.listing, "."
	}
	return disk{}, filepath.Clean(s.Path)
}

// disk is this machine. What it tells of files identifies them for the cache.
type disk struct{}

func (disk) stat(name string) (fs.FileInfo, error)  { return os.Stat(name) }
func (disk) lstat(name string) (fs.FileInfo, error) { return os.Lstat(name) }
func (disk) list(folder string) ([]item, error)     { return readFolder(folder) }
func (disk) open(name string) (opened, error)       { return openFile(name) }
func (disk) join(folder, name string) string        { return filepath.Join(folder, name) }

func (disk) readlink(name string) (string, error) {
	target, err := os.Readlink(name)
	return filepath.ToSlash(target), err
}

// listedOrigin is an origin of which all is known beforehand.
type listedOrigin interface {
	origin
	// known gives the digest of a file that tells it, and what the guard said of it.
	known(name string) (digest manifest.Digest, v verdict, ok bool)
	// resolve follows the links on the way to a name and at its end, within the source.
	resolve(name string) (string, error)
}

// listing is a source of which all files are known beforehand.
type listing struct {
	files   map[string]File
	folders map[string][]item
}

// load has the files of a source listed, where it is not on the disk.
func (s *Source) load(ctx context.Context) error {
	if s.Entries != nil {
		l, err := s.Entries.load(ctx)
		if err != nil {
			return &SourceError{s.Path, err}
		}
		s.listing = l
		return nil
	}
	if s.Files == nil {
		return nil
	}
	files, err := s.Files(ctx)
	if err != nil {
		return &SourceError{s.Path, err}
	}
	l := &listing{map[string]File{}, map[string][]item{".": nil}}
	for _, f := range files {
		if err := l.add(f); err != nil {
			return &SourceError{s.Path, err}
		}
	}
	s.listing = l
	return nil
}

func (l *listing) add(f File) error {
	name := f.Path()
	if err := manifest.CheckBytes(name); err != nil {
		return fmt.Errorf("%q: %w", name, err)
	}
	info, err := f.Lstat()
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if info.IsDir() {
		return l.folder(name, info.Mode())
	}
	if l.files[name] != nil || l.folders[name] != nil {
		return fmt.Errorf("%s is in it twice", name)
	}
	l.files[name] = f
	dir := path.Dir(name)
	if err := l.folder(dir, fs.ModeDir|manifest.DirMode); err != nil {
		return err
	}
	l.folders[dir] = append(l.folders[dir], item{name: path.Base(name), facts: factsOf(info)})
	return nil
}

// folder notes a folder and those that it is in.
func (l *listing) folder(name string, mode fs.FileMode) error {
	if _, known := l.folders[name]; known {
		return nil
	}
	if l.files[name] != nil {
		return fmt.Errorf("%s is a file and a folder in it", name)
	}
	dir := path.Dir(name)
	if err := l.folder(dir, fs.ModeDir|manifest.DirMode); err != nil {
		return err
	}
	l.folders[name] = []item{}
	l.folders[dir] = append(l.folders[dir], item{name: path.Base(name), facts: facts{mode: mode}})
	return nil
}

// known gives the digest of a file that tells it.
func (s *Source) known(path string) (digest manifest.Digest, v verdict, ok bool) {
	if s.listing == nil {
		return digest, v, false
	}
	name := s.relative(path)
	if to, err := s.listing.resolve(name); err == nil {
		name = to // where links are followed
	}
	return s.listing.known(name)
}

func (l *listing) known(name string) (digest manifest.Digest, v verdict, ok bool) {
	file, ok := l.files[name].(Known)
	if !ok {
		return digest, v, false
	}
	digest, mark := file.Known()
	return digest, verdict(mark), !digest.IsZero() && verdict(mark) <= database
}

func (l *listing) find(op, name string) (File, error) {
	if f := l.files[name]; f != nil {
		return f, nil
	}
	return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
}

// mostHops is how many links are followed from one name.
const mostHops = 40

func (l *listing) resolve(name string) (string, error) {
	return resolve(name, func(name string) (target string, is bool, err error) {
		link, is := l.files[name].(Link)
		if !is {
			return "", false, nil
		}
		info, err := link.Lstat()
		if err != nil || info.Mode()&fs.ModeSymlink == 0 {
			return "", false, nil
		}
		target, err = link.Readlink()
		return target, true, err
	})
}

// resolve follows the links on the way to a name and at its end. Link tells whether there is one at a path, and what it says.
func resolve(name string, link func(path string) (target string, is bool, err error)) (string, error) {
	for range mostHops {
		next, err := follow(name, link)
		if err != nil || next == name {
			return next, err
		}
		name = next
	}
	return "", &fs.PathError{Op: "look up", Path: name, Err: errors.New("links lead round and round")}
}

// follow follows the first link on the way to a name.
func follow(name string, link func(path string) (target string, is bool, err error)) (string, error) {
	for end := range len(name) + 1 {
		if end < len(name) && name[end] != '/' {
			continue
		}
		target, is, err := link(name[:end])
		if err != nil {
			return "", err
		}
		if !is {
			continue
		}
		to := path.Join(path.Dir(name[:end]), target)
		if path.IsAbs(target) || to == ".." || strings.HasPrefix(to, "../") {
			return "", &fs.PathError{Op: "look up", Path: name, Err: errors.New("it leads out of the source")}
		}
		return path.Join(to, name[end:]), nil
	}
	return name, nil
}

func (l *listing) stat(name string) (fs.FileInfo, error) {
	to, err := l.resolve(name)
	if err != nil {
		return nil, err
	}
	return l.lstat(to)
}

func (l *listing) lstat(name string) (fs.FileInfo, error) {
	if _, is := l.folders[name]; is {
		return folderInfo{path: name}, nil
	}
	f, err := l.find("look up", name)
	if err != nil {
		return nil, err
	}
	return f.Lstat()
}

func (l *listing) list(folder string) ([]item, error) {
	to, err := l.resolve(folder)
	return l.folders[to], err
}

func (l *listing) readlink(name string) (string, error) {
	f, err := l.find("read", name)
	if err != nil {
		return "", err
	}
	link, is := f.(Link)
	if !is {
		return "", &fs.PathError{Op: "read", Path: name, Err: errors.New("it does not say where it leads")}
	}
	return link.Readlink()
}

func (l *listing) open(name string) (opened, error) {
	to, err := l.resolve(name)
	if err != nil {
		return nil, err
	}
	f, err := l.find("open", to)
	if err != nil {
		return nil, err
	}
	in, err := f.Open()
	if err != nil {
		return nil, err
	}
	return listed{in, f}, nil
}

func (l *listing) join(folder, name string) string { return fsys.Join(folder, name) }

type listed struct {
	io.ReadCloser
	file File
}

func (l listed) facts() (facts, error) {
	info, err := l.file.Lstat()
	if err != nil {
		return facts{}, err
	}
	return factsOf(info), nil
}

// folderInfo describes a folder that follows from what is in it.
type folderInfo struct{ path string }

// sameFolder tells whether two descriptions are of one folder.
func sameFolder(a, b fs.FileInfo) bool {
	one, listed := a.(folderInfo)
	other, both := b.(folderInfo)
	if listed && both {
		return one.path == other.path
	}
	return os.SameFile(a, b)
}

func (i folderInfo) Name() string     { return path.Base(i.path) }
func (folderInfo) Size() int64        { return 0 }
func (folderInfo) Mode() fs.FileMode  { return fs.ModeDir | manifest.DirMode }
func (folderInfo) ModTime() time.Time { return time.Time{} }
func (folderInfo) IsDir() bool        { return true }
func (folderInfo) Sys() any           { return nil }
