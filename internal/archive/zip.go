package archive

import (
	"archive/zip"
	"compress/bzip2"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"strings"
	"unicode/utf8"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"tartine/internal/manifest"
)

// How a zip archive may be packed (APPNOTE.TXT 4.4.5), and what of its flags tells that it is encrypted (4.4.4).
const (
	byBzip2       = 12
	byZstd        = 93
	byXZ          = 95
	encryptedBits = 1<<0 | 1<<6 | 1<<13
	utf8Bit       = 1 << 11
	unicodePath   = 0x7075 // an extra field with the name in UTF-8 (4.6.9)
)

func openZip(file io.ReaderAt, size int64) (*zip.Reader, error) {
	z, err := zip.NewReader(file, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, &Error{Offset: -1, Err: torn(err)}
	}
	end := make([]byte, 4) // the record of its end is at its end (4.3.16)
	at := size - 22 - int64(len(z.Comment))
	if _, err := file.ReadAt(end, at); err != nil || string(end) != "PK\x05\x06" {
		return nil, &Error{Offset: at, Err: fmt.Errorf("%w: more follows its end", ErrTorn)}
	}
	z.RegisterDecompressor(zip.Deflate, flate.NewReader)
	z.RegisterDecompressor(byBzip2, func(in io.Reader) io.ReadCloser { return io.NopCloser(bzip2.NewReader(in)) })
	z.RegisterDecompressor(byZstd, zstd.ZipDecompressor(zstd.WithDecoderMaxWindow(mostWindow), zstd.WithDecoderLowmem(true)))
	z.RegisterDecompressor(byXZ, func(in io.Reader) io.ReadCloser {
		out, err := xz.NewReader(in)
		if err != nil {
			return io.NopCloser(failing{err})
		}
		return io.NopCloser(out)
	})
	return z, nil
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

func listZip(ctx context.Context, file io.ReaderAt, size int64, opt Options) (*Listing, error) {
	z, err := openZip(file, size)
	if err != nil {
		return nil, err
	}
	if len(z.File) > mostEntries {
		return nil, &Error{Offset: -1, Err: fmt.Errorf("%w: more than %d entries", ErrTooMuch, mostEntries)}
	}
	r := newReading(Zip, size, opt)
	m := newMeter(size, opt.MostUnpacked, opt.Trusted)
	for number, f := range z.File {
		if err := r.zipEntry(ctx, f, number, m); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if !errors.Is(err, ErrName) && !errors.Is(err, ErrEncrypted) {
				err = torn(err)
			}
			offset, wrong := f.DataOffset()
			if wrong != nil {
				offset = -1
			}
			return nil, &Error{f.Name, offset, err}
		}
	}
	r.out.Unpacked, r.out.Comment = m.total, z.Comment
	return r.out, r.tree.check()
}

// zipEntry notes one entry.
func (r *reading) zipEntry(ctx context.Context, f *zip.File, number int, m *meter) error {
	name := zipName(f)
	if strings.Contains(name, `\`) || len(name) > 1 && name[1] == ':' && isLetter(name[0]) {
		return fmt.Errorf(`%w: a zip archive has no "\" and no drive letters in its names`, ErrName)
	}
	e := Entry{Mode: zipMode(f), Number: number, ModTime: f.Modified}
	var err error
	if e.Path, err = cleanName(name); err != nil {
		return err
	}
	if f.Flags&encryptedBits != 0 {
		return ErrEncrypted
	}
	if e.Offset, err = f.DataOffset(); err != nil {
		return err
	}
	switch {
	case e.Mode.IsDir():
		return r.add(e)
	case !e.Mode.IsRegular() && e.Mode&fs.ModeSymlink == 0: // a device or its like
		return r.add(e)
	}
	in, err := f.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	m.in = told{in, r.opt.Read}
	if e.Mode&fs.ModeSymlink != 0 {
		target, err := io.ReadAll(io.LimitReader(m, mostLink+1))
		if err != nil {
			return err
		}
		if err := checkLink(string(target)); err != nil {
			return err
		}
		e.Link = string(target)
		return r.add(e)
	}
	e.Size = int64(min(f.UncompressedSize64, 1<<62))
	if err := r.file(ctx, &e, m); err != nil {
		return err
	}
	return r.add(e)
}

// zipMode gives the mode of an entry. Systems that keep no permission bits leave the usual ones.
func zipMode(f *zip.File) fs.FileMode {
	const unix, darwin = 3, 19
	mode := f.Mode()
	if by := f.CreatorVersion >> 8; by == unix || by == darwin {
		if mode.Perm() != 0 { // programs that write no modes leave them out
			return mode
		}
	}
	if mode.IsDir() {
		return fs.ModeDir | manifest.DirMode
	}
	return mode.Type() | manifest.FileMode
}

// zipName gives the name of an entry: as the archive says in UTF-8, or as it is written.
func zipName(f *zip.File) string {
	if f.Flags&utf8Bit != 0 || isASCII(f.Name) {
		return f.Name
	}
	for extra := f.Extra; len(extra) >= 4; {
		id, size := binary.LittleEndian.Uint16(extra), int(binary.LittleEndian.Uint16(extra[2:]))
		if extra = extra[4:]; size > len(extra) {
			break
		}
		if field := extra[:size]; id == unicodePath && size > 5 && field[0] == 1 && utf8.Valid(field[5:]) &&
			binary.LittleEndian.Uint32(field[1:]) == crc32.ChecksumIEEE([]byte(f.Name)) {
			return string(field[5:])
		}
		extra = extra[size:]
	}
	return f.Name
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}
