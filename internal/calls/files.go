package calls

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"sync/atomic"
	"time"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// The calls that bring what is at the site.
var (
	// Stands lists what is at some paths and below them; none: everything.
	Stands = &Call[[]string, *site.Standing]{Name: "stands", Pack: packStanding, Unpack: unpackStanding,
		Run: func(ctx context.Context, h *Here, paths []string, watch *site.Watch) (*site.Standing, error) {
			return h.Site.Stands(ctx, paths, watch.Bytes, h.Passed)
		}}
	// List lists names at the site, and what the record says of them.
	List = &Call[*site.Listing, []site.Listed]{Name: "list", Pack: packListed, Unpack: unpackListed,
		Run: func(ctx context.Context, h *Here, q *site.Listing, _ *site.Watch) ([]site.Listed, error) {
			return h.Site.List(ctx, q)
		}}
	// Usage tells what is in each folder directly below a path, and what the record takes.
	Usage = &Call[string, *site.Use]{Name: "usage", Unpack: unpackUse,
		Run: func(ctx context.Context, h *Here, top string, _ *site.Watch) (*site.Use, error) {
			return h.Site.Usage(ctx, top)
		}}
	// Gather reads many small files whole, and gives as many answers.
	Gather = &Call[[]string, []Gathered]{Name: "gather", Run: gather}
	// Read reads a range of a file. Open is for a whole one.
	Read = &Call[Range, Content]{Name: "read", Run: read}
)

// standing is a site.Standing as it crosses a connection, behind its entries.
type standing struct {
	Count int        `cbor:"count"`
	Raw   []rawEntry `cbor:"raw,omitempty"`
	Left  []Failure  `cbor:"left,omitempty"`
}

// rawEntry is a file whose path is not valid UTF-8.
type rawEntry struct {
	_      struct{} `cbor:",toarray"`
	Path   []byte
	Size   int64
	Mode   uint32
	Digest manifest.Digest
	Time   int64 // nanoseconds since 1970
}

func packStanding(found *site.Standing) any {
	out := standing{Count: found.Count, Left: WireFailures(found.Left)}
	for _, e := range found.Raw {
		out.Raw = append(out.Raw, rawEntry{Path: []byte(e.Path), Size: e.Size, Mode: uint32(e.Mode.Perm()),
			Digest: e.Digest, Time: e.ModTime.UnixNano()})
	}
	return out
}

func unpackStanding(read func(any) error) (*site.Standing, error) {
	var form standing
	if err := read(&form); err != nil {
		return nil, err
	}
	out := &site.Standing{Count: form.Count, Left: Failures(form.Left)}
	for _, e := range form.Raw {
		if err := manifest.CheckBytes(string(e.Path)); err != nil || e.Size < 0 {
			return nil, fmt.Errorf("a file that is called %q", e.Path)
		}
		out.Raw = append(out.Raw, manifest.Entry{Path: string(e.Path), Size: e.Size,
			Attributes: manifest.Attributes{Mode: fs.FileMode(e.Mode).Perm(), ModTime: time.Unix(0, e.Time)},
			Digest:     e.Digest})
	}
	return out, nil
}

// listing is what was listed, as it crosses a connection.
type listing struct {
	Entries manifest.Packed `cbor:"entries"`
	Words   []byte          `cbor:"words"` // by their place in words
	Users   []int64         `cbor:"users"` // -1: not known
	Others  map[int]uint32  `cbor:"others,omitempty"`
	// what users are called, by their numbers
	Owners map[int64]string `cbor:"owners,omitempty"`
}

var words = []string{site.AsRecorded, site.AsDrifted, site.AsStray, site.AsHand}

func packListed(list []site.Listed) any {
	out := listing{Words: make([]byte, len(list)), Users: make([]int64, len(list)), Others: map[int]uint32{}, Owners: map[int64]string{}}
	entries := make([]manifest.Entry, len(list))
	for i, l := range list {
		entries[i] = l.Entry
		out.Words[i], out.Users[i] = byte(max(slices.Index(words, l.Word), 0)), -1
		if l.User.Known {
			out.Users[i] = int64(l.User.ID)
			if l.Owner != "" {
				out.Owners[out.Users[i]] = l.Owner
			}
		}
		if l.Other != 0 {
			out.Others[i] = uint32(l.Other)
		}
	}
	out.Entries = manifest.Pack(entries)
	return out
}

func unpackListed(read func(any) error) ([]site.Listed, error) {
	var form listing
	if err := read(&form); err != nil {
		return nil, err
	}
	entries, err := form.Entries.Unpack()
	if err != nil {
		return nil, err
	}
	if len(form.Words) != len(entries) || len(form.Users) != len(entries) {
		return nil, fmt.Errorf("%w: %d names, %d words and %d users", ErrProtocol, len(entries), len(form.Words), len(form.Users))
	}
	out := make([]site.Listed, len(entries))
	for i, e := range entries {
		if int(form.Words[i]) >= len(words) {
			return nil, fmt.Errorf("%w: word %d", ErrProtocol, form.Words[i])
		}
		out[i] = site.Listed{Entry: e, Word: words[form.Words[i]], Other: fs.FileMode(form.Others[i]) & fs.ModeType}
		if form.Users[i] >= 0 {
			out[i].User = fsys.User{ID: uint32(form.Users[i]), Known: true}
			out[i].Owner = farend.Said(form.Owners[form.Users[i]], mostName)
		}
	}
	return out, nil
}

func unpackUse(read func(any) error) (*site.Use, error) {
	var use site.Use
	if err := read(&use); err != nil {
		return nil, err
	}
	for _, r := range use.Folders {
		if r.Path != "." && manifest.CheckPath(r.Path) != nil {
			return nil, fmt.Errorf("%w: a folder that is called %q", ErrProtocol, r.Path)
		}
	}
	return &use, nil
}

// mostName is how long the name of a user may be, in bytes.
const mostName = 64

// Gathered is a file that was read whole, or why it was not.
type Gathered struct {
	Content []byte
	Err     error
}

// GatherLimit is how much is read in one call, in bytes.
const GatherLimit = 32 << 20

// ErrTooMuch tells that a file was not read, since more than that was asked for.
var ErrTooMuch = errors.New("too much was asked for at once")

func gather(ctx context.Context, h *Here, paths []string, _ *site.Watch) ([]Gathered, error) {
	out := make([]Gathered, len(paths))
	var size atomic.Int64
	err := h.Site.Gather(ctx, paths, func(i int, content []byte, err error) {
		if err == nil && size.Add(int64(len(content))) > GatherLimit {
			content, err = nil, ErrTooMuch
		}
		out[i] = Gathered{bytes.Clone(content), err}
	})
	return out, err
}

// Range is where in a file reading begins.
type Range struct {
	Path   string `cbor:"path"`
	Offset int64  `cbor:"offset"`
}

// Content is a part of a file, and whether it is the last.
type Content struct {
	Content []byte `cbor:"content"`
	End     bool   `cbor:"end"`
}

// readSize is how much of a file is read in one call, in bytes.
const readSize = 2 << 20

func read(ctx context.Context, h *Here, q Range, _ *site.Watch) (Content, error) {
	file, err := h.Site.ReadPath(ctx, q.Path)
	if err != nil {
		return Content{}, err
	}
	defer file.Close()
	if err := fsys.Skip(ctx, file, q.Offset); err != nil {
		return Content{}, err
	}
	content := make([]byte, readSize)
	n, err := io.ReadFull(file, content)
	switch {
	case err == nil:
		return Content{Content: content}, nil
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return Content{Content: content[:n], End: true}, nil
	}
	return Content{}, err
}

// Open opens a file of the site. An engine here hands it over as it is; from one at the far end it comes range by
// range.
func Open(ctx context.Context, e Engine, path string) (io.ReadCloser, error) {
	if opener, ok := e.(Opener); ok {
		return opener.Open(ctx, path)
	}
	return OpenRemote(ctx, e, path)
}

// Opener is an engine that hands files over as they are.
type Opener interface {
	Open(ctx context.Context, path string) (io.ReadCloser, error)
}

// OpenRemote opens a file that comes range by range.
func OpenRemote(ctx context.Context, e Engine, path string) (io.ReadCloser, error) {
	r := &remote{ctx: ctx, engine: e, path: path}
	return r, r.fill()
}

// Open gives a file of the site: see the function Open.
func (h *Here) Open(ctx context.Context, path string) (io.ReadCloser, error) {
	return h.Site.ReadPath(ctx, path)
}

// remote is a file that is read a range at a time.
type remote struct {
	ctx    context.Context
	engine Engine
	path   string
	at     int64
	now    bytes.Reader
	end    bool
}

func (r *remote) fill() error {
	part, err := Read.On(r.ctx, r.engine, Range{r.path, r.at})
	if err != nil {
		return err
	}
	if len(part.Content) == 0 && !part.End {
		return fmt.Errorf("%w: nothing was read", ErrProtocol)
	}
	r.at += int64(len(part.Content))
	r.now.Reset(part.Content)
	r.end = part.End
	return nil
}

// Read implements io.Reader.
func (r *remote) Read(p []byte) (int, error) {
	for r.now.Len() == 0 {
		if r.end {
			return 0, io.EOF
		}
		if err := r.fill(); err != nil {
			return 0, err
		}
	}
	return r.now.Read(p)
}

// Close implements io.Closer.
func (r *remote) Close() error { return nil }
