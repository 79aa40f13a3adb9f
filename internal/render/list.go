package render

import (
	"fmt"
	"io"
	"io/fs"
	"strings"

	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Listed writes a line for each name at a site.
func (p *Printer) Listed(list []site.Listed) {
	rows := [][]string{{"", "kind", "mode", "owner", "size", "changed", "path"}}
	for i := range list {
		l := &list[i]
		mode, user, size, when, name := "", "", "", "", Name(l.Path)
		switch {
		case l.Kind == manifest.Link:
			name += " -> " + Name(l.Link)
		case l.Other == 0:
			mode = fmt.Sprintf("%04o", l.Mode.Perm())
		}
		switch {
		case l.Owner != "":
			user = Name(l.Owner)
		case l.User.Known:
			user = fmt.Sprint(l.User.ID)
		}
		if l.Kind == manifest.File && l.Other == 0 {
			size = Bytes(l.Size)
		}
		if !l.ModTime.IsZero() {
			when = l.ModTime.Local().Format("2006-01-02 15:04")
		}
		rows = append(rows, []string{l.Word, kindWord(l), mode, user, size, when, name})
	}
	p.table(rows, 4, 4)
}

func kindWord(l *site.Listed) string {
	if l.Other == 0 {
		return l.Kind.String()
	}
	switch {
	case l.Other&fs.ModeNamedPipe != 0:
		return "pipe"
	case l.Other&fs.ModeSocket != 0:
		return "socket"
	}
	return "device"
}

// Paths writes the paths alone, one a line.
func (p *Printer) Paths(list []site.Listed) error {
	var out strings.Builder
	for i := range list {
		out.WriteString(Name(list[i].Path) + "\n")
	}
	_, err := io.WriteString(p.Out, out.String())
	return err
}

// PathsForPrograms writes the paths as they are, each with a zero byte behind it. It is not for terminals.
func PathsForPrograms(w io.Writer, list []site.Listed) error {
	var out strings.Builder
	for i := range list {
		out.WriteString(list[i].Path + "\x00")
	}
	_, err := io.WriteString(w, out.String())
	return err
}

// ListedJSON writes them as an object.
func (p *Printer) ListedJSON(list []site.Listed) error {
	type item struct {
		Path   string  `json:"path"`
		Kind   string  `json:"kind"`
		Status string  `json:"status"`
		Size   int64   `json:"size"`
		Mode   string  `json:"mode,omitempty"`
		MTime  string  `json:"mtime,omitempty"`
		Link   string  `json:"link,omitempty"`
		User   *uint32 `json:"user,omitempty"`
		Owner  string  `json:"owner,omitempty"`
	}
	out := struct {
		Entries []item `json:"entries"`
	}{[]item{}}
	for i := range list {
		l := &list[i]
		it := item{Path: l.Path, Kind: kindWord(l), Status: l.Word, Size: l.Size, Link: l.Link, Owner: l.Owner}
		if l.Kind != manifest.Link && l.Other == 0 {
			it.Mode = fmt.Sprintf("%04o", l.Mode.Perm())
		}
		if !l.ModTime.IsZero() {
			it.MTime = l.ModTime.UTC().Format("2006-01-02T15:04:05Z")
		}
		if l.User.Known {
			it.User = &l.User.ID
		}
		out.Entries = append(out.Entries, it)
	}
	return WriteJSON(p.Out, out)
}

// Usage writes what a site takes as a table.
func (p *Printer) Usage(h Heading, use *site.Use) {
	p.printf("%s\n\n", h.title())
	rows := [][]string{{"folder", "files", "size", ""}}
	share := func(r site.Room) string {
		if use.All.Bytes == 0 {
			return ""
		}
		return fmt.Sprintf("%d %%", (100*r.Bytes+use.All.Bytes/2)/use.All.Bytes)
	}
	for _, r := range use.Folders {
		name := Name(r.Path) + "/"
		if r.Path == use.All.Path {
			name = "files directly in it"
		}
		rows = append(rows, []string{name, Number(int64(r.Files)), Bytes(r.Bytes), share(r)})
	}
	rows = append(rows, []string{"all of it", Number(int64(use.All.Files)), Bytes(use.All.Bytes), ""},
		[]string{"the record", Number(int64(use.Record.Files)), Bytes(use.Record.Bytes), ""})
	p.table(rows, 1, 3)
}

// UsageJSON writes it as an object.
func (p *Printer) UsageJSON(use *site.Use) error { return WriteJSON(p.Out, use) }
