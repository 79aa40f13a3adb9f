package manifest

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"strconv"
	"time"
)

// WriteJSON writes an entry a line, in one order of keys. Text in that form is read some ten times faster than JSON at
// large. Whatever deviates from it, for good reasons or bad, is left to the reader of JSON, which also finds out what
// is wrong and where; so this one need only be right about what it accepts.

var entriesStart = []byte(",\n\"entries\":[\n")

// parseLines reads a manifest in the form that WriteJSON gives it.
func parseLines(text []byte) (m *Manifest, ok bool) {
	head, body, found := bytes.Cut(text, entriesStart)
	body, ends := bytes.CutSuffix(body, []byte("\n]}\n"))
	if !found || !ends {
		return nil, false
	}
	var top topJSON
	if json.Unmarshal(append(bytes.Clone(head), '}'), &top) != nil {
		return nil, false
	}
	m = top.manifest()
	m.Entries = make([]Entry, 0, bytes.Count(body, []byte("\n"))+1)
	if written, err := m.head(top.Tree); err != nil || !bytes.Equal(written, head) {
		return nil, false
	}
	var check checker
	for line := range bytes.SplitSeq(body, []byte("\n")) {
		if len(m.Entries) > 0 {
			if line, ok = bytes.CutPrefix(line, []byte(",")); !ok {
				return nil, false
			}
		}
		e, ok := parseLine(line)
		if !ok || check.check(&e) != nil {
			return nil, false
		}
		m.Entries = append(m.Entries, e)
	}
	return m, m.Tree() == top.Tree
}

// topJSON is what comes before the entries.
type topJSON struct {
	Version    int
	Tree       Digest
	Created    time.Time
	Generator  string
	Origin     *Origin
	Deployment *Deployment
}

func (t *topJSON) manifest() *Manifest {
	return &Manifest{Created: t.Created, Generator: t.Generator, Origin: t.Origin, Deployment: t.Deployment}
}

// parseLine reads an entry. Files are by far the most; the rest is left to the reader of JSON.
func parseLine(line []byte) (e Entry, ok bool) {
	rest := line
	next := func(before string) (value []byte) {
		if rest, ok = bytes.CutPrefix(rest, []byte(before)); !ok {
			return nil
		}
		end := bytes.IndexAny(rest, `",`)
		if end < 0 {
			ok = false
			return nil
		}
		value, rest = rest[:end], rest[end:]
		return value
	}
	fields := [5][]byte{}
	for i, before := range [...]string{`{"path":"`, `","size":`, `,"mode":"`, `","digest":"sha256:`, `","mtime":"`} {
		if fields[i] = next(before); !ok {
			return parseOther(line)
		}
	}
	if string(rest) != `"}` || bytes.IndexByte(fields[0], '\\') >= 0 ||
		bytes.ContainsFunc(fields[0], func(r rune) bool { return r < 0x20 }) {
		return parseOther(line)
	}
	var err1, err2, err3, err4 error
	e.Path = string(fields[0])
	e.Size, err1 = strconv.ParseInt(string(fields[1]), 10, 64)
	e.Mode, err2 = parseMode(string(fields[2]))
	e.Digest, err3 = parseHex(string(fields[3]))
	e.ModTime, err4 = time.Parse(time.RFC3339Nano, string(fields[4]))
	if err1 != nil || err2 != nil || err3 != nil || err4 != nil || e.Size < 0 || fields[1][0] == '+' {
		return parseOther(line)
	}
	return e, true
}

// appendFile writes a file whose path needs no escapes as JSON's encoder would. Files like that are by far the most.
func appendFile(line []byte, e *Entry) ([]byte, bool) {
	if e.Kind != File || e.Size < 0 || e.ModTime.IsZero() || e.Hand || e.Owner != nil {
		return nil, false
	}
	for i := range len(e.Path) {
		if c := e.Path[i]; c < 0x20 || c >= 0x7f || c == '"' || c == '\\' {
			return nil, false
		}
	}
	line = append(append(line, `{"path":"`...), e.Path...)
	line = strconv.AppendInt(append(line, `","size":`...), e.Size, 10)
	line = append(line, `,"mode":"0`...)
	mode := uint64(e.Mode.Perm())
	for shift := 6; shift >= 0; shift -= 3 {
		line = append(line, '0'+byte(mode>>shift&7))
	}
	line = hex.AppendEncode(append(line, `","digest":"sha256:`...), e.Digest[:])
	line = e.ModTime.UTC().AppendFormat(append(line, `","mtime":"`...), time.RFC3339Nano)
	return append(line, '"', '}', '\n'), true
}

func parseOther(line []byte) (Entry, bool) {
	var written entryJSON
	if json.Unmarshal(line, &written) != nil {
		return Entry{}, false
	}
	e, err := written.toEntry()
	return e, err == nil
}
