package content

import (
	"cmp"
	"encoding/binary"
	"slices"
	"strings"
	"sync"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// piece is what is directly in a folder, of one source, sorted by name. Of each: how many bytes its name has in common with the
// one before (uvarint), the length of the rest (uvarint), the rest, and the facts as in manifest.Packed.
type piece struct {
	dir    string // of the tree
	source int32
	count  int32
	unread int32 // files without a digest
	others int32 // links and folders
	bytes  int64 // of its files
	paths  int   // bytes of all paths
	length int32 // bytes, where packed is nil: they are put aside
	at     int64 // there
	packed []byte
}

// packPieces folds up what a folder of a source holds, and the folder itself, which is in the one above it.
func packPieces(all []found) []piece {
	return pack(len(all), all[0].source, func(i int) *manifest.Entry { return &all[i].Entry })
}

// pack folds up entries of one source.
func pack(count int, source int32, at func(i int) *manifest.Entry) (out []piece) {
	own := packers.Get().(*packer)
	order, packed := own.order[:0], own.packed
	sorted := true
	for i := range count {
		order = append(order, int32(i))
		sorted = sorted && (i == 0 || at(i-1).Path <= at(i).Path)
	}
	own.order = order
	if !sorted {
		slices.SortFunc(order, func(a, b int32) int { return strings.Compare(at(int(a)).Path, at(int(b)).Path) })
	}
	for len(order) > 0 {
		dir, before := "", ""
		p := piece{source: source}
		packed = packed[:0]
		for ; len(order) > 0; order = order[1:] {
			e := at(int(order[0]))
			within, name := fsys.Split(e.Path)
			if p.count == 0 {
				dir = within
			} else if within != dir {
				break
			}
			common := 0
			for common < min(len(before), len(name)) && before[common] == name[common] {
				common++
			}
			packed = binary.AppendUvarint(binary.AppendUvarint(packed, uint64(common)), uint64(len(name)-common))
			packed = manifest.AppendFacts(append(packed, name[common:]...), e)
			before, p.count, p.paths = name, p.count+1, p.paths+len(e.Path)
			if e.Kind != manifest.File {
				p.others++
				continue
			}
			if p.bytes += e.Size; e.Digest.IsZero() {
				p.unread++
			}
		}
		p.dir, p.packed = strings.Clone(dir), slices.Clone(packed) // a path is part of a text with others
		out = append(out, p)
	}
	own.packed = packed
	packers.Put(own)
	return out
}

// packer is what packing a folder takes, and the next one can use again.
type packer struct {
	order  []int32
	packed []byte
}

var packers = sync.Pool{New: func() any { return &packer{} }}

// member is an entry and the source that brings it.
type member struct {
	manifest.Entry
	source int32
}

// failed is in the place of the source where a file could not be read.
const failed = -1

// unpack appends the entries of a piece, which may be put aside. Their paths are parts of one text.
func (p *piece) unpack(out []member, from *aside) []member {
	packed, done := from.text(p)
	defer done()
	var (
		text   strings.Builder
		prefix = ""
		before string
		owner  *manifest.Owner // that was said last
		rest   = packed
		number = func() int {
			value, n := manifest.Uvarint(rest)
			rest = rest[n:]
			return int(value)
		}
	)
	if p.dir != "." {
		prefix = p.dir + "/"
	}
	text.Grow(p.paths)
	out = slices.Grow(out, int(p.count))
	for len(rest) > 0 {
		common, length := number(), number()
		begin := text.Len()
		text.WriteString(prefix)
		text.WriteString(before[:common])
		text.Write(rest[:length])
		out = append(out, member{source: p.source})
		e := &out[len(out)-1].Entry
		e.Path = text.String()[begin:]
		before = e.Path[len(prefix):]
		rest, _ = manifest.TakeFacts(rest[length:], e, owner) // it is ours
		owner = cmp.Or(e.Owner, owner)
	}
	return out
}
