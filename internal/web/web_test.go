package web_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
	"tartine/internal/web"
)

func entry(path, text string) manifest.Entry {
	return manifest.Entry{Path: path, Size: int64(len(text)), Digest: manifest.Digest(sha256.Sum256([]byte(text))), Attributes: manifest.Attributes{Mode: 0o644}}
}

// visit looks at what a server gives for one page of a text.
func visit(t *testing.T, sent string, answer http.HandlerFunc, private ...string) *web.Report {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/tartine-") {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		answer(w, r)
	}))
	t.Cleanup(server.Close)
	return look(t, server.URL, sent, private...)
}

func look(t *testing.T, address, sent string, private ...string) *web.Report {
	t.Helper()
	base, err := url.Parse(address + "/")
	require.NoError(t, err)
	v := web.Visit{Access: &web.Access{Agent: "test"}, Base: base, Entries: []manifest.Entry{entry("page.html", sent)}, Private: private,
		Original: func(context.Context, string) (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader(sent)), nil
		}}
	report, err := v.Look(t.Context())
	require.NoError(t, err)
	return report
}

func packed(text string) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, _ = w.Write([]byte(text))
	_ = w.Close()
	return out.Bytes()
}

func TestWhatComesIsNamed(t *testing.T) {
	const sent = "<html>\n  <!-- rock -->\n  <p>gannet  and guillemot</p>\n</html>\n"
	html := func(text string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, text)
		}
	}
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		kind   web.Kind
		note   string
	}{
		"as it was sent": {html(sent), "", ""},
		"compressed": {func(w http.ResponseWriter, r *http.Request) {
			require.Equal(t, "gzip", r.Header.Get("Accept-Encoding"))
			w.Header().Set("Content-Encoding", "gzip")
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write(packed(sent))
		}, "", ""},
		"minified":        {html("<html><!-- rock --><p>gannet and guillemot</p></html>"), web.Rewritten, "its white space is other"},
		"without comment": {html("<html><p>gannet and guillemot</p></html>"), web.Rewritten, "its comments and white space are others"},
		"other line ends": {html(strings.ReplaceAll(sent, "\n", "\r\n")), web.Rewritten, "its line ends are others"},
		"injected":        {html(strings.ReplaceAll(sent, "</html>", "<b>buy</b></html>")), web.Rewritten, `10 bytes are put in at byte 54: "<b>buy</b>"`},
		"cut short":       {html(sent[:20]), web.Wrong, "20 bytes come, and 62 were sent"},
		"without an end": {func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				if _, err := w.Write(make([]byte, 64<<10)); err != nil {
					return
				}
			}
		}, web.Wrong, "more than 1048700 bytes come"},
		"a bomb": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			_, _ = w.Write(packed(strings.Repeat("\x00", 64<<20)))
		}, web.Wrong, "more than 1048700 bytes come"},
		"packing that ends early": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			text := packed(sent)
			_, _ = w.Write(text[:len(text)-9])
		}, web.Wrong, "it ends early: unexpected EOF"},
		"packing that nobody asked for": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Encoding", "br")
			fmt.Fprint(w, "xyz")
		}, web.Wrong, "it is compressed with br, for which nobody asked"},
		"another type": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/octet-stream")
			fmt.Fprint(w, sent)
		}, web.Type, "it comes as application/octet-stream"},
		"gone":            {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusGone) }, web.Missing, "the server answers 410"},
		"a loop":          {func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, r.URL.Path, http.StatusFound) }, web.Redirected, "to /page.html (302)"},
		"hanging up":      {func(w http.ResponseWriter, _ *http.Request) { panic(http.ErrAbortHandler) }, web.Silent, "EOF"},
		"304 for nothing": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotModified) }, web.Redirected, "to nowhere (304)"},
	} {
		t.Run(name, func(t *testing.T) {
			report := visit(t, sent, c.answer)
			if c.kind == "" {
				require.Empty(t, report.Findings)
				require.Equal(t, 1, report.Matched)
				return
			}
			require.Len(t, report.Findings, 1)
			require.Equal(t, c.kind, report.Findings[0].Kind)
			require.Contains(t, report.Findings[0].Note, c.note)
			require.Less(t, report.Bytes, int64(8<<20))
		})
	}
}

// TestAServerThatAnswersForEverything gives its front page for what does not exist.
func TestAServerThatAnswersForEverything(t *testing.T) {
	const front = "<html>app</html>"
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, front) }))
	defer server.Close()
	report := look(t, server.URL, "<p>page", ".env")
	require.Len(t, report.Findings, 1, ".env is not served: the front page is")
	require.Equal(t, web.Missing, report.Findings[0].Kind)
	require.Contains(t, report.Warnings, "a page that does not exist is answered with 200, and not with 404")

	report = visit(t, "<p>", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<p>")
	}, ".env")
	require.Len(t, report.Findings, 1)
	require.Equal(t, web.Served, report.Findings[0].Kind)
}

// TestAFileThatIsKnownIsNotFetched as long as it is the one that is wanted.
func TestAFileThatIsKnownIsNotFetched(t *testing.T) {
	text, conditional := "<p>one", 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		tag := fmt.Sprintf("%q", text)
		w.Header().Set("ETag", tag)
		w.Header().Set("Content-Type", "text/html")
		if r.Header.Get("If-None-Match") != "" {
			conditional++
		}
		if r.Header.Get("If-None-Match") == tag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		fmt.Fprint(w, text)
	}))
	defer server.Close()
	base, err := url.Parse(server.URL + "/")
	require.NoError(t, err)
	known := map[string]web.Known{}
	look := func(sent string) *web.Report {
		v := web.Visit{Access: &web.Access{}, Base: base, Entries: []manifest.Entry{entry("page.html", sent)}, Known: known}
		report, err := v.Look(t.Context())
		require.NoError(t, err)
		return report
	}
	require.Zero(t, look("<p>one").Unmodified)
	require.Equal(t, 1, look("<p>one").Unmodified)
	require.Equal(t, 1, conditional)
	require.Len(t, look("<p>two").Findings, 1, "what is known is not what is wanted")
	require.Equal(t, 1, conditional)
	require.Empty(t, known)
	text = "<p>two"
	require.Empty(t, look("<p>two").Findings)
}

func TestAVisitEndsWhereNobodyAnswers(t *testing.T) {
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/tartine-") {
			asked.Add(1)
			panic(http.ErrAbortHandler)
		}
		w.WriteHeader(http.StatusNotFound)
	}))
	defer server.Close()
	base, err := url.Parse(server.URL + "/")
	require.NoError(t, err)
	v := web.Visit{Access: &web.Access{Parallel: 1}, Base: base}
	for i := range 200 {
		v.Entries = append(v.Entries, entry(fmt.Sprintf("%03d.html", i), "x"))
	}
	_, err = v.Look(t.Context())
	var silent *web.UnreachableError
	require.ErrorAs(t, err, &silent)
	require.Less(t, asked.Load(), int64(60))
}

func TestAWholeSiteThatMoved(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "https://rock.example"+r.URL.Path, http.StatusMovedPermanently)
	}))
	defer server.Close()
	base, err := url.Parse(server.URL + "/")
	require.NoError(t, err)
	_, err = (&web.Visit{Access: &web.Access{}, Base: base}).Look(t.Context())
	var moved *web.BaseError
	require.ErrorAs(t, err, &moved)
	require.Equal(t, "https://rock.example/", moved.To)
}

func TestAsking(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, _ := r.BasicAuth()
		switch r.URL.Path {
		case "/loop":
			http.Redirect(w, r, "/loop?"+r.URL.RawQuery+"x", http.StatusFound)
		case "/moved":
			http.Redirect(w, r, "/health", http.StatusFound)
		case "/slow":
			<-r.Context().Done()
		case "/health":
			fmt.Fprint(w, "open: "+user+password)
		default:
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	defer server.Close()
	a := &web.Access{User: "warden", Password: "gannet", Timeout: 300 * time.Millisecond}
	ask := func(path string, want web.Answer) error { return a.Ask(t.Context(), server.URL+path, want) }
	require.NoError(t, ask("/health", web.Answer{Contains: "wardengannet"}))
	require.NoError(t, ask("/moved", web.Answer{Status: 200}))
	require.NoError(t, ask("/moved", web.Answer{Status: 302}))
	require.NoError(t, ask("/down", web.Answer{Status: 503}))
	require.ErrorContains(t, ask("/down", web.Answer{}), "it answers 503")
	require.ErrorContains(t, ask("/health", web.Answer{Contains: "closed"}), `"closed" is not in what it says`)
	require.ErrorContains(t, ask("/loop", web.Answer{}), "it is redirected more than 10 times")
	require.ErrorContains(t, ask("/slow", web.Answer{}), "no answer in time")
}

func TestResolve(t *testing.T) {
	at, address, err := web.ParseResolve("gannet.example:443:[2001:db8::7]")
	require.NoError(t, err)
	require.Equal(t, "gannet.example:443", at)
	require.Equal(t, "[2001:db8::7]:443", address)
	for _, wrong := range []string{"", "gannet.example", "gannet.example:443", "gannet.example:443:web1.example", ":443:192.0.2.7", "gannet.example:port:192.0.2.7", "gannet.example::192.0.2.7"} {
		_, _, err := web.ParseResolve(wrong)
		require.Error(t, err, wrong)
	}
}
