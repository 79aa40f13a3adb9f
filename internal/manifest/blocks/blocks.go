// Package blocks keeps manifests as trees of folders, so that two that have folders in common keep those once.
//
// What is directly in a folder is a block, and so is the list of the parts of a folder in which very much is. A block has
// a name, the SHA-256 of its bytes; a folder names the blocks of the folders in it. So the name of the top's block stands
// for a whole tree, times included: an unchanged folder has the same block in each manifest, and a changed file gives
// new ones to its folder and to those above it, and to no others.
//
// A block begins with a byte that says what it is.
//
//	1  a folder. Its items follow one another in bytewise order of their names, where the name of a folder counts with a
//	   slash behind it: so the entries of a tree come in the order of their paths. An item is: how many bytes its name has
//	   in common with that of the one before (uvarint); the length of the rest (uvarint), and the rest; then, of an entry,
//	   its facts as in manifest.Packed, and of a folder with content, a byte 3, the name of its block (32 bytes), and how
//	   many entries are below it (uvarint).
//	2  parts. For each: the name of its block, and how many entries are in it and below it (uvarint).
//
// From mostItems on a folder is cut into parts behind names that depend on nothing but themselves: an item more or less
// changes one part, or two.
//
// Files of blocks (see File) say where a block is. Whether a block has the bytes that its name says is not looked at: a
// sum tells damage, and whoever may write the files may write anything.
package blocks

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"tartine/internal/manifest"
)

// The kinds of block, and what says in a folder that an item is a folder with content.
const (
	folderBlock = 1
	partsBlock  = 2
	folderItem  = 3
)

const (
	mostItems = 1024 // in one block; a folder with more is cut into parts
	cutMask   = 255  // on the average a part has so many items
	leastPart = 64   // items
	leastItem = 5    // bytes that an entry takes
	deepest   = 1000 // folders one in the other

	pathsAtOnce = 64 << 10  // bytes of paths that are counted at a time
	mostPaths   = 512 << 20 // bytes of all paths of a tree
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Ref stands for a tree or a part of one: the name of its block, and how many entries there are.
type Ref struct {
	Name    manifest.Digest
	Entries int
}

// item is what a folder or a list of parts names.
type item struct {
	name  string         // in a folder; of a folder with content with a slash behind it
	entry manifest.Entry // zero where it is a folder with content
	ref   Ref
}

// Build makes the blocks of a tree. Put is called with every block, a folder behind those in it, and must not keep it. No more is
// held at a time than a part of each folder that is one in the other.
func Build(each manifest.Walk, put func(name manifest.Digest, block []byte)) Ref {
	b := &builder{put: put}
	b.enter("")
	each(func(e *manifest.Entry) bool {
		for !strings.HasPrefix(e.Path, b.path) {
			b.leave()
		}
		for {
			slash := strings.IndexByte(e.Path[len(b.path):], '/')
			if slash < 0 {
				break
			}
			b.enter(e.Path[:len(b.path)+slash+1])
		}
		b.addEntry(e)
		return true
	})
	for len(b.open) > 1 {
		b.leave()
	}
	return b.end()
}

type builder struct {
	put     func(name manifest.Digest, block []byte)
	open    []*unfinished // one in the other
	path    string        // of the innermost, with a slash behind it; empty: the top
	spare   []*unfinished
	scratch []byte
}

// unfinished is a folder of which more may come.
type unfinished struct {
	items []item // that are in no part yet
	parts []item // where there are many
	above int    // how long the path of the folder above is
}

// enter begins a folder in the innermost one.
func (b *builder) enter(path string) {
	next := &unfinished{}
	if last := len(b.spare) - 1; last >= 0 {
		next, b.spare = b.spare[last], b.spare[:last]
	}
	next.above = len(b.path)
	b.open, b.path = append(b.open, next), path
}

// leave ends the innermost folder, which is none if nothing is in it.
func (b *builder) leave() {
	in := b.open[len(b.open)-1]
	name, ref := b.path[in.above:], Ref{}
	if len(in.items)+len(in.parts) > 0 {
		ref = b.end()
	}
	b.open, b.path = b.open[:len(b.open)-1], b.path[:in.above]
	in.items, in.parts = in.items[:0], in.parts[:0]
	b.spare = append(b.spare, in)
	if ref.Entries > 0 {
		b.add(item{name: name, ref: ref})
	}
}

// add adds an item to the innermost folder.
func (b *builder) add(it item) {
	in := b.open[len(b.open)-1]
	if in.items = append(in.items, it); len(in.items) > mostItems {
		n := cut(in.items)
		in.parts = append(in.parts, item{ref: b.emit(in.items[:n], folderBlock)})
		in.items = in.items[:copy(in.items, in.items[n:])]
	}
}

// end makes the last block of the innermost folder.
func (b *builder) end() Ref {
	in := b.open[len(b.open)-1]
	if len(in.parts) == 0 {
		return b.emit(in.items, folderBlock)
	}
	return b.fold(append(in.parts, b.parts(in.items, folderBlock)...))
}

// parts makes blocks of items, each of a part of them.
func (b *builder) parts(items []item, kind byte) (out []item) {
	for len(items) > 0 {
		n := cut(items)
		out = append(out, item{ref: b.emit(items[:n], kind)})
		items = items[n:]
	}
	return out
}

// fold makes one block of the parts of a folder.
func (b *builder) fold(parts []item) Ref {
	for len(parts) > mostItems {
		parts = b.parts(parts, partsBlock)
	}
	return b.emit(parts, partsBlock)
}

// cut tells how many items make up the next part.
func cut(items []item) int {
	most := min(len(items), mostItems)
	for i := leastPart; i < most; i++ {
		mark := []byte(items[i-1].name)
		if items[i-1].name == "" {
			mark = items[i-1].ref.Name[:]
		}
		if crc32.Checksum(mark, castagnoli)&cutMask == 0 {
			return i
		}
	}
	return most
}

func (b *builder) emit(items []item, kind byte) Ref {
	out, before, ref := append(b.scratch[:0], kind), "", Ref{}
	for i := range items {
		it := &items[i]
		ref.Entries += it.ref.Entries
		if kind == folderBlock {
			name := strings.TrimSuffix(it.name, "/")
			common := 0
			for common < min(len(before), len(name)) && before[common] == name[common] {
				common++
			}
			out = binary.AppendUvarint(out, uint64(common))
			out = binary.AppendUvarint(out, uint64(len(name)-common))
			out = append(out, name[common:]...)
			before = name
			if name == it.name {
				out = manifest.AppendFacts(out, &it.entry)
				continue
			}
			out = append(out, folderItem)
		}
		out = append(out, it.ref.Name[:]...)
		out = binary.AppendUvarint(out, uint64(it.ref.Entries))
	}
	ref.Name = sha256.Sum256(out)
	b.put(ref.Name, out)
	b.scratch = out
	return ref
}

// DamageError tells that a block is missing or is not what it must be.
type DamageError struct {
	Name   manifest.Digest // of the block
	Folder string          // that it is of; "." is the top
	Reason string
}

func (e *DamageError) Error() string {
	return fmt.Sprintf("block %s of folder %s %s", e.Name.Hex()[:12], e.Folder, e.Reason)
}

// ErrTooMuch tells that a tree has more entries, or longer paths, than are read.
var ErrTooMuch = fmt.Errorf("more than %d entries, or paths of more than %d bytes", manifest.MostPacked, mostPaths)

// Read gives the entries of a tree, sorted by path, and checks all that manifest.Check does. Find gives the bytes of a
// block, of which there are so many in all; it is called from several goroutines at once. The error is that of find, a
// *DamageError or ErrTooMuch.
func Read(top Ref, bytes int64, find Finder) ([]manifest.Entry, error) {
	if top.Entries < 0 || top.Entries > manifest.MostPacked {
		return nil, ErrTooMuch
	}
	type part struct {
		Below
		before int // entries of the top that come before it
	}
	var (
		parts []part
		paths atomic.Int64
		r     = &reader{find: find, paths: &paths}
	)
	r.below = func(name string, ref Ref) { parts = append(parts, part{Below{name, ref}, len(r.out)}) }
	if err := r.folder(top, "", 0); err != nil {
		return nil, err
	}
	if int64(top.Entries) > max(bytes/leastItem, int64(len(r.out))) {
		return nil, &DamageError{top.Name, ".", "has fewer entries than it should"}
	}
	// How many entries are below each folder is known: so each has its place in one piece of memory.
	var (
		out     = make([]manifest.Entry, top.Entries)
		working errgroup.Group
		at, own int
	)
	working.SetLimit(runtime.GOMAXPROCS(0))
	for _, p := range parts {
		at += copy(out[at:], r.out[own:p.before])
		own = p.before
		place := out[at : at : at+p.Entries]
		at += p.Entries
		working.Go(func() error {
			return (&reader{find: find, paths: &paths, out: place}).folder(p.Ref, p.Name+"/", 1)
		})
	}
	copy(out[at:], r.out[own:])
	if err := working.Wait(); err != nil {
		return nil, err
	}
	return out, nil
}

// Below is a folder with content in another one.
type Below struct {
	Name string
	Ref
}

// Folder gives what is directly in a folder, both sorted by name: entries, whose paths are their names, and folders with
// content. Entries are appended to room. Its errors are those of Read.
func Folder(folder Ref, room []manifest.Entry, find Finder) (entries []manifest.Entry, below []Below, err error) {
	r := &reader{find: find, paths: new(atomic.Int64), out: room, below: func(name string, ref Ref) { below = append(below, Below{name, ref}) }}
	err = r.folder(folder, "", 0)
	slices.SortFunc(below, func(a, b Below) int { return strings.Compare(a.Name, b.Name) }) // in a block a slash counts
	return r.out, below, err
}

// FolderAt gives the entries that are directly in a folder of a tree, by its path, as Folder does; "." is the top. There are none where it is
// not in the tree.
func FolderAt(top Ref, path string, find Finder) (entries []manifest.Entry, err error) {
	var below []Below
	if entries, below, err = Folder(top, nil, find); err != nil || path == "." {
		return entries, err
	}
	name, rest, deeper := strings.Cut(path, "/")
	if !deeper {
		rest = "."
	}
	at, found := slices.BinarySearchFunc(below, name, func(b Below, name string) int { return strings.Compare(b.Name, name) })
	if !found {
		return nil, nil
	}
	return FolderAt(below[at].Ref, rest, find)
}

type reader struct {
	find  Finder
	out   []manifest.Entry
	paths *atomic.Int64              // bytes of all of them
	below func(name string, ref Ref) // takes folders, which are not read; nil: they are
}

// inside is a folder while it is read.
type inside struct {
	path    string  // with a slash behind it; empty: the top
	depth   int     //
	leaves  []int32 // entries, by index, at which nothing may be below
	last    []byte  // the name of the item before, a folder's with a slash
	entries int     // that there must be still
}

func (r *reader) folder(ref Ref, path string, depth int) error {
	in := &inside{path: path, depth: depth, entries: ref.Entries}
	if err := r.block(ref, in, 0); err != nil {
		return err
	}
	if in.entries != 0 {
		return r.damaged(ref, in, "has fewer entries than it should")
	}
	return nil
}

func (r *reader) damaged(ref Ref, in *inside, reason string) error {
	folder := strings.TrimSuffix(in.path, "/")
	if folder == "" {
		folder = "."
	}
	return &DamageError{ref.Name, folder, reason}
}

// block reads a block of a folder: it, or a part of it.
func (r *reader) block(ref Ref, in *inside, level int) error {
	text, err := r.find(ref.Name)
	switch {
	case err != nil:
		return err
	case in.depth > deepest || level > 16:
		return r.damaged(ref, in, "lies too deep")
	case len(text) == 0:
		return r.damaged(ref, in, "is empty")
	}
	kind, text := text[0], text[1:]
	switch kind {
	case folderBlock:
		return r.items(ref, in, text)
	case partsBlock:
		for len(text) > 0 {
			var (
				part Ref
				ok   bool
			)
			if part, text, ok = takeRef(text); !ok || part.Entries > in.entries {
				return r.damaged(ref, in, "cannot be read")
			}
			left := in.entries
			if err := r.block(part, in, level+1); err != nil {
				return err
			}
			if left-in.entries != part.Entries {
				return r.damaged(part, in, "has another number of entries than it should")
			}
		}
		return nil
	}
	return r.damaged(ref, in, "is of a kind that is not known")
}

func takeRef(text []byte) (ref Ref, rest []byte, ok bool) {
	if len(text) < len(ref.Name) {
		return ref, nil, false
	}
	copy(ref.Name[:], text)
	text = text[len(ref.Name):]
	entries, n := binary.Uvarint(text)
	if n <= 0 || entries == 0 || entries > manifest.MostPacked {
		return ref, nil, false
	}
	ref.Entries = int(entries)
	return ref, text[n:], true
}

// items reads the items of a folder. The paths of its entries are parts of one text, which is one piece of memory.
func (r *reader) items(ref Ref, in *inside, text []byte) error {
	wrong := func(reason string) error { return r.damaged(ref, in, reason) }
	own := scratches.Get().(*scratch)
	defer scratches.Put(own)
	var (
		names = &own.names
		ends  = &own.ends
		first = len(r.out)
		name  []byte          // of the item before, without a slash
		owner *manifest.Owner // that was said last
		paths int             // bytes of those that were not counted yet
	)
	// settle gives the entries that were read their paths: those from first on, whose names are complete.
	settle := func() {
		if len(*ends) == 0 {
			return
		}
		all, start := string(*names), 0
		for i, end := range *ends {
			r.out[first+i].Path, start = all[start:end], end
		}
		*names, *ends = (*names)[:0], (*ends)[:0]
	}
	*names, *ends = (*names)[:0], (*ends)[:0]
	if in.leaves == nil {
		in.leaves = make([]int32, 0, min(in.entries, len(text)/leastItem))
	}
	for len(text) > 0 {
		common, n := manifest.Uvarint(text)
		if n <= 0 || common > uint64(len(name)) {
			return wrong("cannot be read")
		}
		length, m := manifest.Uvarint(text[n:])
		if m <= 0 || length > uint64(len(text)-n-m) {
			return wrong("cannot be read")
		}
		name = append(name[:common], text[n+m:n+m+int(length)]...)
		if text = text[n+m+int(length):]; len(text) == 0 {
			return wrong("cannot be read")
		}
		if paths += len(in.path) + len(name); paths > pathsAtOnce {
			if r.paths.Add(int64(paths)) > mostPaths {
				return ErrTooMuch
			}
			paths = 0
		}
		isFolder := text[0] == folderItem
		if !isName(name) {
			return wrong(fmt.Sprintf("has the name %q", name))
		}
		if order := compareNames(in.last, name, isFolder); order >= 0 {
			return wrong(fmt.Sprintf("has names that are not in order: %q", name))
		}
		if in.last = append(in.last[:0], name...); isFolder {
			in.last = append(in.last, '/')
			below, rest, ok := takeRef(text[1:])
			if !ok || below.Entries > in.entries {
				return wrong("cannot be read")
			}
			settle()
			if r.isLeaf(in, string(name)) {
				return wrong(fmt.Sprintf("has something below %q, which is not a folder with content", name))
			}
			if r.below != nil {
				r.below(string(name), below)
			} else if err := r.folder(below, in.path+string(in.last), in.depth+1); err != nil {
				return err
			}
			in.entries, text, first = in.entries-below.Entries, rest, len(r.out)
			continue
		}
		r.out = append(r.out, manifest.Entry{})
		e := &r.out[len(r.out)-1]
		rest, ok := manifest.TakeFacts(text, e, owner)
		if in.entries--; !ok || in.entries < 0 {
			return wrong("cannot be read")
		}
		owner = cmp.Or(e.Owner, owner)
		if e.Kind != manifest.Dir || e.Plain() {
			in.leaves = append(in.leaves, int32(len(r.out)-1))
		}
		*names = append(append(*names, in.path...), name...)
		*ends, text = append(*ends, len(*names)), rest
	}
	settle()
	if r.paths.Add(int64(paths)) > mostPaths {
		return ErrTooMuch
	}
	return nil
}

// scratch is what reading a block takes, and the next one can use again.
type scratch struct {
	names []byte // one behind the other
	ends  []int  // of each
}

var scratches = sync.Pool{New: func() any { return &scratch{} }}

// isName tells whether a name can be that of an item.
func isName(name []byte) bool {
	return len(name) > 0 && utf8.Valid(name) && bytes.IndexByte(name, 0) < 0 && bytes.IndexByte(name, '/') < 0 &&
		string(name) != "." && string(name) != ".."
}

// compareNames compares the name of an item, which has its slash where it is a folder's, with the next one, which has not.
func compareNames(last, next []byte, isFolder bool) int {
	if !isFolder || len(last) <= len(next) {
		if order := bytes.Compare(last, next); order != 0 || !isFolder {
			return order
		}
		return -1
	}
	if order := bytes.Compare(last[:len(next)], next); order != 0 {
		return order
	}
	return bytes.Compare(last[len(next):], []byte{'/'})
}

// isLeaf tells whether nothing may be below a name in a folder. The paths of what was read of it must be complete.
func (r *reader) isLeaf(in *inside, name string) bool {
	_, found := slices.BinarySearchFunc(in.leaves, name, func(i int32, name string) int {
		return strings.Compare(r.out[i].Path[len(in.path):], name)
	})
	return found
}

// Names gives the names of all blocks of a tree, each once. Find is called from several goroutines at once.
func Names(top Ref, find Finder) (map[manifest.Digest]bool, error) {
	var (
		mu    sync.Mutex
		seen  = map[manifest.Digest]bool{}
		group errgroup.Group
		visit func(name manifest.Digest) error
	)
	group.SetLimit(runtime.GOMAXPROCS(0))
	visit = func(name manifest.Digest) error {
		mu.Lock()
		known := seen[name]
		seen[name] = true
		mu.Unlock()
		if known {
			return nil
		}
		text, err := find(name)
		if err != nil {
			return err
		}
		return refs(text, func(below Ref) error {
			deeper := func() error { return visit(below.Name) }
			if group.TryGo(deeper) {
				return nil
			}
			return deeper()
		})
	}
	group.Go(func() error { return visit(top.Name) })
	err := group.Wait()
	return seen, err
}

var errForm = errors.New("a block cannot be read")

// IsWhole tells whether a block is a folder, or a part of one, and not a list of parts.
func IsWhole(block []byte) bool { return len(block) > 0 && block[0] == folderBlock }

// Nothing gives a block that names no other one.
func Nothing() []byte { return []byte{folderBlock} }

// refs calls visit with each block that a block names.
func refs(text []byte, visit func(Ref) error) error {
	if len(text) == 0 || text[0] != folderBlock && text[0] != partsBlock {
		return errForm
	}
	kind := text[0]
	for text = text[1:]; len(text) > 0; {
		if kind == folderBlock {
			_, n := binary.Uvarint(text)
			if n <= 0 {
				return errForm
			}
			length, m := binary.Uvarint(text[n:])
			if m <= 0 || length >= uint64(len(text)-n-m) {
				return errForm
			}
			if text = text[n+m+int(length):]; text[0] != folderItem {
				var (
					e  manifest.Entry
					ok bool
				)
				if text, ok = manifest.TakeFacts(text, &e, nil); !ok {
					return errForm
				}
				continue
			}
			text = text[1:]
		}
		var (
			ref Ref
			ok  bool
		)
		if ref, text, ok = takeRef(text); !ok {
			return errForm
		}
		if err := visit(ref); err != nil {
			return err
		}
	}
	return nil
}
