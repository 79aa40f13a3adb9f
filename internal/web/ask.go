package web

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
)

// Answer is what an address must answer.
type Answer struct {
	Status   int    // after redirections; 0: 200
	Contains string // what its body must have in it; empty: anything
}

// AnswerError tells that an address answers something else.
type AnswerError struct{ Reason string }

func (e *AnswerError) Error() string { return e.Reason }

// Bounds of what is asked for.
const (
	mostRedirects = 10
	mostSearched  = 4 << 20 // of a body, in bytes
)

// Ask asks for an address, and follows redirections unless one is what is wanted. Its error is an *AnswerError where
// another answer comes, and an *UnreachableError where none does.
func (a *Access) Ask(ctx context.Context, address string, want Answer) error {
	if want.Status == 0 {
		want.Status = http.StatusOK
	}
	client := a.client()
	defer client.CloseIdleConnections()
	r, err := a.request(ctx, http.MethodGet, address)
	if err != nil {
		return err
	}
	client.CheckRedirect = func(next *http.Request, via []*http.Request) error {
		if want.Status >= 300 && want.Status < 400 {
			return http.ErrUseLastResponse
		}
		if len(via) >= mostRedirects {
			return fmt.Errorf("it is redirected more than %d times, last to %s", mostRedirects, next.URL.Redacted())
		}
		return nil
	}
	got, err := client.Do(r)
	if err != nil {
		return unreachable(address, err)
	}
	defer got.Body.Close()
	if got.StatusCode != want.Status {
		return &AnswerError{fmt.Sprintf("it answers %d", got.StatusCode)}
	}
	if want.Contains == "" {
		return nil
	}
	body, err := io.ReadAll(io.LimitReader(got.Body, mostSearched))
	if err != nil {
		return unreachable(address, err)
	}
	if !bytes.Contains(body, []byte(want.Contains)) {
		return &AnswerError{fmt.Sprintf("it answers %d, and %q is not in what it says", got.StatusCode, want.Contains)}
	}
	return nil
}
