//go:build linux

package agent

import (
	"bufio"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"regexp"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/farend"
	"tartine/internal/site"
)

// highLatency is a connection with a long round trip.
type highLatency struct{ net.Conn }

func (l highLatency) Write(p []byte) (int, error) {
	<-time.After(40 * time.Millisecond)
	return l.Conn.Write(p)
}

// laneShell is a shell that can only start lanes, and stops what a lane carries after so many bytes.
func laneShell(t *testing.T, carried *atomic.Int64, most int64) func(context.Context) (Stream, error) {
	command := regexp.MustCompile(`^exec '(.*)' far-end --lane '(.*)' --marker '(.*)'\n$`)
	return func(context.Context) (Stream, error) {
		near, far := net.Pipe()
		go func() {
			defer far.Close()
			in := bufio.NewReader(far)
			line, err := in.ReadString('\n')
			parts := command.FindStringSubmatch(line)
			if err != nil || parts == nil {
				t.Errorf("a lane is started with %q: %v", line, err)
				return
			}
			_ = Lane(io.TeeReader(io.LimitReader(in, most), tally{carried}), far, parts[2], parts[3])
		}()
		return near, nil
	}
}

type tally struct{ n *atomic.Int64 }

func (c tally) Write(p []byte) (int, error) {
	c.n.Add(int64(len(p)))
	return len(p), nil
}

// manyPlates is content that does not pack, as it might on a busy machine.
func manyPlates() content {
	c := site1()
	noise := rand.NewChaCha8([32]byte{})
	for i := range 8 {
		plate := make([]byte, 3_200_000)
		_, _ = noise.Read(plate) // never fails
		c[fmt.Sprintf("img/large-%d.tif", i)] = string(plate)
	}
	return c
}

func TestMuchContentOverALongLineTakesSeveralLanes(t *testing.T) {
	dir := t.TempDir()
	near, far := net.Pipe()
	client := sessionOver(t, dir, highLatency{near}, far)
	var carried atomic.Int64
	client.Widen(laneShell(t, &carried, 1<<40))
	first := manyPlates()
	first.deploy(t, client)
	require.Equal(t, first, stands(t, dir))
	require.Greater(t, client.Lanes(), 1)
	require.Greater(t, carried.Load(), int64(20<<20), "all content went over them")
}

func TestALaneThatBreaksEndsTheSession(t *testing.T) {
	near, far := net.Pipe()
	client := sessionOver(t, t.TempDir(), highLatency{near}, far)
	var carried atomic.Int64
	client.Widen(laneShell(t, &carried, 2<<20))
	_, err := deployed(t.Context(), client, manyPlates().compare(t, client), &site.Watch{})
	require.ErrorIs(t, err, farend.ErrLost)
}

func TestLanesThatCannotBeStartedAreDoneWithout(t *testing.T) {
	dir := t.TempDir()
	near, far := net.Pipe()
	client := sessionOver(t, dir, highLatency{near}, far)
	client.Widen(func(context.Context) (Stream, error) { return nil, farend.ErrUnsupported })
	first := manyPlates()
	first.deploy(t, client)
	require.Zero(t, client.Lanes())
	require.Equal(t, first, stands(t, dir))
}

func TestALaneTakesNoFrameTwice(t *testing.T) {
	s := &server{inbox: newInbox(), order: newNumbering(), over: make(chan struct{})}
	out, in, err := os.Pipe()
	require.NoError(t, err)
	defer out.Close()
	l := newLink(nil, in)
	require.NoError(t, l.send(helloFrame))
	number := binary.BigEndian.AppendUint64(nil, 0)
	require.NoError(t, l.send(contentFrame, number, []byte{0, 0}))
	require.NoError(t, l.send(contentFrame, number, []byte{0, 0}))
	require.ErrorIs(t, s.receiveLane(t.Context(), out, io.NopCloser(nil)), ErrProtocol)
}
