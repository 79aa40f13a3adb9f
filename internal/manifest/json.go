package manifest

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"
	"unicode/utf8"
)

// entryJSON is an entry as it is written: size, mode and digest for a file; link for a link; dir for a folder, with
// its mode when that is not 0755; owner and group, each where it is said.
type entryJSON struct {
	Path   string  `json:"path"`
	Size   *int64  `json:"size,omitempty"`
	Mode   string  `json:"mode,omitempty"`
	Digest *Digest `json:"digest,omitempty"`
	Link   string  `json:"link,omitempty"`
	Dir    bool    `json:"dir,omitempty"`
	MTime  string  `json:"mtime,omitempty"`
	Hand   bool    `json:"hand,omitempty"`
	Owner  string  `json:"owner,omitempty"`
	Group  string  `json:"group,omitempty"`
}

func (e *Entry) toJSON() entryJSON {
	out := entryJSON{Path: e.Path, Hand: e.Hand}
	if e.Owner != nil && e.Kind != Link {
		out.Owner, out.Group = e.Owner.User, e.Owner.Group
	}
	if !e.ModTime.IsZero() {
		out.MTime = e.ModTime.UTC().Format(time.RFC3339Nano)
	}
	switch e.Kind {
	case Link:
		out.Link, out.MTime = e.Link, ""
	case Dir:
		out.Dir, out.MTime = true, ""
		if e.Mode != DirMode {
			out.Mode = fmt.Sprintf("%04o", e.Mode.Perm())
		}
	default:
		out.Mode, out.Digest = fmt.Sprintf("%04o", e.Mode.Perm()), &e.Digest
		if e.Size >= 0 {
			out.Size = &e.Size
		}
	}
	return out
}

func (in *entryJSON) toEntry() (e Entry, err error) {
	e.Path, e.Hand = in.Path, in.Hand
	if e.Owner, err = NewOwner(in.Owner, in.Group); err != nil {
		return e, err
	}
	if in.MTime != "" {
		if e.ModTime, err = time.Parse(time.RFC3339Nano, in.MTime); err != nil {
			return e, fmt.Errorf("mtime %q is not a time as in RFC 3339", in.MTime)
		}
	}
	switch {
	case in.Dir && in.Link == "" && in.Digest == nil && in.Size == nil:
		e.Kind, e.Mode = Dir, DirMode
	case in.Link != "" && !in.Dir && in.Digest == nil && in.Size == nil && in.Mode == "" && e.Owner == nil:
		e.Kind, e.Link = Link, in.Link
		return e, nil
	case in.Digest != nil && !in.Dir && in.Link == "":
		if in.Mode == "" {
			return e, errors.New("a file needs a mode")
		}
		e.Size, e.Digest = -1, *in.Digest
		if in.Size != nil {
			if e.Size = *in.Size; e.Size < 0 {
				return e, fmt.Errorf("size %d is negative", e.Size)
			}
		}
	default:
		return e, errors.New(`an entry has "digest" and "mode" (a file), "link" (a link) or "dir": true (a folder)`)
	}
	if in.Mode != "" {
		e.Mode, err = parseMode(in.Mode)
	}
	return e, err
}

// WriteJSON writes the JSON form, one entry a line.
func (m *Manifest) WriteJSON(w io.Writer) error { return m.WriteJSONAs(w, m.Tree()) }

// WriteJSONAs is WriteJSON for who knows the tree digest.
func (m *Manifest) WriteJSONAs(w io.Writer, tree Digest) error {
	head, err := m.head(tree)
	if err == nil {
		_, err = w.Write(head)
	}
	if err != nil {
		return fmt.Errorf("write manifest: %w", err)
	}
	return m.writeEntries(w)
}

// JSON gives the JSON form and the tree digest, which two processors compute at the same time.
func (m *Manifest) JSON() (text []byte, tree Digest, err error) {
	var (
		body    bytes.Buffer
		working sync.WaitGroup
	)
	working.Go(func() { tree = m.Tree() })
	err = m.writeEntries(&body)
	working.Wait()
	if err != nil {
		return nil, tree, err
	}
	head, err := m.head(tree)
	if err != nil {
		return nil, tree, fmt.Errorf("write manifest: %w", err)
	}
	return append(head, body.Bytes()...), tree, nil
}

// writeEntries writes what follows the head.
func (m *Manifest) writeEntries(w io.Writer) error {
	out := bufio.NewWriterSize(w, 64<<10)
	out.WriteString(",\n\"entries\":[")
	encoder := json.NewEncoder(out) // ends each value with a newline
	encoder.SetEscapeHTML(false)
	for i := range m.Entries {
		if i > 0 {
			out.WriteByte(',')
		} else {
			out.WriteByte('\n')
		}
		if line, ok := appendFile(out.AvailableBuffer(), &m.Entries[i]); ok {
			out.Write(line)
			continue
		}
		if err := encoder.Encode(m.Entries[i].toJSON()); err != nil {
			return fmt.Errorf("write manifest: %w", err)
		}
	}
	out.WriteString("]}\n")
	if err := out.Flush(); err != nil {
		return fmt.Errorf("write manifest: %w", err)
	}
	return nil
}

// head gives what comes before the entries, but for the comma between them.
func (m *Manifest) head(tree Digest) ([]byte, error) {
	text, err := json.Marshal(struct {
		Version    int         `json:"version"`
		Tree       Digest      `json:"tree"`
		Created    string      `json:"created"`
		Generator  string      `json:"generator"`
		Origin     *Origin     `json:"origin,omitempty"`
		Deployment *Deployment `json:"deployment,omitempty"`
	}{Version, tree, m.Created.UTC().Format(time.RFC3339), m.Generator, m.Origin, m.Deployment})
	return bytes.TrimSuffix(text, []byte("}")), err
}

// ReadJSON reads the JSON form. What is wrong with it comes back as a *FormatError.
func ReadJSON(r io.Reader) (*Manifest, error) {
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("read manifest: %w", err)
	}
	return parseJSON(text)
}

func parseJSON(text []byte) (*Manifest, error) {
	if utf8.Valid(text) {
		if m, ok := parseLines(text); ok {
			return m, nil
		}
	}
	return parseAnyJSON(text)
}

// parseAnyJSON reads a manifest in any form that JSON allows.
func parseAnyJSON(text []byte) (*Manifest, error) {
	lines := lineCounter{text: text}
	if !utf8.Valid(text) {
		return nil, &FormatError{Line: lines.at(int64(validUTF8(text))), Reason: "the text is not valid UTF-8"}
	}
	var (
		m       = &Manifest{}
		decoder = json.NewDecoder(bytes.NewReader(text))
		tree    *Digest
		version int
		seen    = map[string]bool{}
		into    = map[string]any{"version": &version, "tree": &tree, "created": &m.Created, "generator": &m.Generator,
			"origin": &m.Origin, "deployment": &m.Deployment}
	)
	wrong := func(path, reason string) error {
		return &FormatError{Line: lines.at(decoder.InputOffset()), Path: path, Reason: reason}
	}
	if token, err := decoder.Token(); err != nil || token != json.Delim('{') {
		return nil, wrong("", "a manifest is a JSON object")
	}
	for decoder.More() {
		token, err := decoder.Token()
		if err != nil {
			return nil, wrong("", err.Error())
		}
		key := token.(string)
		if seen[key] {
			return nil, wrong("", fmt.Sprintf("the key %q occurs twice", key))
		}
		seen[key] = true
		if key == "entries" {
			if path, err := m.decodeEntries(decoder); err != nil {
				return nil, wrong(path, err.Error())
			}
			continue
		}
		value := into[key]
		if value == nil {
			value = new(json.RawMessage) // of a later version, or somebody's own
		}
		if err := decoder.Decode(value); err != nil {
			return nil, wrong("", fmt.Sprintf("the key %q: %v", key, err))
		}
	}
	if _, err := decoder.Token(); err != nil {
		return nil, wrong("", "the manifest ends too early")
	}
	reason := ""
	switch {
	case version != Version:
		reason = fmt.Sprintf("version %d is not known: this program reads version %d", version, Version)
	case !seen["entries"]:
		reason = `the key "entries" is missing`
	case tree == nil:
		reason = `the key "tree" is missing`
	case *tree != m.Tree():
		reason = "the tree digest does not fit the entries"
	default:
		return m, nil
	}
	return nil, &FormatError{Line: 1, Reason: reason}
}

// validUTF8 gives how many bytes at the beginning of a text are valid.
func validUTF8(text []byte) (valid int) {
	for r, size := utf8.DecodeRune(text); r != utf8.RuneError || size > 1; r, size = utf8.DecodeRune(text[valid:]) {
		valid += size
	}
	return valid
}

// decodeEntries reads the array of entries; with an error comes the path of the entry it is about.
func (m *Manifest) decodeEntries(decoder *json.Decoder) (string, error) {
	if token, err := decoder.Token(); err != nil || token != json.Delim('[') {
		return "", errors.New(`"entries" is not an array`)
	}
	var check checker
	for decoder.More() {
		var written entryJSON
		if err := decoder.Decode(&written); err != nil {
			return written.Path, err
		}
		e, err := written.toEntry()
		if err == nil {
			err = check.check(&e)
		}
		if err != nil {
			return written.Path, err
		}
		m.Entries = append(m.Entries, e)
	}
	_, err := decoder.Token()
	return "", err
}

// lineCounter turns offsets into line numbers.
type lineCounter struct{ text []byte }

func (l lineCounter) at(offset int64) int {
	return 1 + bytes.Count(l.text[:min(int(offset), len(l.text))], []byte("\n"))
}

// Read reads either form: text that begins with a brace is JSON, all other text a listing.
func Read(r io.Reader) (*Manifest, error) {
	in := bufio.NewReaderSize(r, 64<<10)
	first, err := in.Peek(1)
	switch {
	case err == io.EOF:
		return &Manifest{}, nil
	case err != nil:
		return nil, fmt.Errorf("read manifest: %w", err)
	case bytes.ContainsAny(first, "{ \t\r\n"):
		return ReadJSON(in)
	default:
		return ReadListing(in)
	}
}

// ReadFile reads a manifest of either form from a file.
func ReadFile(name string) (*Manifest, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("read manifest: %w", err)
	}
	defer f.Close()
	m, err := Read(f)
	if err != nil {
		return nil, fmt.Errorf("read manifest %s: %w", name, err)
	}
	return m, nil
}
