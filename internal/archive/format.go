package archive

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Format is a kind of archive.
type Format string

// The formats.
const (
	Tar      Format = "tar"
	TarGzip  Format = "tar.gz"
	TarBzip2 Format = "tar.bz2"
	TarXZ    Format = "tar.xz"
	TarZstd  Format = "tar.zst"
	Zip      Format = "zip"
)

// firstBytes is by what formats are known.
var firstBytes = []struct {
	bytes  string
	format Format
}{
	{"\x1f\x8b", TarGzip}, {"BZh", TarBzip2}, {"\xfd7zXZ\x00", TarXZ}, {"\x28\xb5\x2f\xfd", TarZstd},
	{"PK\x03\x04", Zip}, {"PK\x05\x06", Zip}, {"PK\x07\x08PK\x03\x04", Zip},
}

// Detect tells what an archive is by its first bytes, of which it should be given 512.
func Detect(head []byte) (Format, error) {
	for _, f := range firstBytes {
		if bytes.HasPrefix(head, []byte(f.bytes)) {
			return f.format, nil
		}
	}
	if len(head) >= 4 && head[0]&0xf0 == 0x50 && bytes.Equal(head[1:4], []byte("\x2a\x4d\x18")) {
		return TarZstd, nil // a frame to be skipped comes first
	}
	if isHeader(head) {
		return Tar, nil
	}
	return "", ErrFormat
}

// isHeader tells whether bytes begin with the header of a tar, by its checksum, or with its end.
func isHeader(head []byte) bool {
	if len(head) < block {
		return false
	}
	head = head[:block]
	if isZero(head) {
		return true
	}
	var sum, signed, stored int64
	for i, b := range head {
		if 148 <= i && i < 156 {
			b = ' '
		}
		sum += int64(b)
		signed += int64(int8(b))
	}
	for _, b := range bytes.Trim(head[148:156], " \x00") {
		if b < '0' || b > '7' {
			return false
		}
		stored = stored<<3 | int64(b-'0')
	}
	return stored == sum || stored == signed
}

func isZero(p []byte) bool {
	for _, b := range p {
		if b != 0 {
			return false
		}
	}
	return true
}

// mostWindow is how much memory an archive may ask for to be unpacked.
const mostWindow = 128 << 20

// unpack gives the tar that is packed.
func (f Format) unpack(in io.Reader) (io.ReadCloser, error) {
	switch f {
	case Tar:
		return io.NopCloser(in), nil
	case TarGzip:
		return gzip.NewReader(bufio.NewReaderSize(in, 1<<16))
	case TarBzip2:
		return io.NopCloser(bzip2.NewReader(bufio.NewReaderSize(in, 1<<16))), nil
	case TarXZ:
		buffered := bufio.NewReaderSize(in, 1<<16)
		if err := checkWindow(buffered); err != nil {
			return nil, err
		}
		out, err := xz.NewReader(buffered)
		if err != nil {
			return nil, err
		}
		return io.NopCloser(out), nil
	case TarZstd:
		out, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(mostWindow), zstd.WithDecoderLowmem(true))
		if err != nil {
			return nil, err
		}
		return out.IOReadCloser(), nil
	}
	return nil, fmt.Errorf("%s is not unpacked to a tar", f)
}

// checkWindow refuses xz that asks for more memory than is given: the size of its dictionary is the property of the
// LZMA2 filter (id 0x21) in the first block's header, section 5.3.1 of the xz file format 1.2.1.
func checkWindow(in *bufio.Reader) error {
	const streamHeader = 12
	head, err := in.Peek(streamHeader + 1)
	if err != nil || head[streamHeader] == 0 { // torn, or without a block: for the reader to say
		return nil
	}
	size := (int(head[streamHeader]) + 1) * 4
	head, err = in.Peek(streamHeader + size)
	if err != nil {
		return nil
	}
	at := bytes.Index(head[streamHeader:], []byte{0x21, 0x01})
	if at < 0 || streamHeader+at+2 >= len(head) {
		return nil
	}
	bits := int(head[streamHeader+at+2] & 0x3f)
	if bits > 40 || int64(2|bits&1)<<(bits/2+11) > mostWindow {
		return fmt.Errorf("it asks for more than %d MiB of memory to be unpacked", mostWindow>>20)
	}
	return nil
}

// checkEnd refuses xz that does not end as it must, since its reader takes the end of a block for the end of all: after
// the index comes a footer with a checksum and "YZ", and after that zeros in fours (2.1.2 and 2.2 of the format).
func checkEnd(file io.ReaderAt, size int64) error {
	const footer = 12
	tail := make([]byte, footer)
	for ; size >= footer; size -= 4 {
		if _, err := file.ReadAt(tail, size-footer); err != nil {
			return err
		}
		if !isZero(tail[footer-4:]) {
			break
		}
	}
	if size < footer || string(tail[10:]) != "YZ" || binary.LittleEndian.Uint32(tail) != crc32.ChecksumIEEE(tail[4:10]) {
		return errors.New("the end of the xz stream is missing")
	}
	return nil
}

// torn tells of errors of unpacking what they mean for the archive.
func torn(err error) error {
	if err == nil || errors.Is(err, ErrTooMuch) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrTorn, err)
}
