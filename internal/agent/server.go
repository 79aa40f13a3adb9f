package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"tartine/internal/calls"
	"tartine/internal/diff"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/treeparts"
)

// leaveTime is how long the agent of a connection that was lost may take to finish and let go of the lock.
const leaveTime = 5 * time.Second

// Opener opens a site. What it returns beside the site is closed with it.
type Opener func(ctx context.Context, root Root) (*site.Site, string, io.Closer, error)

// server is the far end of one session. It has one site.
type server struct {
	*link
	open  Opener
	here  *calls.Here // nil: no site is open
	place io.Closer
	// opened is here, for who takes what comes meanwhile
	opened atomic.Pointer[calls.Here]

	folders   []treeparts.Part // of the comparison under way
	different *site.Different  // and what differs of them, where not all of the site is looked at; else nil
	inSome    bool             // they are not all there are
	// unfolding is closed once a survey is unfolded, or could not be; nil: none is. It goes on beside what the client does
	// meanwhile, and ends before anything else is done here.
	unfolding chan struct{}
	baseOf    *manifest.Manifest // what was recorded when a folder was looked up last
	ofBase    map[string][]int   // its folders

	coming   coming
	packing  packing // of files that are read
	inbox    *inbox
	order    *numbering // of frames of content
	lanes    []io.Closer
	ctx      context.Context // of the session
	cancel   context.CancelCauseFunc
	watching sync.WaitGroup

	over chan struct{} // closed when nothing more comes from the client
	// taking tells that content is being taken: what has come is written before a connection that is gone ends it.
	taking atomic.Bool
	why    error        // why, once it is closed
	heard  atomic.Int64 // when something came last, in nanoseconds since 1970
}

// Serve answers a client over a stream until it ends. Build says which program this is; a client of another is refused.
func Serve(ctx context.Context, in io.Reader, out io.Writer, build string, open Opener) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	s := &server{link: newLink(in, out), open: open, inbox: newInbox(), order: newNumbering(),
		over: make(chan struct{}), ctx: ctx, cancel: cancel}
	if err := s.greet(build); err != nil {
		return err
	}
	defer func() {
		if s.here != nil {
			_ = s.here.End(context.WithoutCancel(ctx)) // else the lock runs out by itself
			s.place.Close()
		}
	}()
	s.heard.Store(time.Now().UnixNano())
	quit := make(chan struct{})
	s.watching.Go(func() { s.watchLife(&s.heard, quit, cancel) })
	defer s.watching.Wait()
	defer cancel(nil)
	defer s.closeLanes()
	defer close(quit)
	calls := make(chan *message, 1)
	cancelled := make(chan uint64, 16)
	s.watching.Go(func() { s.receiveAll(calls, cancelled, cancel) })
	// It waits for the client; with the stream's end, where that can be brought about, it ends too.
	if end, ok := in.(io.Closer); ok {
		defer end.Close()
	}
	for {
		select {
		case <-ctx.Done():
			return ended(context.Cause(ctx))
		case <-cancelled: // of a call that has ended
		case m, ok := <-calls:
			if !ok {
				return ended(s.why)
			}
			if err := s.answer(ctx, m, cancelled); err != nil {
				return ended(err)
			}
		}
	}
}

// ended gives nil for a stream that was closed in order.
func ended(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

func (s *server) greet(build string) error {
	if err := s.send(helloFrame, must(encoding.Marshal(hello{Protocol, build}))); err != nil {
		return err
	}
	k, payload, err := s.receive()
	if err != nil {
		return err
	}
	var client hello
	if k != helloFrame || decoding.Unmarshal(payload, &client) != nil {
		return fmt.Errorf("%w: it does not begin with who it is", ErrProtocol)
	}
	if client.Protocol != Protocol || client.Build != build {
		return fmt.Errorf("the client is %q with protocol %d, and this is %q with protocol %d", client.Build,
			client.Protocol, build, Protocol)
	}
	return nil
}

// receiveAll takes what comes from the client until that ends. It never waits for the engine.
func (s *server) receiveAll(calls chan<- *message, cancelled chan<- uint64, cancel context.CancelCauseFunc) {
	defer close(calls)
	defer close(s.over)
	fail := func(err error) {
		s.why = err
		cancel(err)
	}
	var parts assembler
	for {
		k, payload, err := s.receive()
		if err != nil {
			if s.why = err; !s.taking.Load() {
				cancel(err)
			}
			return
		}
		s.heard.Store(time.Now().UnixNano())
		switch k {
		case aliveFrame:
		case aheadFrame:
			if here := s.opened.Load(); here != nil {
				here.Foretell()
			}
		case entriesFrame:
			if err := s.coming.add(payload); err != nil {
				fail(err)
				return
			}
		case contentFrame:
			if err := s.inbox.push(payload); err != nil {
				fail(err)
				return
			}
			s.order.advance()
		case cancelFrame:
			var call uint64
			if err := decoding.Unmarshal(payload, &call); err != nil {
				fail(fmt.Errorf("%w: %w", ErrProtocol, err))
				return
			}
			select {
			case cancelled <- call:
			default: // more than there are calls
			}
		case partFrame, messageFrame, packedFrame:
			m, err := parts.add(k, payload)
			if err != nil {
				fail(err)
				return
			}
			if m == nil {
				continue
			}
			select {
			case calls <- m:
			default:
				fail(fmt.Errorf("%w: a second call before the answer to the first", ErrProtocol))
				return
			}
		default:
			fail(fmt.Errorf("%w: a frame of kind %q", ErrProtocol, k))
			return
		}
	}
}

// answer does what a call asks and answers it. It fails only when the answer cannot be sent.
func (s *server) answer(ctx context.Context, m *message, cancelled <-chan uint64) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	done := make(chan struct{})
	var listening sync.WaitGroup
	listening.Go(func() {
		for {
			select {
			case call := <-cancelled:
				if call == m.Call {
					cancel()
				}
			case <-done:
				return
			}
		}
	})
	answer, err := s.do(ctx, m)
	close(done)
	listening.Wait()
	out := &message{Call: m.Call}
	if err != nil {
		out.Error = calls.Wire(err)
	} else if out.Body, err = encoding.Marshal(answer); err != nil {
		return err
	}
	return s.sendMessage(out)
}

// do calls the engine.
func (s *server) do(ctx context.Context, m *message) (any, error) {
	if m.Method == methodOpen {
		return s.openSite(ctx, m)
	}
	if s.here == nil {
		return nil, fmt.Errorf("%w: %s before a site was opened", ErrProtocol, m.Method)
	}
	if s.unfolding != nil {
		<-s.unfolding
		s.unfolding = nil
	}
	s.here.Passed = func(entries []manifest.Entry) error { return s.sendEntries(calls.ID(m.Call), manifest.Listed(entries)) }
	progress := s.progress(m.Call)
	defer progress.stop()
	switch m.Method {
	case methodLanes:
		return s.doLanes(m)
	case calls.Compare.Name:
		return s.doCompare(ctx, m, progress.watch())
	case calls.Stage.Name:
		return s.doStage(ctx, m, progress.watch())
	case calls.Gather.Name:
		return s.doGather(ctx, m)
	}
	if call := calls.Find(m.Method); call != nil {
		return call.Answer(ctx, s.here, m.Body, progress.watch())
	}
	return nil, fmt.Errorf("%w: there is no method %q", ErrProtocol, m.Method)
}

func (s *server) openSite(ctx context.Context, m *message) (any, error) {
	var root Root
	if err := decoding.Unmarshal(m.Body, &root); err != nil {
		return nil, err
	}
	if s.here != nil {
		return nil, fmt.Errorf("%w: a second site", ErrProtocol)
	}
	opening, label, place, err := s.open(ctx, root)
	if err != nil {
		return nil, err
	}
	s.here, s.place = calls.NewHere(opening), place
	s.opened.Store(s.here)
	return opened{Root: label, Abilities: opening.Abilities(), Recorded: opening.RecordedDigest(ctx)}, nil
}

// doCompare finds what must change, or what it needs to know for that.
func (s *server) doCompare(ctx context.Context, m *message, watch *site.Watch) (any, error) {
	var call compareCall
	if err := decoding.Unmarshal(m.Body, &call); err != nil {
		return nil, err
	}
	sent, err := s.coming.take(call.As, call.Entries)
	if err != nil {
		return nil, err
	}
	survey, err := s.here.Survey(call.Survey)
	if err != nil {
		return nil, err
	}
	asked := calls.Comparing{As: call.As, Survey: call.Survey, Tree: call.Tree,
		Wanted: site.Wanted{Kept: call.Kept, Gone: call.Gone,
			Rule:   diff.Rule{Times: call.Times, Nothing: call.Nothing},
			Retire: site.Retire{After: call.Retire.After, Now: call.Retire.Now, Last: call.Retire.Last}}}
	if call.Earlier > 0 {
		return s.compareEarlier(ctx, &call, &asked, watch)
	}
	if err := s.here.ReadFiles(ctx, &asked, watch); err != nil {
		return nil, err
	}
	first := !call.Whole && call.Entries+len(call.Folders)+len(call.In) == 0 // only the tree digest was sent
	if first {
		if result, same := s.here.SameAsRecorded(&asked, call.Paths); same {
			return compareAnswer{Done: true, Same: result.Same, SameBytes: result.SameBytes}, nil
		}
	}
	inParts := s.here.Site.InParts(survey, &asked.Wanted)
	if first && inParts {
		return compareAnswer{NeedDigests: true}, nil
	}
	if call.Entries == 0 {
		s.inSome = len(call.In) > 0
	}
	if inParts && s.inSome && call.Entries == 0 {
		asked.In = make(map[string]bool, len(call.In))
		for _, dir := range call.In {
			asked.In[dir] = true
		}
		if more, enough := survey.Outside(call.Since, asked.In); !enough || len(more) > 0 {
			return compareAnswer{NeedDigests: true, More: more}, nil
		}
	}
	if inParts {
		answer, err := s.compareInParts(ctx, &call, &asked, sent, watch)
		if err != nil || answer != nil {
			return answer, err
		}
	}
	s.different = nil
	if s.inSome && !call.Whole { // which does not tell what else is wanted
		return compareAnswer{NeedDigests: true}, nil
	}
	if first && !call.Times && survey.IsBrief() {
		unfolded := make(chan struct{})
		s.unfolding = unfolded
		unfold := context.WithoutCancel(ctx) // which ends with this call
		s.watching.Go(func() {
			defer close(unfolded)
			_ = s.here.Site.Unfold(unfold, survey) // whoever needs it tries once more, and hears why not
		})
		return compareAnswer{NeedDigests: true}, nil
	}
	if err := s.here.Site.Unfold(ctx, survey); err != nil {
		return nil, err
	}
	var want []manifest.Entry
	recorded := survey.Recorded
	switch {
	case call.Whole:
		if !sent.InOrder() {
			return nil, fmt.Errorf("%w: entries that are not in order", ErrProtocol)
		}
		asked.Content = sent
	case call.Entries > 0:
		if recorded == nil {
			return nil, fmt.Errorf("%w: folders without a record", ErrProtocol)
		}
		want = treeparts.Merge(s.folders, recorded.Entries, s.base(recorded), sent.Entries())
		if !treeparts.InOrder(want) {
			return nil, fmt.Errorf("%w: entries that are not in order", ErrProtocol)
		}
	case recorded == nil, call.Times: // times are no part of a digest
		return compareAnswer{NeedAll: true}, nil
	case len(call.Folders) > 0:
		s.folders = call.Folders
		differ := treeparts.Differing(call.Folders, recorded.Entries, s.base(recorded))
		if len(differ) > 0 {
			return compareAnswer{NeedFolders: differ}, nil
		}
		want = treeparts.Merge(s.folders, recorded.Entries, s.base(recorded), nil)
	case survey.Tree() != call.Tree || manifest.Contents(recorded.Entries) != call.Paths || len(recorded.Entries) != call.Paths:
		return compareAnswer{NeedDigests: true}, nil
	default:
		want = recorded.Entries
	}
	asked.Wanted.Entries = want
	compared, err := calls.Compare.Watched(ctx, s.here, &asked, watch)
	if err != nil {
		return nil, err
	}
	return s.compareAnswer(compared.Result, asked.Wanted.Entries), nil
}

// compareEarlier compares with an earlier deployment of the site, or tells that the client has to send it.
func (s *server) compareEarlier(ctx context.Context, call *compareCall, asked *calls.Comparing, watch *site.Watch) (any, error) {
	asked.Earlier = call.Earlier
	compared, err := calls.Compare.Watched(ctx, s.here, asked, watch)
	if err != nil {
		return nil, err
	}
	if compared.Result == nil {
		return compareAnswer{NeedAll: true}, nil
	}
	answer := s.compareAnswer(compared.Result, compared.Earlier.Entries)
	answer.Earlier = toWireEarlier(compared.Earlier)
	return answer, nil
}

// compareInParts compares those parts of the site that differ; nil: all of it must be compared.
func (s *server) compareInParts(ctx context.Context, call *compareCall, asked *calls.Comparing, sent *manifest.Folded, watch *site.Watch) (*compareAnswer, error) {
	none := call.Whole && call.Entries == 0 // nothing is wanted
	if len(call.Folders) > 0 || none || asked.In != nil {
		survey, err := s.here.Survey(call.Survey)
		if err != nil {
			return nil, err
		}
		s.folders = call.Folders
		if s.different, err = s.here.Site.Differing(ctx, survey, &asked.Wanted, treeparts.OfSite(call.Folders), asked.In, treeparts.SameAs(call.Folders)); err != nil {
			return nil, err
		}
		if s.different != nil && asked.In != nil && s.different.IsMuch() {
			return nil, nil
		}
		if s.different != nil && len(s.different.Parts) > 0 {
			return &compareAnswer{NeedFolders: s.different.Parts}, nil
		}
	}
	if s.different == nil || !none && (call.Whole || len(call.Folders)+len(call.In)+call.Entries == 0) {
		return nil, nil
	}
	if !sent.InOrder() {
		return nil, fmt.Errorf("%w: entries that are not in order", ErrProtocol)
	}
	var left []wireRun
	narrow := s.different.IsMuch()
	if narrow {
		some, runs, err := s.here.Site.Narrow(ctx, s.different, &asked.Wanted, sent.Each)
		if err != nil {
			return nil, err
		}
		asked.Wanted.Entries, left = some, wireRuns(runs)
	} else {
		asked.Wanted.Entries = sent.Entries()
	}
	asked.Parts, asked.InAll = s.different, call.Paths
	compared, err := calls.Compare.Watched(ctx, s.here, asked, watch)
	asked.Parts = nil
	if err != nil || compared.Result == nil {
		return nil, err
	}
	answer := s.compareAnswer(compared.Result, asked.Wanted.Entries)
	answer.InParts, answer.Narrowed, answer.Left = true, narrow, left
	return answer, nil
}

// compareAnswer gives the answer that is a result. Of want are its indices.
func (s *server) compareAnswer(result *diff.Result, want []manifest.Entry) *compareAnswer {
	answer := &compareAnswer{Done: true, Same: result.Same, SameBytes: result.SameBytes, Stale: result.Stale}
	for _, l := range result.Leaving {
		answer.Leaving = append(answer.Leaving, wireLeaving{Path: l.Path, Size: l.Size, Until: l.Until.Unix()})
	}
	if result.All != nil && result.All.Len() > 0 {
		answer.New = []wireRun{{Count: result.All.Len()}}
	}
	at := 0
	for i := range result.Changes {
		c := &result.Changes[i]
		index := -1
		if c.Want != nil {
			for want[at].Path != c.Path() {
				at++
			}
			index = at
		}
		answer.add(c, index)
	}
	return answer
}

// base gives the folders of what is recorded, as treeparts.ByFolder gives them.
func (s *server) base(recorded *manifest.Manifest) map[string][]int {
	if s.baseOf != recorded {
		s.ofBase = treeparts.ByFolder(recorded.Entries)
		s.baseOf = recorded
	}
	return s.ofBase
}

func (s *server) doStage(ctx context.Context, m *message, watch *site.Watch) (any, error) {
	var call stageCall
	if err := decoding.Unmarshal(m.Body, &call); err != nil {
		return nil, err
	}
	plan := site.Plan{Kept: call.Kept, Gone: call.Gone, Last: call.Last,
		Generator: call.Generator, Origin: call.Origin, RemoveStrays: call.RemoveStrays, MakeParents: call.MakeParents,
		Partial: call.Partial, Incomplete: call.Incomplete, SendAll: call.SendAll, History: call.History,
		Rollback: call.Rollback, Sources: call.Sources, Hand: call.Hand, Started: time.Now().Add(-call.Took), Wait: max(call.Wait, leaveTime)}
	plan.Beside, plan.Commands, plan.Like, plan.Tree = call.Beside, call.Commands, call.Like, call.Tree
	if p := call.Promoted; p != nil {
		plan.Promoted = &manifest.Promoted{From: printable(p.From), Deployment: p.Deployment, Tree: p.Tree}
	}
	if call.Watched != nil {
		plan.Watched = &manifest.Watched{ID: call.Watched.ID, Since: call.Watched.Since}
	}
	plan.Supply = &supply{inbox: s.inbox, over: s.over, ended: func() error { return s.why },
		taking: &s.taking,
		ask:    func(n need) error { return s.tell(m.Call, eventNeed, n) },
		grant: func(bytes int64) {
			_ = s.send(creditFrame, must(encoding.Marshal(bytes))) // a connection that is gone ends the session
		}}
	out, err := calls.Stage.Watched(ctx, s.here, &calls.Staging{As: call.As, Comparison: call.Comparison, Plan: plan},
		watch)
	if err != nil {
		return nil, err
	}
	return calls.Stage.Pack(out), nil
}

// tell tells the client something about a call that is under way.
func (s *server) tell(call uint64, event string, body any) error {
	encoded, err := encoding.Marshal(body)
	if err != nil {
		return err
	}
	return s.sendMessage(&message{Call: call, Event: event, Body: encoded})
}
