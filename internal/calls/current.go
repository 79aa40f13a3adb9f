package calls

import (
	"context"

	"tartine/internal/manifest"
	"tartine/internal/site"
)

// Current gives what the last deployment recorded, and how what is there differs from it.
var Current = &Call[None, *site.Current]{Name: "current", Pack: packCurrent, Unpack: unpackCurrent,
	Run: func(ctx context.Context, h *Here, _ None, watch *site.Watch) (*site.Current, error) {
		return h.Site.Current(ctx, watch.Bytes, h.Passed)
	}}

// current is a site.Current as it crosses a connection, behind its entries.
type current struct {
	Number     int              `cbor:"number"`
	Count      int              `cbor:"count"`
	Origin     *manifest.Origin `cbor:"origin,omitempty"`
	Missing    []string         `cbor:"missing,omitempty"`
	Altered    []string         `cbor:"altered,omitempty"`
	Unfinished bool             `cbor:"unfinished,omitempty"`
}

func packCurrent(c *site.Current) any {
	return current{Number: c.Number, Count: c.Count, Origin: c.Origin, Missing: c.Missing, Altered: c.Altered, Unfinished: c.Unfinished}
}

func unpackCurrent(read func(any) error) (*site.Current, error) {
	var form current
	if err := read(&form); err != nil {
		return nil, err
	}
	return &site.Current{Number: form.Number, Count: form.Count, Origin: form.Origin, Missing: form.Missing, Altered: form.Altered, Unfinished: form.Unfinished}, nil
}
