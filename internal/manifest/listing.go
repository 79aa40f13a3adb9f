package manifest

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
)

// The listing has a line for each file as sha256sum writes it: 64 hex digits, two spaces, the path. Where the path
// holds a backslash, a newline or a carriage return, these are written \\, \n and \r and the line begins with a
// backslash. What sha256sum has no room for is in lines that it passes over:
//
//	# exec PATH              the file above has mode 0755
//	# mode OCTAL PATH        the file or folder above has a mode that is neither 0644 nor 0755
//	# owner USER:GROUP PATH  whom the file or folder above belongs to, where it is said; one of both may be missing
//	# link PATH -> TARGET    a symbolic link
//	# dir PATH               a folder that is empty, or of which a mode or an owner is said
//
// In these lines the three escapes always apply, and " ->" inside the PATH of a link is written " -\>". Lines are
// in bytewise order of the paths. Other lines that begin with # are passed over when read, but for
// "# tree DIGEST", which must hold when it is there.

var (
	escaper   = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`)
	unescaper = strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\r`, "\r", ` -\>`, " ->")
)

const arrow = " -> "

func appendListing(buf []byte, e *Entry) []byte {
	path := e.Path
	special := isSpecial(path)
	if special {
		path = escaper.Replace(path)
	}
	switch e.Kind {
	case Link:
		path = strings.ReplaceAll(path, " ->", ` -\>`)
		return fmt.Appendf(buf, "# link %s%s%s\n", path, arrow, escaper.Replace(e.Link))
	case Dir:
		buf = fmt.Appendf(buf, "# dir %s\n", path)
		if e.Mode != DirMode {
			buf = fmt.Appendf(buf, "# mode %04o %s\n", e.Mode.Perm(), path)
		}
		return appendOwner(buf, e, path)
	}
	if special {
		buf = append(buf, '\\')
	}
	buf = appendHex(buf, e.Digest)
	buf = append(buf, "  "...)
	buf = append(buf, path...)
	buf = append(buf, '\n')
	switch e.Mode {
	case FileMode:
	case ExecMode:
		buf = fmt.Appendf(buf, "# exec %s\n", path)
	default:
		buf = fmt.Appendf(buf, "# mode %04o %s\n", e.Mode.Perm(), path)
	}
	return appendOwner(buf, e, path)
}

func appendOwner(buf []byte, e *Entry, path string) []byte {
	if e.Owner == nil {
		return buf
	}
	return fmt.Appendf(buf, "# owner %s %s\n", e.Owner, path)
}

// isSpecial tells whether a path has bytes that are escaped.
func isSpecial(path string) bool {
	for i := range len(path) {
		if c := path[i]; c == '\\' || c == '\n' || c == '\r' {
			return true
		}
	}
	return false
}

// appendHex writes four bytes at a time: it is most of what a listing is.
func appendHex(buf []byte, d Digest) []byte {
	var text [2 * len(d)]byte
	for i := 0; i < len(d); i += 4 {
		v := uint64(binary.BigEndian.Uint32(d[i:]))
		v = (v | v<<16) & 0x0000ffff_0000ffff // which leaves a digit in each byte, in the end
		v = (v | v<<8) & 0x00ff00ff_00ff00ff
		v = (v | v<<4) & 0x0f0f0f0f_0f0f0f0f
		letters := (v + 0x06060606_06060606) >> 4 & 0x01010101_01010101 // 1 where it is above 9
		binary.BigEndian.PutUint64(text[2*i:], v+0x30303030_30303030+letters*('a'-'0'-10))
	}
	return append(buf, text[:]...)
}

// WriteListing writes the listing: exactly the text whose SHA-256 is the tree digest.
func (m *Manifest) WriteListing(w io.Writer) error {
	out := bufio.NewWriterSize(w, 64<<10)
	var line []byte
	for i := range m.Entries {
		line = appendListing(line[:0], &m.Entries[i])
		if _, err := out.Write(line); err != nil {
			return fmt.Errorf("write listing: %w", err)
		}
	}
	if err := out.Flush(); err != nil {
		return fmt.Errorf("write listing: %w", err)
	}
	return nil
}

// ReadListing reads a listing. Its files have no size (-1) and no modification time. What is wrong comes back as a
// *FormatError.
func ReadListing(r io.Reader) (*Manifest, error) {
	m := &Manifest{}
	var (
		in    = bufio.NewReaderSize(r, 64<<10)
		lines []int // where each entry is
		tree  *Digest
		where int
	)
	for number := 1; ; number++ {
		line, err := in.ReadString('\n')
		if err == io.EOF && line == "" {
			break
		}
		if err != nil && err != io.EOF {
			return nil, fmt.Errorf("read listing: %w", err)
		}
		wrong := func(reason string) error { return &FormatError{Line: number, Reason: reason} }
		line = strings.TrimSuffix(line, "\n")
		note, isNote := strings.CutPrefix(line, "# ")
		var e Entry
		switch word, rest, _ := strings.Cut(note, " "); {
		case !isNote && (line == "" || line[0] == '#'):
			continue
		case !isNote:
			if e, err = parseFileLine(line); err != nil {
				return nil, wrong(err.Error())
			}
		case word == "exec" || word == "mode":
			if err := m.applyMode(word, rest); err != nil {
				return nil, wrong(err.Error())
			}
			continue
		case word == "owner":
			if err := m.applyOwner(rest); err != nil {
				return nil, wrong(err.Error())
			}
			continue
		case word == "link":
			path, target, ok := strings.Cut(rest, arrow)
			if !ok || target == "" {
				return nil, wrong(`a link line reads "# link PATH -> TARGET"`)
			}
			e = Entry{Path: unescaper.Replace(path), Kind: Link, Link: unescaper.Replace(target)}
		case word == "dir":
			e = Entry{Path: unescaper.Replace(rest), Kind: Dir, Attributes: Attributes{Mode: DirMode}}
		case word == "tree":
			d, err := ParseDigest(rest)
			if err != nil {
				return nil, wrong(err.Error())
			}
			tree, where = &d, number
			continue
		default:
			continue
		}
		m.Entries = append(m.Entries, e)
		lines = append(lines, number)
	}
	// Only now, since the line below an entry may have changed its mode.
	var check checker
	for i := range m.Entries {
		if err := check.check(&m.Entries[i]); err != nil {
			return nil, &FormatError{Line: lines[i], Path: m.Entries[i].Path, Reason: err.Error()}
		}
	}
	if tree != nil && *tree != m.Tree() {
		return nil, &FormatError{Line: where, Reason: "the tree digest does not fit the entries"}
	}
	return m, nil
}

func parseFileLine(line string) (e Entry, err error) {
	e = Entry{Attributes: Attributes{Mode: FileMode}, Size: -1}
	e.Path, e.Digest, err = ReadSum(line)
	e.Path = strings.TrimPrefix(e.Path, "./")
	return e, err
}

// ReadSum reads a line as sha256sum writes it, without its end.
func ReadSum(line string) (name string, digest Digest, err error) {
	line, escaped := strings.CutPrefix(line, `\`)
	const digits = 2 * len(digest)
	if len(line) < digits+3 || line[digits] != ' ' || line[digits+1] != ' ' && line[digits+1] != '*' {
		return "", digest, fmt.Errorf("a file's line has 64 hex digits, two spaces and the path")
	}
	if digest, err = parseHex(line[:digits]); err != nil {
		return "", digest, err
	}
	if name = line[digits+2:]; escaped {
		name = unescaper.Replace(name)
	}
	return name, digest, nil
}

// applyMode gives the entry read last the mode that a line below it names.
func (m *Manifest) applyMode(word, rest string) error {
	mode := ExecMode
	if word == "mode" {
		octal, path, _ := strings.Cut(rest, " ")
		parsed, err := parseMode(octal)
		if err != nil {
			return err
		}
		mode, rest = parsed, path
	}
	if len(m.Entries) == 0 || m.Entries[len(m.Entries)-1].Path != unescaper.Replace(rest) ||
		m.Entries[len(m.Entries)-1].Kind == Link {
		return fmt.Errorf("the line %q does not follow the entry it speaks of", "# "+word)
	}
	m.Entries[len(m.Entries)-1].Mode = mode
	return nil
}

// applyOwner gives the entry read last the owner that a line below it names.
func (m *Manifest) applyOwner(rest string) error {
	text, path, _ := strings.Cut(rest, " ")
	owner, err := ParseOwner(text)
	if err != nil {
		return err
	}
	if last := len(m.Entries) - 1; last < 0 || m.Entries[last].Path != unescaper.Replace(path) || m.Entries[last].Kind == Link || owner == nil {
		return errors.New(`the line "# owner" does not follow the entry it speaks of`)
	}
	m.Entries[len(m.Entries)-1].Owner = owner
	return nil
}

func parseMode(octal string) (fs.FileMode, error) {
	bits, err := strconv.ParseUint(octal, 8, 32)
	if err != nil || bits > 0o777 {
		return 0, fmt.Errorf("mode %q is not an octal number from 0000 to 0777", octal)
	}
	return fs.FileMode(bits), nil
}
