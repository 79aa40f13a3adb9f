package manifest

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crypto/sha256"

	"github.com/stretchr/testify/require"
)

// awkward holds file names that trip up careless writers and readers of listings.
var awkward = []string{
	"-rf", "a\nb", "a\\nb", "a -> b", "a ->", "back\\slash", "brüten/épée.html", "cr\rlf", "deep/er/still/x.txt", "empty",
	"it's \"quoted\"", " lead and trail ", "\\", "# exec empty", "*star?", "tab\tbed", "砂/基地.svg",
}

// awkwardTree writes a file for every awkward name and returns the folder with the manifest of it.
func awkwardTree(t *testing.T) (string, *Manifest) {
	t.Helper()
	dir := t.TempDir()
	m := &Manifest{Created: time.Unix(1e9, 0).UTC(), Generator: "test"}
	for _, name := range awkward {
		full := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		content := []byte(strings.Repeat(name, 3))
		require.NoError(t, os.WriteFile(full, content, 0o644))
		m.Entries = append(m.Entries, Entry{Path: name, Attributes: Attributes{Mode: FileMode}, Size: int64(len(content)), Digest: sha256.Sum256(content)})
	}
	m.sort()
	return dir, m
}

func (m *Manifest) sort() {
	for i := range m.Entries {
		for j := i; j > 0 && m.Entries[j].Path < m.Entries[j-1].Path; j-- {
			m.Entries[j], m.Entries[j-1] = m.Entries[j-1], m.Entries[j]
		}
	}
}

func run(t *testing.T, dir, stdin string, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(stdin)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

func TestListingPassesSha256sum(t *testing.T) {
	dir, m := awkwardTree(t)
	m.Entries = append(m.Entries,
		Entry{Path: "zz-link -> x", Kind: Link, Link: "empty"}, Entry{Path: "zz\\dir", Kind: Dir, Attributes: Attributes{Mode: DirMode}})
	m.Entries[0].Mode = ExecMode
	var listing bytes.Buffer
	require.NoError(t, m.WriteListing(&listing))
	out := run(t, dir, listing.String(), "sha256sum", "-c", "--strict", "-")
	require.Equal(t, len(awkward), strings.Count(out, ": OK"), out)
}

func TestTreeDigestIsTheSystemsOwn(t *testing.T) {
	dir, m := awkwardTree(t)
	out := run(t, dir, "", "sh", "-c", `find . -type f -printf '%P\0' | sort -z | xargs -0 sha256sum -- | sha256sum`)
	require.Equal(t, m.Tree().Hex(), out[:64])

	// Without names that hold newlines the one-liner of the package comment gives the same.
	require.NoError(t, os.Remove(filepath.Join(dir, "a\nb")))
	require.NoError(t, os.Remove(filepath.Join(dir, "-rf")))
	kept := m.Entries[:0]
	for _, e := range m.Entries {
		if e.Path != "a\nb" && e.Path != "-rf" {
			kept = append(kept, e)
		}
	}
	m.Entries = kept
	out = run(t, dir, "", "sh", "-c", `find . -type f -printf '%P\n' | LC_ALL=C sort | xargs -d '\n' sha256sum | sha256sum`)
	require.Equal(t, m.Tree().Hex(), out[:64])
}

func example() *Manifest {
	return &Manifest{
		Created: time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC), Generator: "tartine test", Origin: &Origin{Commit: "abc", Host: "build.example"},
		Entries: []Entry{
			{Path: "bin/tides", Attributes: Attributes{Mode: ExecMode, ModTime: time.Unix(5, 7).UTC()}, Size: 2, Digest: sha256.Sum256([]byte("ab"))},
			{Path: "current -> old", Kind: Link, Link: "bin -> \\x\n"},
			{Path: "empty", Kind: Dir, Attributes: Attributes{Mode: DirMode}},
			{Path: "log", Kind: Dir, Attributes: Attributes{Mode: 0o750}},
			{Path: "log/1.txt", Attributes: Attributes{Mode: 0o640}, Size: 0, Digest: sha256.Sum256(nil)},
		},
	}
}

func TestBothFormsReadBackWhatWasWritten(t *testing.T) {
	m := example()
	var text bytes.Buffer
	require.NoError(t, m.WriteJSON(&text))
	got, err := Read(&text)
	require.NoError(t, err)
	require.Equal(t, m, got)

	require.NoError(t, m.WriteListing(&text))
	got, err = Read(&text)
	require.NoError(t, err)
	require.Equal(t, m.Tree(), got.Tree())
	for i := range m.Entries {
		require.True(t, m.Entries[i].Equal(got.Entries[i]), m.Entries[i].Path)
	}
}

func TestTheFormThatIsWrittenIsReadTheFastWay(t *testing.T) {
	_, m := awkwardTree(t)
	m.Entries[3].ModTime = time.Date(2026, 5, 1, 6, 0, 0, 123, time.UTC)
	var text bytes.Buffer
	require.NoError(t, m.WriteJSON(&text))
	fast, ok := parseLines(text.Bytes())
	require.True(t, ok)
	slow, err := parseAnyJSON(text.Bytes())
	require.NoError(t, err)
	require.Equal(t, slow, fast)
}

func TestReadingRefusesWhatCannotBeATree(t *testing.T) {
	zero := strings.Repeat("0", 64)
	entry := func(path string) string { return zero + "  " + path + "\n" }
	for name, c := range map[string]struct {
		text, reason string
		line         int
	}{
		"parent":         {entry("a") + entry("b/../../etc"), `element ".."`, 2},
		"dot":            {entry("x/./y"), `element "."`, 1},
		"absolute":       {entry("/etc/passwd"), "absolute", 1},
		"twice":          {entry("a") + entry("a"), "twice", 2},
		"unsorted":       {entry("b") + entry("a"), "bytewise order", 2},
		"empty element":  {entry("a//b"), "empty element", 1},
		"below a file":   {entry("a") + entry("a-b") + entry("a/b"), "below", 3},
		"below an empty": {"# dir a\n" + entry("a/b"), "below", 2},
		"not utf-8":      {entry("a\xff"), "UTF-8", 1},
		"short digest":   {"00ff  a\n", "64 hex digits", 1},
		"upper case":     {strings.Repeat("A", 64) + "  a\n", "lower-case", 1},
		"lost exec":      {entry("a") + "# exec b\n", "does not follow", 2},
		"bad mode":       {entry("a") + "# mode 9999 a\n", "octal", 2},
		"wrong tree":     {entry("a") + "# tree sha256:" + zero + "\n", "does not fit", 2},
		"half a link":    {"# link a\n", "PATH -> TARGET", 1},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Read(strings.NewReader(c.text))
			var wrong *FormatError
			require.ErrorAs(t, err, &wrong)
			require.Contains(t, wrong.Reason, c.reason)
			require.Equal(t, c.line, wrong.Line)
		})
	}
}

func TestReadingJSONNamesTheLine(t *testing.T) {
	var text bytes.Buffer
	require.NoError(t, example().WriteJSON(&text))
	good := text.String()
	for name, c := range map[string]struct {
		old, new, reason string
		line             int
	}{
		"parent":      {`"bin/tides"`, `"../tides"`, `".."`, 3},
		"unsorted":    {`"empty"`, `"aaa"`, "bytewise order", 5},
		"two kinds":   {`"dir":true`, `"dir":true,"link":"x"`, `an entry has`, 5},
		"wrong type":  {`"size":2`, `"size":"2"`, "size", 3},
		"negative":    {`"size":2`, `"size":-2`, "negative", 3},
		"tampered":    {`"0755"`, `"0644"`, "does not fit", 1},
		"version":     {`"version":1`, `"version":2`, "version 2", 1},
		"cut short":   {"]}\n", "", "", 7},
		"twice a key": {`"version":1`, `"version":1,"version":1`, "twice", 1},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, good, c.old)
			_, err := ReadJSON(strings.NewReader(strings.Replace(good, c.old, c.new, 1)))
			var wrong *FormatError
			require.ErrorAs(t, err, &wrong)
			require.Contains(t, wrong.Reason, c.reason)
			require.Equal(t, c.line, wrong.Line)
		})
	}
}

func FuzzReadListing(f *testing.F) {
	var text bytes.Buffer
	if err := example().WriteListing(&text); err != nil {
		f.Fatal(err)
	}
	f.Add(text.Bytes())
	f.Add([]byte("\\" + strings.Repeat("0", 64) + "  a\\nb\n# exec a\\nb\n# mode 0600 a\\nb\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		m, err := ReadListing(bytes.NewReader(text))
		if err != nil {
			return
		}
		var again bytes.Buffer
		require.NoError(t, m.WriteListing(&again))
		back, err := ReadListing(&again)
		require.NoError(t, err)
		require.Equal(t, m.Tree(), back.Tree())
	})
}

func FuzzReadJSON(f *testing.F) {
	var text bytes.Buffer
	if err := example().WriteJSON(&text); err != nil {
		f.Fatal(err)
	}
	f.Add(text.Bytes())
	f.Add([]byte(`{"version":1,"entries":[{"path":"a","link":"b"}],"tree":"sha256:00"}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		m, err := ReadJSON(bytes.NewReader(text))
		if err != nil {
			return
		}
		slow, err := parseAnyJSON(text)
		require.NoError(t, err)
		require.Equal(t, slow, m, "both readers agree on what they accept")
		var again bytes.Buffer
		require.NoError(t, m.WriteJSON(&again))
		back, err := ReadJSON(&again)
		require.NoError(t, err)
		require.Equal(t, m.Entries, back.Entries)
	})
}

func TestCaseClashesNamesFoldersAndFiles(t *testing.T) {
	entries := []Entry{{Path: "Img/a"}, {Path: "Readme"}, {Path: "img/b"}, {Path: "readme"}, {Path: "x/y"}}
	require.Equal(t, []CaseClash{{"Img", "img"}, {"Readme", "readme"}}, CaseClashes(entries))
}

func TestEntriesSurvivePacking(t *testing.T) {
	entries := append(example().Entries, Entry{Path: "zz", Kind: Link, Link: "../x"}, Entry{Path: "zzz", Kind: Dir, Attributes: Attributes{Mode: 0o700}},
		Entry{Path: "zzzz", Attributes: Attributes{Mode: 0o644}, Hand: true})
	packed := Pack(entries)
	got, err := packed.Unpack()
	require.NoError(t, err)
	require.Len(t, got, len(entries))
	for i := range got {
		require.True(t, got[i].Equal(entries[i]) && got[i].Size == entries[i].Size && got[i].Hand == entries[i].Hand && got[i].ModTime.Equal(entries[i].ModTime), "%+v", got[i])
	}
	for cut := range len(packed) - 1 {
		_, _ = packed[:len(packed)-1-cut].Unpack() // whatever comes of it, it ends
	}
	for _, path := range []string{"../x", "/x", "a//b", ""} {
		_, err := Pack([]Entry{{Path: path}}).Unpack()
		require.Error(t, err, path)
	}
	behind, err := packed.UnpackTo(slices.Clone(entries[:2]))
	require.NoError(t, err)
	require.Equal(t, got, behind[2:], "they are appended")

	long := strings.Repeat("x", 1000)
	packed = Pack([]Entry{{Path: long + "1"}, {Path: long + "2"}, {Path: long + "3"}})
	require.Less(t, len(packed), 1100)
	_, err = packed.unpackTo(nil, 2500, CheckPath)
	require.ErrorContains(t, err, "paths of more than 2500 bytes", "a few bytes stand for long paths")
	got, err = packed.unpackTo(nil, 4000, CheckPath)
	require.NoError(t, err)
	require.Equal(t, long+"3", got[2].Path)
}
