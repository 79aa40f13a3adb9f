package engine

import (
	"archive/tar"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"tartine/internal/farend"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/client"
)

// Stream is the standard input and output of a program in a container.
type Stream struct {
	io.Reader
	hijacked client.ExecAttachResult
	words    *strings.Builder
	engine   *Engine
	id       string
}

// Write writes to the program's standard input.
func (s *Stream) Write(p []byte) (int, error) { return s.hijacked.Conn.Write(p) }

// Close ends the connection, and with it the program's standard input.
func (s *Stream) Close() error {
	_ = s.hijacked.CloseWrite() // it may have ended
	return s.hijacked.Conn.Close()
}

// CloseWrite ends the program's standard input.
func (s *Stream) CloseWrite() error { return s.hijacked.CloseWrite() }

// Ended tells with which status the program has ended, if it has.
func (s *Stream) Ended(ctx context.Context) (status int, ended bool) {
	found, err := s.engine.api.ExecInspect(ctx, s.id, client.ExecInspectOptions{})
	if err != nil || found.Running {
		return 0, false
	}
	return found.ExitCode, true
}

// Said gives what the program wrote to its standard error, up to a KiB. It is whole once reading has ended.
func (s *Stream) Said() string { return strings.TrimSpace(s.words.String()) }

// Exec starts a program in a container that runs, as a user; empty: as the container does.
func (c *Container) Exec(ctx context.Context, user string, command ...string) (*Stream, error) {
	created, err := c.engine.api.ExecCreate(ctx, c.ID, client.ExecCreateOptions{User: user, Cmd: command,
		AttachStdin: true, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return nil, fmt.Errorf("start %s: %w", command[0], said{err})
	}
	attached, err := c.engine.api.ExecAttach(ctx, created.ID, client.ExecAttachOptions{})
	if err != nil {
		return nil, fmt.Errorf("start %s: %w", command[0], said{err})
	}
	s := &Stream{hijacked: attached, words: &strings.Builder{}, engine: c.engine, id: created.ID}
	s.Reader = &output{in: attached.Reader, words: s.words}
	return s, nil
}

// output takes a program's standard output out of the engine's stream, in which each piece has a head of eight bytes:
// which of the three streams it belongs to, three zero bytes, and its length, the highest byte first.
type output struct {
	in    io.Reader
	left  uint32
	words *strings.Builder
}

// mostWords is how much of a program's standard error is kept, in bytes.
const mostWords = 1 << 10

func (o *output) Read(p []byte) (int, error) {
	for o.left == 0 {
		var head [8]byte
		if _, err := io.ReadFull(o.in, head[:]); err != nil {
			return 0, io.EOF
		}
		length := binary.BigEndian.Uint32(head[4:])
		switch head[0] {
		case 1:
			o.left = length
		case 0, 2, 3:
			kept := min(int64(length), int64(mostWords-o.words.Len()))
			if _, err := io.CopyN(o.words, o.in, kept); err != nil {
				return 0, io.EOF
			}
			if _, err := io.CopyN(io.Discard, o.in, int64(length)-kept); err != nil {
				return 0, io.EOF
			}
		default: // the engine itself speaks
			o.words.Write(head[:])
			_, _ = io.CopyN(o.words, o.in, mostWords-8) // as much as comes
			return 0, io.EOF
		}
	}
	n, err := o.in.Read(p[:min(len(p), int(o.left))])
	o.left -= uint32(n)
	return n, err
}

// ErrRuns tells that an engine does not reach the files of a container while it runs, as with some kinds of isolation.
var ErrRuns = errors.New("its files cannot be reached while it runs")

// Put unpacks an archive (tar) into a folder that exists in a container.
func (c *Container) Put(ctx context.Context, folder string, archive io.Reader) error {
	_, err := c.engine.api.CopyToContainer(ctx, c.ID, client.CopyToContainerOptions{DestinationPath: folder,
		Content: archive, AllowOverwriteDirWithFile: true, CopyUIDGID: false})
	if err != nil {
		return fmt.Errorf("unpack into %s: %w", folder, said{err})
	}
	return nil
}

// Get packs what is at a path of a container into an archive (tar). It fails with fs.ErrNotExist where nothing does.
func (c *Container) Get(ctx context.Context, path string) (io.ReadCloser, error) {
	got, err := c.engine.api.CopyFromContainer(ctx, c.ID, client.CopyFromContainerOptions{SourcePath: path})
	if err != nil {
		return nil, c.failed("read", path, err)
	}
	return got.Content, nil
}

// ownFile is a file that engines put into every container as its root's.
const ownFile = "/.dockerenv"

// Root gives the numbers that the container's root has in archives. Where users of containers are others outside, some
// engines write those of outside into the archives that they give, and take those of inside in what they get.
func (c *Container) Root(ctx context.Context) (user, group int, err error) {
	archive, err := c.Get(ctx, ownFile)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, 0, nil
	}
	if err != nil {
		return 0, 0, err
	}
	defer archive.Close()
	head, err := tar.NewReader(archive).Next()
	if err != nil {
		return 0, 0, fmt.Errorf("read the engine's archive of %s: %w", ownFile, err)
	}
	return head.Uid, head.Gid, nil
}

// IsFolder tells whether a folder is at a path of a container. It fails with fs.ErrNotExist where nothing does.
func (c *Container) IsFolder(ctx context.Context, path string) (bool, error) {
	found, err := c.engine.api.ContainerStatPath(ctx, c.ID, client.ContainerStatPathOptions{Path: path})
	return found.Stat.Mode.IsDir(), c.failed("look up", path, err)
}

// Has tells whether something exists at a path of a container.
func (c *Container) Has(ctx context.Context, path string) (bool, error) {
	_, err := c.engine.api.ContainerStatPath(ctx, c.ID, client.ContainerStatPathOptions{Path: path})
	if errdefs.IsNotFound(err) {
		return false, nil
	}
	return err == nil, c.failed("look up", path, err)
}

func (c *Container) failed(op, path string, err error) error {
	switch {
	case err == nil:
		return nil
	case errdefs.IsNotFound(err):
		err = fs.ErrNotExist
	case c.Running && (errdefs.IsInternal(err) || errdefs.IsNotImplemented(err)):
		err = ErrRuns
	}
	return fmt.Errorf("%s %s: %w", op, path, said{err})
}

// Stop stops a container; Start starts it.
func (c *Container) Stop(ctx context.Context) error {
	_, err := c.engine.api.ContainerStop(ctx, c.ID, client.ContainerStopOptions{})
	return c.done("stop", err)
}

// Start starts a container that was stopped.
func (c *Container) Start(ctx context.Context) error {
	_, err := c.engine.api.ContainerStart(ctx, c.ID, client.ContainerStartOptions{})
	return c.done("start", err)
}

// Restart stops a container and starts it again.
func (c *Container) Restart(ctx context.Context) error {
	_, err := c.engine.api.ContainerRestart(ctx, c.ID, client.ContainerRestartOptions{})
	return c.done("restart", err)
}

// Signal sends a signal to the first program of a container.
func (c *Container) Signal(ctx context.Context, signal string) error {
	_, err := c.engine.api.ContainerKill(ctx, c.ID, client.ContainerKillOptions{Signal: signal})
	return c.done("signal", err)
}

// said is an error that an engine tells, whose words are fit to be shown.
type said struct{ error }

// mostSaid is how much of an engine's words is shown, in bytes.
const mostSaid = 600

func (s said) Error() string {
	text := s.error.Error()
	if own, ok := strings.CutPrefix(text, "Error response from daemon: "); ok {
		text = "the engine says: " + own
	}
	return farend.Said(text, mostSaid)
}

func (s said) Unwrap() error { return s.error }

func (*Container) done(what string, err error) error {
	if err != nil {
		return fmt.Errorf("%s it: %w", what, said{err})
	}
	return nil
}
