// Package treeparts compares trees folder by folder: for each folder there is a digest of the entries that are directly in it, or,
// of a large one, digests of parts of it, so that only what differs need be known at both sides. A part goes from one name on up
// to the name from which the next one goes, whatever either side has between the two.
//
// The digest is the SHA-256 of the entries, in their order, each as: the length of its name in four bytes, the name, kind, mode
// in two bytes, and the digest of a file or the SHA-256 of what a link says.
package treeparts

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"slices"
	"sort"
	"strings"

	"tartine/internal/fsys"
	"tartine/internal/lanehash"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Part is a folder, or a part of a large one.
type Part struct {
	_      struct{} `cbor:",toarray"`
	Path   string   // of the folder
	From   string   // the name from which it goes on; empty: from the beginning
	Digest manifest.Digest
}

// ByFolder gives the entries of each folder, by index.
func ByFolder(entries []manifest.Entry) map[string][]int {
	of := map[string][]int{}
	all := make([]int, 0, len(entries)) // of which the lists are parts, as long as a folder's entries follow each other
	for i := 0; i < len(entries); {
		dir, _ := fsys.Split(entries[i].Path)
		begin := len(all)
		for ; i < len(entries); i++ {
			if next, _ := fsys.Split(entries[i].Path); next != dir {
				break
			}
			all = append(all, i)
		}
		run := all[begin:len(all):len(all)]
		if before := of[dir]; before != nil {
			of[dir] = append(before, run...)
			continue
		}
		of[dir] = run
	}
	return of
}

func appendMember(out []byte, e *manifest.Entry) []byte {
	_, name := fsys.Split(e.Path)
	out = binary.BigEndian.AppendUint32(out, uint32(len(name)))
	out = append(out, name...)
	kind := byte(e.Kind)
	if e.Hand {
		kind |= 1 << 7
	}
	out = append(out, kind)
	out = binary.BigEndian.AppendUint16(out, uint16(e.Mode.Perm()))
	digest := e.Digest
	if e.Kind == manifest.Link {
		digest = sha256.Sum256([]byte(e.Link))
	}
	out = append(out, digest[:]...)
	if e.Owner != nil {
		out = fmt.Appendf(out, " %s\n", e.Owner)
	}
	return out
}

// digests gives the digests of so many folders. Text appends what one of them is of.
func digests(folders int, text func(folder int, room []byte) []byte) []manifest.Digest {
	var (
		out     = make([]manifest.Digest, folders)
		batch   lanehash.Batch
		scratch []byte
	)
	for i := range out {
		scratch = text(i, scratch[:0])
		copy(batch.Room(len(scratch)), scratch)
		batch.Add(len(scratch), (*[lanehash.Size]byte)(&out[i]))
		if batch.Full() {
			batch.Sum()
		}
	}
	batch.Sum()
	return out
}

// MostEntries is how many entries of one folder have a digest in common, at most: where one changes in a folder of very many,
// not all of them are sent.
const MostEntries = 1024

// Of gives the digest of each folder, or of each part of a large one, and the entries that it is of, by index. Each
// calls its argument with all entries, in the order of their paths.
func Of(each manifest.Walk) (out []Part, of [][]int32) {
	type made struct {
		Part
		of   []int32
		next *made // of the same folder
	}
	type folder struct {
		path string
		last *made  // that goes on
		text []byte // what its digest is of
	}
	var (
		parts []*made   // the first one of each folder
		open  []*folder // each in the one before
		spare []*folder
		batch lanehash.Batch
		at    int32
	)
	finish := func(f *folder) {
		copy(batch.Room(len(f.text)), f.text)
		batch.Add(len(f.text), (*[lanehash.Size]byte)(&f.last.Digest))
		if f.text = f.text[:0]; batch.Full() {
			batch.Sum()
		}
	}
	leave := func() {
		last := len(open) - 1
		finish(open[last])
		open, spare = open[:last], append(spare, open[last])
	}
	each(func(e *manifest.Entry) bool {
		dir, name := fsys.Split(e.Path)
		for len(open) > 0 && !contains(open[len(open)-1].path, dir) {
			leave()
		}
		var f *folder
		switch last := len(open) - 1; {
		case last >= 0 && open[last].path == dir:
			if f = open[last]; len(f.last.of) == MostEntries {
				finish(f)
				f.last.next = &made{Part: Part{Path: f.path, From: strings.Clone(name)}}
				f.last = f.last.next
			}
		default:
			f = &folder{}
			if last := len(spare) - 1; last >= 0 {
				f, spare = spare[last], spare[:last]
			}
			f.path = strings.Clone(dir)
			f.last = &made{Part: Part{Path: f.path}}
			parts, open = append(parts, f.last), append(open, f)
		}
		f.text, f.last.of = appendMember(f.text, e), append(f.last.of, at)
		at++
		return true
	})
	for len(open) > 0 {
		leave()
	}
	batch.Sum()
	for _, p := range parts {
		for ; p != nil; p = p.next {
			out, of = append(out, p.Part), append(of, p.of)
		}
	}
	return out, of
}

// contains tells whether a folder is another one, or that one lies in it.
func contains(dir, other string) bool {
	return dir == "." || dir == other || strings.HasPrefix(other, dir) && other[len(dir)] == '/'
}

// entriesIn gives, for each of some folders and parts of them, which of the entries lie there. All gives these by folder, as
// ByFolder does.
func entriesIn(folders []Part, entries []manifest.Entry, all map[string][]int) [][]int {
	out := make([][]int, len(folders))
	for i, f := range folders {
		of := all[f.Path]
		at := func(name string) int {
			return sort.Search(len(of), func(i int) bool {
				_, other := fsys.Split(entries[of[i]].Path)
				return other >= name
			})
		}
		first, end := at(f.From), len(of)
		if next := i + 1; next < len(folders) && folders[next].Path == f.Path {
			end = at(folders[next].From)
		}
		out[i] = of[first:max(end, first)]
	}
	return out
}

// Differing gives the folders, by index, whose entries are not those of the base, of which of gives the folders.
func Differing(folders []Part, base []manifest.Entry, of map[string][]int) (out []int) {
	lists := entriesIn(folders, base, of)
	for i, digest := range digests(len(lists), func(i int, room []byte) []byte {
		for _, at := range lists[i] {
			room = appendMember(room, &base[at])
		}
		return room
	}) {
		if len(lists[i]) == 0 || digest != folders[i].Digest {
			out = append(out, i)
		}
	}
	return out
}

// OfSite gives folders, and parts of them, as an engine knows them.
func OfSite(folders []Part) []site.Part {
	out := make([]site.Part, len(folders))
	for i, f := range folders {
		out[i] = site.Part{Dir: f.Path, From: f.From, Digest: f.Digest}
		if next := i + 1; next < len(folders) && folders[next].Path == f.Path {
			out[i].Until = folders[next].From
		}
	}
	return out
}

// SameAs tells of folders, by index, whether the entries of each of them have the digest that is said of it. It may be called by several
// goroutines at once.
func SameAs(folders []Part) func(some []int, entries [][]manifest.Entry) []bool {
	return func(some []int, entries [][]manifest.Entry) []bool {
		same := make([]bool, len(some))
		for i, digest := range digests(len(some), func(i int, room []byte) []byte {
			for j := range entries[i] {
				room = appendMember(room, &entries[i][j])
			}
			return room
		}) {
			same[i] = len(entries[i]) > 0 && digest == folders[some[i]].Digest
		}
		return same
	}
}

// Entries gives the entries of some of the folders by index, ascending; of is as Of gives it.
func Entries(of [][]int32, wanted []int) (some []int, err error) {
	for _, i := range wanted {
		if i < 0 || i >= len(of) {
			return nil, fmt.Errorf("there is no part %d", i)
		}
		for _, at := range of[i] {
			some = append(some, int(at))
		}
	}
	slices.Sort(some)
	return slices.Compact(some), nil
}

// FoldersOf gives folders among which are all that some entries, by their indexes, ascending, are in, and the indexes of all entries
// that are directly in those folders, ascending; of is as Of gives it.
func FoldersOf(folders []Part, of [][]int32, some []int) (dirs map[string]bool, all []int) {
	dirs = map[string]bool{}
	for i, in := range of {
		if len(in) == 0 {
			continue
		}
		at, _ := slices.BinarySearch(some, int(in[0]))
		if at < len(some) && some[at] <= int(in[len(in)-1]) {
			dirs[folders[i].Path] = true
		}
	}
	for i, in := range of {
		if !dirs[folders[i].Path] {
			continue
		}
		for _, at := range in {
			all = append(all, int(at))
		}
	}
	slices.Sort(all)
	return dirs, all
}

// Merge puts a tree together: the folders, and parts of them, that differ from the base as they were sent, the others from
// the base.
func Merge(folders []Part, base []manifest.Entry, ofBase map[string][]int, sent []manifest.Entry) []manifest.Entry {
	ofSent := ByFolder(sent)
	came, were := entriesIn(folders, sent, ofSent), entriesIn(folders, base, ofBase)
	out := make([]manifest.Entry, 0, len(base)+len(sent))
	for i := range folders {
		if len(came[i]) > 0 {
			for _, at := range came[i] {
				out = append(out, sent[at])
			}
			continue
		}
		for _, at := range were[i] {
			out = append(out, base[at])
		}
	}
	if !InOrder(out) { // folders that lie in one another, or an entry that comes twice
		slices.SortFunc(out, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	}
	return out
}

// InOrder tells whether entries are sorted and none comes twice.
func InOrder(entries []manifest.Entry) bool {
	for i := 1; i < len(entries); i++ {
		if entries[i-1].Path >= entries[i].Path {
			return false
		}
	}
	return true
}
