package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/trace"
)

// Client is a site whose engine runs at the other end of a stream. Its methods are those of site.Site, and like those
// they may not be called at the same time. An error that matches fsys.ErrLost tells that the line is gone.
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

	survey *site.Survey // the last one
	want   *site.Wanted // what it was compared with
	result *diff.Result
	asked  Asked

	another func(context.Context) (Stream, error) // gives another shell there (see Widen); may be nil
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
func Connect(ctx context.Context, in io.Reader, out io.Writer, stream io.Closer, build string, root Root) (*Client, error) {
	stream = &closeOnce{stream, sync.Once{}, nil}
	c := &Client{link: newLink(in, out), stream: stream, answers: make(chan *message, 16), credit: newCredit(window), quit: make(chan struct{})}
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	err := c.greet(build)
	var unavailable *UnavailableError
	switch {
	case !stop():
		err = ctx.Err()
	case err != nil && !errors.As(err, &unavailable) && !errors.Is(err, ErrProtocol):
		err = fmt.Errorf("%w before the agent said who it is: %w", fsys.ErrLost, err)
	}
	if err != nil {
		stream.Close()
		return nil, err
	}
	c.heard.Store(time.Now().UnixNano())
	c.working.Go(c.receiveAll)
	c.working.Go(func() { c.watchLife(&c.heard, c.quit, func(error) { stream.Close() }) }) // which ends receiveAll
	if err := c.call(ctx, methodOpen, root, &c.opened, nil); err != nil {
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
		return unavailable("the program there is %q with protocol %d, and this is %q with protocol %d", printable(server.Build), server.Protocol, build, Protocol)
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

// lost tells that the line is gone, and why.
func (c *Client) lost() error {
	if c.why == nil || errors.Is(c.why, io.EOF) || errors.Is(c.why, io.ErrUnexpectedEOF) {
		return fsys.ErrLost
	}
	return fmt.Errorf("%w: %w", fsys.ErrLost, c.why)
}

// call makes a call and waits for its answer. Events go to listen.
func (c *Client) call(ctx context.Context, method string, body, answer any, listen func(*message) error) (err error) {
	if err := ctx.Err(); err != nil {
		return err
	}
	c.calls++
	began := time.Now()
	defer func() {
		trace.Log(ctx).Debug("agent call", "method", method, "took", time.Since(began).Round(time.Microsecond), "error", err)
	}()
	encoded, err := encoding.Marshal(body)
	if err != nil {
		return err
	}
	if err := c.sendMessage(&message{Call: c.calls, Method: method, Body: encoded}); err != nil {
		return fmt.Errorf("%w: %w", fsys.ErrLost, err)
	}
	cancelled, patience := ctx.Done(), (<-chan time.Time)(nil)
	for {
		select {
		case <-cancelled:
			cancelled, patience = nil, time.After(cancelPatience)
			_ = c.send(cancelFrame, must(encoding.Marshal(c.calls))) // a line that is gone shows below
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
				return m.Error.err()
			case answer == nil:
				return nil
			default:
				if err := decoding.Unmarshal(m.Body, answer); err != nil {
					return fmt.Errorf("%w: answer to %s: %w", ErrProtocol, method, err)
				}
				return nil
			}
		}
	}
}

// Exists tells whether the root stands.
func (c *Client) Exists() bool { return c.opened.Exists }

// Abilities tells what the place can do.
func (c *Client) Abilities() fsys.Abilities { return c.opened.Abilities }

// Survey is site.Site's. What it found and what is recorded stays at the far end.
func (c *Client) Survey(ctx context.Context, believe bool) (*site.Survey, error) {
	out := &site.Survey{}
	if err := c.call(ctx, methodSurvey, believe, &out.Summary, nil); err != nil {
		return nil, err
	}
	c.survey, c.want, c.result = out, nil, nil
	return out, nil
}

// Compare is site.Site's. The far end compares; only what it does not know already is sent there.
func (c *Client) Compare(ctx context.Context, survey *site.Survey, want *site.Wanted, told func(int64)) (*diff.Result, error) {
	if survey != c.survey {
		return nil, errors.New("compare: it is not the last survey")
	}
	tree := manifest.Manifest{Entries: want.Entries}
	call := compareCall{Paths: len(want.Entries), Times: want.Rule.Times, Nothing: want.Rule.Nothing, Kept: want.Kept,
		Retire: wireRetire{want.Retire.After, want.Retire.Now, want.Retire.Last}}
	if survey.Number > 0 { // else nothing is recorded that could be the same
		call.Tree = tree.Tree()
	}
	var answer compareAnswer
	for stage := 0; !answer.Done; stage++ {
		switch {
		case stage > 2:
			return nil, fmt.Errorf("%w: it needs to know more and more", ErrProtocol)
		case answer.NeedDigests:
			call.Folders = digestFolders(want.Entries)
		case answer.NeedAll, stage == 0 && survey.Number == 0:
			call.Whole, call.Folders = true, nil
			call.Entries = manifest.Pack(want.Entries)
		case len(answer.NeedFolders) > 0:
			var err error
			if call.Entries, err = entriesOf(want.Entries, call.Folders, answer.NeedFolders); err != nil {
				return nil, err
			}
			call.Folders = nil
		case stage > 0:
			return nil, fmt.Errorf("%w: an answer that says nothing", ErrProtocol)
		}
		answer = compareAnswer{}
		if err := c.call(ctx, methodCompare, call, &answer, listener(&site.Watch{Bytes: told})); err != nil {
			return nil, err
		}
	}
	out := &diff.Result{Same: answer.Same, SameBytes: answer.SameBytes, Stale: answer.Stale}
	var err error
	if out.Changes, err = answer.changes(want.Entries); err != nil {
		return nil, err
	}
	for _, l := range answer.Leaving {
		out.Leaving = append(out.Leaving, diff.Leaving{Entry: manifest.Entry{Path: l.Path, Size: l.Size}, Until: time.Unix(l.Until, 0)})
	}
	c.want, c.result = want, out
	return out, nil
}

// mostSaid is how much the far end may say at once, in bytes.
const mostSaid = 4 << 10

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
func printable(s string) string { return fsys.Said(s, 100) }

// Deploy is site.Site's.
func (c *Client) Deploy(ctx context.Context, plan *site.Plan, watch *site.Watch) (*site.Outcome, error) {
	if plan.Result != c.result || c.result == nil {
		return nil, errors.New("deploy: it is not what was compared last")
	}
	call := deployCall{Last: plan.Last, Kept: plan.Kept, Generator: plan.Generator, Origin: plan.Origin,
		RemoveStrays: plan.RemoveStrays, MakeParents: plan.MakeParents, Partial: plan.Partial, Incomplete: plan.Incomplete,
		SendAll: plan.SendAll, History: plan.History, Rollback: plan.Rollback, Took: time.Since(plan.Started), Wait: plan.Wait}
	if err := c.widen(ctx, toSend(plan.Result)); err != nil {
		return nil, err
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
		for i, at := range n.Want {
			if at < 0 || at >= len(plan.Want) || plan.Want[at].Kind != manifest.File || n.Offsets[i] < 0 || n.Offsets[i] > plan.Want[at].Size {
				return fmt.Errorf("%w: it needs entry %d", ErrProtocol, at)
			}
			c.asked.Files++
			c.asked.Bytes += plan.Want[at].Size - n.Offsets[i]
		}
		feeders.Go(func() { newFeeder(c, plan, &n).run(feeding) })
		return nil
	}
	c.asked = Asked{}
	var out outcome
	if err := c.call(ctx, methodDeploy, call, &out, listen); err != nil {
		return nil, err
	}
	c.survey, c.result = nil, nil
	outcome := out.outcome()
	for i := range outcome.Failed {
		f := &outcome.Failed[i]
		at, ok := slices.BinarySearchFunc(plan.Want, f.Path, func(e manifest.Entry, p string) int { return strings.Compare(e.Path, p) })
		if ok {
			f.Err = plan.WhyWrong(ctx, f.Path, plan.Want[at].Digest, f.Err)
		}
	}
	return outcome, nil
}

// toSend gives how many bytes a deployment may have to send, at most.
func toSend(result *diff.Result) (bytes int64) {
	for i := range result.Changes {
		if c := &result.Changes[i]; c.Want != nil {
			bytes += c.Want.Size
		}
	}
	return bytes
}

// Recover is site.Site's.
func (c *Client) Recover(ctx context.Context, user string) (number int, err error) {
	return number, c.call(ctx, methodRecover, numberCall{User: user}, &number, nil)
}

// GiveUp is site.Site's.
func (c *Client) GiveUp(ctx context.Context, user string) (given *site.GivenUp, err error) {
	return given, c.call(ctx, methodGiveUp, numberCall{User: user}, &given, nil)
}

// Affirm is site.Site's.
func (c *Client) Affirm(ctx context.Context, number int, user string) error {
	return c.call(ctx, methodAffirm, numberCall{number, user}, nil, nil)
}

// Deployment is site.Site's.
func (c *Client) Deployment(ctx context.Context, number int) (*manifest.Manifest, error) {
	var text string
	if err := c.call(ctx, methodDeployment, numberCall{Number: number}, &text, nil); err != nil {
		return nil, err
	}
	return manifest.ReadJSON(strings.NewReader(text))
}

// History is site.Site's.
func (c *Client) History(ctx context.Context) (past []site.Past, err error) {
	return past, c.call(ctx, methodHistory, nil, &past, nil)
}

// Held is site.Site's.
func (c *Client) Held(ctx context.Context, survey *site.Survey, result *diff.Result) (missing []string, err error) {
	if survey != c.survey || result != c.result {
		return nil, errors.New("look for what is held: it is not what was compared last")
	}
	return missing, c.call(ctx, methodHeld, nil, &missing, nil)
}

// Verify is site.Site's.
func (c *Client) Verify(ctx context.Context, m *manifest.Manifest, strays bool, watch *site.Watch) (*site.Report, error) {
	call := verifyCall{Recorded: m == nil, Strays: strays}
	if m != nil {
		call.Entries = manifest.Pack(m.Entries)
	}
	if watch == nil {
		watch = &site.Watch{}
	}
	out := &site.Report{}
	return out, c.call(ctx, methodVerify, call, out, listener(watch))
}

// Examine is site.Site's.
func (c *Client) Examine(ctx context.Context) (checks []site.Check, err error) {
	err = c.call(ctx, methodExamine, nil, &checks, nil)
	for i := range checks {
		for _, text := range []*string{&checks[i].Name, &checks[i].Found, &checks[i].Mend} {
			*text = fsys.Said(*text, mostSaid)
		}
	}
	return checks, err
}

// Unfinished is site.Site's.
func (c *Client) Unfinished(ctx context.Context) (unfinished bool, err error) {
	return unfinished, c.call(ctx, methodUnfinished, nil, &unfinished, nil)
}

// Locked is site.Site's.
func (c *Client) Locked(ctx context.Context) (holder *site.Holder, err error) {
	return holder, c.call(ctx, methodLocked, nil, &holder, nil)
}

// Unlock is site.Site's.
func (c *Client) Unlock(ctx context.Context, holder *site.Holder) error {
	return c.call(ctx, methodUnlock, holder, nil, nil)
}

// Stands is site.Site's.
func (c *Client) Stands(ctx context.Context, paths []string, told func(int64)) (*site.Standing, error) {
	var answer standing
	if err := c.call(ctx, methodStands, standsCall{paths}, &answer, listener(&site.Watch{Bytes: told})); err != nil {
		return nil, err
	}
	found, err := answer.Entries.Unpack()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrProtocol, err)
	}
	out := &site.Standing{Entries: found, Left: failuresFromWire(answer.Left)}
	for _, e := range answer.Raw {
		if err := manifest.CheckBytes(string(e.Path)); err != nil || e.Size < 0 {
			return nil, fmt.Errorf("%w: a file that is called %q", ErrProtocol, e.Path)
		}
		out.Raw = append(out.Raw, manifest.Entry{Path: string(e.Path), Size: e.Size, Mode: fs.FileMode(e.Mode).Perm(), Digest: e.Digest, ModTime: time.Unix(0, e.Time)})
	}
	return out, nil
}

// Gather is site.Site's.
func (c *Client) Gather(ctx context.Context, paths []string, each func(i int, content []byte, err error)) error {
	var answer []gathered
	if err := c.call(ctx, methodGather, gatherCall{paths}, &answer, nil); err != nil {
		return err
	}
	if len(answer) != len(paths) {
		return fmt.Errorf("%w: %d files for %d", ErrProtocol, len(answer), len(paths))
	}
	for i, g := range answer {
		var err error
		if g.Error != nil {
			err = g.Error.err()
		}
		each(i, g.Content, err)
	}
	return nil
}

// ReadPath is site.Site's.
func (c *Client) ReadPath(ctx context.Context, path string) (io.ReadCloser, error) {
	return InStretches(ctx, path, c.Stretch)
}

// Stretch reads a part of a file from an offset on, and tells whether it is the last.
func (c *Client) Stretch(ctx context.Context, path string, offset int64) (content []byte, end bool, err error) {
	var answer readAnswer
	if err := c.call(ctx, methodRead, readCall{path, offset}, &answer, nil); err != nil {
		return nil, false, err
	}
	if len(answer.Content) == 0 && !answer.End {
		return nil, false, fmt.Errorf("%w: nothing was read", ErrProtocol)
	}
	return answer.Content, answer.End, nil
}

// InStretches opens a file that is read a stretch at a time.
func InStretches(ctx context.Context, path string, stretch func(ctx context.Context, path string, offset int64) (content []byte, end bool, err error)) (io.ReadCloser, error) {
	r := &remoteFile{ctx: ctx, path: path, stretch: stretch}
	return r, r.fill()
}

// remoteFile is a file that is read a stretch at a time.
type remoteFile struct {
	ctx     context.Context
	path    string
	stretch func(ctx context.Context, path string, offset int64) (content []byte, end bool, err error)
	at      int64
	now     bytes.Reader
	end     bool
}

func (r *remoteFile) fill() error {
	content, end, err := r.stretch(r.ctx, r.path, r.at)
	if err != nil {
		return err
	}
	r.at += int64(len(content))
	r.now.Reset(content)
	r.end = end
	return nil
}

func (r *remoteFile) Read(p []byte) (int, error) {
	for r.now.Len() == 0 {
		if r.end {
			return 0, io.EOF
		}
		if err := r.fill(); err != nil {
			return 0, err
		}
	}
	return r.now.Read(p)
}

func (r *remoteFile) Close() error { return nil }
