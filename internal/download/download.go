// Package download fetches files from the web into a folder of the user's cache, where each is kept under its digest.
//
// What a server gave is asked for again with the tag or the time that it gave (RFC 9110, section 13), and not at all when
// its digest is known beforehand and it is there. A download that was broken off goes on where it was (section 14.2), as
// long as the server says that it is still the same file. Failures that may pass are tried again with growing pauses.
//
// Only https is used unless it is allowed otherwise, also after redirects. Addresses with a login in them are refused.
package download

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/hashicorp/go-retryablehttp"

	"tartine/internal/manifest"
)

// Options says how a file is fetched.
type Options struct {
	Dir      string           // the folder in which files are kept
	Want     *manifest.Digest // what it must have; nil: it is not known
	Insecure bool             // http is allowed, too
	Most     int64            // how many bytes it may have; 0: DefaultMost
	// Identity gives facts that are others once a file was written to, so that one that is known is not read again;
	// empty where it was written to too shortly ago to tell. Nil: files are read.
	Identity func(fs.FileInfo) string
	// Told is told of each address that a server leads on to; may be nil.
	Told func(address string)
	// Again is told why something is tried again; may be nil.
	Again func(why error)
	// Read is told of bytes as they come; may be nil.
	Read func(n int64)
	// Pause is how long to wait before the first of the tries that follow; 0: a second.
	Pause time.Duration
}

// Fetched is a file that was fetched.
type Fetched struct {
	File   string // where it is kept
	Digest manifest.Digest
	Size   int64
	Cached bool // it was there, and was not fetched anew
}

// DefaultMost is how many bytes a file may have, unless it is said otherwise.
const DefaultMost = 20 << 30

const (
	tries     = 4 // after the first
	mostHops  = 10
	keepDays  = 30 // how long a file is kept that nobody asks for
	stalled   = time.Minute
	firstWait = time.Second
)

// Errors.
var (
	ErrInsecure = errors.New("it is not https")
	ErrLogin    = errors.New("the address has a login in it, where others can read it")
	ErrTooLarge = errors.New("it is too large")
	ErrAddress  = errors.New("it is no address of the web")
)

// errRound tells of too many redirects.
var errRound = errors.New("it leads on and on")

// StatusError tells what a server answered in place of a file.
type StatusError struct{ Status string }

func (e *StatusError) Error() string { return "the server answers " + e.Status }

// Temporary tells whether it may be otherwise later.
func (e *StatusError) Temporary() bool {
	return strings.HasPrefix(e.Status, "5") || strings.HasPrefix(e.Status, "429")
}

// known is what is kept about an address.
type known struct {
	URL      string          `json:"url"`
	Tag      string          `json:"etag,omitempty"`
	Modified string          `json:"last_modified,omitempty"`
	Digest   manifest.Digest `json:"digest"`
	Size     int64           `json:"size"`
}

// Check tells what is wrong with an address.
func Check(address string, insecure bool) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "":
		return ErrAddress
	case u.User != nil:
		return ErrLogin
	case u.Scheme != "https" && (u.Scheme != "http" || !insecure):
		return ErrInsecure
	}
	return nil
}

// Get fetches a file, or finds it in the cache. Its error is one of those above, a *StatusError, or one of the network.
func Get(ctx context.Context, address string, opt Options) (*Fetched, error) {
	if err := Check(address, opt.Insecure); err != nil {
		return nil, err
	}
	if opt.Most <= 0 {
		opt.Most = DefaultMost
	}
	if err := os.MkdirAll(opt.Dir, 0o700); err != nil {
		return nil, err
	}
	g := &getting{opt: opt, address: address}
	sum := sha256.Sum256([]byte(address))
	g.name = filepath.Join(opt.Dir, "of-"+hex.EncodeToString(sum[:16]))
	if opt.Want != nil {
		if out := g.kept(*opt.Want); out != nil {
			return out, nil
		}
	}
	before := g.read(".json")
	if before != nil && g.kept(before.Digest) == nil {
		before = nil
	}
	out, err := g.fetch(ctx, before)
	if err == nil {
		g.sweep()
	}
	return out, err
}

type getting struct {
	opt     Options
	address string
	name    string // of what is kept about the address, without its ending
}

func (g *getting) file(digest manifest.Digest) string { return filepath.Join(g.opt.Dir, digest.Hex()) }

// kept gives a file of the cache, if it is there and has its digest.
func (g *getting) kept(digest manifest.Digest) *Fetched {
	name := g.file(digest)
	file, err := os.Open(name)
	if err != nil {
		return nil
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil
	}
	if time.Since(info.ModTime()) > 24*time.Hour {
		_ = os.Chtimes(name, time.Time{}, time.Now()) // it is still of use
	}
	if g.unread(name, info) {
		return &Fetched{name, digest, info.Size(), true}
	}
	hash := sha256.New()
	size, err := io.Copy(hash, file)
	if err != nil || manifest.Digest(hash.Sum(nil)) != digest {
		_ = os.Remove(name) // somebody wrote to it
		return nil
	}
	if g.opt.Identity != nil {
		if now := g.opt.Identity(info); now != "" {
			_ = os.WriteFile(name+seen, []byte(now), 0o600) // else it is read again
		}
	}
	return &Fetched{name, digest, size, true}
}

// seen ends the name of what is noted of a file that was read and had its digest.
const seen = ".seen"

// unread tells whether a file is as it was when it was read last.
func (g *getting) unread(name string, info fs.FileInfo) bool {
	if g.opt.Identity == nil {
		return false
	}
	noted, err := os.ReadFile(name + seen)
	now := g.opt.Identity(info)
	return err == nil && now != "" && string(noted) == now
}

func (g *getting) read(ending string) *known {
	text, err := os.ReadFile(g.name + ending)
	if err != nil {
		return nil
	}
	var out known
	if json.Unmarshal(text, &out) != nil || out.URL != g.address {
		return nil
	}
	return &out
}

func (g *getting) write(ending string, what *known) error {
	text, err := json.Marshal(what)
	if err != nil {
		return err
	}
	fresh, err := os.CreateTemp(g.opt.Dir, "new-*")
	if err != nil {
		return err
	}
	_, err = fresh.Write(text)
	if err = errors.Join(err, fresh.Close()); err == nil {
		err = os.Rename(fresh.Name(), g.name+ending)
	}
	if err != nil {
		_ = os.Remove(fresh.Name()) // it is in nobody's way
	}
	return err
}

// client gives what asks the server. Proxies are those of the environment.
func (g *getting) client() *retryablehttp.Client {
	c := retryablehttp.NewClient()
	c.Logger = nil
	c.RetryMax, c.RetryWaitMin, c.RetryWaitMax = tries, firstWait, 30*time.Second
	if g.opt.Pause > 0 {
		c.RetryWaitMin, c.RetryWaitMax = g.opt.Pause, g.opt.Pause
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.ResponseHeaderTimeout = stalled
	transport.DialContext = (&net.Dialer{Timeout: 30 * time.Second}).DialContext
	c.HTTPClient = &http.Client{Transport: transport, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if len(via) >= mostHops {
			return fmt.Errorf("%w, after %d times to %s", errRound, mostHops, r.URL.Redacted())
		}
		if err := Check(r.URL.String(), g.opt.Insecure); err != nil {
			return fmt.Errorf("it leads on to %s: %w", r.URL.Redacted(), err)
		}
		if g.opt.Told != nil {
			g.opt.Told(r.URL.Redacted())
		}
		return nil
	}}
	c.ErrorHandler = retryablehttp.PassthroughErrorHandler
	c.CheckRetry = func(ctx context.Context, r *http.Response, err error) (bool, error) {
		if errors.Is(err, ErrInsecure) || errors.Is(err, ErrLogin) || errors.Is(err, errRound) {
			return false, err
		}
		again, wrong := retryablehttp.DefaultRetryPolicy(ctx, r, err)
		if again && err == nil && r != nil {
			err = &StatusError{r.Status}
		}
		if again && g.opt.Again != nil {
			g.opt.Again(err)
		}
		return again, wrong
	}
	return c
}

// fetch asks for a file, and for the rest of it when the connection is lost.
func (g *getting) fetch(ctx context.Context, before *known) (*Fetched, error) {
	client := g.client()
	defer client.HTTPClient.CloseIdleConnections()
	furthest := int64(0)
	for try := 0; ; try++ {
		out, err := g.once(ctx, client, before)
		var lost *lostError
		if !errors.As(err, &lost) || try == tries {
			return out, err
		}
		if lost.at > furthest { // it got on
			try, furthest = 0, lost.at
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(client.RetryWaitMin):
		}
	}
}

// lostError tells that a connection was lost in the middle.
type lostError struct {
	error
	at int64 // how much there is
}

func (e *lostError) Unwrap() error { return e.error }

func (g *getting) once(ctx context.Context, client *retryablehttp.Client, before *known) (*Fetched, error) {
	asking, stop := context.WithCancel(ctx)
	defer stop()
	request, err := retryablehttp.NewRequestWithContext(asking, http.MethodGet, g.address, nil)
	if err != nil {
		return nil, ErrAddress
	}
	request.Header.Set("Accept-Encoding", "identity") // as it is there
	p := g.claim()
	switch {
	case p != nil:
		request.Header.Set("Range", fmt.Sprintf("bytes=%d-", p.size))
		request.Header.Set("If-Range", p.tag)
	case before != nil && before.Tag != "":
		request.Header.Set("If-None-Match", before.Tag)
	case before != nil && before.Modified != "":
		request.Header.Set("If-Modified-Since", before.Modified)
	}
	response, err := client.Do(request)
	if err != nil {
		var inner *url.Error
		if errors.As(err, &inner) { // the address is said elsewhere
			err = inner.Err
		}
		return nil, err
	}
	defer response.Body.Close()
	switch {
	case response.StatusCode == http.StatusNotModified && before != nil:
		return g.kept(before.Digest), nil
	case response.StatusCode == http.StatusPartialContent && p != nil && beginsAt(response, p.size):
	case response.StatusCode == http.StatusRequestedRangeNotSatisfiable && p != nil:
		_ = os.Remove(p.name) // it is another file now
		return nil, &lostError{errors.New("the file changed meanwhile"), 0}
	case response.StatusCode == http.StatusOK:
		if p != nil {
			_ = os.Remove(p.name) // as above
		}
		p = &part{tag: response.Header.Get("Etag")}
	default:
		return nil, &StatusError{response.Status}
	}
	return g.take(ctx, stop, response, p)
}

func beginsAt(r *http.Response, at int64) bool {
	return strings.HasPrefix(r.Header.Get("Content-Range"), "bytes "+strconv.FormatInt(at, 10)+"-")
}

// part is the beginning of a file that was broken off. Its name has the number of the process that wrote it, so that two
// do not write to one, and the tag that the server gave.
type part struct {
	name, tag string
	size      int64
}

const mostTag = 80 // bytes of a tag that is part of a name

func (g *getting) partName(tag string) string {
	return fmt.Sprintf("%s.part-%d-%s", g.name, os.Getpid(), hex.EncodeToString([]byte(tag)))
}

// claim takes over the beginning of a file of which no other process is writing the rest; nil: there is none.
func (g *getting) claim() *part {
	names, err := filepath.Glob(g.name + ".part-*")
	if err != nil {
		return nil
	}
	for _, name := range names {
		pid, tag, _ := strings.Cut(strings.TrimPrefix(name, g.name+".part-"), "-")
		process, err := strconv.Atoi(pid)
		text, wrong := hex.DecodeString(tag)
		if err != nil || wrong != nil || len(text) == 0 || process != os.Getpid() && lives(process) {
			continue
		}
		own := g.partName(string(text))
		info, err := os.Stat(name)
		if err != nil || name != own && os.Rename(name, own) != nil {
			continue
		}
		if info.Size() > 0 {
			return &part{own, string(text), info.Size()}
		}
	}
	return nil
}

// lives tells whether a process is there, as far as the system tells.
func lives(process int) bool {
	p, err := os.FindProcess(process)
	if err != nil {
		return false
	}
	err = p.Signal(syscall.Signal(0))
	return err == nil || errors.Is(err, os.ErrPermission)
}

// take writes what comes behind what is there.
func (g *getting) take(ctx context.Context, stop context.CancelFunc, r *http.Response, p *part) (*Fetched, error) {
	if length := r.ContentLength; length >= 0 && p.size+length > g.opt.Most {
		return nil, fmt.Errorf("%w: %d bytes, and at most %d are let", ErrTooLarge, p.size+length, g.opt.Most)
	}
	if p.name == "" {
		if !strings.HasPrefix(p.tag, `"`) || len(p.tag) > mostTag { // none, or one that does not tell of each byte
			p.tag = ""
		}
		p.name = g.partName(p.tag)
	}
	flags := os.O_CREATE | os.O_RDWR
	if p.size == 0 {
		flags |= os.O_TRUNC
	}
	file, err := os.OpenFile(p.name, flags, 0o600)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	hash := sha256.New()
	if _, err := io.CopyN(hash, file, p.size); err != nil {
		return nil, err
	}
	n, err := g.copy(io.MultiWriter(file, hash), r.Body, p.size, stop)
	switch {
	case err == nil:
	case errors.Is(err, ErrTooLarge), errors.As(err, new(*fs.PathError)), p.tag == "":
		_ = os.Remove(p.name) // it would be too large again, or there is no room, or nothing can go on from it
	}
	switch {
	case err == nil:
	case errors.Is(err, ErrTooLarge), errors.As(err, new(*fs.PathError)):
		return nil, err
	case ctx.Err() != nil:
		return nil, ctx.Err()
	default:
		return nil, &lostError{err, p.size + n}
	}
	about := &known{URL: g.address, Tag: r.Header.Get("Etag"), Modified: r.Header.Get("Last-Modified"), Size: p.size + n,
		Digest: manifest.Digest(hash.Sum(nil))}
	if err := errors.Join(file.Sync(), file.Close()); err != nil {
		return nil, err
	}
	if err := os.Rename(p.name, g.file(about.Digest)); err != nil {
		return nil, err
	}
	if err := g.write(".json", about); err != nil {
		return nil, err
	}
	return &Fetched{g.file(about.Digest), about.Digest, about.Size, false}, nil
}

// errStalled tells that nothing came for long.
var errStalled = errors.New("nothing came for a minute")

// copy copies what comes until it ends. One that stalls is broken off.
func (g *getting) copy(to io.Writer, from io.Reader, offset int64, stop context.CancelFunc) (total int64, err error) {
	buffer := make([]byte, 128<<10)
	var late atomic.Bool
	timer := time.AfterFunc(stalled, func() {
		late.Store(true)
		stop()
	})
	defer timer.Stop()
	for {
		n, err := from.Read(buffer)
		timer.Reset(stalled)
		if total += int64(n); offset+total > g.opt.Most {
			return total, fmt.Errorf("%w: more than %d bytes", ErrTooLarge, g.opt.Most)
		}
		if _, wrong := to.Write(buffer[:n]); wrong != nil {
			return total, wrong
		}
		if g.opt.Read != nil {
			g.opt.Read(int64(n))
		}
		switch {
		case err == io.EOF:
			return total, nil
		case err != nil && late.Load():
			return total, errStalled
		case err != nil:
			return total, err
		}
	}
}

// sweep removes what nobody asked for in a long time.
func (g *getting) sweep() {
	names, err := os.ReadDir(g.opt.Dir)
	if err != nil {
		return
	}
	for _, name := range names {
		if info, err := name.Info(); err == nil && time.Since(info.ModTime()) > keepDays*24*time.Hour {
			_ = os.Remove(filepath.Join(g.opt.Dir, name.Name())) // the next sweep tries it again
		}
	}
}
