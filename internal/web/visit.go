package web

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/manifest"
)

// Visit compares what a web server gives with a manifest: each file is asked for by its public address (an index page
// by that of its folder) and compared by its digest, as it is or unpacked where it is compressed on the way.
type Visit struct {
	Access  *Access
	Base    *url.URL // at which the root of the site is served; its path ends with a slash
	Entries []manifest.Entry
	Sample  int      // how many files are asked for; 0: all
	Private []string // paths, relative to the base, that must not be served
	Folders bool     // also that no folder is listed
	// Known is what was found before, by path: a file that the server says is unchanged since then is not fetched. It is
	// brought up to date. Nil: everything is fetched.
	Known map[string]Known
	// Earlier gives the content of earlier deployments: paths with their digests. It is called once at most, when
	// something else comes than what was sent; nil: they are not known.
	Earlier func(context.Context) ([]Earlier, error)
	// Original opens what is at the site, to say how it is rewritten on the way; nil: that is not said.
	Original func(ctx context.Context, path string) (io.ReadCloser, error)
	Asked    func(path string) // is told of each file that was asked for; may be nil

	mu      sync.Mutex
	report  *Report
	nothing nothing
	once    sync.Once
	earlier []Earlier
	failed  int // requests that had no answer
}

// Known is a file as it came before.
type Known struct {
	Digest manifest.Digest `json:"digest"`
	ETag   string          `json:"etag"` // of RFC 9110
}

// Earlier is an earlier deployment.
type Earlier struct {
	Number  int
	Entries []manifest.Entry
}

// Kind says what is wrong with what comes.
type Kind string

// The kinds.
const (
	Wrong      Kind = "wrong"      // other bytes than were sent
	Old        Kind = "old"        // those of an earlier deployment
	Missing    Kind = "missing"    // there is nothing at the address
	Redirected Kind = "redirected" // it leads elsewhere
	Status     Kind = "status"     // the server answers something else
	Rewritten  Kind = "rewritten"  // what was sent, changed on the way
	Type       Kind = "type"       // the content type does not fit the name
	Served     Kind = "served"     // it should not be
	Silent     Kind = "silent"     // no answer
)

// Finding is one thing that is wrong.
type Finding struct {
	Path string
	URL  string
	Kind Kind
	Note string
}

// Report is what a visit found.
type Report struct {
	Base       string
	Protocol   string // HTTP/1.1 or HTTP/2.0
	Asked      int    // files that were asked for
	Of         int    // files of the manifest
	Matched    int    // those that came as they were sent
	Unmodified int    // of these, those that the server says are as they came before
	Compressed int    // of these, those that were compressed on the way
	Run        int    // files that the server runs, which are not compared
	Hidden     int    // files that begin with a dot and are not served
	Bytes      int64  // that came
	Findings   []Finding
	Warnings   []string
}

// Well tells whether everything came as it was sent.
func (r *Report) Well() bool { return len(r.Findings) == 0 }

// FoundError tells what a visit found, in a line.
type FoundError struct{ Report *Report }

func (e *FoundError) Error() string {
	const most = 3
	var parts []string
	for _, f := range e.Report.Findings[:min(len(e.Report.Findings), most)] {
		text := f.Path + ": " + string(f.Kind)
		if f.Note != "" {
			text += ", " + f.Note
		}
		parts = append(parts, text)
	}
	if more := len(e.Report.Findings) - most; more > 0 {
		parts = append(parts, fmt.Sprintf("and %d more", more))
	}
	return "through the web: " + strings.Join(parts, "; ")
}

// mostFailed is how many requests may have no answer before a visit ends.
const mostFailed = 10

// certificateTime is how long a certificate should hold at least.
const certificateTime = 14 * 24 * time.Hour

// Look makes the visit. Its error is an *UnreachableError where the server does not answer, and a *BaseError where it
// answers for another address.
func (v *Visit) Look(ctx context.Context) (*Report, error) {
	client := v.Access.client()
	defer client.CloseIdleConnections()
	v.report = &Report{Base: v.Base.Redacted()}
	if err := v.first(ctx, client); err != nil {
		return nil, err
	}
	files := v.files()
	v.report.Of = len(files)
	if v.Sample > 0 && v.Sample < len(files) {
		rand.Shuffle(len(files), func(i, j int) { files[i], files[j] = files[j], files[i] })
		files = files[:v.Sample]
	}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(v.parallel())
	for _, f := range files {
		group.Go(func() error { return v.file(within, client, f) })
	}
	for _, private := range v.Private {
		group.Go(func() error { return v.private(within, client, private) })
	}
	if v.Folders {
		for _, folder := range v.bare() {
			group.Go(func() error { return v.listing(within, client, folder) })
		}
	}
	if err := group.Wait(); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, err
	}
	slices.SortFunc(v.report.Findings, func(a, b Finding) int { return strings.Compare(a.Path, b.Path) })
	v.warn()
	return v.report, nil
}

func (v *Visit) parallel() int {
	if v.Access.Parallel > 0 {
		return v.Access.Parallel
	}
	return DefaultParallel
}

// BaseError tells that a server sends visitors of a whole site elsewhere.
type BaseError struct{ Base, To string }

func (e *BaseError) Error() string { return fmt.Sprintf("%s sends its visitors to %s", e.Base, e.To) }

// first asks for what cannot be there, so that answers for it are known, and looks at the certificate.
func (v *Visit) first(ctx context.Context, client *http.Client) error {
	for i := range v.nothing.bodies {
		name := fmt.Sprintf("tartine-%016x.html", rand.Uint64())
		address := v.Base.JoinPath(name).String()
		got, err := v.get(ctx, client, address, "")
		var silent *UnreachableError
		if errors.As(err, &silent) {
			silent.Address = v.Base.Redacted()
		}
		if err != nil {
			return err
		}
		body := read(got, mostSearched)
		got.Body.Close()
		if i == 0 {
			v.report.Protocol = got.Proto
			if got.TLS != nil && len(got.TLS.PeerCertificates) > 0 {
				if end := got.TLS.PeerCertificates[0].NotAfter; time.Until(end) < certificateTime {
					v.report.Warnings = append(v.report.Warnings, fmt.Sprintf("the certificate ends on %s", end.Local().Format("2006-01-02 15:04")))
				}
			}
			if to, err := got.Location(); err == nil && got.StatusCode < 400 {
				if base, same := strings.CutSuffix(to.String(), name); same && base != v.Base.String() {
					return &BaseError{v.Base.Redacted(), base}
				}
			}
		}
		v.nothing.answered[i], v.nothing.bodies[i] = got.StatusCode, body.digest
	}
	if v.nothing.answered[0] == http.StatusOK {
		v.report.Warnings = append(v.report.Warnings, "a page that does not exist is answered with 200, and not with 404")
	}
	return nil
}

// nothing is what a server answers where there is nothing.
type nothing struct {
	answered [2]int
	bodies   [2]manifest.Digest
}

// is tells whether an answer with status 200 is that for nothing.
func (n *nothing) is(body manifest.Digest) bool {
	return n.answered[0] == http.StatusOK && slices.Contains(n.bodies[:], body)
}

// varies tells that what is answered where there is nothing cannot be told from other pages.
func (n *nothing) varies() bool {
	return n.answered[0] == http.StatusOK && n.bodies[0] != n.bodies[1]
}

// files gives the files that visitors can ask for. A link counts as the file that it leads to.
func (v *Visit) files() []file {
	var out []file
	for i := range v.Entries {
		e := &v.Entries[i]
		switch e.Kind {
		case manifest.Link:
			at, found := manifest.Find(v.Entries, path.Join(path.Dir(e.Path), e.Link))
			if !found || v.Entries[at].Kind != manifest.File {
				continue
			}
			target := v.Entries[at]
			target.Path = e.Path
			out = append(out, v.asFile(&target))
		case manifest.File:
			out = append(out, v.asFile(e))
		}
	}
	return out
}

// file is a file with its public address.
type file struct {
	manifest.Entry
	url    string
	byName string // of an index page whose address is that of its folder; else empty
}

// indexPage is the page that servers show for a folder.
const indexPage = "index.html"

func (v *Visit) asFile(e *manifest.Entry) file {
	f := file{Entry: *e, url: v.address(e.Path)}
	if path.Base(e.Path) == indexPage {
		f.byName, f.url = f.url, strings.TrimSuffix(f.url, indexPage)
	}
	return f
}

// address gives the public address of a path.
func (v *Visit) address(path string) string {
	parts := strings.Split(path, "/")
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return v.Base.String() + strings.Join(parts, "/")
}

// get asks for an address. Requests without an answer are few, or the visit ends.
func (v *Visit) get(ctx context.Context, client *http.Client, address, etag string) (*http.Response, error) {
	r, err := v.Access.request(ctx, http.MethodGet, address)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept-Encoding", "gzip")
	if etag != "" {
		r.Header.Set("If-None-Match", etag)
	}
	got, err := client.Do(r)
	if err != nil {
		return nil, unreachable(address, err)
	}
	return got, nil
}

// silent notes a request without an answer; too many of them end the visit.
func (v *Visit) silent(ctx context.Context, f *file, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	v.find(Finding{f.Path, f.url, Silent, strings.TrimPrefix(err.Error(), f.url+": ")})
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.failed++; v.failed >= mostFailed {
		return err
	}
	return nil
}

func (v *Visit) find(f Finding) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.report.Findings = append(v.report.Findings, f)
}

// count changes the numbers of the report.
func (v *Visit) count(change func(*Report)) {
	v.mu.Lock()
	defer v.mu.Unlock()
	change(v.report)
}

// warn says what is to be known of the whole.
func (v *Visit) warn() {
	old := 0
	for _, f := range v.report.Findings {
		if f.Kind == Old {
			old++
		}
	}
	if old > 0 && v.report.Matched > 0 {
		v.report.Warnings = append(v.report.Warnings, fmt.Sprintf("visitors get old and new content side by side: %d of %d files are old", old, v.report.Asked))
	}
}
