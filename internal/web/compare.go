package web

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"

	"tartine/internal/manifest"
)

// body is what came.
type body struct {
	digest     manifest.Digest // unpacked where it was compressed
	raw        manifest.Digest // as it came
	compressed bool
	size       int64 // unpacked
	came       int64 // as it came
	cut        bool  // there was more than was read
	broken     error // it ended early, or could not be unpacked
	text       []byte
}

// mostKept is how much of a body is kept to say how it was changed, in bytes.
const mostKept = 4 << 20

// slack is by how much what comes may be longer than twice what was sent until it counts as a body without an end, in
// bytes: what was sent earlier may have been longer.
const slack = 1 << 20

// read reads a body of so many bytes at most, unpacked or not.
func read(got *http.Response, most int64) body {
	var (
		out    body
		raw    = sha256.New()
		plain  = sha256.New()
		kept   bytes.Buffer
		counts = &counting{in: io.LimitReader(got.Body, most+1)}
		in     = io.TeeReader(counts, raw)
	)
	from := in
	if encoding := got.Header.Get("Content-Encoding"); encoding == "gzip" || encoding == "x-gzip" {
		unpacked, err := gzip.NewReader(in)
		if err != nil {
			out.broken = err
		} else {
			from, out.compressed = unpacked, true
		}
	}
	if out.broken == nil {
		out.size, out.broken = io.Copy(io.MultiWriter(plain, &limited{&kept, mostKept}), io.LimitReader(from, most+1))
	}
	_, _ = io.Copy(io.Discard, in) // what is left of it counts for its own digest
	out.digest, out.raw = manifest.Digest(plain.Sum(nil)), manifest.Digest(raw.Sum(nil))
	out.came, out.cut = counts.n, counts.n > most || out.size > most
	if out.cut {
		out.broken = nil
	}
	out.text = kept.Bytes()
	return out
}

type counting struct {
	in io.Reader
	n  int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.n += int64(n)
	return n, err
}

// limited takes so many bytes and passes over the rest.
type limited struct {
	to   *bytes.Buffer
	most int
}

func (l *limited) Write(p []byte) (int, error) {
	l.to.Write(p[:min(len(p), max(l.most-l.to.Len(), 0))])
	return len(p), nil
}

// file asks for a file, and says what is wrong with what comes.
func (v *Visit) file(ctx context.Context, client *http.Client, f file) error {
	known, is := v.knownAs(f.Path)
	etag := ""
	if is && known.Digest == f.Digest {
		etag = known.ETag
	}
	got, err := v.get(ctx, client, f.url, etag)
	if err != nil {
		v.count(func(r *Report) { r.Asked++ })
		return v.silent(ctx, &f, err)
	}
	defer got.Body.Close()
	if v.Asked != nil {
		v.Asked(f.Path)
	}
	came := read(got, 2*f.Size+slack)
	v.count(func(r *Report) { r.Asked++; r.Bytes += came.came })
	hidden := isHidden(f.Path)
	switch {
	case etag != "" && got.StatusCode == http.StatusNotModified:
		v.count(func(r *Report) { r.Matched++; r.Unmodified++ })
		return nil
	case hidden && (got.StatusCode == http.StatusForbidden || got.StatusCode == http.StatusNotFound || v.nothing.is(came.digest)):
		v.count(func(r *Report) { r.Hidden++ })
		return nil
	case f.byName != "" && (got.StatusCode == http.StatusForbidden || got.StatusCode == http.StatusNotFound):
		f.url, f.byName = f.byName, ""
		again, err := v.get(ctx, client, f.url, "")
		if err != nil {
			return v.silent(ctx, &f, err)
		}
		defer again.Body.Close()
		if named := read(again, 2*f.Size+slack); again.StatusCode == http.StatusOK && named.digest == f.Digest {
			v.find(Finding{f.Path, strings.TrimSuffix(f.url, indexPage), Missing, fmt.Sprintf("its folder answers %d; by its own name it is there", got.StatusCode)})
			return nil
		}
	}
	if finding, wrong := v.judge(ctx, &f, got, &came); wrong {
		v.forget(f.Path)
		v.find(finding)
	}
	return nil
}

// judge says what is wrong with an answer.
func (v *Visit) judge(ctx context.Context, f *file, got *http.Response, came *body) (Finding, bool) {
	out := func(kind Kind, note string, args ...any) (Finding, bool) {
		return Finding{f.Path, f.url, kind, fmt.Sprintf(note, args...)}, true
	}
	same := came.broken == nil && came.digest == f.Digest && came.size == f.Size || came.raw == f.Digest && came.came == f.Size
	switch {
	case got.StatusCode == http.StatusNotFound || got.StatusCode == http.StatusGone:
		return out(Missing, "the server answers %d", got.StatusCode)
	case got.StatusCode >= 300 && got.StatusCode < 400:
		return out(Redirected, "to %s (%d)", cmp.Or(got.Header.Get("Location"), "nowhere"), got.StatusCode)
	case got.StatusCode != http.StatusOK:
		return out(Status, "the server answers %d", got.StatusCode)
	case same && isHidden(f.Path):
		return out(Served, "its name begins with a dot")
	case same && isSource(f.Path):
		return out(Served, "its source is given, and not what it writes")
	case !same && v.nothing.is(came.digest):
		return out(Missing, "the server answers as for a page that does not exist, with 200")
	case !same && (isSource(f.Path) || f.Mode&0o111 != 0):
		v.count(func(r *Report) { r.Run++ })
		return Finding{}, false
	case same:
		v.remember(f.Path, Known{f.Digest, got.Header.Get("ETag")})
		v.count(func(r *Report) {
			r.Matched++
			if came.compressed && came.digest == f.Digest {
				r.Compressed++
			}
		})
		if is, fits := fitting(f.Path, got.Header.Get("Content-Type")); !fits {
			return out(Type, "it comes as %s", cmp.Or(is, "nothing that is named"))
		}
		return Finding{}, false
	}
	return v.different(ctx, f, got, came)
}

// different says how other bytes came to be.
func (v *Visit) different(ctx context.Context, f *file, got *http.Response, came *body) (Finding, bool) {
	cache := cacheOf(got.Header)
	out := func(kind Kind, note string) (Finding, bool) {
		return Finding{f.Path, f.url, kind, strings.TrimPrefix(note+cache, ", ")}, true
	}
	if came.cut {
		return out(Wrong, fmt.Sprintf("more than %d bytes come, and %d were sent", 2*f.Size+slack, f.Size))
	}
	for _, past := range v.earlierOnes(ctx) {
		if i, found := manifest.Find(past.Entries, f.Path); found && past.Entries[i].Digest == came.digest {
			return out(Old, fmt.Sprintf("as deployment %d had it", past.Number))
		}
	}
	switch encoding := got.Header.Get("Content-Encoding"); {
	case came.broken != nil:
		return out(Wrong, fmt.Sprintf("it ends early: %v", came.broken))
	case encoding != "" && !came.compressed && encoding != "identity":
		return out(Wrong, "it is compressed with "+encoding+", for which nobody asked")
	}
	if original := v.original(ctx, f); original != nil && int64(len(came.text)) == came.size {
		if how := rewritten(original, came.text); how != "" {
			return out(Rewritten, how)
		}
	}
	if came.size == f.Size {
		return out(Wrong, "other bytes, as many as were sent")
	}
	return out(Wrong, fmt.Sprintf("%d bytes come, and %d were sent", came.size, f.Size))
}

// original reads a text as it is at the site; nil: it cannot be, or is too large.
func (v *Visit) original(ctx context.Context, f *file) []byte {
	if v.Original == nil || f.Size > mostKept {
		return nil
	}
	in, err := v.Original(ctx, f.Path)
	if err != nil {
		return nil
	}
	defer in.Close()
	text, err := io.ReadAll(io.LimitReader(in, f.Size+1))
	if err != nil || manifest.Digest(sha256.Sum256(text)) != f.Digest {
		return nil
	}
	return text
}

// rewritten says how a text was changed on the way; empty: not in a way that is known.
func rewritten(sent, came []byte) string {
	prefix := 0
	for prefix < min(len(sent), len(came)) && sent[prefix] == came[prefix] {
		prefix++
	}
	suffix := 0
	for suffix < min(len(sent), len(came))-prefix && sent[len(sent)-1-suffix] == came[len(came)-1-suffix] {
		suffix++
	}
	switch {
	case len(came) < len(sent) && prefix == len(came):
		return "" // it is cut short
	case prefix+suffix == len(sent) && len(sent) > 0:
		length := len(came) - len(sent)
		for at := prefix; at > 0 && at > prefix-length && came[at-1] == came[at-1+length]; at-- { // the same text, put in earlier
			if came[at-1] == '<' {
				prefix = at - 1
				break
			}
		}
		put := came[prefix : prefix+length]
		return fmt.Sprintf("%d bytes are put in at byte %d: %q", len(put), prefix, put[:min(len(put), 60)])
	case bytes.Equal(bytes.ReplaceAll(sent, []byte("\r\n"), []byte("\n")), bytes.ReplaceAll(came, []byte("\r\n"), []byte("\n"))):
		return "its line ends are others"
	case bytes.Equal(dense(sent), dense(came)):
		return "its white space is other, as if it were minified"
	case bytes.Equal(dense(withoutComments(sent)), dense(withoutComments(came))):
		return "its comments and white space are others, as if it were minified"
	}
	return ""
}

// dense is a text without white space.
func dense(text []byte) []byte {
	return bytes.Join(bytes.Fields(text), nil)
}

// withoutComments is a text without what HTML and CSS take for comments.
func withoutComments(text []byte) []byte {
	for _, pair := range [][2]string{{"<!--", "-->"}, {"/*", "*/"}} {
		var out []byte
		for {
			before, rest, found := bytes.Cut(text, []byte(pair[0]))
			out = append(out, before...)
			if !found {
				break
			}
			if _, text, found = bytes.Cut(rest, []byte(pair[1])); !found {
				break
			}
		}
		text = out
	}
	return text
}

// cacheOf says what an answer tells of caches on the way; empty: nothing.
func cacheOf(h http.Header) string {
	var out string
	if age := h.Get("Age"); age != "" {
		out += ", Age: " + age
	}
	if control := h.Get("Cache-Control"); control != "" {
		out += ", Cache-Control: " + control
	}
	return out
}

// types are the content types (RFC 9110) of names, of which the first is the usual one.
var types = map[string][]string{
	".html": {"text/html", "application/xhtml+xml"}, ".htm": {"text/html"}, ".css": {"text/css"},
	".js": {"text/javascript", "application/javascript", "application/x-javascript"}, ".mjs": {"text/javascript", "application/javascript"},
	".json": {"application/json"}, ".svg": {"image/svg+xml"}, ".png": {"image/png"}, ".jpg": {"image/jpeg"}, ".jpeg": {"image/jpeg"},
	".gif": {"image/gif"}, ".webp": {"image/webp"}, ".avif": {"image/avif"}, ".pdf": {"application/pdf"},
	".woff2": {"font/woff2", "application/font-woff2"}, ".woff": {"font/woff", "application/font-woff"}, ".wasm": {"application/wasm"},
}

// fitting tells whether a content type fits a name.
func fitting(name, header string) (is string, fits bool) {
	want, known := types[strings.ToLower(path.Ext(name))]
	is, _, err := mime.ParseMediaType(header)
	if err != nil && is == "" {
		is = header
	}
	return is, !known || slices.Contains(want, is)
}

// isHidden tells whether a path should not be served: part of it begins with a dot.
func isHidden(name string) bool {
	for part := range strings.SplitSeq(name, "/") {
		if strings.HasPrefix(part, ".") && part != ".well-known" {
			return true
		}
	}
	return false
}

// isSource tells whether a server runs a file.
func isSource(name string) bool {
	return slices.Contains([]string{".php", ".phtml", ".cgi", ".pl", ".asp", ".aspx", ".jsp", ".shtml"}, strings.ToLower(path.Ext(name)))
}

func (v *Visit) knownAs(path string) (Known, bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	known, is := v.Known[path]
	return known, is
}

func (v *Visit) remember(path string, k Known) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.Known != nil && k.ETag != "" {
		v.Known[path] = k
	}
}

func (v *Visit) forget(path string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	delete(v.Known, path)
}

// earlierOnes gives the earlier deployments, which are asked for once.
func (v *Visit) earlierOnes(ctx context.Context) []Earlier {
	v.once.Do(func() {
		if v.Earlier != nil {
			v.earlier, _ = v.Earlier(ctx) // without them less can be said
		}
	})
	return v.earlier
}

// private asks for what must not be served.
func (v *Visit) private(ctx context.Context, client *http.Client, name string) error {
	f := file{url: v.Base.String() + name}
	f.Path = name
	got, err := v.get(ctx, client, f.url, "")
	if err != nil {
		return v.silent(ctx, &f, err)
	}
	defer got.Body.Close()
	came := read(got, mostSearched)
	if got.StatusCode == http.StatusOK && !v.nothing.is(came.digest) && !v.nothing.varies() {
		v.find(Finding{name, f.url, Served, "it should not be"})
	}
	return nil
}

// mostBare is how many folders are looked at for a listing.
const mostBare = 20

// bare gives folders that have no index page, with a name that is in them.
func (v *Visit) bare() (out []file) {
	seen, index := map[string]string{}, map[string]bool{}
	for i := range v.Entries {
		if e := &v.Entries[i]; e.Kind == manifest.File {
			dir := path.Dir(e.Path)
			if strings.HasPrefix(path.Base(e.Path), "index.") {
				index[dir] = true
			}
			if seen[dir] == "" && !isHidden(e.Path) {
				seen[dir] = path.Base(e.Path)
			}
		}
	}
	for i := range v.Entries {
		dir := path.Dir(v.Entries[i].Path)
		if name := seen[dir]; name != "" && !index[dir] && len(out) < mostBare {
			f := file{url: v.address(dir) + "/", byName: name}
			if f.Path = dir + "/"; dir == "." {
				f.url, f.Path = v.Base.String(), "./"
			}
			out = append(out, f)
			seen[dir] = ""
		}
	}
	return out
}

// listing asks for a folder without an index page: what is in it must not be listed.
func (v *Visit) listing(ctx context.Context, client *http.Client, f file) error {
	got, err := v.get(ctx, client, f.url, "")
	if err != nil {
		return v.silent(ctx, &f, err)
	}
	defer got.Body.Close()
	came := read(got, mostSearched)
	if got.StatusCode == http.StatusOK && !v.nothing.is(came.digest) && bytes.Contains(came.text, []byte(`href="`+f.byName)) {
		v.find(Finding{f.Path, f.url, Served, "the server lists what is in the folder"})
	}
	return nil
}
