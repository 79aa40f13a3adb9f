package render

import (
	"fmt"
	"strings"
	"time"

	"tartine/internal/deploy"
	"tartine/internal/diff"
)

// mostNamed is how many paths a line names.
const mostNamed = 3

// Few names some paths, and how many more there are.
func Few(paths []string) string {
	var names []string
	for _, path := range paths[:min(len(paths), mostNamed)] {
		names = append(names, Name(path))
	}
	out := strings.Join(names, ", ")
	if more := len(paths) - mostNamed; more > 0 {
		out += fmt.Sprintf(" and %s more", Number(int64(more)))
	}
	return out
}

// Round writes one line about what a watch deployed: when, what, how much, and how long it took.
func (p *Printer) Round(r *deploy.Round) {
	var what []string
	if brought := r.Changes(false); len(brought) > 0 {
		what = append(what, Few(brought))
	}
	if gone := r.Changes(true); len(gone) > 0 {
		what = append(what, "removed "+Few(gone))
	}
	if len(what) > 0 {
		p.printf("%s  %s  %s  %d ms\n", r.Began.Local().Format("15:04:05"), strings.Join(what, "; "),
			Bytes(r.Outcome.SentBytes), r.Took.Milliseconds())
	}
	for _, f := range r.Outcome.Failed {
		p.Warn("%s did not arrive: %v; it is tried again", Name(f.Path), f.Err)
	}
}

// RoundJSON writes the same as one object on a line.
func (p *Printer) RoundJSON(r *deploy.Round) error {
	out := struct {
		Time       string   `json:"time"`
		Deployment int      `json:"deployment"`
		New        int      `json:"new"`
		Changed    int      `json:"changed"`
		Retired    int      `json:"retired"`
		SentFiles  int      `json:"sent_files"`
		SentBytes  int64    `json:"sent_bytes"`
		Paths      []string `json:"paths"`
		Removed    []string `json:"removed"`
		Held       []string `json:"held"`
		Stay       []string `json:"stay"`
		Failed     []failed `json:"failed"`
		Duration   float64  `json:"duration"` // in seconds
		Verified   bool     `json:"verified"`
	}{Time: r.Began.UTC().Format(time.RFC3339), Deployment: r.Outcome.Number, SentFiles: r.Outcome.SentFiles,
		SentBytes: r.Outcome.SentBytes, Paths: r.Changes(false), Removed: r.Changes(true), Held: r.Held, Stay: r.Stay, Failed: []failed{}, Duration: r.Took.Seconds(),
		Verified: r.Outcome.Verified}
	out.New, _ = r.Result.Result.Count(diff.New)
	out.Changed, _ = r.Result.Result.Count(diff.Changed)
	out.Retired, _ = r.Result.Result.Count(diff.Retired)
	for _, f := range r.Outcome.Failed {
		out.Failed = append(out.Failed, failed{f.Path, fmt.Sprint(f.Err)})
	}
	for _, list := range []*[]string{&out.Paths, &out.Removed, &out.Held, &out.Stay} {
		if *list == nil {
			*list = []string{}
		}
	}
	return writeLine(p.Out, "round", out)
}
