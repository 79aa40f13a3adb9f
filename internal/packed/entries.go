package packed

import (
	"io/fs"
	"slices"
	"strings"
	"unicode/utf8"

	"tartine/internal/archive"
	"tartine/internal/diff"
	"tartine/internal/manifest"
)

// Entries gives what is in an archive as the entries of a manifest, without what those cannot hold: devices, names that
// are no UTF-8, and folders that follow from what is in them.
func Entries(listing *archive.Listing) []manifest.Entry {
	var out []manifest.Entry
	for _, f := range found(listing) {
		if f.Other == 0 && !(f.Filled && f.Plain()) {
			out = append(out, *f.Entry)
		}
	}
	return out
}

// found gives what is in an archive as a survey would, sorted by path.
func found(listing *archive.Listing) []diff.Found {
	out := make([]diff.Found, 0, len(listing.Entries))
	filled := map[string]bool{}
	known := map[string]bool{}
	for i := range listing.Entries {
		e := &listing.Entries[i]
		if !utf8.ValidString(e.Path) || known[e.Path] {
			continue
		}
		known[e.Path] = true
		f := diff.Found{Entry: &manifest.Entry{Path: e.Path, Size: e.Size, Digest: e.Digest,
			Attributes: manifest.Attributes{Mode: e.Mode.Perm(), ModTime: e.ModTime}}}
		switch {
		case e.Mode.IsDir():
			f.Kind = manifest.Dir
		case e.Mode&fs.ModeSymlink != 0:
			f.Kind, f.Link, f.Mode = manifest.Link, e.Link, 0
		case !e.Mode.IsRegular():
			f.Other = e.Mode.Type()
		}
		out = append(out, f)
		for end := strings.LastIndexByte(e.Path, '/'); end > 0; end = strings.LastIndexByte(e.Path[:end], '/') {
			if filled[e.Path[:end]] {
				break
			}
			filled[e.Path[:end]] = true
		}
	}
	for i := range out {
		out[i].Filled = filled[out[i].Path]
	}
	slices.SortFunc(out, func(a, b diff.Found) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// sizes counts files and their bytes.
func sizes(entries []manifest.Entry) (files int, bytes int64) {
	for i := range entries {
		if entries[i].Kind == manifest.File {
			files++
			bytes += entries[i].Size
		}
	}
	return files, bytes
}
