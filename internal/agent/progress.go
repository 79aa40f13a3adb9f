package agent

import (
	"sync"
	"sync/atomic"
	"time"

	"tartine/internal/site"
)

// progress tells the client now and then what has been done.
type progress struct {
	server *server
	call   uint64
	files  atomic.Int64
	sum    atomic.Int64
	quit   chan struct{}
	ticks  sync.WaitGroup
}

// tellEvery is how often it does.
const tellEvery = 100 * time.Millisecond

func (s *server) progress(call uint64) *progress {
	p := &progress{server: s, call: call, quit: make(chan struct{})}
	p.ticks.Go(func() {
		tick := time.NewTicker(tellEvery)
		defer tick.Stop()
		for {
			select {
			case <-p.quit:
				return
			case <-tick.C:
				p.tell()
			}
		}
	})
	return p
}

// watch gives what it is told by.
func (p *progress) watch() *site.Watch {
	return &site.Watch{Phase: p.phase, Bytes: p.bytes, File: p.file}
}

func (p *progress) bytes(n int64) { p.sum.Add(n) }

func (p *progress) file(string, int64) { p.files.Add(1) }

func (p *progress) phase(name string, files int, bytes int64) {
	p.tell()
	_ = p.server.tell(p.call, eventPhase, phase{name, files, bytes}) // a connection that is gone ends the session
}

func (p *progress) tell() {
	d := done{int(p.files.Swap(0)), p.sum.Swap(0)}
	if d != (done{}) {
		_ = p.server.tell(p.call, eventDone, d) // a connection that is gone ends the session
	}
}

// stop ends it, with the last of what there is to tell.
func (p *progress) stop() {
	close(p.quit)
	p.ticks.Wait()
	p.tell()
}
