package render

import (
	"io"

	"tartine/internal/packed"
)

// Packed tells what was packed. Of what went to standard output it is told beside it.
func (p *Printer) Packed(beside io.Writer, name string, done *packed.Done) {
	line := func(what word, format string, args ...any) {
		if name == "-" {
			Fprintf(beside, "%-10s  "+format+"\n", append([]any{what}, args...)...)
			return
		}
		p.printf("%s  "+format+"\n", append([]any{p.paint(what, 10)}, args...)...)
	}
	line("tree", "%s", done.Tree)
	if name == "-" {
		line("packed", "%s, %s, in %s", Count(done.Files, "file"), Bytes(done.Bytes), Bytes(done.Size))
		return
	}
	if done.Verified {
		line("verified", "all of it was read again and is what it should be")
	}
	result := word("packed")
	if done.Unchanged {
		result = "unchanged"
	}
	line(result, "%s: %s, %s, in %s", Name(name), Count(done.Files, "file"), Bytes(done.Bytes), Bytes(done.Size))
}

// PackedJSON writes what was packed as one object.
func (p *Printer) PackedJSON(name, format string, done *packed.Done) error {
	result := "packed"
	if done.Unchanged {
		result = "unchanged"
	}
	return WriteJSON(p.Out, struct {
		Result   string `json:"result"`
		Output   string `json:"output"`
		Form     string `json:"form"`
		Files    int    `json:"files"`
		Bytes    int64  `json:"bytes"`
		Size     int64  `json:"size"`
		Tree     string `json:"tree"`
		Digest   string `json:"digest"`
		Verified bool   `json:"verified"` // it was read again
	}{result, name, format, done.Files, done.Bytes, done.Size, done.Tree.String(), done.Digest.String(), done.Verified})
}
