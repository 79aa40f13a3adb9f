package calls

import (
	"context"

	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Current gives what the last deployment recorded, and how what is there differs from it.
var Current = &Call[None, *site.Current]{Name: "current", Pack: packCurrent, Unpack: unpackCurrent,
	Run: func(ctx context.Context, h *Here, _ None, watch *site.Watch) (*site.Current, error) {
		return h.Site.Current(ctx, watch.Bytes)
	}}

// current is a site.Current as it crosses a connection.
type current struct {
	Recorded   bool             `cbor:"recorded"`
	Entries    manifest.Packed  `cbor:"entries,omitempty"`
	Origin     *manifest.Origin `cbor:"origin,omitempty"`
	Number     int              `cbor:"number"`
	Missing    []string         `cbor:"missing,omitempty"`
	Altered    []string         `cbor:"altered,omitempty"`
	Unfinished bool             `cbor:"unfinished,omitempty"`
}

func packCurrent(c *site.Current) any {
	out := current{Number: c.Number, Missing: c.Missing, Altered: c.Altered, Unfinished: c.Unfinished}
	if c.Manifest != nil {
		out.Recorded, out.Entries, out.Origin = true, manifest.Pack(c.Manifest.Entries), c.Manifest.Origin
	}
	return out
}

func unpackCurrent(read func(any) error) (*site.Current, error) {
	var form current
	if err := read(&form); err != nil {
		return nil, err
	}
	out := &site.Current{Number: form.Number, Missing: form.Missing, Altered: form.Altered, Unfinished: form.Unfinished}
	if !form.Recorded {
		return out, nil
	}
	entries, err := form.Entries.Unpack()
	if err == nil {
		err = manifest.Check(entries)
	}
	out.Manifest = &manifest.Manifest{Entries: entries, Origin: form.Origin}
	return out, err
}
