package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tartine/internal/diff"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// leaveTime is how long the agent of a line that was lost may take to finish and let go of the lock.
const leaveTime = 5 * time.Second

// Opener opens a site. What it returns beside the site is closed with it.
type Opener func(ctx context.Context, root Root) (*site.Site, string, io.Closer, error)

// server is the far end of one session. It has one site.
type server struct {
	*link
	open  Opener
	site  *site.Site
	place io.Closer

	survey  *site.Survey
	want    []manifest.Entry
	folders []folderDigest
	result  *diff.Result

	inbox    *inbox
	order    *numbering // of frames of content
	lanes    []io.Closer
	ctx      context.Context // of the session
	cancel   context.CancelCauseFunc
	watching sync.WaitGroup

	over chan struct{} // closed when nothing more comes from the client
	// taking tells that content is being taken: what has come is written before a line that is gone ends it.
	taking atomic.Bool
	why    error        // why, once it is closed
	heard  atomic.Int64 // when something came last, in nanoseconds since 1970
}

// Serve answers a client over a stream until it ends. Build says which program this is; a client of another is refused.
func Serve(ctx context.Context, in io.Reader, out io.Writer, build string, open Opener) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	s := &server{link: newLink(in, out), open: open, inbox: newInbox(), order: newNumbering(), over: make(chan struct{}), ctx: ctx, cancel: cancel}
	if err := s.greet(build); err != nil {
		return err
	}
	defer func() {
		if s.place != nil {
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
		return fmt.Errorf("the client is %q with protocol %d, and this is %q with protocol %d", client.Build, client.Protocol, build, Protocol)
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
		out.Error = errorToWire(err)
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
	if s.site == nil {
		return nil, fmt.Errorf("%w: %s before a site was opened", ErrProtocol, m.Method)
	}
	switch m.Method {
	case methodLanes:
		return s.doLanes(m)
	case methodSurvey:
		return s.doSurvey(ctx, m)
	case methodCompare:
		return s.doCompare(ctx, m)
	case methodDeploy:
		return s.doDeploy(ctx, m)
	case methodHeld:
		if s.result == nil {
			return nil, fmt.Errorf("%w: %s before a comparison", ErrProtocol, m.Method)
		}
		return s.site.Held(ctx, s.survey, s.result)
	case methodVerify:
		return s.doVerify(ctx, m)
	case methodRead:
		return s.doRead(ctx, m)
	case methodGather:
		return s.doGather(ctx, m)
	case methodStands:
		return s.doStands(ctx, m)
	case methodHistory:
		return s.site.History(ctx)
	case methodExamine:
		return s.site.Examine(ctx)
	case methodUnfinished:
		return s.site.Unfinished(ctx)
	case methodLocked:
		return s.site.Locked(ctx)
	case methodUnlock:
		var holder site.Holder
		if err := decoding.Unmarshal(m.Body, &holder); err != nil {
			return nil, err
		}
		return nil, s.site.Unlock(ctx, &holder)
	}
	var call numberCall
	if err := decoding.Unmarshal(m.Body, &call); err != nil {
		return nil, err
	}
	switch m.Method {
	case methodRecover:
		return s.site.Recover(ctx, call.User)
	case methodGiveUp:
		return s.site.GiveUp(ctx, call.User)
	case methodAffirm:
		return nil, s.site.Affirm(ctx, call.Number, call.User)
	case methodDeployment:
		found, err := s.site.Deployment(ctx, call.Number)
		if err != nil {
			return nil, err
		}
		var text strings.Builder
		err = found.WriteJSON(&text)
		return text.String(), err
	}
	return nil, fmt.Errorf("%w: there is no method %q", ErrProtocol, m.Method)
}

func (s *server) openSite(ctx context.Context, m *message) (any, error) {
	var root Root
	if err := decoding.Unmarshal(m.Body, &root); err != nil {
		return nil, err
	}
	if s.site != nil {
		return nil, fmt.Errorf("%w: a second site", ErrProtocol)
	}
	opening, label, place, err := s.open(ctx, root)
	if err != nil {
		return nil, err
	}
	s.site, s.place = opening, place
	return opened{Root: label, Exists: opening.Exists(), Abilities: opening.Abilities()}, nil
}

func (s *server) doSurvey(ctx context.Context, m *message) (any, error) {
	var believe bool
	if err := decoding.Unmarshal(m.Body, &believe); err != nil {
		return nil, err
	}
	s.want, s.result = nil, nil
	var err error
	if s.survey, err = s.site.Survey(ctx, believe); err != nil {
		return nil, err
	}
	return s.survey.Summary, nil
}

// doCompare finds what must change, or what it needs to know for that.
func (s *server) doCompare(ctx context.Context, m *message) (any, error) {
	var call compareCall
	if err := decoding.Unmarshal(m.Body, &call); err != nil {
		return nil, err
	}
	if s.survey == nil {
		return nil, fmt.Errorf("%w: a comparison before a survey", ErrProtocol)
	}
	recorded := s.survey.Recorded
	switch {
	case call.Whole, len(call.Entries) > 0:
		sent, err := call.Entries.Unpack()
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrProtocol, err)
		}
		if s.want = sent; !call.Whole {
			if recorded == nil {
				return nil, fmt.Errorf("%w: folders without a record", ErrProtocol)
			}
			s.want = merge(s.folders, recorded.Entries, sent)
		}
		if !inOrder(s.want) {
			return nil, fmt.Errorf("%w: entries that are not in order", ErrProtocol)
		}
	case recorded == nil, call.Times: // times are no part of a digest
		return compareAnswer{NeedAll: true}, nil
	case len(call.Folders) > 0:
		s.folders = call.Folders
		differ := differing(call.Folders, recorded.Entries)
		if len(differ) > 0 {
			return compareAnswer{NeedFolders: differ}, nil
		}
		s.want = merge(s.folders, recorded.Entries, nil)
	case s.survey.Tree() != call.Tree || len(recorded.Entries) != call.Paths:
		return compareAnswer{NeedDigests: true}, nil
	default:
		s.want = slices.Clone(recorded.Entries)
	}
	progress := s.progress(m.Call)
	defer progress.stop()
	var err error
	rule := diff.Rule{Times: call.Times, Nothing: call.Nothing}
	s.result, err = s.site.Compare(ctx, s.survey, &site.Wanted{Entries: s.want, Rule: rule, Kept: call.Kept,
		Retire: site.Retire{After: call.Retire.After, Now: call.Retire.Now, Last: call.Retire.Last}}, progress.bytes)
	if err != nil {
		return nil, err
	}
	answer := compareAnswer{Done: true, Same: s.result.Same, SameBytes: s.result.SameBytes, Stale: s.result.Stale}
	for _, l := range s.result.Leaving {
		answer.Leaving = append(answer.Leaving, wireLeaving{Path: l.Path, Size: l.Size, Until: l.Until.Unix()})
	}
	at := 0
	for i := range s.result.Changes {
		c := &s.result.Changes[i]
		want := -1
		if c.Want != nil {
			for s.want[at].Path != c.Path {
				at++
			}
			want = at
		}
		answer.add(c, want)
	}
	return answer, nil
}

func (s *server) doDeploy(ctx context.Context, m *message) (any, error) {
	var call deployCall
	if err := decoding.Unmarshal(m.Body, &call); err != nil {
		return nil, err
	}
	if s.result == nil {
		return nil, fmt.Errorf("%w: a deployment before a comparison", ErrProtocol)
	}
	progress := s.progress(m.Call)
	defer progress.stop()
	plan := &site.Plan{Want: s.want, Survey: s.survey, Result: s.result, Kept: call.Kept, Last: call.Last,
		Generator: call.Generator, Origin: call.Origin, RemoveStrays: call.RemoveStrays, MakeParents: call.MakeParents,
		Partial: call.Partial, Incomplete: call.Incomplete, SendAll: call.SendAll, History: call.History,
		Rollback: call.Rollback, Started: time.Now().Add(-call.Took), Wait: max(call.Wait, leaveTime)}
	plan.Supply = &supply{inbox: s.inbox, want: s.want, over: s.over, ended: func() error { return s.why }, taking: &s.taking,
		ask: func(n need) error { return s.tell(m.Call, eventNeed, n) },
		grant: func(bytes int64) {
			_ = s.send(creditFrame, must(encoding.Marshal(bytes))) // a line that is gone ends the session
		}}
	out, err := s.site.Deploy(ctx, plan, &site.Watch{Phase: progress.phase, Bytes: progress.bytes, File: progress.file})
	s.survey, s.result = nil, nil // they are of before
	if err != nil {
		return nil, err
	}
	return outcomeToWire(out), nil
}

func (s *server) doVerify(ctx context.Context, asked *message) (any, error) {
	var call verifyCall
	if err := decoding.Unmarshal(asked.Body, &call); err != nil {
		return nil, err
	}
	entries, err := call.Entries.Unpack()
	if err != nil {
		return nil, err
	}
	m := &manifest.Manifest{Entries: entries}
	if call.Recorded {
		m = nil
	}
	progress := s.progress(asked.Call)
	defer progress.stop()
	return s.site.Verify(ctx, m, call.Strays, &site.Watch{Phase: progress.phase, Bytes: progress.bytes, File: progress.file})
}

func (s *server) doStands(ctx context.Context, m *message) (any, error) {
	var call standsCall
	if err := decoding.Unmarshal(m.Body, &call); err != nil {
		return nil, err
	}
	progress := s.progress(m.Call)
	defer progress.stop()
	found, err := s.site.Stands(ctx, call.Paths, progress.bytes)
	if err != nil {
		return nil, err
	}
	answer := standing{Entries: manifest.Pack(found.Entries), Left: failuresToWire(found.Left)}
	for _, e := range found.Raw {
		answer.Raw = append(answer.Raw, rawEntry{Path: []byte(e.Path), Size: e.Size, Mode: uint32(e.Mode.Perm()), Digest: e.Digest, Time: e.ModTime.UnixNano()})
	}
	return answer, nil
}

// How much is read in one call: of a file, and of many, in bytes.
const (
	readSize       = 2 << 20
	mostGatherSize = 32 << 20
)

func (s *server) doGather(ctx context.Context, m *message) (any, error) {
	var call gatherCall
	if err := decoding.Unmarshal(m.Body, &call); err != nil {
		return nil, err
	}
	out := make([]gathered, len(call.Paths))
	var size atomic.Int64
	err := s.site.Gather(ctx, call.Paths, func(i int, content []byte, err error) {
		if err == nil && size.Add(int64(len(content))) > mostGatherSize {
			content, err = nil, errors.New("too much was asked for at once")
		}
		if err != nil {
			out[i].Error = errorToWire(err)
			return
		}
		out[i].Content = content
	})
	return out, err
}

func (s *server) doRead(ctx context.Context, m *message) (any, error) {
	var call readCall
	if err := decoding.Unmarshal(m.Body, &call); err != nil {
		return nil, err
	}
	file, err := s.site.ReadPath(ctx, call.Path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if seeker, ok := file.(io.Seeker); ok {
		_, err = seeker.Seek(call.Offset, io.SeekStart)
	} else {
		_, err = io.CopyN(io.Discard, file, call.Offset)
	}
	if err != nil {
		return nil, err
	}
	content := make([]byte, readSize)
	n, err := io.ReadFull(file, content)
	switch {
	case err == nil:
		return readAnswer{Content: content}, nil
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return readAnswer{Content: content[:n], End: true}, nil
	}
	return nil, err
}

// tell tells the client something about a call that is under way.
func (s *server) tell(call uint64, event string, body any) error {
	encoded, err := encoding.Marshal(body)
	if err != nil {
		return err
	}
	return s.sendMessage(&message{Call: call, Event: event, Body: encoded})
}
