package render

import (
	"context"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"tartine/internal/site"
)

// Progress shows how far a deployment is: a bar with rate and remaining time on a terminal, a line for each phase and
// for every ten seconds elsewhere.
type Progress struct {
	out      io.Writer
	terminal bool
	bars     *mpb.Progress
	Plain    bool // nothing is drawn but what ASCII has

	mu    sync.Mutex
	bar   *mpb.Bar
	phase string
	total int64
	done  atomic.Int64
	since atomic.Int64 // when the phase began, in nanoseconds since 1970
	last  time.Time
}

// NewProgress shows progress on a writer. Done must be called in the end.
func NewProgress(ctx context.Context, out io.Writer, terminal bool) *Progress {
	p := &Progress{out: out, terminal: terminal}
	if terminal {
		p.bars = mpb.NewWithContext(ctx, mpb.WithOutput(out), mpb.WithWidth(32),
			mpb.WithRefreshRate(120*time.Millisecond))
	}
	return p
}

// Watch gives the functions that a deployment calls.
func (p *Progress) Watch() *site.Watch {
	return &site.Watch{Phase: p.begin, Bytes: p.advance, File: func(string, int64) { p.fileDone() }}
}

// Reading shows, on a terminal, how many bytes have been read before it is known how many there are.
func (p *Progress) Reading() func(bytes int64) {
	if !p.terminal {
		return nil
	}
	p.since.Store(time.Now().UnixNano())
	p.bar = p.bars.New(0, mpb.SpinnerStyle(`|`, `/`, `-`, `\`).PositionLeft(), mpb.BarWidth(2),
		mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(decor.Name("reading   "), decor.Any(func(s decor.Statistics) string {
			took := time.Since(time.Unix(0, p.since.Load()))
			if s.Current == 0 || took < 200*time.Millisecond {
				return ""
			}
			return fmt.Sprintf("%9s  %s/s ", Bytes(s.Current), Bytes(int64(float64(s.Current)/took.Seconds())))
		})))
	bar := p.bar
	return bar.IncrInt64
}

const everySoOften = 10 * time.Second

// begin starts a phase. One that has no bytes is measured in files.
func (p *Progress) begin(phase string, files int, bytes int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.endBar()
	p.phase, p.total, p.last = phase, bytes, time.Now()
	p.since.Store(time.Now().UnixNano())
	p.done.Store(0)
	if files == 0 {
		return
	}
	if !p.terminal {
		if bytes > 0 {
			Fprintf(p.out, "%-8s  %s, %s\n", phase, Count(files, "file"), Bytes(bytes))
		} else {
			Fprintf(p.out, "%-8s  %s\n", phase, Count(files, "step"))
		}
		return
	}
	style := mpb.BarStyle().Lbound("").Rbound(" ").Filler("━").Tip("━").Padding("─")
	if p.Plain {
		style = mpb.BarStyle().Lbound("[").Rbound("] ").Filler("=").Tip("=").Padding("-")
	}
	if bytes == 0 {
		p.bar = p.bars.New(int64(files), style, mpb.BarRemoveOnComplete(),
			mpb.PrependDecorators(decor.Name(fmt.Sprintf("%-9s ", phase)), decor.CountersNoUnit("%d of %d ")))
		return
	}
	p.bar = p.bars.New(bytes, style, mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(decor.Name(fmt.Sprintf("%-9s ", phase)), decor.Any(func(s decor.Statistics) string {
			return fmt.Sprintf("%9s of %s ", Bytes(s.Current), Bytes(s.Total))
		})),
		mpb.AppendDecorators(decor.Percentage(), decor.Any(p.rate)))
}

// rate gives bytes in a second and the time that remains at that rate.
func (p *Progress) rate(s decor.Statistics) string {
	took := time.Since(time.Unix(0, p.since.Load())) // without the lock, which may be held by who waits for the bar
	if s.Current == 0 || took < 200*time.Millisecond {
		return ""
	}
	perSecond := float64(s.Current) / took.Seconds()
	left := time.Duration(float64(s.Total-s.Current) / perSecond * float64(time.Second))
	return fmt.Sprintf("  %s/s  %s left", Bytes(int64(perSecond)), Duration(left.Round(100*time.Millisecond)))
}

func (p *Progress) advance(n int64) {
	done := p.done.Add(n)
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.bar != nil && p.total > 0:
		p.bar.IncrInt64(n)
	case !p.terminal && p.total > 0 && time.Since(p.last) > everySoOften:
		p.last = time.Now()
		Fprintf(p.out, "%-8s  %s of %s\n", p.phase, Bytes(done), Bytes(p.total))
	}
}

func (p *Progress) fileDone() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bar != nil && p.total == 0 {
		p.bar.Increment()
	}
}

// Note writes a line of its own, above the bar where there is one.
func (p *Progress) Note(line string) {
	var out io.Writer = p.out
	if p.bars != nil {
		out = p.bars
	}
	Fprintf(out, "%s\n", line)
}

func (p *Progress) endBar() {
	if p.bar != nil {
		p.bar.Abort(true)
		p.bar = nil
	}
}

// Done takes the bar away.
func (p *Progress) Done() {
	p.mu.Lock()
	p.endBar()
	p.mu.Unlock()
	if p.bars != nil {
		p.bars.Wait()
	}
}
