package agent

import (
	"errors"
	"sync/atomic"
	"time"
)

// errSilent tells that the other side is gone, although the connection has not ended.
var errSilent = errors.New("the other side sends no keep-alives any more")

// watchLife sends keep-alives until quit is closed, and calls dead when none has come for too long, or when the
// connection is gone. Heard is when something came last, in nanoseconds since 1970.
func (l *link) watchLife(heard *atomic.Int64, quit <-chan struct{}, dead func(error)) {
	// A connection that takes no more holds up who sends, but not who looks at the clock.
	broken := make(chan error, 1)
	go func() {
		tick := time.NewTicker(aliveEvery)
		defer tick.Stop()
		for {
			select {
			case <-quit:
				return
			case <-tick.C:
			}
			if err := l.send(aliveFrame); err != nil {
				broken <- err
				return
			}
		}
	}()
	tick := time.NewTicker(aliveEvery)
	defer tick.Stop()
	for {
		select {
		case <-quit:
			return
		case err := <-broken:
			dead(err)
			return
		case <-tick.C:
		}
		if time.Since(time.Unix(0, heard.Load())) > aliveLimit {
			dead(errSilent)
			return
		}
	}
}
