package blocks

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"slices"

	"tartine/internal/manifest"
)

// A file of blocks is
//
//	tartine blocks 1 <newline>   the blocks, one behind the other   index   CRC-32C of the index (4 bytes)   how many blocks (4 bytes)
//
// where the index has, for each block in bytewise order of names: name (32 bytes), where it begins in the file (8 bytes), its
// length (4 bytes), and the CRC-32C of its bytes (4 bytes). Numbers have their highest byte first.
const (
	fileMagic  = "tartine blocks 1\n"
	indexEntry = 32 + 8 + 4 + 4
	trailer    = 4 + 4
)

// Writer makes a file of blocks.
type Writer struct {
	text []byte
	has  map[manifest.Digest]span
}

type span struct {
	at     uint64
	length uint32
}

// Add adds a block, unless it is there.
func (w *Writer) Add(name manifest.Digest, block []byte) {
	if w.has == nil {
		w.has, w.text = map[manifest.Digest]span{}, append(w.text, fileMagic...)
	}
	if _, there := w.has[name]; there {
		return
	}
	w.has[name] = span{uint64(len(w.text)), uint32(len(block))}
	w.text = append(w.text, block...)
}

// Grow makes room for so many bytes more of blocks, which are so many.
func (w *Writer) Grow(bytes, blocks int) {
	w.text = slices.Grow(w.text, bytes+blocks*indexEntry+trailer)
}

// Len gives how many bytes the blocks have.
func (w *Writer) Len() int { return max(len(w.text)-len(fileMagic), 0) }

// Bytes gives the file. Nothing can be added then.
func (w *Writer) Bytes() []byte {
	names := make([]manifest.Digest, 0, len(w.has))
	for name := range w.has {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b manifest.Digest) int { return bytes.Compare(a[:], b[:]) })
	out, start := w.text, len(w.text)
	if start == 0 {
		out, start = []byte(fileMagic), len(fileMagic)
	}
	for _, name := range names {
		at := w.has[name]
		out = append(out, name[:]...)
		out = binary.BigEndian.AppendUint64(out, at.at)
		out = binary.BigEndian.AppendUint32(out, at.length)
		out = binary.BigEndian.AppendUint32(out, crc32.Checksum(out[at.at:at.at+uint64(at.length)], castagnoli))
	}
	out = binary.BigEndian.AppendUint32(out, crc32.Checksum(out[start:], castagnoli))
	return binary.BigEndian.AppendUint32(out, uint32(len(names)))
}

// File is a file of blocks that was read.
type File struct {
	text  []byte // nil: only the index is known
	index []byte
	size  int
}

// ErrDamaged tells that a file of blocks is cut short or damaged.
var ErrDamaged = errors.New("it is damaged")

// ReadFile reads a file of blocks, and keeps its text.
func ReadFile(text []byte) (*File, error) {
	if !bytes.HasPrefix(text, []byte(fileMagic)) {
		return nil, errors.New("it is not a file of blocks of version 1")
	}
	if len(text) < len(fileMagic)+trailer {
		return nil, ErrDamaged
	}
	tail := text[len(text)-trailer:]
	length := uint64(binary.BigEndian.Uint32(tail[4:])) * indexEntry
	if length > uint64(len(text)-len(fileMagic)-trailer) {
		return nil, ErrDamaged
	}
	start := len(text) - trailer - int(length)
	index := text[start : len(text)-trailer]
	if crc32.Checksum(index, castagnoli) != binary.BigEndian.Uint32(tail) {
		return nil, ErrDamaged
	}
	for at := 0; at < len(index); at += indexEntry {
		begin, size := binary.BigEndian.Uint64(index[at+32:]), uint64(binary.BigEndian.Uint32(index[at+40:]))
		if begin < uint64(len(fileMagic)) || begin > uint64(start) || size > uint64(start)-begin ||
			at > 0 && bytes.Compare(index[at-indexEntry:at-indexEntry+32], index[at:at+32]) >= 0 {
			return nil, ErrDamaged
		}
	}
	return &File{text, index, len(text)}, nil
}

// Index gives the file without its blocks: what is in it is known then, and takes little memory.
func (f *File) Index() *File { return &File{nil, slices.Clone(f.index), f.size} }

// Size gives how many bytes the file has.
func (f *File) Size() int64 { return int64(f.size) }

// find gives where in the index a block is.
func (f *File) find(name manifest.Digest) (entry []byte, found bool) {
	low, high := 0, len(f.index)/indexEntry
	for low < high {
		middle := (low + high) / 2
		entry = f.index[middle*indexEntry : (middle+1)*indexEntry]
		switch order := bytes.Compare(entry[:32], name[:]); {
		case order == 0:
			return entry, true
		case order < 0:
			low = middle + 1
		default:
			high = middle
		}
	}
	return nil, false
}

// Length gives how many bytes a block of the file has.
func (f *File) Length(name manifest.Digest) (bytes int64, found bool) {
	entry, found := f.find(name)
	if !found {
		return 0, false
	}
	return int64(binary.BigEndian.Uint32(entry[40:])), true
}

// Block gives the bytes of a block; nil: it is not in the file. It fails with ErrDamaged.
func (f *File) Block(name manifest.Digest) ([]byte, error) {
	entry, found := f.find(name)
	if !found || f.text == nil {
		return nil, nil
	}
	at := binary.BigEndian.Uint64(entry[32:])
	block := f.text[at : at+uint64(binary.BigEndian.Uint32(entry[40:]))]
	if crc32.Checksum(block, castagnoli) != binary.BigEndian.Uint32(entry[44:]) {
		return nil, ErrDamaged
	}
	return block, nil
}
