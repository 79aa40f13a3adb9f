package archive

import (
	"archive/tar"
	"archive/zip"
	"compress/flate"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"tartine/internal/manifest"
)

// endings is by what names the formats that can be written are known.
var endings = []struct {
	ending string
	format Format
}{{".tar", Tar}, {".tar.gz", TarGzip}, {".tgz", TarGzip}, {".tar.xz", TarXZ}, {".txz", TarXZ}, {".tar.zst", TarZstd},
	{".tzst", TarZstd}, {".zip", Zip}}

// Ending gives the format that a file's name asks for; false: it is none that can be written.
func Ending(name string) (Format, bool) {
	for _, e := range endings {
		if strings.HasSuffix(strings.ToLower(name), e.ending) {
			return e.format, true
		}
	}
	return "", false
}

// Endings lists them, for people.
func Endings() string {
	words := make([]string, len(endings))
	for i, e := range endings {
		words[i] = e.ending
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// Earliest is the time of what has none: the first that a zip archive can say.
var Earliest = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

// Writer writes an archive. The same entries in the same order give the same bytes, wherever they are written: all have
// one time, and nobody owns them.
type Writer struct {
	when time.Time
	tar  *tar.Writer
	zip  *zip.Writer
	pack io.WriteCloser // what packs a tar; nil: nothing does
}

// NewWriter begins an archive in which everything is of one time, taken as whole seconds not before Earliest. The comment,
// one line, may be empty. It must be closed.
func NewWriter(out io.Writer, format Format, when time.Time, comment string) (*Writer, error) {
	w := &Writer{when: when.UTC().Truncate(time.Second)}
	if w.when.Before(Earliest) {
		w.when = Earliest
	}
	var err error
	switch format {
	case Zip:
		w.zip = zip.NewWriter(out)
		w.zip.RegisterCompressor(zip.Deflate, func(out io.Writer) (io.WriteCloser, error) {
			return flate.NewWriter(out, flate.DefaultCompression)
		})
		return w, w.zip.SetComment(comment)
	case Tar:
	case TarGzip:
		w.pack = gzip.NewWriter(out)
	case TarXZ:
		w.pack, err = xz.NewWriter(out)
	case TarZstd: // on one processor, so that it is the same wherever it is written
		w.pack, err = zstd.NewWriter(out, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault))
	default:
		err = fmt.Errorf("archives of the format %q are not written", format)
	}
	if err != nil {
		return nil, err
	}
	if w.pack != nil {
		out = w.pack
	}
	w.tar = tar.NewWriter(out)
	if comment != "" {
		err = w.tar.WriteHeader(&tar.Header{Typeflag: tar.TypeXGlobalHeader, Name: "pax_global_header",
			PAXRecords: map[string]string{"comment": comment}})
	}
	return w, err
}

// Add adds an entry: a file with its bytes, of which there must be as many as it says, or a folder or link without.
func (w *Writer) Add(e *manifest.Entry, content io.Reader) error {
	if w.zip != nil {
		return w.addZip(e, content)
	}
	if err := w.tar.WriteHeader(TarHeader(e, w.when)); err != nil {
		return err
	}
	if e.Kind != manifest.File {
		return nil
	}
	_, err := io.Copy(w.tar, content)
	return err
}

// TarHeader gives the header of an entry.
func TarHeader(e *manifest.Entry, when time.Time) *tar.Header {
	h := &tar.Header{Name: e.Path, Mode: int64(e.Mode.Perm()), ModTime: when, Typeflag: tar.TypeReg, Size: e.Size}
	switch e.Kind {
	case manifest.Dir:
		h.Typeflag, h.Name, h.Size = tar.TypeDir, e.Path+"/", 0
	case manifest.Link:
		h.Typeflag, h.Linkname, h.Mode, h.Size = tar.TypeSymlink, e.Link, 0o777, 0
	}
	return h
}

func (w *Writer) addZip(e *manifest.Entry, content io.Reader) error {
	if strings.Contains(e.Path, `\`) {
		return fmt.Errorf(`%q: a name in a zip archive cannot have a "\"; a tar can`, e.Path)
	}
	h := &zip.FileHeader{Name: e.Path, Method: zip.Deflate, Modified: w.when}
	h.SetMode(e.Mode.Perm())
	switch e.Kind {
	case manifest.Dir:
		h.Name, h.Method = e.Path+"/", zip.Store
		h.SetMode(fs.ModeDir | e.Mode.Perm())
	case manifest.Link:
		h.Method, content = zip.Store, strings.NewReader(e.Link)
		h.SetMode(fs.ModeSymlink | 0o777)
	}
	out, err := w.zip.CreateHeader(h)
	if err != nil || e.Kind == manifest.Dir {
		return err
	}
	_, err = io.Copy(out, content)
	return err
}

// Close ends the archive. What it is written to is the caller's to close.
func (w *Writer) Close() error {
	if w.zip != nil {
		return w.zip.Close()
	}
	err := w.tar.Close()
	if w.pack != nil {
		if closing := w.pack.Close(); err == nil {
			err = closing
		}
	}
	return err
}
