package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/manifest"
)

var written = []Format{Tar, TarGzip, TarXZ, TarZstd, Zip}

// item is an entry with its bytes.
type item struct {
	manifest.Entry
	text string
}

func file(path, text string, mode fs.FileMode) item {
	return item{manifest.Entry{Path: path, Size: int64(len(text)), Digest: sha256.Sum256([]byte(text)),
		Attributes: manifest.Attributes{Mode: mode}}, text}
}

func pack(t require.TestingT, format Format, items []item) []byte {
	var out bytes.Buffer
	w, err := NewWriter(&out, format, Earliest, "tree of a test")
	require.NoError(t, err)
	for i := range items {
		require.NoError(t, w.Add(&items[i].Entry, strings.NewReader(items[i].text)))
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func list(packed []byte) (*Listing, error) {
	return List(context.Background(), bytes.NewReader(packed), int64(len(packed)), Options{})
}

func anything(t *rapid.T) []item {
	names := rapid.SliceOfNDistinct(rapid.StringMatching(`[a-zé ]{1,9}(/[a-z.ü]{3,120}){0,2}`), 0, 12, rapid.ID[string]).Draw(t, "names")
	out := []item{}
	taken := map[string]bool{}
	for _, name := range names {
		free := !taken[name]
		for other := range taken {
			free = free && !strings.HasPrefix(other, name+"/") && !strings.HasPrefix(name, other+"/")
		}
		if !free {
			continue
		}
		taken[name] = true
		switch rapid.IntRange(0, 5).Draw(t, "kind") {
		case 0:
			out = append(out, item{Entry: manifest.Entry{Path: name, Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: 0o750}}})
		case 1:
			out = append(out, item{Entry: manifest.Entry{Path: name, Kind: manifest.Link, Link: rapid.StringMatching(`[a-z/.]{1,130}`).Draw(t, "link")}})
		default:
			text := strings.Repeat(rapid.StringN(0, 40, -1).Draw(t, "text"), rapid.SampledFrom([]int{1, 1, 40, 3000}).Draw(t, "times"))
			out = append(out, file(name, text, rapid.SampledFrom([]fs.FileMode{0o644, 0o755, 0o600}).Draw(t, "mode")))
		}
	}
	return out
}

// TestWhatIsWrittenIsListedAndOpened writes anything in any format; the entries come back, and their bytes in any order, whatever was wanted before.
func TestWhatIsWrittenIsListedAndOpened(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		items := anything(t)
		format := rapid.SampledFrom(written).Draw(t, "format")
		packed := pack(t, format, items)
		require.Equal(t, packed, pack(t, format, items), "the same entries give the same bytes")
		listing, err := list(packed)
		require.NoError(t, err)
		require.Equal(t, format, listing.Format)
		require.Equal(t, "tree of a test", listing.Comment)
		require.Len(t, listing.Entries, len(items))
		r := NewReader(bytes.NewReader(packed), listing, dir)
		r.most = rapid.SampledFrom([]int64{mostInMemory, 10}).Draw(t, "most in memory")
		defer r.Close()
		if rapid.Bool().Draw(t, "some are wanted") && len(items) > 0 {
			r.Want([]*Entry{&listing.Entries[rapid.IntRange(0, len(items)-1).Draw(t, "wanted")]})
		}
		for _, i := range rapid.Permutation(indexes(len(items))).Draw(t, "order") {
			e, want := &listing.Entries[i], &items[i]
			require.Equal(t, want.Path, e.Path)
			switch want.Kind {
			case manifest.Dir:
				require.Equal(t, fs.ModeDir|0o750, e.Mode)
			case manifest.Link:
				require.Equal(t, want.Link, e.Link)
				require.Equal(t, fs.ModeSymlink, e.Mode.Type())
			default:
				require.Equal(t, want.Mode, e.Mode)
				require.Equal(t, want.Digest, e.Digest)
				in, err := r.Open(e)
				require.NoError(t, err)
				text, err := io.ReadAll(in)
				require.NoError(t, err)
				require.NoError(t, in.Close())
				require.Equal(t, want.text, string(text))
			}
		}
	})
}

func indexes(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// TestATornArchiveIsNeverListed cuts archives anywhere, and damages them.
func TestATornArchiveIsNeverListed(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	noise := make([]byte, 3000)
	for i := range noise {
		noise[i] = byte(random.Int())
	}
	items := []item{file("a.html", "<p>", 0o644), file("plates/gannet.webp", string(noise), 0o644), file("zeros", strings.Repeat("\x00", 1024), 0o644),
		file("z.html", "<p>the last", 0o644)}
	step, flips := 1, 200
	if testing.Short() {
		step, flips = 7, 30
	}
	for _, format := range append(slices.Clone(written), TarBzip2) {
		var packed []byte
		if _, err := exec.LookPath("bzip2"); format == TarBzip2 && err != nil && os.Getenv("CI") == "" {
			continue // there is nothing that packs so
		}
		if format == TarBzip2 {
			packer := exec.Command("bzip2", "-c")
			packer.Stdin = bytes.NewReader(pack(t, Tar, items))
			var err error
			packed, err = packer.Output()
			require.NoError(t, err)
		} else {
			packed = pack(t, format, items)
		}
		whole := len(packed)
		if format == Tar {
			whole -= 512 // one block of zeros is the mark of its end
		}
		for end := 0; end < whole; end += step {
			if format == TarXZ && end%31 != 0 && end < whole-60 { // it takes its time
				continue
			}
			if _, err := list(packed[:end]); err == nil {
				require.Failf(t, "it was listed", "%s of which %d of %d bytes are there", format, end, len(packed))
			}
		}
		for range flips {
			broken := bytes.Clone(packed)
			broken[random.IntN(len(broken))] ^= 1 << random.IntN(8)
			listing, err := list(broken)
			if err != nil || format == Tar { // which has no checksum of contents: what is in it is what is deployed
				continue
			}
			for i, e := range listing.Entries { // what is not part of the bytes may differ
				require.Equal(t, items[i].Digest, e.Digest, format)
			}
		}
		_, err := list(append(bytes.Clone(packed), "and more"...))
		require.Error(t, err, format)
	}
}

func tarOf(t *testing.T, headers ...tar.Header) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range headers {
		text := h.Uname // a place for the bytes in tests
		h.Uname, h.Size = "", int64(len(text))
		if h.Typeflag == 0 {
			h.Typeflag = tar.TypeReg
		}
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func gzipped(t *testing.T, text string) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := io.WriteString(w, text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func zipOf(t *testing.T, change func(*zip.FileHeader), names ...string) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, name := range names {
		h := &zip.FileHeader{Name: name}
		if change != nil {
			change(h)
		}
		_, err := w.CreateHeader(h)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

// TestWhatIsNotSafeIsRefusedByName holds for both kinds of archive.
func TestWhatIsNotSafeIsRefusedByName(t *testing.T) {
	link := tar.Header{Name: "up", Typeflag: tar.TypeSymlink, Linkname: ".."}
	for name, packed := range map[string][]byte{
		"../x": tarOf(t, tar.Header{Name: "../x"}), "a/../../x": tarOf(t, tar.Header{Name: "a/../../x"}), "/etc/x": tarOf(t, tar.Header{Name: "/etc/x"}),
		`C:\x`: tarOf(t, tar.Header{Name: `C:\x`}), "up/x": tarOf(t, link, tar.Header{Name: "up/x"}), "up/y": tarOf(t, tar.Header{Name: "up/y"}, link),
		"./a": tarOf(t, tar.Header{Name: "a"}, tar.Header{Name: "./a"}), "f/x": tarOf(t, tar.Header{Name: "f"}, tar.Header{Name: "f/x"}),
		"d/":   tarOf(t, tar.Header{Name: "d"}, tar.Header{Name: "d/", Typeflag: tar.TypeDir}),
		"h":    tarOf(t, tar.Header{Name: "h", Typeflag: tar.TypeLink, Linkname: "later"}, tar.Header{Name: "later"}),
		"g":    tarOf(t, tar.Header{Name: "g", Typeflag: tar.TypeLink, Linkname: "../passwd"}),
		"../z": zipOf(t, nil, "../z"), "/z": zipOf(t, nil, "/z"), `..\z`: zipOf(t, nil, `..\z`), "c:z": zipOf(t, nil, "c:z"), "z": zipOf(t, nil, "z", "z"),
		"locked": zipOf(t, func(h *zip.FileHeader) { h.Flags |= 1 }, "locked"),
		"odd":    zipOf(t, func(h *zip.FileHeader) { h.Method = 0 }, "odd"),
	} {
		if name == "odd" { // packed in a way that nobody knows
			packed = bytes.ReplaceAll(packed, []byte("PK\x01\x02\x14\x00\x14\x00\x08\x00\x00\x00"), []byte("PK\x01\x02\x14\x00\x14\x00\x08\x00\x63\x00"))
		}
		_, err := list(packed)
		var wrong *Error
		require.ErrorAs(t, err, &wrong, name)
		require.Equal(t, name, wrong.Entry)
	}
	_, err := list(zipOf(t, func(h *zip.FileHeader) { h.Flags |= 1 }, "x"))
	require.ErrorIs(t, err, ErrEncrypted)
	_, err = list(gzipped(t, "<p>a page"))
	require.ErrorIs(t, err, ErrFormat)
	_, err = list(tarOf(t, tar.Header{Name: strings.Repeat("d/", 3000) + "x"}))
	require.ErrorIs(t, err, ErrName)
	_, err = list([]byte("<p>no archive, but a page with more than a block of text" + strings.Repeat(".", 600)))
	require.ErrorIs(t, err, ErrFormat)
}

// TestAnArchiveThatUnpacksToTooMuchIsRefused without being unpacked to its end.
func TestAnArchiveThatUnpacksToTooMuchIsRefused(t *testing.T) {
	for _, format := range []Format{TarXZ, TarZstd} { // the others never reach a thousand times
		_, err := list(pack(t, format, []item{file("zeros", strings.Repeat("\x00", 20<<20), 0o644)}))
		require.ErrorIs(t, err, ErrTooMuch, format)
	}
	packed := pack(t, TarZstd, []item{file("a", strings.Repeat("ab", 3000), 0o644)})
	_, err := List(t.Context(), bytes.NewReader(packed), int64(len(packed)), Options{MostUnpacked: 5000})
	require.ErrorIs(t, err, ErrTooMuch)
	listing, err := list(packed)
	require.NoError(t, err)
	require.NoError(t, listing.Check(10000))
	require.ErrorIs(t, listing.Check(5000), ErrTooMuch)
}

// TestWhatArchivesSayIsHonoured: links of both kinds, times, long names, pieces, pipes, and marks of first bytes.
func TestWhatArchivesSayIsHonoured(t *testing.T) {
	when := time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)
	long := strings.Repeat("a-long-name/", 20) + "é.html"
	packed := tarOf(t, tar.Header{Name: "./", Typeflag: tar.TypeDir}, tar.Header{Name: "./a//b", Uname: "bytes", Mode: 0o4755, ModTime: when},
		tar.Header{Name: "copy", Typeflag: tar.TypeLink, Linkname: "a/b"}, tar.Header{Name: long, Uname: "é"}, tar.Header{Name: "pipe", Typeflag: tar.TypeFifo},
		tar.Header{Name: "d/", Typeflag: tar.TypeDir, Mode: 0o700}, tar.Header{Name: "d/", Typeflag: tar.TypeDir, Mode: 0o700})
	listing, err := List(t.Context(), bytes.NewReader(packed), int64(len(packed)), Options{Mark: func(head []byte) byte { return head[0] }})
	require.NoError(t, err)
	require.Equal(t, Entry{Path: "a/b", Mode: 0o755, Size: 5, ModTime: when, Digest: sha256.Sum256([]byte("bytes")), Mark: 'b', Offset: 1024, Number: 1},
		withTime(listing.Entries[0], when))
	require.Equal(t, "copy", listing.Entries[1].Path)
	require.Equal(t, listing.Entries[0].Digest, listing.Entries[1].Digest)
	require.Equal(t, long, listing.Entries[2].Path)
	require.Equal(t, fs.ModeNamedPipe, listing.Entries[3].Mode.Type())
	r := NewReader(bytes.NewReader(packed), listing, "")
	in, err := r.Open(&listing.Entries[1])
	require.NoError(t, err)
	text, err := io.ReadAll(in)
	require.NoError(t, err)
	require.Equal(t, "bytes", string(text))
	_, err = r.Open(&listing.Entries[3])
	require.Error(t, err)
}

func withTime(e Entry, when time.Time) Entry {
	if e.ModTime.Equal(when) {
		e.ModTime = when
	}
	return e
}

// TestTheSystemsOwnProgramsAgree has tar and unzip unpack what was written, and lists what they write.
func TestTheSystemsOwnProgramsAgree(t *testing.T) {
	items := []item{file("a.html", "<p>", 0o644), file("cgi/tide", "#!/bin/sh\n", 0o755), {Entry: manifest.Entry{Path: "empty", Kind: manifest.Dir,
		Attributes: manifest.Attributes{Mode: 0o755}}}, {Entry: manifest.Entry{Path: "home", Kind: manifest.Link, Link: "a.html"}}, file("é/ü.txt", "ü", 0o644)}
	for _, format := range written {
		if format == Zip {
			continue
		}
		dir := t.TempDir()
		name := filepath.Join(dir, "site."+string(format))
		require.NoError(t, os.WriteFile(name, pack(t, format, items), 0o600))
		out, err := exec.Command("tar", "-xf", name, "-C", dir).CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.Empty(t, string(out), "it finds nothing odd")
		text, err := os.ReadFile(filepath.Join(dir, "é/ü.txt"))
		require.NoError(t, err)
		require.Equal(t, "ü", string(text))
		info, err := os.Lstat(filepath.Join(dir, "cgi/tide"))
		require.NoError(t, err)
		require.Equal(t, fs.FileMode(0o755), info.Mode())
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("a"), 0o644))
	require.NoError(t, os.Link(filepath.Join(dir, "a"), filepath.Join(dir, "b")))
	sparse, err := os.Create(filepath.Join(dir, "sparse"))
	require.NoError(t, err)
	_, err = sparse.WriteAt([]byte("far in"), 1<<20)
	require.NoError(t, err)
	require.NoError(t, sparse.Close())
	for _, flags := range [][]string{{"--format=gnu"}, {"--format=posix"}, {"--format=ustar"}, {"--format=v7"}, {"-S", "--format=gnu"}, {"-S", "--format=posix"}} {
		packed, err := exec.Command("tar", append(flags, "-c", "-C", dir, ".")...).Output()
		require.NoError(t, err)
		listing, err := list(packed)
		require.NoError(t, err, flags)
		sizes := map[string]int64{}
		r := NewReader(bytes.NewReader(packed), listing, dir)
		for i := range listing.Entries {
			e := &listing.Entries[i]
			sizes[e.Path] = e.Size
			in, err := r.Open(e)
			require.NoError(t, err)
			hash := sha256.New()
			_, err = io.Copy(hash, in)
			require.NoError(t, err)
			require.Equal(t, e.Digest, manifest.Digest(hash.Sum(nil)), "%s in %v", e.Path, flags)
		}
		require.Equal(t, map[string]int64{"a": 1, "b": 1, "sparse": 1<<20 + 6}, sizes, flags)
	}
}

// FuzzList lists anything: it ends, and gives only what is safe.
func FuzzList(f *testing.F) {
	for _, format := range written {
		f.Add(pack(f, format, []item{file("a/b", "text", 0o644), {Entry: manifest.Entry{Path: "l", Kind: manifest.Link, Link: "a"}}}))
	}
	f.Fuzz(func(t *testing.T, packed []byte) {
		listing, err := List(t.Context(), bytes.NewReader(packed), int64(len(packed)), Options{MostUnpacked: 1 << 20})
		if err != nil {
			return
		}
		r := NewReader(bytes.NewReader(packed), listing, t.TempDir())
		defer r.Close()
		for i := range listing.Entries {
			e := &listing.Entries[i]
			if !filepath.IsLocal(e.Path) || e.Size < 0 {
				t.Fatalf("%q of %d bytes", e.Path, e.Size)
			}
			if e.Mode.IsRegular() {
				in, err := r.Open(e)
				if err != nil {
					t.Fatal(err)
				}
				if _, err := io.Copy(io.Discard, in); err != nil {
					t.Fatal(err)
				}
			}
		}
	})
}

// TestAFileOfHolesCountsWithItsHoles refuses a small archive of a file that is endless and empty.
func TestAFileOfHolesCountsWithItsHoles(t *testing.T) {
	dir := t.TempDir()
	file, err := os.Create(filepath.Join(dir, "holes"))
	require.NoError(t, err)
	require.NoError(t, file.Truncate(1<<40))
	require.NoError(t, file.Close())
	packed, err := exec.Command("tar", "-S", "-c", "-C", dir, "holes").Output()
	require.NoError(t, err)
	_, err = list(packed)
	require.ErrorIs(t, err, ErrTooMuch)
}
