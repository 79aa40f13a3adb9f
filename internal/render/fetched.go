package render

import (
	"fmt"

	"tartine/internal/deploy"
)

// Fetched says what was fetched.
func (p *Printer) Fetched(h Heading, into string, out *deploy.Fetched) {
	p.failures(out.Failed)
	what := fmt.Sprintf("%s, %s, from %s into %s", Count(out.Files, "file"), Bytes(out.Bytes), h.Name(), into)
	if out.Same > 0 {
		what += fmt.Sprintf("; %s as they should be already", Number(int64(out.Same)))
	}
	switch {
	case len(out.Failed) > 0:
		p.Line("incomplete  %s; %s could not be fetched", what, Number(int64(len(out.Failed))))
	case out.Files == 0:
		p.Line("unchanged   %s: everything in %s is as it is there, nothing was fetched", h.Name(), into)
	default:
		p.Line("fetched     %s; each checked by its digest", what)
	}
}

// WouldFetch says what a fetch would do.
func (p *Printer) WouldFetch(h Heading, into string, missing, replaced int, bytes int64) {
	p.Line("Nothing was changed. From %s would come %s: %s missing in %s, %s there otherwise.", h.Name(), Bytes(bytes),
		Number(int64(missing)), into, Number(int64(replaced)))
}

// FetchedJSON writes what was fetched as one object.
func (p *Printer) FetchedJSON(out *deploy.Fetched) error {
	type failure struct {
		Path  string `json:"path"`
		Error string `json:"error"`
	}
	object := struct {
		Files  int       `json:"fetched_files"`
		Bytes  int64     `json:"fetched_bytes"`
		Same   int       `json:"same"`
		Failed []failure `json:"failed"`
		Result string    `json:"result"`
	}{out.Files, out.Bytes, out.Same, []failure{}, "fetched"}
	for _, f := range out.Failed {
		object.Failed = append(object.Failed, failure{f.Path, f.Err.Error()})
	}
	switch {
	case len(out.Failed) > 0:
		object.Result = "incomplete"
	case out.Files == 0:
		object.Result = "unchanged"
	}
	return WriteJSON(p.Out, object)
}
