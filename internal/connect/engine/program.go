package engine

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/moby/moby/client"

	"tartine/internal/farend"
)

// withNumber has a shell tell its number, which is that of the program then.
const withNumber = `echo "$0-$$"; exec "$@"`

// Run runs a program in a container that runs, as the container's own user, and gives its exit status. When the context
// ends the program is interrupted, where there is a shell beside it; else it is let go.
func (c *Container) Run(ctx context.Context, p *farend.Program) (int, error) {
	folder := p.Folder
	if is, err := c.IsFolder(ctx, folder); err != nil || !is {
		if folder = ""; !p.Anywhere {
			return 0, &farend.NotStartedError{Folder: p.Folder}
		}
	}
	env := p.Env
	if p.Named != "" {
		env = append(slices.Clone(env), p.Named+"="+p.Folder)
	}
	opt := client.ExecCreateOptions{Cmd: p.Args, WorkingDir: folder, Env: env, AttachStdin: true, AttachStdout: true, AttachStderr: true}
	attach := client.ExecAttachOptions{}
	marker := "tartine-" + rand.Text()
	outlet := &farend.Outlet{To: p.Out}
	gate := farend.NewGate(marker, outlet)
	out := io.Writer(outlet)
	if t := p.Terminal; t != nil {
		size := client.ConsoleSize{Height: uint(max(t.Height, 0)), Width: uint(max(t.Width, 0))}
		opt.TTY, opt.ConsoleSize, opt.Env = true, size, append(slices.Clone(env), "TERM="+t.Kind)
		attach.TTY, attach.ConsoleSize = true, size
	} else if has, err := c.Has(ctx, "/bin/sh"); err == nil && has {
		opt.Cmd, out = append([]string{"/bin/sh", "-c", withNumber, marker}, p.Words()...), gate
	}
	api := c.engine.api
	created, err := api.ExecCreate(ctx, c.ID, opt)
	if err != nil {
		return 0, &farend.NotStartedError{Said: said{err}.Error()}
	}
	lasting := context.WithoutCancel(ctx)
	attached, err := api.ExecAttach(lasting, created.ID, attach)
	if err != nil {
		return 0, &farend.NotStartedError{Said: said{err}.Error()}
	}
	defer attached.Close()
	outlet.Broken = func() { attached.Close() }
	go func() { // reading may last longer than the program does
		if p.In != nil && (p.Wrap == nil || out == io.Writer(gate)) {
			_, _ = io.Copy(attached.Conn, p.In) // the program need not read it
		}
		_ = attached.CloseWrite()
	}()
	running, ended := context.WithCancel(lasting)
	defer ended()
	letGo := func() { attached.Close() }
	go farend.Attend(ctx, running, p.Terminal, func() { c.interrupt(running, gate, letGo) }, letGo, func(width, height int) {
		_, _ = api.ExecResize(running, created.ID, client.ExecResizeOptions{Width: uint(max(width, 0)), Height: uint(max(height, 0))}) // else it keeps the size it had
	})
	if p.Terminal != nil {
		_, err = io.Copy(outlet, attached.Reader)
	} else {
		err = separate(attached.Reader, out, p.Err)
	}
	found, failed := api.ExecInspect(lasting, created.ID, client.ExecInspectOptions{})
	switch {
	case outlet.Gone():
		return farend.BrokenStatus, nil
	case failed != nil:
		return 0, fmt.Errorf("%w: %w", farend.ErrLost, said{failed})
	case found.Running && ctx.Err() != nil:
		return interrupted, nil
	case found.Running:
		return 0, fmt.Errorf("%w: %w", farend.ErrLost, errors.Join(err, io.ErrUnexpectedEOF))
	}
	return found.ExitCode, nil
}

// interrupted is the status of a program that signal 2 ended.
const interrupted = 128 + 2

// interrupt sends the interrupt signal to a program that has told its number. One that has not is let go.
func (c *Container) interrupt(ctx context.Context, gate *farend.Gate, letGo func()) {
	select {
	case word := <-gate.Opened:
		stream, err := c.Exec(ctx, "", "/bin/sh", "-c", `kill -INT "$1"`, "sh", strings.TrimPrefix(word, "-"))
		if err == nil {
			_, _ = io.Copy(io.Discard, stream)
			stream.Close()
		}
	default:
		letGo()
	}
}

// separate parts the engine's stream into standard output and standard error; see output.
func separate(in io.Reader, out, errs io.Writer) error {
	for {
		var head [8]byte
		if _, err := io.ReadFull(in, head[:]); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		to := out
		switch head[0] {
		case 0, 1:
		case 2:
			to = errs
		default: // the engine itself speaks
			_, err := io.Copy(errs, io.MultiReader(strings.NewReader(string(head[:])), in))
			return err
		}
		if _, err := io.CopyN(to, in, int64(binary.BigEndian.Uint32(head[4:]))); err != nil {
			return err
		}
	}
}
