package web

import (
	"context"
	"io"
	"net/http"
	"time"
)

// Fetched is what an address gives.
type Fetched struct {
	Status      int
	To          string // where a redirection leads; empty: there is none
	Protocol    string
	Certificate time.Time // until when it holds; zero: there is none
	Body        string    // its beginning
}

// mostFetched is how much of a body is given, in bytes.
const mostFetched = 4 << 10

// Fetch asks for an address once. Its error is an *UnreachableError.
func (a *Access) Fetch(ctx context.Context, address string) (*Fetched, error) {
	client := a.client()
	defer client.CloseIdleConnections()
	r, err := a.request(ctx, http.MethodGet, address)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Cache-Control", "no-cache")
	got, err := client.Do(r)
	if err != nil {
		return nil, unreachable(address, err)
	}
	defer got.Body.Close()
	out := &Fetched{Status: got.StatusCode, Protocol: got.Proto, To: got.Header.Get("Location")}
	if got.TLS != nil && len(got.TLS.PeerCertificates) > 0 {
		out.Certificate = got.TLS.PeerCertificates[0].NotAfter
	}
	body, err := io.ReadAll(io.LimitReader(got.Body, mostFetched))
	out.Body = string(body)
	if err != nil {
		return nil, unreachable(address, err)
	}
	return out, nil
}

// Ends tells whether a certificate ends so soon that somebody should look after it.
func Ends(at time.Time) bool { return time.Until(at) < certificateTime }
