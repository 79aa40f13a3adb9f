package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tartine/internal/calls"
	"tartine/internal/diff"
	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/trace"
	"tartine/internal/treeparts"
)

// Client is an engine at the other end of a stream, a calls.Engine. An error that matches farend.ErrLost tells that the
// connection is gone.
type Client struct {
	*link
	stream  io.Closer
	opened  opened
	calls   uint64
	answers chan *message // closed when nothing more comes
	credit  *credit
	heard   atomic.Int64 // when something came last, in nanoseconds since 1970
	why     error        // why nothing more comes, once answers is closed
	quit    chan struct{}
	working sync.WaitGroup

	compared *wanted // what the last comparison was about; nil: there was none
	asked    Asked

	gathering gathering // files that are read
	arriving  coming    // entries of an answer

	another func(context.Context) (Stream, error) // gives another shell there (see Widen); may be nil
	wide    sync.Once                             // see useWindow
	lanes   chan numbered                         // takes frames of content for all lanes; nil: there are none
	ends    []Stream                              // of the lanes
	frames  uint64                                // of content, that were sent
}

// Asked is how much content the far end asked for in a deployment.
type Asked struct {
	Files int
	Bytes int64
}

// Asked gives what the last deployment asked for, also when it failed.
func (c *Client) Asked() Asked { return c.asked }

// cancelPatience is how long a call that was cancelled may take to end: publishing is not broken off.
const cancelPatience = 30 * time.Second

// Connect begins a session over a stream, at whose other end Serve is, and opens a site. The client closes the stream.
func Connect(ctx context.Context, in io.Reader, out io.Writer, stream io.Closer, build string,
	root Root) (*Client, error) {
	stream = &closeOnce{stream, sync.Once{}, nil}
	c := &Client{link: newLink(in, out), stream: stream, answers: make(chan *message, 16), credit: newCredit(narrow),
		quit: make(chan struct{})}
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	err := c.greet(build)
	var unavailable *UnavailableError
	switch {
	case !stop():
		err = ctx.Err()
	case err != nil && !errors.As(err, &unavailable) && !errors.Is(err, ErrProtocol):
		err = fmt.Errorf("%w before the agent said who it is: %w", farend.ErrLost, err)
	}
	if err != nil {
		stream.Close()
		return nil, err
	}
	c.heard.Store(time.Now().UnixNano())
	c.working.Go(c.receiveAll)
	c.working.Go(func() { c.watchLife(&c.heard, c.quit, func(error) { stream.Close() }) }) // which ends receiveAll
	if err := c.call(ctx, methodOpen, root, into(&c.opened), nil); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

func (c *Client) greet(build string) error {
	k, payload, err := c.receive()
	if err != nil {
		return err
	}
	var server hello
	if k != helloFrame || decoding.Unmarshal(payload, &server) != nil {
		return fmt.Errorf("%w: it does not begin with who it is", ErrProtocol)
	}
	if server.Protocol != Protocol || server.Build != build {
		return unavailable("the program there is %q with protocol %d, and this is %q with protocol %d",
			printable(server.Build), server.Protocol, build, Protocol)
	}
	return c.send(helloFrame, must(encoding.Marshal(hello{Protocol, build})))
}

// Close ends the session and its stream.
func (c *Client) Close() error {
	select {
	case <-c.quit:
		return nil
	default:
	}
	close(c.quit)
	err := c.stream.Close()
	for _, end := range c.ends {
		end.Close()
	}
	go func() { // what comes still is nobody's
		for range c.answers {
		}
	}()
	c.working.Wait()
	return err
}

// closeOnce is a stream that several may close.
type closeOnce struct {
	io.Closer
	once sync.Once
	err  error
}

func (c *closeOnce) Close() error {
	c.once.Do(func() { c.err = c.Closer.Close() })
	return c.err
}

func (c *Client) receiveAll() {
	defer close(c.answers)
	defer c.credit.end()
	defer c.stream.Close() // whoever sends has nobody who reads, and some lines do not notice
	var parts assembler
	for {
		k, payload, err := c.receive()
		if err != nil {
			c.why = err
			return
		}
		c.heard.Store(time.Now().UnixNano())
		switch k {
		case aliveFrame:
		case contentFrame, entriesFrame:
			add := c.gathering.add
			if k == entriesFrame {
				add = c.arriving.add
			}
			if err := add(payload); err != nil {
				c.why = err
				return
			}
		case creditFrame:
			var bytes int64
			if err := decoding.Unmarshal(payload, &bytes); err != nil || bytes < 0 || bytes > window {
				c.why = fmt.Errorf("%w: credit", ErrProtocol)
				return
			}
			c.credit.add(bytes)
		case partFrame, messageFrame, packedFrame:
			m, err := parts.add(k, payload)
			if err != nil {
				c.why = err
				return
			}
			if m == nil {
				continue
			}
			select {
			case c.answers <- m:
			case <-c.quit:
				return
			}
		default:
			c.why = fmt.Errorf("%w: a frame of kind %q", ErrProtocol, k)
			return
		}
	}
}

// lost tells that the connection is gone, and why.
func (c *Client) lost() error {
	if c.why == nil || errors.Is(c.why, io.EOF) || errors.Is(c.why, io.ErrUnexpectedEOF) {
		return farend.ErrLost
	}
	return fmt.Errorf("%w: %w", farend.ErrLost, c.why)
}

// Do implements calls.Engine.
func (c *Client) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	if watch == nil {
		watch = &site.Watch{}
	}
	take := func(body []byte) error { return call.Take(body, answer) }
	if call == calls.Any(calls.Gather) {
		files, err := c.gather(ctx, question.([]string), watch)
		*answer.(*[]calls.Gathered) = files
		return err
	}
	switch asked := question.(type) {
	case *calls.Comparing:
		compared, err := c.compare(ctx, asked, watch)
		*answer.(**calls.Compared) = compared
		return err
	case *calls.Staging:
		return c.stage(ctx, asked, answer.(**site.Outcome), watch)
	}
	c.arriving.ask(calls.ID(c.calls + 1))
	if err := c.call(ctx, call.Title(), question, take, listener(watch)); err != nil {
		return err
	}
	var err error
	switch to := answer.(type) {
	case **site.Standing:
		(*to).Entries, err = c.arriving.take(calls.ID(c.calls), (*to).Count)
	case **site.Current:
		(*to).Entries, err = c.arriving.take(calls.ID(c.calls), (*to).Count)
	}
	return err
}

// into gives what reads an answer into what it points to.
func into(answer any) func([]byte) error {
	return func(body []byte) error {
		if err := decoding.Unmarshal(body, answer); err != nil {
			return fmt.Errorf("%w: %w", ErrProtocol, err)
		}
		return nil
	}
}

// call makes a call and has its answer taken. Events go to listen.
func (c *Client) call(ctx context.Context, method string, body any, take func(body []byte) error,
	listen func(*message) error) (err error) {
	if err := ctx.Err(); err != nil {
		return err
	}
	c.calls++
	began := time.Now()
	defer func() {
		trace.Log(ctx).Debug("agent call", "method", method, "took", time.Since(began).Round(time.Microsecond), "error",
			err)
	}()
	encoded, err := encoding.Marshal(body)
	if err != nil {
		return err
	}
	if err := c.sendMessage(&message{Call: c.calls, Method: method, Body: encoded}); err != nil {
		return fmt.Errorf("%w: %w", farend.ErrLost, err)
	}
	cancelled, patience := ctx.Done(), (<-chan time.Time)(nil)
	for {
		select {
		case <-cancelled:
			cancelled, patience = nil, time.After(cancelPatience)
			_ = c.send(cancelFrame, must(encoding.Marshal(c.calls))) // a connection that is gone shows below
		case <-patience:
			return ctx.Err()
		case m, ok := <-c.answers:
			switch {
			case !ok && ctx.Err() != nil:
				return ctx.Err()
			case !ok:
				return c.lost()
			case m.Call != c.calls:
			case m.Event != "" && listen != nil:
				if err := listen(m); err != nil {
					return err
				}
			case m.Event != "":
			case m.Error != nil:
				return m.Error.Err()
			default:
				return take(m.Body)
			}
		}
	}
}

// Foretell implements calls.Foreteller. Where the connection is lost the next call tells it.
func (c *Client) Foretell() { _ = c.send(aheadFrame) }

// Recorded gives the tree digest that was recorded at the site when it was opened; zero: none was, or it is not known.
func (c *Client) Recorded() manifest.Digest { return c.opened.Recorded }

// Abilities tells what the place can do.
func (c *Client) Abilities() fsys.Abilities { return c.opened.Abilities }

// fewEntries is up to how many entries the digests of folders are computed before they are asked for, on another processor:
// who waits for a small change is answered sooner. For a large tree that has not changed it would be work for nothing.
const fewEntries = 20_000

// compare asks what must change. The far end compares; only what it does not know already is sent there.
func (c *Client) compare(ctx context.Context, want *calls.Comparing, watch *site.Watch) (*calls.Compared, error) {
	call := compareCall{As: want.As, Survey: want.Survey, Paths: want.Paths(), Times: want.Rule.Times,
		Nothing: want.Rule.Nothing, Kept: want.Kept, Gone: want.Gone,
		Retire: wireRetire{want.Retire.After, want.Retire.Now, want.Retire.Last}}
	if want.Earlier > 0 {
		return c.compareEarlier(ctx, want, &call, watch)
	}
	var (
		sent    []int // the entries of those folders that were asked for, by index
		working sync.WaitGroup
		early   = want.Folders != nil || want.In != nil // it is known already that its tree is another one than was recorded
	)
	if want.Recorded { // else nothing is recorded that could be the same
		if !early && want.Paths() <= fewEntries {
			want.Listed()
			working.Go(want.DigestAll)
		}
		if call.Tree = want.Tree; call.Tree.IsZero() {
			call.Tree = manifest.TreeOf(want.Each)
		}
	}
	defer working.Wait()
	var answer compareAnswer
	for stage := 0; !answer.Done; stage++ {
		switch {
		case stage > 5:
			return nil, fmt.Errorf("%w: it needs to know more and more", ErrProtocol)
		case (answer.NeedDigests || stage == 0 && early && want.Recorded) && want.Paths() > 0:
			switch {
			case answer.NeedDigests && want.In != nil:
				want.DigestMore(answer.More, len(answer.More) > 0)
			case want.Folders == nil && want.In == nil:
				want.DigestAll()
			}
			call.Folders, call.Since, call.In = want.Folders, want.Since, slices.Sorted(maps.Keys(want.In))
		case answer.NeedAll, answer.NeedDigests, stage == 0 && !want.Recorded:
			want.Digested = calls.Digested{}
			call.Whole, call.Folders, call.In, call.Entries = true, nil, nil, want.Paths()
			if err := c.sendEntries(want.As, want.Each); err != nil {
				return nil, err
			}
		case len(answer.NeedFolders) > 0:
			var err error
			if sent, err = treeparts.Entries(want.Of, answer.NeedFolders); err != nil {
				return nil, fmt.Errorf("%w: %w", ErrProtocol, err)
			}
			if err = c.sendEntries(want.As, want.EachOf(sent)); err != nil {
				return nil, err
			}
			call.Folders, call.In, call.Entries = nil, nil, len(sent)
		case stage > 0:
			return nil, fmt.Errorf("%w: an answer that says nothing", ErrProtocol)
		}
		answer = compareAnswer{}
		if err := c.call(ctx, calls.Compare.Name, call, into(&answer), listener(watch)); err != nil {
			return nil, err
		}
		working.Wait() // what is digested meanwhile is changed below
	}
	if !answer.InParts {
		want.Digested = calls.Digested{} // it names any entry
	}
	sent, err := answer.leftOf(sent)
	if err != nil {
		return nil, err
	}
	c.compared = wantedOf(&answer, want, sent)
	result, err := answer.result(c.compared)
	if err != nil {
		return nil, err
	}
	return &calls.Compared{Result: result}, nil
}

// compareEarlier asks what must change for an earlier deployment to be there again.
func (c *Client) compareEarlier(ctx context.Context, want *calls.Comparing, call *compareCall, watch *site.Watch) (*calls.Compared, error) {
	call.Earlier = want.Earlier
	var answer compareAnswer
	if err := c.call(ctx, calls.Compare.Name, call, into(&answer), listener(watch)); err != nil {
		return nil, err
	}
	switch {
	case answer.NeedAll:
		return &calls.Compared{}, nil
	case !answer.Done || answer.Earlier == nil:
		return nil, fmt.Errorf("%w: an answer that says nothing", ErrProtocol)
	}
	earlier, err := answer.Earlier.earlier()
	if err != nil {
		return nil, err
	}
	c.compared = &wanted{as: want.As, of: len(earlier.Entries), entries: earlier.Entries}
	result, err := answer.result(c.compared)
	if err != nil {
		return nil, err
	}
	return &calls.Compared{Result: result, Earlier: earlier}, nil
}

// useWindow has as much content under way as there may be.
func (c *Client) useWindow() { c.wide.Do(func() { c.credit.add(window - narrow) }) }

// listener passes on what a watch is told.
func listener(watch *site.Watch) func(*message) error {
	return func(m *message) error {
		switch m.Event {
		case eventPhase:
			var p phase
			if err := decoding.Unmarshal(m.Body, &p); err != nil {
				return err
			}
			if watch.Phase != nil {
				watch.Phase(printable(p.Name), p.Files, p.Bytes)
			}
		case eventDone:
			var d done
			if err := decoding.Unmarshal(m.Body, &d); err != nil {
				return err
			}
			if watch.Bytes != nil && d.Bytes != 0 {
				watch.Bytes(d.Bytes)
			}
			for range min(d.Files, maxList) {
				if watch.File != nil {
					watch.File("", 0)
				}
			}
		}
		return nil
	}
}

// printable is a word of a far end, fit to be shown.
func printable(s string) string { return farend.Said(s, 100) }

// stage has what was compared staged, and sends what the far end needs for it.
func (c *Client) stage(ctx context.Context, asked *calls.Staging, to **site.Outcome, watch *site.Watch) error {
	plan := &asked.Plan
	call := stageCall{As: asked.As, Comparison: asked.Comparison, Last: plan.Last, Kept: plan.Kept, Gone: plan.Gone,
		Generator: plan.Generator, Origin: plan.Origin,
		RemoveStrays: plan.RemoveStrays, MakeParents: plan.MakeParents, Partial: plan.Partial,
		Incomplete: plan.Incomplete,
		SendAll:    plan.SendAll, History: plan.History, Rollback: plan.Rollback, Sources: plan.Sources, Hand: plan.Hand, Took: time.Since(plan.Started),
		Wait: plan.Wait}
	call.Beside, call.Commands, call.Like, call.Tree = plan.Beside, plan.Commands, plan.Like, plan.Tree
	if p := plan.Promoted; p != nil {
		call.Promoted = &promotedCall{p.From, p.Deployment, p.Tree}
	}
	if plan.Watched != nil {
		call.Watched = &watchedCall{plan.Watched.ID, plan.Watched.Since}
	}
	if err := c.widen(ctx, toSend(plan.Result)); err != nil {
		return err
	}
	feeding, stop := context.WithCancel(ctx)
	var feeders sync.WaitGroup
	defer feeders.Wait()
	defer stop()
	pass := listener(watch)
	listen := func(m *message) error {
		if m.Event != eventNeed {
			return pass(m)
		}
		var n need
		if err := decoding.Unmarshal(m.Body, &n); err != nil {
			return err
		}
		f := &feeder{client: c, plan: plan, need: &n}
		var wrong error
		if f.each, f.lasts, wrong = c.needed(asked, &n); wrong != nil {
			return wrong
		}
		position := 0
		f.each(func(e *manifest.Entry) bool {
			offset := n.Offsets[position]
			if e.Kind != manifest.File || offset < 0 || offset > e.Size {
				wrong = fmt.Errorf("%w: it needs file %d of those that it asks for", ErrProtocol, position)
				return false
			}
			position++
			c.asked.Files++
			c.asked.Bytes += e.Size - offset
			return true
		})
		if f.files, _ = n.files(math.MaxInt); wrong == nil && position != f.files {
			wrong = errors.New("not all of the content could be read again")
		}
		if wrong == nil {
			feeders.Go(func() { f.run(feeding) })
		}
		return wrong
	}
	c.asked = Asked{}
	if err := c.call(ctx, calls.Stage.Name, call, func(body []byte) error { return calls.Stage.Take(body, to) },
		listen); err != nil {
		return err
	}
	outcome := *to
	for i := range outcome.Failed {
		f := &outcome.Failed[i]
		if at, ok := manifest.Find(asked.Listed(), f.Path); ok {
			f.Err = plan.WhyWrong(ctx, f.Path, plan.Want[at].Digest, f.Err)
		}
	}
	return nil
}

// needed gives what calls its argument with each entry that is needed, in their order, and whether these entries last. It fails
// where one does not exist.
func (c *Client) needed(asked *calls.Staging, n *need) (each manifest.Walk, last bool, err error) {
	from := c.compared
	if from == nil || from.as != asked.Comparison {
		from = &wanted{as: asked.Comparison, entries: asked.Listed()}
		from.of = len(from.entries)
	}
	files, err := n.files(from.of)
	if err != nil {
		return nil, false, err
	}
	if from.all != nil && n.ascends() {
		return func(visit func(e *manifest.Entry) bool) {
			at, runs := -1, n.Runs
			from.all.Each(func(e *manifest.Entry) bool {
				if at++; len(runs) > 0 && at == runs[0].First+runs[0].Count {
					runs = runs[1:]
				}
				return len(runs) > 0 && (at < runs[0].First || visit(e))
			})
		}, false, nil
	}
	some := make([]*manifest.Entry, 0, files)
	for _, r := range n.Runs {
		for at := r.First; at < r.First+r.Count; at++ {
			e := from.entry(from.as, at)
			if e == nil && from.sent == nil { // of those that are no change
				if all := asked.Listed(); at < len(all) {
					e = &all[at]
				}
			}
			if e == nil {
				return nil, false, fmt.Errorf("%w: it needs entry %d", ErrProtocol, at)
			}
			some = append(some, e)
		}
	}
	return func(visit func(e *manifest.Entry) bool) {
		for _, e := range some {
			if !visit(e) {
				return
			}
		}
	}, true, nil
}

// toSend gives how many bytes a deployment may have to send, at most.
func toSend(result *diff.Result) (bytes int64) {
	if result == nil {
		return 0
	}
	result.Each(func(c *diff.Change) bool {
		if c.Want != nil {
			bytes += c.Want.Size
		}
		return true
	})
	return bytes
}
