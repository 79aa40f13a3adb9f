package site

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"tartine/internal/manifest"
)

// Room is what a folder takes.
type Room struct {
	Path  string `json:"path"`
	Files int    `json:"files"`
	Bytes int64  `json:"bytes"`
}

func (r *Room) add(l *Listed) {
	r.Files++
	r.Bytes += l.Size
}

// Use is what a site takes.
type Use struct {
	Folders []Room `json:"folders"` // the largest first; files at the top under the path of the top itself
	All     Room   `json:"all"`
	Record  Room   `json:"record"`
}

// Usage adds up what is in each folder directly below a top, and in the record. It fails with fs.ErrNotExist where nothing exists at the top.
func (s *Site) Usage(ctx context.Context, top string) (*Use, error) {
	out, rooms := &Use{All: Room{Path: top}, Record: Room{Path: "record"}, Folders: []Room{}}, map[string]*Room{}
	if err := s.eachListed(ctx, &Listing{Bare: true, Recursive: true, Paths: []string{top}}, func(l *Listed) {
		below := l.Path
		if top != "." {
			below = strings.TrimPrefix(l.Path, top+"/")
		}
		folder := top
		if first, _, deeper := strings.Cut(below, "/"); deeper {
			folder = l.Path[:len(l.Path)-len(below)] + first
		}
		if rooms[folder] == nil {
			rooms[folder] = &Room{Path: folder}
		}
		rooms[folder].add(l)
		out.All.add(l)
	}); err != nil {
		return nil, err
	}
	if err := s.eachListed(ctx, &Listing{Record: true, Recursive: true}, out.Record.add); err != nil {
		return nil, err
	}
	for _, r := range rooms {
		out.Folders = append(out.Folders, *r)
	}
	slices.SortFunc(out.Folders, func(a, b Room) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), strings.Compare(a.Path, b.Path))
	})
	return out, nil
}

// eachListed calls visit with each file that is listed, in any order, one after the other.
func (s *Site) eachListed(ctx context.Context, asked *Listing, visit func(l *Listed)) error {
	return s.list(ctx, asked, func(l *Listed, _ bool, _ manifest.Digest) {
		if l.kind() == manifest.File.String() {
			visit(l)
		}
	})
}
