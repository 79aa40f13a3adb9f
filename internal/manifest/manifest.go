// Package manifest describes a tree of files in writing: every path with its kind, mode and content digest.
//
// A manifest has two written forms. The JSON form (see json.go) carries everything. The listing (see listing.go) is a
// text that sha256sum -c accepts as it is. The tree digest is the SHA-256 of the listing, so that for a tree of plain
// files whose names hold no newline it equals
//
//	find . -type f -printf '%P\n' | LC_ALL=C sort | xargs -d '\n' sha256sum | sha256sum
//
// Entries are in bytewise order of their paths. A folder has an entry only when it is empty, when its mode is not
// 0755, or when it is said whom it belongs to: every other folder follows from the paths below it. Modification times ride along for the copy, but two
// entries that differ in nothing else are equal and have the same tree digest.
package manifest

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Version is the version of the JSON form that this package reads and writes.
const Version = 1

// Modes that an entry has unless it says otherwise.
const (
	FileMode fs.FileMode = 0o644
	ExecMode fs.FileMode = 0o755
	DirMode  fs.FileMode = 0o755
)

// Kind is what is at a path.
type Kind uint8

// The kinds of entry. Devices, sockets and pipes have none: they are never part of a tree.
const (
	File Kind = iota
	Link
	Dir
)

func (k Kind) String() string {
	return [...]string{"file", "link", "folder"}[k]
}

// Digest is the SHA-256 of a file's bytes (FIPS 180-4).
type Digest [sha256.Size]byte

const digestPrefix = "sha256:"

// String gives the digest as sha256:<64 hex digits>.
func (d Digest) String() string { return digestPrefix + hex.EncodeToString(d[:]) }

// Hex gives the 64 hex digits alone, as sha256sum prints them.
func (d Digest) Hex() string { return hex.EncodeToString(d[:]) }

// IsZero tells whether the digest is not known. (No content is known whose SHA-256 is all zero.)
func (d Digest) IsZero() bool { return d == Digest{} }

// MarshalText implements encoding.TextMarshaler.
func (d Digest) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Digest) UnmarshalText(text []byte) (err error) {
	*d, err = ParseDigest(string(text))
	return err
}

// ParseDigest reads sha256:<64 lower-case hex digits>.
func ParseDigest(s string) (Digest, error) {
	digits, ok := strings.CutPrefix(s, digestPrefix)
	if !ok {
		return Digest{}, fmt.Errorf("digest %q does not begin with %q", s, digestPrefix)
	}
	return parseHex(digits)
}

func parseHex(digits string) (d Digest, err error) {
	if len(digits) != hex.EncodedLen(len(d)) || strings.ToLower(digits) != digits {
		return d, fmt.Errorf("digest %q is not 64 lower-case hex digits", digits)
	}
	if _, err := hex.Decode(d[:], []byte(digits)); err != nil {
		return Digest{}, fmt.Errorf("digest %q is not 64 lower-case hex digits", digits)
	}
	return d, nil
}

// Entry is one path of a tree.
type Entry struct {
	Path string // slash-separated, relative, see CheckPath
	Kind Kind
	// Hand tells, in the record of a site, that a person put it there, and no content that is deployed there holds it. It
	// is no part of equality.
	Hand bool
	Attributes
	Size   int64  // bytes of a file; -1 when not known (an entry read from a listing)
	Digest Digest // of a file
	Link   string // what a link says, as written
}

// Plain tells whether a folder has nothing of its own to say: it has an entry only while it is empty.
func (e *Entry) Plain() bool { return e.Kind == Dir && e.Mode == DirMode && e.Owner == nil }

// Find gives where a path is in entries that are sorted by path, or, where it is not, where it would be.
func Find(entries []Entry, path string) (at int, found bool) {
	return slices.BinarySearchFunc(entries, path, func(e Entry, p string) int { return strings.Compare(e.Path, p) })
}

// FindBelow gives where what is below a path begins in entries that are sorted by path.
func FindBelow(entries []Entry, path string) (at int, found bool) {
	at, _ = Find(entries, path+"/")
	return at, at < len(entries) && strings.HasPrefix(entries[at].Path, path+"/")
}

// Contents counts the entries that come from a content, and not from a person's hand.
func Contents(entries []Entry) (n int) {
	for i := range entries {
		if !entries[i].Hand {
			n++
		}
	}
	return n
}

// Equal tells whether two entries describe the same path with the same kind, mode and content.
// Sizes are not compared: files with the same digest have the same size.
func (e Entry) Equal(o Entry) bool {
	return e.Path == o.Path && e.SameContent(o) && e.Attributes.Same(o.Attributes)
}

// SameContent tells whether two entries have the same kind and, as files, the same bytes, as links, the same text.
func (e Entry) SameContent(o Entry) bool {
	return e.Kind == o.Kind && e.Digest == o.Digest && e.Link == o.Link
}

// Origin says where the content of a manifest came from. Every field may be empty.
type Origin struct {
	Commit string `json:"commit,omitempty"`
	Branch string `json:"branch,omitempty"`
	User   string `json:"user,omitempty"`
	Host   string `json:"host,omitempty"`
}

// Deployment says how a manifest came to a site. It is part of the site's record, never of a manifest that
// is written elsewhere.
type Deployment struct {
	Number    int       `json:"number"` // from 1
	At        time.Time `json:"at"`
	User      string    `json:"user,omitempty"`
	Host      string    `json:"host,omitempty"`
	New       int       `json:"new"`
	Changed   int       `json:"changed"`
	Retired   int       `json:"retired"`
	Same      int       `json:"same"`
	SentFiles int       `json:"sent_files"`
	SentBytes int64     `json:"sent_bytes"`
	Seconds   float64   `json:"seconds"`            // how long it took
	Partial   bool      `json:"partial,omitempty"`  // some of the content could not be brought
	Rollback  int       `json:"rollback,omitempty"` // the deployment that it published again
	Sources   string    `json:"sources,omitempty"`  // what the content was made of, in a word for a person
	Hand      bool      `json:"hand,omitempty"`     // a person put single files beside what was there
	Watched   *Watched  `json:"watched,omitempty"`  // it is all that a watch deployed; nil: it is one run
	Promoted  *Promoted `json:"promoted,omitempty"` // what it brought from another site; nil: it did not
	Commands  int       `json:"commands,omitempty"` // how many commands and checks were to run around it
}

// Promoted says which deployment of another site was brought. Its commit is in the origin.
type Promoted struct {
	From       string `json:"from"`       // the site, as a person called it
	Deployment int    `json:"deployment"` // its number there; 0: what was there was not recorded
	Tree       Digest `json:"tree"`       // there, before filters
}

// Watched says what a watch deployed, from when it began to Deployment.At.
type Watched struct {
	ID          string    `json:"id"` // of the watch: who goes on with it
	Since       time.Time `json:"since"`
	Changes     int       `json:"changes"`     // paths that were new, changed or retired, each as often as it was
	Deployments int       `json:"deployments"` // how often something was published
}

// Manifest is a tree written down.
type Manifest struct {
	Created    time.Time
	Generator  string
	Origin     *Origin
	Deployment *Deployment
	Entries    []Entry // sorted bytewise by path, none twice
}

// Tree returns the tree digest.
func (m *Manifest) Tree() Digest {
	return TreeOf(Listed(m.Entries))
}

// Each calls visit with one entry after the other, until it tells that that is enough.
func Each(entries []Entry, visit func(e *Entry) bool) {
	for i := range entries {
		if !visit(&entries[i]) {
			return
		}
	}
}

// Walk calls visit with one entry after the other, in the order of their paths, until it tells that that is enough. Visit must not
// keep them: there may be no list of them.
type Walk = func(visit func(e *Entry) bool)

// Listed gives a walk through a list.
func Listed(entries []Entry) Walk {
	return func(visit func(e *Entry) bool) { Each(entries, visit) }
}

// CheckPath tells why a path cannot be in a manifest: it must be valid UTF-8, relative, and free of empty
// elements, "." and ".." and NUL bytes. Unicode is left as found.
func CheckPath(path string) error {
	if !utf8.ValidString(path) {
		return errors.New("the path is not valid UTF-8")
	}
	return CheckBytes(path)
}

// CheckBytes is CheckPath for a path that may be no text: some systems take any bytes as a name.
func CheckBytes(path string) error {
	switch {
	case path == "":
		return errors.New("the path is empty")
	case strings.IndexByte(path, 0) >= 0:
		return errors.New("the path holds a NUL byte")
	case path[0] == '/':
		return errors.New("the path is absolute")
	}
	for element := range strings.SplitSeq(path, "/") {
		switch element {
		case "":
			return errors.New("the path has an empty element")
		case ".", "..":
			return fmt.Errorf("the path has the element %q", element)
		}
	}
	return nil
}

// checker finds entries that cannot follow those before them.
type checker struct {
	begun bool
	last  string
	// leaves are paths that can have nothing below them, each the beginning of the next one. In bytewise order all that
	// begins with one of them comes right behind it.
	leaves []string
}

// Check tells why entries cannot be a manifest: their paths, their order, or one that is below what is not a folder.
func Check(entries []Entry) error {
	var check checker
	for i := range entries {
		if err := check.next(&entries[i]); err != nil {
			return err
		}
	}
	return nil
}

func (c *checker) next(e *Entry) error {
	if err := c.check(e); err != nil {
		return fmt.Errorf("%s: %w", e.Path, err)
	}
	return nil
}

func (c *checker) check(e *Entry) error {
	if err := CheckPath(e.Path); err != nil {
		return err
	}
	if c.begun && e.Path == c.last {
		return errors.New("the path occurs twice")
	} else if e.Path < c.last {
		return fmt.Errorf("the path is not in bytewise order: it comes after %q", c.last)
	}
	c.begun, c.last = true, e.Path
	for len(c.leaves) > 0 && !strings.HasPrefix(e.Path, c.leaves[len(c.leaves)-1]) {
		c.leaves = c.leaves[:len(c.leaves)-1]
	}
	for _, leaf := range c.leaves {
		if e.Path[len(leaf)] == '/' {
			return fmt.Errorf("the path lies below %q, which is not a folder with content", leaf)
		}
	}
	if e.Kind != Dir || e.Plain() {
		c.leaves = append(c.leaves, e.Path)
	}
	return nil
}

// above gives the leaves that are the beginning of a path, which was checked last.
func (c *checker) above(path string) (out []string) {
	for _, leaf := range c.leaves {
		if leaf != path {
			out = append(out, strings.Clone(leaf)) // it may be of a text with many
		}
	}
	return out
}

// FormatError says where a written manifest is wrong.
type FormatError struct {
	Line   int    // from 1
	Path   string // of the entry, when it is known
	Reason string
}

func (e *FormatError) Error() string {
	if e.Path != "" {
		return fmt.Sprintf("line %d: entry %q: %s", e.Line, e.Path, e.Reason)
	}
	return fmt.Sprintf("line %d: %s", e.Line, e.Reason)
}
