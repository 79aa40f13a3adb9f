package connect

import (
	"context"
	"io"

	"golang.org/x/time/rate"
)

// Throttle holds a rate in bytes a second, both ways together, over everything that shares it; nil: there is none.
type Throttle struct{ limit *rate.Limiter }

// NewThrottle gives what holds a rate, or nil for none.
func NewThrottle(bytesPerSecond int64) *Throttle {
	if bytesPerSecond <= 0 {
		return nil
	}
	// A burst of a tenth of a second, and at least of one packet, keeps the flow even.
	return &Throttle{rate.NewLimiter(rate.Limit(bytesPerSecond), int(max(bytesPerSecond/10, 16<<10)))}
}

// Pay waits until so many bytes may pass.
func (t *Throttle) Pay(bytes int) {
	for t != nil && bytes > 0 {
		part := min(bytes, t.limit.Burst())
		_ = t.limit.WaitN(context.Background(), part) // it fails only for more than the burst
		bytes -= part
	}
}

// Write writes in pieces, each of which waits for its turn.
func (t *Throttle) Write(p []byte, write func([]byte) (int, error)) (done int, err error) {
	for len(p) > 0 && err == nil {
		part := p
		if t != nil {
			part = p[:min(len(p), t.limit.Burst())]
			t.Pay(len(part))
		}
		var n int
		n, err = write(part)
		done, p = done+n, p[n:]
	}
	return done, err
}

// throttled is a stream that is held to a rate.
type throttled struct {
	in       io.Reader
	out      io.Writer
	throttle *Throttle
}

func (t *throttled) Read(p []byte) (int, error) {
	n, err := t.in.Read(p)
	t.throttle.Pay(n)
	return n, err
}

func (t *throttled) Write(p []byte) (int, error) { return t.throttle.Write(p, t.out.Write) }
