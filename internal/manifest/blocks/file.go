package blocks

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
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

// Writer writes a file of blocks. It keeps the index in memory, and not the blocks.
type Writer struct {
	out io.Writer
	err error
	at  uint64
	has map[manifest.Digest]span
}

type span struct {
	at          uint64
	length, sum uint32
}

// NewWriter gives a writer of a file. Nothing is written before the first block is added.
func NewWriter(out io.Writer) *Writer { return &Writer{out: out, has: map[manifest.Digest]span{}} }

// Add adds a block, unless it is there. That it could not be written is told by Close.
func (w *Writer) Add(name manifest.Digest, block []byte) {
	if _, there := w.has[name]; there {
		return
	}
	if w.at == 0 {
		w.write([]byte(fileMagic))
	}
	w.has[name] = span{w.at, uint32(len(block)), crc32.Checksum(block, castagnoli)}
	w.write(block)
}

func (w *Writer) write(text []byte) {
	w.at += uint64(len(text))
	if w.err == nil {
		_, w.err = w.out.Write(text)
	}
}

// Len gives how many bytes the blocks have.
func (w *Writer) Len() int64 { return max(int64(w.at)-int64(len(fileMagic)), 0) }

// Close writes the index, which completes the file. Nothing can be added after that.
func (w *Writer) Close() error {
	names := make([]manifest.Digest, 0, len(w.has))
	for name := range w.has {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b manifest.Digest) int { return bytes.Compare(a[:], b[:]) })
	if w.at == 0 {
		w.write([]byte(fileMagic))
	}
	index := make([]byte, 0, len(names)*indexEntry+trailer)
	for _, name := range names {
		at := w.has[name]
		index = append(index, name[:]...)
		index = binary.BigEndian.AppendUint64(index, at.at)
		index = binary.BigEndian.AppendUint32(index, at.length)
		index = binary.BigEndian.AppendUint32(index, at.sum)
	}
	index = binary.BigEndian.AppendUint32(index, crc32.Checksum(index, castagnoli))
	w.write(binary.BigEndian.AppendUint32(index, uint32(len(names))))
	return w.err
}

// File is a file of blocks. It must be closed.
type File struct {
	at    io.ReaderAt // the file; nil: only the index is known
	end   io.Closer   // of it; nil: it need not be closed
	index []byte
	size  int64
}

// ErrDamaged tells that a file of blocks is cut short or damaged.
var ErrDamaged = errors.New("it is damaged")

// ReadFile reads a file of blocks, whose text is kept.
func ReadFile(text []byte) (*File, error) { return OpenFile(bytes.NewReader(text), int64(len(text))) }

// OpenFile reads the index of a file that has so many bytes. Its blocks are read when they are asked for. What it is given is
// closed with the file, if it can be, and not where this fails.
func OpenFile(file io.ReaderAt, size int64) (*File, error) {
	magic, tail := make([]byte, len(fileMagic)), make([]byte, trailer)
	if _, err := file.ReadAt(magic, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if string(magic) != fileMagic {
		return nil, errors.New("it is not a file of blocks of version 1")
	}
	if size < int64(len(fileMagic)+trailer) {
		return nil, ErrDamaged
	}
	if _, err := file.ReadAt(tail, size-trailer); err != nil {
		return nil, err
	}
	length := int64(binary.BigEndian.Uint32(tail[4:])) * indexEntry
	start := size - trailer - length
	if start < int64(len(fileMagic)) {
		return nil, ErrDamaged
	}
	index := make([]byte, length)
	if _, err := file.ReadAt(index, start); err != nil {
		return nil, err
	}
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
	end, _ := file.(io.Closer)
	return &File{file, end, index, size}, nil
}

// Close closes the file.
func (f *File) Close() error {
	if f.end == nil {
		return nil
	}
	return f.end.Close()
}

// Index gives the file without its blocks: what is in it is known then, and takes little memory. It need not be closed.
func (f *File) Index() *File { return &File{index: slices.Clone(f.index), size: f.size} }

// Whole tells whether its blocks are known, too.
func (f *File) Whole() bool { return f.at != nil }

// Size gives how many bytes the file has.
func (f *File) Size() int64 { return f.size }

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

// Block gives the bytes of a block; nil: it is not in the file. It fails with ErrDamaged, or where the file cannot be read.
func (f *File) Block(name manifest.Digest) ([]byte, error) {
	entry, found := f.find(name)
	if !found || f.at == nil {
		return nil, nil
	}
	block := make([]byte, binary.BigEndian.Uint32(entry[40:]))
	if _, err := f.at.ReadAt(block, int64(binary.BigEndian.Uint64(entry[32:]))); errors.Is(err, io.EOF) {
		return nil, ErrDamaged
	} else if err != nil {
		return nil, err
	}
	if crc32.Checksum(block, castagnoli) != binary.BigEndian.Uint32(entry[44:]) {
		return nil, ErrDamaged
	}
	return block, nil
}
