package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"

	"tartine/internal/config"
	"tartine/internal/content"
	"tartine/internal/download"
	"tartine/internal/manifest"
	"tartine/internal/render"
)

// fetched is a source that is fetched from the web.
type fetched struct {
	app     *app
	address string
	most    int64
	want    *manifest.Digest // what it must have; nil: see anything
	any     bool             // whatever comes is taken
}

// unpinnedError tells the digest of what came from an address of which none is written down.
type unpinnedError struct {
	address string
	have    manifest.Digest
}

func (e *unpinnedError) Error() string { return "no digest is written down for " + e.address }

// fromWeb makes a source one of what an address gives.
func (a *app) fromWeb(c *config.Source, out *content.Source, cache *content.Cache) error {
	p, err := archived(c, cache)
	if err != nil {
		return err
	}
	w := &fetched{app: a, address: c.Source.Value, most: p.Most, want: p.Digest, any: c.Digest.Value == "any"}
	out.Path = shown(w.address)
	if c.Unpack {
		p.Opened = w.open
		fromArchive(p, out)
		return nil
	}
	name := c.Name.Value
	if name == "" {
		if name, err = nameOf(w.address); err != nil {
			return err
		}
	}
	out.Name = "" // the file has it
	out.Files = (&content.Single{Name: name, Find: w.find}).Files
	return nil
}

// shown gives an address without what may be a secret in it.
func shown(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	if u.RawQuery != "" {
		u.RawQuery = "…"
	}
	return strings.ReplaceAll(u.Redacted(), "%E2%80%A6", "…")
}

// nameOf gives the name that a file has by its address.
func nameOf(address string) (string, error) {
	u, err := url.Parse(address)
	if err == nil {
		if name := path.Base(u.Path); name != "." && name != "/" && name != ".." && !strings.ContainsAny(name, "\\\x00") {
			return name, nil
		}
	}
	return "", usageError(shown(address)+" names no file", `give it one: name: plates.zip`)
}

// find fetches the file, and gives where it is.
func (w *fetched) find(ctx context.Context) (string, manifest.Digest, error) {
	a := w.app
	out, err := download.Get(ctx, w.address, download.Options{Dir: filepath.Join(filepath.Dir(scratchFolder()), "fetched"), Want: w.want,
		Insecure: a.flags.insecure, Most: w.most, Identity: content.Identity, Told: func(address string) { a.note(shown(w.address) + " leads on to " + shown(address)) },
		Again: func(why error) {
			var inner *url.Error
			if errors.As(why, &inner) {
				why = inner.Err
			}
			a.note(fmt.Sprintf("%s: %v; trying again", shown(w.address), why))
		}})
	if err != nil {
		return "", manifest.Digest{}, &webError{shown(w.address), err}
	}
	if !a.flags.quiet {
		how := "anew"
		if out.Cached {
			how = "from the cache"
		}
		if _, said := a.told.LoadOrStore("fetched "+w.address+how, true); !said {
			render.Fprintf(a.stderr, "fetched   %s: %s, %s\n", shown(w.address), render.Bytes(out.Size), how)
		}
	}
	switch {
	case w.want != nil && *w.want != out.Digest:
		return "", out.Digest, &content.DigestError{Want: *w.want, Have: out.Digest}
	case w.want == nil && !w.any:
		return "", out.Digest, &unpinnedError{shown(w.address), out.Digest}
	}
	return out.File, out.Digest, nil
}

// open is find for an archive.
func (w *fetched) open(ctx context.Context) (*os.File, manifest.Digest, error) {
	name, digest, err := w.find(ctx)
	if err != nil {
		return nil, digest, err
	}
	file, err := os.Open(name)
	return file, digest, err
}

// webError tells what went wrong with an address.
type webError struct {
	address string
	err     error
}

func (e *webError) Error() string { return e.err.Error() }

func (e *webError) Unwrap() error { return e.err }

// webSentence says what there is to say of sources on the web.
func webSentence(err error) *statusError {
	var (
		unpinned *unpinnedError
		failed   *webError
		status   *download.StatusError
	)
	switch {
	case errors.As(err, &unpinned):
		return &statusError{status: ExitRefused, what: fmt.Sprintf("no digest is written down for %s, and what came has %s", unpinned.address, unpinned.have),
			next: fmt.Sprintf("look at it, and add beside the source:  digest: %q  (with --source: --digest %s); digest: any takes whatever comes", unpinned.have, unpinned.have)}
	case !errors.As(err, &failed):
		return nil
	}
	e := &statusError{status: ExitConnection, what: fmt.Sprintf("source %s: %v", failed.address, failed.err), next: "look whether the address works from here, and run it again: what came is kept"}
	switch {
	case errors.Is(err, download.ErrInsecure):
		e.status, e.next = ExitRefused, "use an https:// address; --insecure lets content come over http://, where anybody on the way may alter it"
	case errors.Is(err, download.ErrLogin):
		e.status, e.next = ExitUsage, "take the login out; fetch it with a program that knows it, and deploy the file"
	case errors.Is(err, download.ErrAddress):
		e.status, e.next = ExitUsage, "it reads https://HOST/PATH"
	case errors.Is(err, download.ErrTooLarge):
		e.status, e.next = ExitRefused, "if so much is meant, let it with max_unpacked or --max-unpacked"
	case errors.As(err, &status) && !status.Temporary():
		e.status, e.next = ExitUsage, "look whether the address is right"
	}
	return e
}
