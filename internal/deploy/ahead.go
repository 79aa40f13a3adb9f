package deploy

import (
	"context"
	"sync"
	"time"

	"tartine/internal/calls"
	"tartine/internal/site"
)

// mostAhead is how old a survey may be that was begun ahead.
const mostAhead = 500 * time.Millisecond

// ahead is a survey that is made before it is known what is to be deployed: while a watch waits for changes to end.
type ahead struct {
	mu      sync.Mutex
	pending *aheadSurvey
}

type aheadSurvey struct {
	id      calls.ID
	began   time.Time
	stop    context.CancelFunc
	done    chan struct{}
	summary site.Summary
	err     error
}

// begin begins a survey, unless one is under way.
func (a *ahead) begin(ctx context.Context, s *Session) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.pending != nil {
		return
	}
	ctx, stop := context.WithCancel(ctx)
	p := &aheadSurvey{id: calls.NewID(), began: time.Now(), stop: stop, done: make(chan struct{})}
	a.pending = p
	go func() {
		defer close(p.done)
		p.summary, p.err = calls.Survey.On(ctx, s.Engine, s.surveying(p.id))
	}()
}

// end stops what is under way.
func (a *ahead) end() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.pending != nil {
		a.pending.stop()
		<-a.pending.done
		a.pending = nil
	}
}

// take ends what is under way, and gives the survey if it is good and not old; else nil.
func (a *ahead) take() *aheadSurvey {
	a.mu.Lock()
	defer a.mu.Unlock()
	p := a.pending
	a.pending = nil
	if p == nil {
		return nil
	}
	if time.Since(p.began) > mostAhead {
		p.stop()
	}
	<-p.done
	p.stop()
	if p.err != nil || time.Since(p.began) > mostAhead {
		return nil
	}
	return p
}
