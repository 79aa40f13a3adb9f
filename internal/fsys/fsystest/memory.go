package fsystest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Memory is an FS in memory. It behaves as a local file system does, links and second names included, and forgets on
// demand what was not synced (see Crash). It has every optional interface.
type Memory struct {
	mu    sync.Mutex
	root  *node
	ticks int64
	log   []transaction      // changes of folders since the last Sync, in order
	dirty map[*node]struct{} // files whose bytes changed since then
}

// node is a file, a link or a folder.
type node struct {
	mode     fs.FileMode
	content  []byte // replaced as a whole, never written into
	link     string
	children map[string]*node
	modified time.Time
	owner    uint32

	durable         []byte
	durableChildren map[string]*node
}

// transaction is changes of folders that a file system makes whole or not at all: a rename has two.
type transaction []entryChange

type entryChange struct {
	dir  *node
	name string
	to   *node // nil: the name is gone
}

// NewMemory gives an FS with nothing in it.
func NewMemory() *Memory {
	m := &Memory{dirty: map[*node]struct{}{}}
	m.root = m.make(fs.ModeDir | 0o755)
	return m
}

var memoryEpoch = time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)

// now is a clock that goes on with each look by a millisecond.
func (m *Memory) now() time.Time {
	m.ticks++
	return memoryEpoch.Add(time.Duration(m.ticks) * time.Millisecond)
}

func (m *Memory) make(mode fs.FileMode) *node {
	n := &node{mode: mode, modified: m.now()}
	if mode.IsDir() {
		n.children, n.durableChildren = map[string]*node{}, map[string]*node{}
	}
	return n
}

func (m *Memory) commit(changes ...entryChange) {
	for _, c := range changes {
		if c.to == nil {
			delete(c.dir.children, c.name)
		} else {
			c.dir.children[c.name] = c.to
		}
		c.dir.modified = m.now()
	}
	m.log = append(m.log, changes)
}

func (m *Memory) write(n *node, content []byte) {
	n.content = content
	n.modified = m.now()
	m.dirty[n] = struct{}{}
}

// Sync implements fsys.Syncer.
func (m *Memory) Sync(context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, t := range m.log {
		apply(t)
	}
	for n := range m.dirty {
		n.durable = n.content
	}
	m.log, m.dirty = nil, map[*node]struct{}{}
	return nil
}

func apply(t transaction) {
	for _, c := range t {
		if c.to == nil {
			delete(c.dir.durableChildren, c.name)
		} else {
			c.dir.durableChildren[c.name] = c.to
		}
	}
}

// Crash has the power fail: of what was not synced, each change of a folder is kept or lost by chance, and of each file
// the new bytes, the old ones, or part of the new ones are found. That is worse than most file systems are, and allowed
// by POSIX.
func (m *Memory) Crash(random *rand.Rand) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, t := range m.log {
		if random.IntN(2) == 0 {
			apply(t)
		}
	}
	for n := range m.dirty {
		switch random.IntN(3) {
		case 0:
			n.durable = n.content
		case 1:
			n.durable = n.content[:random.IntN(len(n.content)+1)]
		}
	}
	var settle func(n *node)
	settle = func(n *node) {
		n.content = n.durable
		if n.children != nil {
			n.children = maps.Clone(n.durableChildren)
		}
		for _, child := range n.children {
			settle(child)
		}
	}
	settle(m.root)
	m.log, m.dirty = nil, map[*node]struct{}{}
}

func failed(op, name string, err error) error { return &fs.PathError{Op: op, Path: name, Err: err} }

var errNoFolder = fmt.Errorf("not a directory")

// find gives what is under a name and the folder that it is in. Links above it are followed, within the base; the last
// element only when follow says so. A missing last element is no error: found is nil.
func (m *Memory) find(name string, follow bool) (dir *node, base string, found *node, err error) {
	path := []*node{m.root} // the folders from the base to here
	todo := strings.Split(name, "/")
	if len(name) > 4096 {
		return nil, "", nil, fmt.Errorf("name too long")
	}
	for followed := 0; len(todo) > 0; {
		element := todo[0]
		todo = todo[1:]
		at := path[len(path)-1]
		switch {
		case element == "" || element == ".":
			if len(todo) == 0 {
				return at, ".", at, nil
			}
			continue
		case element == "..":
			if len(path) == 1 {
				return nil, "", nil, fmt.Errorf("path escapes from parent")
			}
			path = path[:len(path)-1]
			continue
		case len(element) > 255:
			return nil, "", nil, fmt.Errorf("name too long")
		case at.children == nil:
			return nil, "", nil, errNoFolder
		}
		next := at.children[element]
		last := len(todo) == 0
		switch {
		case next == nil && last:
			return at, element, nil, nil
		case next == nil:
			return nil, "", nil, fs.ErrNotExist
		case next.mode&fs.ModeSymlink != 0 && (!last || follow):
			if followed++; followed > 40 {
				return nil, "", nil, fmt.Errorf("too many levels of symbolic links")
			}
			if strings.HasPrefix(next.link, "/") {
				return nil, "", nil, fmt.Errorf("path escapes from parent")
			}
			todo = append(strings.Split(next.link, "/"), todo...)
		case last:
			return at, element, next, nil
		case next.children == nil:
			return nil, "", nil, errNoFolder
		default:
			path = append(path, next)
		}
	}
	return path[len(path)-1], ".", path[len(path)-1], nil
}

// stand is find for what must be there.
func (m *Memory) stand(op, name string, follow bool) (dir *node, base string, found *node, err error) {
	dir, base, found, err = m.find(name, follow)
	if err == nil && found == nil {
		err = fs.ErrNotExist
	}
	if err != nil {
		err = failed(op, name, err)
	}
	return dir, base, found, err
}

func (n *node) info(name string) fsys.Info {
	return fsys.Info{Name: name, Attributes: fsys.Attributes{Mode: n.mode, ModTime: n.modified},
		Size: int64(len(n.content)), Link: n.link,
		User: fsys.User{ID: n.owner, Known: true}}
}

// Lstat implements fsys.FS.
func (m *Memory) Lstat(_ context.Context, name string) (fsys.Info, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, base, n, err := m.stand("look up", name, false)
	if err != nil {
		return fsys.Info{}, err
	}
	return n.info(base), nil
}

// List implements fsys.FS.
func (m *Memory) List(ctx context.Context, dir string) ([]fsys.Info, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, _, n, err := m.stand("list", dir, true)
	if err != nil {
		return nil, err
	}
	if n.children == nil {
		return nil, failed("list", dir, errNoFolder)
	}
	out := make([]fsys.Info, 0, len(n.children))
	for name, child := range n.children {
		out = append(out, child.info(name))
	}
	return out, ctx.Err()
}

// Open implements fsys.FS.
func (m *Memory) Open(_ context.Context, name string) (io.ReadCloser, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, _, n, err := m.stand("open", name, false)
	if err != nil {
		return nil, err
	}
	if !n.mode.IsRegular() {
		return nil, failed("open", name, fs.ErrInvalid)
	}
	return struct {
		io.ReadSeeker
		io.Closer
	}{bytes.NewReader(n.content), noCloser{}}, nil
}

// Put implements fsys.FS.
func (m *Memory) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return m.put(ctx, name, content, attr, false)
}

// Create implements fsys.FS.
func (m *Memory) Create(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	return m.put(ctx, name, content, attr, true)
}

func (m *Memory) put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes,
	fresh bool) (int64, error) {
	text, readErr := io.ReadAll(fsys.WithContext(ctx, content))
	m.mu.Lock()
	defer m.mu.Unlock()
	dir, base, n, err := m.find(name, !fresh)
	switch {
	case err != nil:
		return 0, failed("write", name, err)
	case n != nil && fresh:
		return 0, failed("write", name, fs.ErrExist)
	case n != nil && !n.mode.IsRegular():
		return 0, failed("write", name, fs.ErrInvalid)
	case n == nil:
		n = m.make(0o600)
		m.commit(entryChange{dir, base, n})
	}
	m.write(n, text)
	if readErr != nil {
		return int64(len(text)), readErr
	}
	m.attr(n, attr)
	return int64(len(text)), nil
}

func (m *Memory) attr(n *node, attr fsys.Attributes) {
	if attr.Mode != 0 {
		n.mode = n.mode.Type() | attr.Mode.Perm()
	}
	if !attr.ModTime.IsZero() {
		n.modified = attr.ModTime
	}
}

// Extend implements fsys.Extender.
func (m *Memory) Extend(ctx context.Context, name string, offset int64, content io.Reader,
	attr fsys.Attributes) (int64, error) {
	text, readErr := io.ReadAll(fsys.WithContext(ctx, content))
	m.mu.Lock()
	defer m.mu.Unlock()
	_, _, n, err := m.stand("write", name, true)
	if err != nil {
		return 0, err
	}
	whole := make([]byte, max(int(offset)+len(text), len(n.content)))
	copy(whole, n.content)
	copy(whole[offset:], text)
	m.write(n, whole)
	if readErr == nil {
		m.attr(n, attr)
	}
	return int64(len(text)), readErr
}

// SetAttr implements fsys.FS. As the system does, it follows a link.
func (m *Memory) SetAttr(_ context.Context, name string, attr fsys.Attributes) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, _, n, err := m.stand("set mode of", name, true)
	if err == nil {
		m.attr(n, attr)
	}
	return err
}

// Symlink implements fsys.FS.
func (m *Memory) Symlink(_ context.Context, target, name string) error {
	n := &node{mode: fs.ModeSymlink | 0o777, link: target}
	return m.add("make link", name, n)
}

// Mkdir implements fsys.FS.
func (m *Memory) Mkdir(_ context.Context, name string, mode fs.FileMode) error {
	return m.add("make folder", name, &node{mode: fs.ModeDir | mode.Perm(), children: map[string]*node{},
		durableChildren: map[string]*node{}})
}

func (m *Memory) add(op, name string, n *node) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	dir, base, there, err := m.find(name, false)
	if err == nil && there != nil {
		err = fs.ErrExist
	}
	if err != nil {
		return failed(op, name, err)
	}
	n.modified = m.now()
	m.commit(entryChange{dir, base, n})
	return nil
}

// Rename implements fsys.FS. As POSIX has it, two names of one file both stay.
func (m *Memory) Rename(_ context.Context, from, to string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	fromDir, fromBase, n, err := m.stand("rename", from, false)
	if err != nil {
		return err
	}
	toDir, toBase, there, err := m.find(to, false)
	switch {
	case err != nil:
		return failed("rename to", to, err)
	case there == n:
		return nil
	case there != nil && there.children != nil && (n.children == nil || len(there.children) > 0):
		return failed("rename to", to, fmt.Errorf("a folder is in the way"))
	case there != nil && there.children == nil && n.children != nil:
		return failed("rename to", to, errNoFolder)
	case n.children != nil && strings.HasPrefix(to+"/", from+"/"):
		return failed("rename to", to, fs.ErrInvalid)
	}
	m.commit(entryChange{fromDir, fromBase, nil}, entryChange{toDir, toBase, n})
	return nil
}

// Remove implements fsys.FS.
func (m *Memory) Remove(_ context.Context, name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	dir, base, n, err := m.stand("remove", name, false)
	if err != nil {
		return err
	}
	if len(n.children) > 0 {
		return failed("remove", name, fmt.Errorf("directory not empty"))
	}
	m.commit(entryChange{dir, base, nil})
	return nil
}

// Link implements fsys.Linker.
func (m *Memory) Link(_ context.Context, from, to string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, _, n, err := m.stand("link", from, false)
	if err != nil {
		return err
	}
	dir, base, there, err := m.find(to, false)
	switch {
	case err != nil:
		return failed("link", to, err)
	case there != nil:
		return failed("link", to, fs.ErrExist)
	case n.children != nil:
		return failed("link", from, fs.ErrPermission)
	}
	m.commit(entryChange{dir, base, n})
	return nil
}

// Copies implements fsys.Copier.
func (m *Memory) Copies(ctx context.Context, pairs []fsys.Pair, done func(int)) error {
	for i, pair := range pairs {
		from, err := m.Open(ctx, pair.From)
		if err != nil {
			continue
		}
		if _, err := m.Put(ctx, pair.To, from, fsys.Attributes{}); err == nil {
			done(i)
		}
	}
	return ctx.Err()
}

// Digests implements fsys.Digester.
func (m *Memory) Digests(ctx context.Context, names []string, each func(int, manifest.Digest)) error {
	for i, name := range names {
		m.mu.Lock()
		_, _, n, err := m.find(name, false)
		m.mu.Unlock()
		if err == nil && n != nil && n.mode.IsRegular() {
			each(i, sha256.Sum256(n.content))
		}
	}
	return ctx.Err()
}

// OpenFolder implements fsys.FolderOpener.
func (m *Memory) OpenFolder(_ context.Context, name string) (fsys.Folder, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, _, n, err := m.stand("open", name, true)
	if err == nil && n.children == nil {
		err = failed("open", name, errNoFolder)
	}
	return &memoryFolder{m, n, name}, err
}

type memoryFolder struct {
	memory *Memory
	dir    *node
	name   string
}

// Put implements fsys.Folder: an existing file is replaced, not written into.
func (f *memoryFolder) Put(name string, content []byte, attr fsys.Attributes) error {
	m := f.memory
	m.mu.Lock()
	defer m.mu.Unlock()
	if there := f.dir.children[name]; name == "" || strings.Contains(name, "/") || len(name) > 255 || there != nil &&
		there.children != nil {
		return failed("write", fsys.Join(f.name, name), fs.ErrInvalid)
	}
	n := m.make(0o600)
	m.commit(entryChange{f.dir, name, n})
	m.write(n, slices.Clone(content))
	m.attr(n, attr)
	return nil
}

// Read implements fsys.Folder.
func (f *memoryFolder) Read(name string, most int64, room []byte) ([]byte, error) {
	m := f.memory
	m.mu.Lock()
	defer m.mu.Unlock()
	n := f.dir.children[name]
	switch {
	case n == nil:
		return room, failed("read", fsys.Join(f.name, name), fs.ErrNotExist)
	case !n.mode.IsRegular():
		return room, failed("read", fsys.Join(f.name, name), fs.ErrInvalid)
	case int64(len(n.content)) > most:
		return room, failed("read", fsys.Join(f.name, name), fsys.ErrTooLong)
	}
	return append(room, n.content...), nil
}

// Link implements fsys.Folder.
func (f *memoryFolder) Link(from fsys.Folder, old, name string) error {
	other, ok := from.(*memoryFolder)
	if !ok || strings.Contains(old+name, "/") {
		return failed("link", fsys.Join(f.name, name), fs.ErrInvalid)
	}
	return f.memory.Link(context.Background(), fsys.Join(other.name, old), fsys.Join(f.name, name))
}

func (f *memoryFolder) Close() error { return nil }

// FreeSpace implements fsys.Spacer.
func (m *Memory) FreeSpace(context.Context) (fsys.Space, error) {
	return fsys.Space{Bytes: 1 << 40, Files: -1}, nil
}

// Writable implements fsys.Prober.
func (m *Memory) Writable(_ context.Context, dir string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, _, n, err := m.stand("write in", dir, true)
	if err == nil && n.mode.Perm()&0o200 == 0 {
		err = failed("write in", dir, fs.ErrPermission)
	}
	return err
}

// Self implements fsys.Selfer.
func (m *Memory) Self(context.Context) (user uint32, known bool) { return 0, true }

// Abilities implements fsys.FS.
func (m *Memory) Abilities() fsys.Abilities {
	return fsys.Abilities{AtomicReplace: true, Modes: true, Links: true, TimeStep: time.Nanosecond,
		FarDigests: "memory"}
}

// Close implements fsys.FS.
func (m *Memory) Close() error { return nil }

type noCloser struct{}

func (noCloser) Close() error { return nil }
