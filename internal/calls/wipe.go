package calls

import (
	"context"

	"tartine/internal/farend"
	"tartine/internal/site"
)

// Wipe removes the site and its record, or tells what is there.
var Wipe = &Call[*site.Wiping, *site.Wiped]{Name: "wipe", Writes: true, Pack: packWiped, Unpack: unpackWiped,
	Run: func(ctx context.Context, h *Here, q *site.Wiping, watch *site.Watch) (*site.Wiped, error) {
		h.survey = nil
		h.forget()
		return h.Site.Wipe(ctx, q, watch)
	}}

// wiped is a site.Wiped as it crosses a connection.
type wiped struct {
	site.Wiped
	Failures []Failure `cbor:"failures,omitempty"`
}

func packWiped(w *site.Wiped) any {
	out := wiped{*w, WireFailures(w.Left)}
	out.Wiped.Left = nil
	return out
}

func unpackWiped(read func(any) error) (*site.Wiped, error) {
	var form wiped
	if err := read(&form); err != nil {
		return nil, err
	}
	out := form.Wiped
	out.Left = Failures(form.Failures)
	for i := range out.Left {
		out.Left[i].Path = farend.Said(out.Left[i].Path, MostSaid)
	}
	for i := range out.Mounts {
		out.Mounts[i] = farend.Said(out.Mounts[i], MostSaid)
	}
	return &out, nil
}
