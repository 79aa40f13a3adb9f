package content

import (
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"github.com/fxamacker/cbor/v2"
	"golang.org/x/crypto/blake2b"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// The tree digest is that of a text with a line for each file, which takes most of the time of a run that has nothing to do. So it is
// remembered beside the digests of files, under a digest of what was taken, folded up as it is: what is the same has the same tree.
// Where only a part is, the tree digest is gone on with from a mark, each of which has a digest of all before it.
//
// The digest of what was taken is the BLAKE2b-256 of: the sources and paths of all folders, with their lengths, and then, folder by folder in the order in
// which they are unfolded, the BLAKE2b-256 of what is in each. That of a mark, which is where a folder is unfolded, is of all folders, and of
// what is in those before it. What is in each folder is remembered by its digest, too: so it is known in which folders two trees differ (see since.go).

// mostTrees is how many trees are remembered of the same sources, and mostMarks how many marks a tree has, about.
const (
	mostTrees = 4
	mostMarks = 32
)

// knownTree is a tree whose digest was computed.
type knownTree struct {
	_     struct{}        `cbor:",toarray"`
	Of    manifest.Digest // what was taken
	Tree  manifest.Digest
	Marks []knownMark
	Held  []byte // what each folder holds, as packHeld has it; empty: that is not known
}

type knownMark struct {
	_     struct{} `cbor:",toarray"`
	Of    manifest.Digest
	Path  string
	State []byte
}

// knownTrees is a file of them, those that were computed last first.
type knownTrees struct {
	_     struct{} `cbor:",toarray"`
	Trees []knownTree
	Sum   manifest.Digest // of the trees, as they are encoded
}

// prints is the digest of what was taken, that of each piece, and those for marks.
type prints struct {
	all    manifest.Digest
	pieces []manifest.Digest
	parts  []print
}

// print is the digest of what is before a piece, which is the first one of its folder.
type print struct {
	piece int
	of    manifest.Digest
}

// prints gives the digest of all that was taken; nil: there is more to a tree than that.
func (f *folds) prints() *prints {
	if len(f.out)+len(f.found) > 0 || len(f.pieces) == 0 {
		return nil
	}
	sum, err := blake2b.New256(nil)
	if err != nil {
		panic(err) // it takes no key
	}
	var (
		out  = prints{pieces: make([]manifest.Digest, len(f.pieces))}
		each = len(f.pieces)/mostMarks + 1
		text []byte
	)
	for i := range f.pieces {
		p := &f.pieces[i]
		text = binary.AppendUvarint(binary.AppendUvarint(text[:0], uint64(p.source)), uint64(len(p.dir)))
		sum.Write(append(text, p.dir...))
	}
	sum.Write([]byte{0}) // no folder has an empty path
	for i := range f.pieces {
		if i%each == 0 && i > 0 && f.pieces[i].dir != f.pieces[i-1].dir {
			out.parts = append(out.parts, print{i, digestOf(sum)})
		}
		packed, done := f.aside.text(&f.pieces[i])
		out.pieces[i] = blake2b.Sum256(packed)
		done()
		sum.Write(out.pieces[i][:])
	}
	out.all = digestOf(sum)
	return &out
}

func digestOf(sum hash.Hash) (out manifest.Digest) {
	sum.Sum(out[:0])
	return out
}

// tree gives the tree digest of what was taken, of which date gives each file its time, and the folders in which alone an earlier tree
// may be another one. Where these are not known it is nil, and isNew is called with a walk that computes the tree digest, if that
// is not known.
func (t *Tree) tree(earlier manifest.Digest, date func(e *manifest.Entry) bool, isNew func(each manifest.Walk)) (tree manifest.Digest, in map[string]bool) {
	each := func(visit func(e *manifest.Entry) bool) {
		t.each(nil, func(e *manifest.Entry) bool { return date(e) && visit(e) })
	}
	t.folding.Lock()
	f, cache := t.folds, t.scanned.Cache
	t.folding.Unlock()
	if f == nil || cache == nil || len(t.later) > 0 {
		return manifest.TreeOf(each), nil
	}
	of := f.prints()
	if of == nil || t.broken() != nil {
		return manifest.TreeOf(each), nil
	}
	file := cache.treesOf(t.Sources)
	known := readTrees(file)
	if is := slices.IndexFunc(known, func(k knownTree) bool { return k.Tree == earlier }); is >= 0 {
		in = f.since(of, known[is].Held)
	}
	if at := slices.IndexFunc(known, func(k knownTree) bool { return k.Of == of.all }); at >= 0 {
		return known[at].Tree, in
	}
	var k *knownTree
	if in != nil {
		k = f.goOn(of, known, nil)
	} else {
		isNew(func(visit func(e *manifest.Entry) bool) {
			k = f.goOn(of, known, func(e *manifest.Entry) { _ = date(e) && visit(e) })
		})
	}
	if k.Held = f.packHeld(of); t.broken() == nil {
		_ = writeTrees(file, append([]knownTree{*k}, known...)) // it only saves time
	}
	return k.Tree, in
}

// goOn computes a tree digest, as far as it is not known, while it calls visit with all entries; nil: it is not called.
func (f *folds) goOn(of *prints, known []knownTree, visit func(e *manifest.Entry)) *knownTree {
	var (
		out    = &knownTree{Of: of.all}
		ahead  = of.parts // where marks may be made
		marked []print    // where they are
		from   *manifest.Mark
		walks  func(dir string) bool // nil: all
	)
	if at, marks := f.lastMark(of, known); at >= 0 {
		last := marks[len(marks)-1]
		if first := f.pieces[of.parts[at].piece].dir; visit == nil {
			walks = func(dir string) bool { return fsys.Contains(dir, first) || compareFolders(dir, first) > 0 }
		}
		from, out.Marks, ahead = &manifest.Mark{Path: last.Path, State: last.State}, slices.Clone(marks), of.parts[at+1:]
	}
	at := func(e *manifest.Entry) bool {
		first := ahead
		for len(ahead) > 0 && f.begin(ahead[0]) <= e.Path {
			ahead = ahead[1:]
		}
		passed := len(first) - len(ahead)
		if passed > 0 {
			marked = append(marked, first[passed-1])
		}
		return passed > 0
	}
	tree, marks, err := manifest.MarkedTree(from, func(digest func(e *manifest.Entry) bool) {
		f.eachIn(walks, func(e *manifest.Entry, _ int32) bool {
			if visit != nil {
				visit(e)
			}
			return from != nil && e.Path < from.Path || digest(e)
		})
	}, at)
	if err != nil { // the mark is none
		return f.goOn(of, nil, visit)
	}
	for i, m := range marks {
		out.Marks = append(out.Marks, knownMark{Of: marked[i].of, Path: f.begin(marked[i]), State: m.State})
	}
	out.Tree = tree
	return out
}

// begin gives where what is from a piece on begins: no path before that is below its folder.
func (f *folds) begin(p print) string { return f.pieces[p.piece].dir + "/" }

// lastMark gives the last place of a mark at which a tree that is known had a mark, too, and the marks of that up to there; negative: there
// is none.
func (f *folds) lastMark(of *prints, known []knownTree) (at int, marks []knownMark) {
	at = -1
	for _, k := range known {
		for i, m := range k.Marks {
			if is := slices.IndexFunc(of.parts, func(p print) bool { return p.of == m.Of }); is > at && m.Path == f.begin(of.parts[is]) {
				at, marks = is, k.Marks[:i+1]
			}
		}
	}
	return at, marks
}

// treesOf gives the file for trees of some sources.
func (c *Cache) treesOf(sources []Source) string {
	sum := sha256.New()
	for i := range sources {
		path := sources[i].Path
		if absolute, err := filepath.Abs(path); err == nil {
			path = absolute
		}
		sum.Write([]byte(strconv.Quote(path) + strconv.Quote(sources[i].Dest) + strconv.Quote(sources[i].Name)))
	}
	return filepath.Join(c.dir, "trees-"+digestOf(sum).Hex()[:32])
}

// readTrees gives the trees of a file. One that is damaged has none.
func readTrees(file string) []knownTree {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	var read knownTrees
	if cbor.Unmarshal(text, &read) != nil || sumOf(read.Trees) != read.Sum {
		return nil
	}
	return read.Trees
}

func writeTrees(file string, trees []knownTree) error {
	trees = trees[:min(len(trees), mostTrees)]
	text, err := cbor.Marshal(knownTrees{Trees: trees, Sum: sumOf(trees)})
	if err != nil {
		return err
	}
	return ReplaceFile(file, text)
}

func sumOf(trees []knownTree) (out manifest.Digest) {
	text, err := cbor.Marshal(trees)
	if err != nil {
		return out
	}
	return sha256.Sum256(text)
}
