package manifest

import (
	"maps"
	"slices"
	"strings"
	"sync"
)

// Folded is a long list of entries that takes little memory: it is packed, piece by piece, and unpacked as it is walked. It can
// be walked and looked at by several goroutines at once, and added to by one that is alone.
type Folded struct {
	pieces []Packed // each of foldedPiece entries
	block  []byte   // that the next pieces go into, as far as there is room
	rest   []Entry  // that make no piece yet
	last   string   // the path that was added last
	mixed  bool     // the paths are not in order
	open   bool     // there is a file whose digest is not known
	packed []byte   // room to pack a piece

	mu     sync.Mutex
	known  map[int]Digest  // of files, by index, whose digests were open
	opened [32]openedPiece // those looked at last, by several who go on each at a place of his own
	turn   int
}

type openedPiece struct {
	number  int
	entries []Entry // nil: there is none
}

// foldedPiece is how many entries a piece has, and foldedBlock how many bytes of memory are taken for pieces at a time.
const (
	foldedPiece = 128
	foldedBlock = 256 << 10
)

// Fold gives entries as such a list.
func Fold(entries []Entry) *Folded {
	out := &Folded{}
	out.Add(entries)
	return out
}

// FoldAll gives all entries of a walk as such a list.
func FoldAll(each Walk) *Folded {
	out, room := &Folded{}, make([]Entry, 0, foldedPiece)
	each(func(e *Entry) bool {
		if room = append(room, *e); len(room) == foldedPiece {
			out.Add(room)
			room = room[:0]
		}
		return true
	})
	out.Add(room)
	return out
}

// Add appends entries. It does not keep them.
func (f *Folded) Add(entries []Entry) {
	last := f.last
	for i := range entries {
		f.mixed, last = f.mixed || entries[i].Path <= last, entries[i].Path
		f.open = f.open || entries[i].Kind == File && entries[i].Digest.IsZero()
	}
	f.last = strings.Clone(last) // it may be of a text with many
	for len(entries) > 0 {
		n := min(foldedPiece-len(f.rest), len(entries))
		f.rest = append(f.rest, entries[:n]...)
		if entries = entries[n:]; len(f.rest) < foldedPiece {
			return
		}
		f.packed = appendAll(f.packed[:0], f.rest)
		clear(f.rest) // the texts of their paths go
		f.rest = f.rest[:0]
		if len(f.packed) > cap(f.block)-len(f.block) {
			f.block = make([]byte, 0, max(foldedBlock, len(f.packed)))
		}
		from := len(f.block)
		f.block = append(f.block, f.packed...)
		f.pieces = append(f.pieces, f.block[from:len(f.block):len(f.block)])
	}
}

// Len gives how many entries there are.
func (f *Folded) Len() int { return len(f.pieces)*foldedPiece + len(f.rest) }

// InOrder tells whether they are sorted by path, and none comes twice.
func (f *Folded) InOrder() bool { return !f.mixed }

// Folded tells that there is no list of them.
func (f *Folded) Folded() bool { return true }

// Each calls visit with one entry after the other, until it tells that that is enough. Visit must not keep them.
func (f *Folded) Each(visit func(e *Entry) bool) {
	room, known, at := make([]Entry, 0, foldedPiece), f.allKnown(), 0
	some := func(entries []Entry) bool {
		for i := range entries {
			if digest, is := known[at+i]; is {
				entries[i].Digest = digest
			}
			if !visit(&entries[i]) {
				return false
			}
		}
		at += len(entries)
		return true
	}
	for _, piece := range f.pieces {
		if room = piece.unpackOwn(room[:0]); !some(room) {
			return
		}
	}
	some(append(room[:0], f.rest...))
}

// Know says what is in a file whose digest was open, by its index.
func (f *Folded) Know(index int, digest Digest) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.known == nil {
		f.known = map[int]Digest{}
	}
	f.known[index] = digest
}

func (f *Folded) allKnown() map[int]Digest {
	f.mu.Lock()
	defer f.mu.Unlock()
	return maps.Clone(f.known)
}

// Open tells whether there were files whose digests were open when they were added.
func (f *Folded) Open() bool { return f.open }

// Entries gives a list of them.
func (f *Folded) Entries() []Entry {
	out := make([]Entry, 0, f.Len())
	for _, piece := range f.pieces {
		out = piece.unpackOwn(out)
	}
	out = append(out, f.rest...)
	for i, digest := range f.allKnown() {
		out[i].Digest = digest
	}
	return out
}

// At gives an entry by its index. It is quick for those that are close to one that was asked for lately.
func (f *Folded) At(index int) Entry {
	f.mu.Lock()
	defer f.mu.Unlock()
	e := f.at(index)
	if digest, is := f.known[index]; is {
		e.Digest = digest
	}
	return e
}

func (f *Folded) at(index int) Entry {
	number, in := index/foldedPiece, index%foldedPiece
	if number == len(f.pieces) {
		return f.rest[in]
	}
	at := slices.IndexFunc(f.opened[:], func(p openedPiece) bool { return p.entries != nil && p.number == number })
	if at < 0 {
		at = f.turn
		f.turn = (f.turn + 1) % len(f.opened)
		f.opened[at] = openedPiece{number, f.pieces[number].unpackOwn(make([]Entry, 0, foldedPiece))}
	}
	return f.opened[at].entries[in]
}

// unpackOwn unpacks what this package has packed, of entries that were checked.
func (p Packed) unpackOwn(room []Entry) []Entry {
	out, err := p.unpackTo(room, mostPaths, func(string) error { return nil })
	if err != nil {
		panic(err)
	}
	return out
}
