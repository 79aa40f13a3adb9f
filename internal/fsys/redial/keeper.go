package redial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"tartine/internal/farend"
)

// Line opens a place anew.
type Line[T io.Closer] struct {
	// Open opens it. A Final error ends all tries.
	Open  func(ctx context.Context) (T, error)
	Final func(err error) bool // nil: none is
	// Patience is how long a lost connection is tried to be opened again.
	Patience time.Duration
	// Told is called when the connection was lost, before each try, with how long is waited; and with 0 once it is
	// there again.
	Told func(err error, pause time.Duration)
}

// FirstPause is how long is waited before the first try; each further one takes twice as long, up to LongestPause,
// until something gets through.
const (
	FirstPause   = 250 * time.Millisecond
	LongestPause = 15 * time.Second
)

// Keeper keeps a place open.
type Keeper[T io.Closer] struct {
	line           Line[T]
	first, longest time.Duration

	mu     sync.Mutex
	place  T
	count  int           // how often the connection was opened again
	opened time.Time     // when that was last; zero: never
	pause  time.Duration // before the next try
	stuck  time.Time     // since when nothing has got through; zero: something has since the last loss
	broken error         // why it will not be opened again
}

// Keep keeps a place that is open.
func Keep[T io.Closer](place T, line Line[T]) *Keeper[T] {
	return &Keeper[T]{line: line, place: place, first: FirstPause, longest: LongestPause, pause: FirstPause}
}

// Now gives the place that is open.
func (k *Keeper[T]) Now() T {
	place, _ := k.now()
	return place
}

// now gives the place that is open, and which opening that is.
func (k *Keeper[T]) now() (T, int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.place, k.count
}

// again opens the place anew, unless somebody else did since an opening.
func (k *Keeper[T]) again(ctx context.Context, count int, lost error) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.broken != nil {
		return k.broken
	}
	if k.count != count {
		return nil
	}
	_ = k.place.Close() // it is gone
	if k.stuck.IsZero() {
		k.stuck = time.Now()
	}
	deadline := k.stuck.Add(k.line.Patience)
	for {
		pause := k.pause
		k.pause = min(2*pause, k.longest)
		if time.Now().Add(pause).After(deadline) {
			k.broken = lost
			return lost
		}
		k.line.Told(lost, pause)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		place, err := k.line.Open(ctx)
		switch {
		case err == nil:
			k.place, k.count, k.opened = place, k.count+1, time.Now()
			k.line.Told(nil, 0)
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case k.line.Final != nil && k.line.Final(err):
			k.broken = fmt.Errorf("%w, and then: %w", farend.ErrLost, err)
			return k.broken
		}
		lost = fmt.Errorf("%w, and then: %w", farend.ErrLost, err)
	}
}

// calm is how long a connection must hold, after one that was lost, before much is sent over it at once.
const calm = 20 * time.Second

// thin tells whether the connection was opened again a short while ago: it may be lost again soon.
func (k *Keeper[T]) thin() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return !k.opened.IsZero() && time.Since(k.opened) < calm
}

// Moved notes that something got through: a connection that is lost from now on has its whole patience before it.
func (k *Keeper[T]) Moved() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.stuck, k.pause = time.Time{}, k.first
}

// Do does an operation at the place, and once more for each time that the connection was lost meanwhile, until nothing
// has got through for as long as the connection's patience. What an operation that was broken off has achieved is for
// the caller to note, with Moved.
func Do[T io.Closer, R any](ctx context.Context, k *Keeper[T], do func(place T, again bool) (R, error)) (R, error) {
	for again := false; ; again = true {
		place, count := k.now()
		result, err := do(place, again)
		if err == errMore {
			continue
		}
		if !errors.Is(err, farend.ErrLost) || errors.Is(err, errNoRewind) {
			return result, err
		}
		if ctx.Err() != nil {
			return result, ctx.Err()
		}
		if failed := k.again(ctx, count, err); failed != nil {
			return result, failed
		}
	}
}

// Close closes the place that is open, for good.
func (k *Keeper[T]) Close() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.broken = farend.ErrLost
	return k.place.Close()
}
