package redial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"tartine/internal/fsys"
)

// Line opens a place anew.
type Line[T io.Closer] struct {
	// Open opens it. A Final error ends all tries.
	Open  func(ctx context.Context) (T, error)
	Final func(err error) bool // nil: none is
	// Patience is how long a lost line is tried to be opened again.
	Patience time.Duration
	// Told is called when the line was lost, before each try, with how long is waited; and with 0 once it is there again.
	Told func(err error, pause time.Duration)
}

// firstPause is how long is waited before the first try; each further one takes twice as long, up to longestPause. A
// line that was lost again within goodFor of its opening counts as one that is still being tried.
const (
	firstPause   = 250 * time.Millisecond
	longestPause = 15 * time.Second
	goodFor      = 30 * time.Second
)

// Keeper keeps a place open.
type Keeper[T io.Closer] struct {
	line           Line[T]
	first, longest time.Duration

	mu     sync.Mutex
	place  T
	count  int // how often the line was opened
	opened time.Time
	pause  time.Duration // before the next try
	broken error         // why it will not be opened again
}

// Keep keeps a place that is open.
func Keep[T io.Closer](place T, line Line[T]) *Keeper[T] {
	return &Keeper[T]{line: line, place: place, first: firstPause, longest: longestPause}
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
	deadline := time.Now().Add(k.line.Patience)
	if time.Since(k.opened) > goodFor {
		k.pause = k.first
	}
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
			k.broken = fmt.Errorf("%w, and then: %w", fsys.ErrLost, err)
			return k.broken
		}
		lost = fmt.Errorf("%w, and then: %w", fsys.ErrLost, err)
	}
}

// mostTries is how often one operation is begun anew. A line that is lost each time it is used is of no use.
const mostTries = 8

// Try does an operation, and once more for each time that the line was lost meanwhile.
func (k *Keeper[T]) Try(ctx context.Context, do func(place T, again bool) error) error {
	for tries := 1; ; tries++ {
		place, count := k.now()
		err := do(place, tries > 1)
		if !errors.Is(err, fsys.ErrLost) || tries == mostTries || errors.Is(err, errNoRewind) {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if failed := k.again(ctx, count, err); failed != nil {
			return failed
		}
	}
}

// Close closes the place that is open, for good.
func (k *Keeper[T]) Close() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.broken = fsys.ErrLost
	return k.place.Close()
}
