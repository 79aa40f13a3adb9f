package manifest

import (
	"encoding/binary"
	"fmt"
	"io/fs"
	"time"
)

// Where nobody reads them, entries are packed into one string of bytes, one behind the other. Each is: how many bytes
// its path has in common with the one before (uvarint); the length of the rest (uvarint), and the rest; a byte, whose
// lowest two bits are the kind (0 file, 1 link, 2 folder), whose third says that a digest follows, whose fourth that a time
// does, whose fifth that a person put it there, and whose sixth that it is said whom it belongs to; the permission bits (uvarint); the size (varint); of a link, the length of what it says (uvarint), and
// that; the digest (32 bytes); the time in nanoseconds since 1970 (varint); the names of user and group, each with its length (uvarint).
const (
	hasDigest = 1 << 2
	hasTime   = 1 << 3
	byHand    = 1 << 4
	hasOwner  = 1 << 5
)

// Packed is entries in that form.
type Packed []byte

// Pack packs entries.
func Pack(entries []Entry) Packed {
	return appendAll(make(Packed, 0, 64*len(entries)), entries)
}

func appendAll(out []byte, entries []Entry) []byte {
	before := ""
	for i := range entries {
		out = appendPacked(out, &entries[i], before)
		before = entries[i].Path
	}
	return out
}

func appendPacked(out []byte, e *Entry, before string) []byte {
	common := 0
	for common < min(len(before), len(e.Path)) && before[common] == e.Path[common] {
		common++
	}
	out = binary.AppendUvarint(out, uint64(common))
	out = appendText(out, e.Path[common:])
	return AppendFacts(out, e)
}

// AppendFacts packs what there is to say of an entry but for its path. Its first byte never has both of the lowest bits.
func AppendFacts(out []byte, e *Entry) []byte {
	flags := byte(e.Kind)
	if !e.Digest.IsZero() {
		flags |= hasDigest
	}
	if !e.ModTime.IsZero() {
		flags |= hasTime
	}
	if e.Hand {
		flags |= byHand
	}
	if e.Owner != nil {
		flags |= hasOwner
	}
	out = append(out, flags)
	out = binary.AppendUvarint(out, uint64(e.Mode.Perm()))
	out = binary.AppendVarint(out, e.Size)
	if e.Kind == Link {
		out = appendText(out, e.Link)
	}
	if flags&hasDigest != 0 {
		out = append(out, e.Digest[:]...)
	}
	if flags&hasTime != 0 {
		out = binary.AppendVarint(out, e.ModTime.UnixNano())
	}
	if flags&hasOwner != 0 {
		out = appendText(appendText(out, e.Owner.User), e.Owner.Group)
	}
	return out
}

func appendText(out []byte, text string) []byte {
	return append(binary.AppendUvarint(out, uint64(len(text))), text...)
}

// MostPacked is how many entries are unpacked at most, and mostPaths how many bytes their paths have: a few bytes can stand for a
// long path that is nearly the one before.
const (
	MostPacked = 2 << 20
	mostPaths  = 512 << 20
)

// Unpack reads entries. Their paths are checked; their order is not.
func (p Packed) Unpack() (out []Entry, err error) {
	return p.UnpackTo(make([]Entry, 0, min(len(p)/40, MostPacked))) // about as many as there will be
}

// UnpackTo reads entries as Unpack does and appends them. Their paths are parts of one text, which is one piece of memory.
func (p Packed) UnpackTo(out []Entry) ([]Entry, error) { return p.unpackTo(out, mostPaths, CheckPath) }

func (p Packed) unpackTo(out []Entry, most int, check func(path string) error) ([]Entry, error) {
	var (
		r     = &unpacking{rest: p}
		first = len(out)
		paths []byte // one behind the other
		begin int    // of the one before
		ends  []int
	)
	for len(r.rest) > 0 {
		if len(out) == MostPacked {
			return nil, fmt.Errorf("more than %d entries", MostPacked)
		}
		before, next := paths[begin:], len(paths)
		paths = append(append(paths, before[:r.common(len(before))]...), r.next(r.uvarint())...)
		if len(paths) > most {
			return nil, fmt.Errorf("paths of more than %d bytes", most)
		}
		var e Entry
		if r.facts(&e); r.broken {
			return nil, fmt.Errorf("entry %d, after %q, cannot be read", len(out), before)
		}
		begin = next
		out, ends = append(out, e), append(ends, len(paths))
	}
	all, start := string(paths), 0
	for i, end := range ends {
		path := all[start:end]
		if start = end; check(path) != nil {
			return nil, fmt.Errorf("entry %d, %q, cannot be read", first+i, path)
		}
		out[first+i].Path = path
	}
	return out, nil
}

// unpacking reads what is packed, as long as that goes.
type unpacking struct {
	rest   []byte
	broken bool
	owner  *Owner // that was read last, which those that follow share; nil: none was
}

func (r *unpacking) next(n uint64) []byte {
	if n > uint64(len(r.rest)) {
		r.broken = true
		return nil
	}
	out := r.rest[:n]
	r.rest = r.rest[n:]
	return out
}

func (r *unpacking) uvarint() uint64 {
	value, n := Uvarint(r.rest)
	if n <= 0 {
		r.broken = true
		return 0
	}
	r.rest = r.rest[n:]
	return value
}

func (r *unpacking) varint() int64 {
	value := r.uvarint()
	return int64(value>>1) ^ -int64(value&1) // as encoding/binary has it
}

func (r *unpacking) byte() byte {
	if b := r.next(1); len(b) == 1 {
		return b[0]
	}
	return 0
}

// common reads how many bytes are as in the path before, which has so many.
func (r *unpacking) common(most int) uint64 {
	common := r.uvarint()
	if common > uint64(most) {
		r.broken = true
		return 0
	}
	return common
}

// TakeFacts reads what AppendFacts packed, and gives what comes behind it. The entry shares an owner that was read before, where it has the
// same one; that may be nil.
func TakeFacts(packed []byte, e *Entry, before *Owner) (rest []byte, ok bool) {
	r := &unpacking{rest: packed, owner: before}
	r.facts(e)
	return r.rest, !r.broken
}

func (r *unpacking) facts(e *Entry) {
	flags := r.byte()
	e.Kind, e.Hand = Kind(flags&3), flags&byHand != 0
	e.Mode = fs.FileMode(r.uvarint()).Perm()
	e.Size = r.varint()
	if e.Kind == Link {
		e.Link = string(r.next(r.uvarint()))
	}
	if flags&hasDigest != 0 {
		copy(e.Digest[:], r.next(uint64(len(e.Digest))))
	}
	if flags&hasTime != 0 {
		e.ModTime = time.Unix(0, r.varint()).UTC()
	}
	if flags&hasOwner != 0 {
		user, group := r.next(r.uvarint()), r.next(r.uvarint())
		if r.owner == nil || r.owner.User != string(user) || r.owner.Group != string(group) {
			owner, err := NewOwner(string(user), string(group))
			r.owner, r.broken = owner, r.broken || err != nil || owner == nil
		}
		e.Owner, r.broken = r.owner, r.broken || e.Kind == Link
	}
	r.broken = r.broken || e.Kind > Dir || flags > hasOwner|byHand|hasTime|hasDigest|3
}
