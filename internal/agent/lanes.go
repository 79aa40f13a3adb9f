package agent

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"strings"
	"sync"
	"time"
)

// A channel of an SSH connection carries no more than its window in one round trip, however wide the connection is.
// Where that holds content up it is sent over several channels, called lanes. Each ends in a process of the same
// program, which passes what comes on into a pipe of the agent and does nothing else. Frames of content are numbered,
// and the agent takes them in the order of their numbers, whichever lane brings them; everything else stays on the
// first channel.

// When lanes are used, and how many.
const (
	lanesFrom  = 16 << 20  // bytes to be sent
	laneWindow = 2 << 20   // bytes under way in one channel of OpenSSH's server
	laneRate   = 125 << 20 // bytes a second that are tried for
	mostLanes  = 6         // OpenSSH's server gives ten sessions a connection
)

// laneGrace is how long the session may go on after a lane has ended: usually both end together.
const laneGrace = 10 * time.Second

type (
	lanesCall struct {
		Count int `cbor:"count"`
	}
	lanesAnswer struct {
		Program string   `cbor:"program"` // which program leads to the pipes; empty: there can be no lanes
		Ends    []string `cbor:"ends"`    // the pipes
	}
)

// numbering puts frames of content from several lanes in order.
type numbering struct {
	mu      sync.Mutex
	next    uint64
	changed chan struct{} // closed, and made anew, when next goes on
}

func newNumbering() *numbering { return &numbering{changed: make(chan struct{})} }

// advance counts one frame that was taken.
func (n *numbering) advance() {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.next++
	close(n.changed)
	n.changed = make(chan struct{})
}

// await waits until a frame is the next.
func (n *numbering) await(ctx context.Context, number uint64) error {
	for {
		n.mu.Lock()
		next, changed := n.next, n.changed
		n.mu.Unlock()
		switch {
		case next == number:
			return nil
		case next > number:
			return fmt.Errorf("%w: frame %d after %d", ErrProtocol, number, next)
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// doLanes makes pipes for lanes. A count of zero only tells that somebody is there.
func (s *server) doLanes(m *message) (any, error) {
	var call lanesCall
	if err := decoding.Unmarshal(m.Body, &call); err != nil {
		return nil, err
	}
	if call.Count < 0 || call.Count > mostLanes || call.Count > 0 && s.lanes != nil {
		return nil, fmt.Errorf("%w: %d lanes", ErrProtocol, call.Count)
	}
	answer := lanesAnswer{}
	if runtime.GOOS != "linux" || call.Count == 0 {
		return answer, nil
	}
	answer.Program = fmt.Sprintf("/proc/%d/exe", os.Getpid())
	for range call.Count {
		out, in, err := os.Pipe()
		if err != nil {
			break // fewer will do
		}
		answer.Ends = append(answer.Ends, fmt.Sprintf("/proc/%d/fd/%d", os.Getpid(), in.Fd()))
		s.lanes = append(s.lanes, out, in)
		s.watching.Go(func() {
			if err := s.receiveLane(s.ctx, out, in); err != nil && s.ctx.Err() == nil {
				s.cancel(err)
			}
		})
	}
	return answer, nil
}

func (s *server) closeLanes() {
	for _, end := range s.lanes {
		end.Close()
	}
}

// receiveLane takes content from a lane until that ends. In is the agent's own end for writing, which is closed once
// the lane has its own: then the end of the lane is seen.
func (s *server) receiveLane(ctx context.Context, out io.Reader, in io.Closer) error {
	l := newLink(out, io.Discard)
	k, _, err := l.receive()
	if err != nil {
		return nil // the session has ended, or nobody came
	}
	in.Close()
	if k != helloFrame {
		return fmt.Errorf("%w: a lane that begins with a frame of kind %q", ErrProtocol, k)
	}
	for {
		k, payload, err := l.receive()
		if err != nil {
			// The first channel says what has become of the connection, if both are gone.
			select {
			case <-s.over:
				return nil
			case <-ctx.Done():
				return nil
			case <-time.After(laneGrace):
				return fmt.Errorf("a lane has ended: %w", err)
			}
		}
		if k != contentFrame || len(payload) < 8 {
			return fmt.Errorf("%w: a frame of kind %q in a lane", ErrProtocol, k)
		}
		if err := s.order.await(ctx, binary.BigEndian.Uint64(payload)); err != nil {
			return err
		}
		if err := s.inbox.push(payload[8:]); err != nil {
			return err
		}
		s.order.advance()
	}
}

// Lane passes what comes from a stream on into the pipe of an agent, until the stream ends. Marker begins the line that
// tells that it is about to.
func Lane(in io.Reader, out io.Writer, end, marker string) error {
	info, err := os.Stat(end)
	if err != nil {
		return err
	}
	if info.Mode().Type() != fs.ModeNamedPipe {
		return fmt.Errorf("%s is not a pipe", end)
	}
	pipe, err := os.OpenFile(end, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer pipe.Close()
	if err := newLink(nil, pipe).send(helloFrame); err != nil {
		return err
	}
	if err := Ready(out, marker); err != nil {
		return err
	}
	_, err = io.Copy(pipe, in)
	return err
}

// Widen says how to get to another shell at the far end, over the same connection. Then much content goes over several
// lanes where the round trip is long.
func (c *Client) Widen(open func(ctx context.Context) (Stream, error)) { c.another = open }

// lane is a numbered frame on its way.
type numbered struct {
	number     uint64
	head, body []byte
}

// widen opens lanes where they pay for so many bytes. Without them everything goes on over the first channel.
func (c *Client) widen(ctx context.Context, bytes int64) error {
	if c.another == nil || c.lanes != nil || bytes < lanesFrom {
		return nil
	}
	var answer lanesAnswer
	trip := time.Hour
	for range 3 { // a busy machine may answer late once
		began := time.Now()
		if err := c.call(ctx, methodLanes, lanesCall{}, into(&answer), nil); err != nil {
			return err
		}
		trip = min(trip, time.Since(began))
		if int(trip.Seconds()*laneRate/laneWindow) < 2 { // one carries enough
			return nil
		}
	}
	count := min(int(trip.Seconds()*laneRate/laneWindow), mostLanes)
	if err := c.call(ctx, methodLanes, lanesCall{Count: count}, into(&answer), nil); err != nil {
		return err
	}
	open := c.another
	c.another = nil // once in a session
	if answer.Program == "" || len(answer.Ends) > mostLanes || strings.Contains(answer.Program, "'") {
		return nil
	}
	lanes := make(chan numbered)
	var opening sync.WaitGroup
	var mu sync.Mutex
	for _, end := range answer.Ends {
		opening.Go(func() {
			stream, err := openLane(ctx, open, answer.Program, end)
			if err != nil {
				return // the others do more
			}
			mu.Lock()
			defer mu.Unlock()
			c.ends = append(c.ends, stream)
			c.working.Go(func() { c.drive(stream, lanes) })
		})
	}
	opening.Wait()
	if len(c.ends) > 1 { // one is no better than the first channel
		c.lanes = lanes
		c.useWindow()
	}
	return ctx.Err()
}

// Lanes tells over how many lanes content is sent; 0: over the first channel.
func (c *Client) Lanes() int {
	if c.lanes == nil {
		return 0
	}
	return len(c.ends)
}

// openLane has a lane started behind a shell.
func openLane(ctx context.Context, open func(context.Context) (Stream, error), program, end string) (Stream, error) {
	if strings.Contains(end, "'") {
		return nil, fmt.Errorf("%w: a lane to %q", ErrProtocol, end)
	}
	stream, err := open(ctx)
	if err != nil {
		return nil, err
	}
	marker := Marker()
	if _, err = fmt.Fprintf(stream, laneScript, program, end, marker); err == nil {
		_, err = Await(ctx, stream, marker)
	}
	if err != nil {
		stream.Close()
		return nil, err
	}
	return stream, nil
}

// laneScript starts a lane.
const laneScript = "exec '%s' far-end --lane '%s' --marker '%s'\n"

// drive sends frames over one lane. When that breaks, the whole line is given up: a frame is lost.
func (c *Client) drive(stream Stream, lanes <-chan numbered) {
	l := newLink(nil, stream)
	for {
		select {
		case f := <-lanes:
			if l.send(contentFrame, binary.BigEndian.AppendUint64(nil, f.number), f.head, f.body) != nil {
				c.stream.Close()
				return
			}
		case <-c.quit:
			return
		}
	}
}

// sendContent sends a frame of content, over whichever lane has room.
func (c *Client) sendContent(ctx context.Context, head, body []byte) error {
	number := c.frames
	c.frames++
	if c.lanes == nil {
		return c.send(contentFrame, head, body)
	}
	select {
	case c.lanes <- numbered{number, head, body}:
		return nil
	case <-c.quit:
		return io.ErrClosedPipe
	case <-ctx.Done():
		return ctx.Err()
	}
}
