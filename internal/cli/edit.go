package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"os/signal"
	"path"
	"path/filepath"
	"runtime"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"tartine/internal/deploy"
	"tartine/internal/manifest"
	"tartine/internal/render"
)

// mostEdited is how large a file may be that is edited, in bytes.
const mostEdited = 16 << 20

func (a *app) editCommand() *cobra.Command {
	keepOpen := false
	cmd := a.handCommand("edit [TARGET] PATH", "Edit a text file at the site",
		`Edit brings a text file of the site into a private folder here, opens it in $VISUAL or $EDITOR, and sends it back when the
editor ends: checked by digest, and named by one rename, if the file there is still the one that was brought. Where it is not,
the difference is shown, and one question asked. What cannot be sent stays here, and it is said where.

With --keep-open each save is sent while the editor is open. History shows them as one.`, 1,
		func(ctx context.Context, w *handwork, at *hand, args []string) (*change, error) {
			if len(args) > 1 {
				return nil, usageError("edit is for one file, and several are named", "")
			}
			p, err := sitePath(args[0])
			if err != nil {
				return nil, err
			}
			e := &edit{hand: at, path: p}
			if keepOpen {
				w.own.options.Watched = &manifest.Watched{ID: rand.Text(), Since: time.Now().UTC().Truncate(time.Second)}
				e.save = func(ctx context.Context, c *change) (*deploy.Result, error) {
					return c.put(ctx, w.session(ctx, at, true))
				}
			}
			return e.run(ctx, w.own.options.Trial)
		})
	cmd.Flags().BoolVar(&keepOpen, "keep-open", false, "send each save while the editor is open")
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx, stop := a.ownInterrupts(cmd.Context())
		defer stop()
		cmd.SetContext(ctx)
		err := run(cmd, args)
		if err != nil && ctx.Err() != nil && !errors.As(err, new(*statusError)) {
			return errInterrupted
		}
		return err
	}
	return cmd
}

// ownInterrupts has Ctrl-C end the context that it gives, but for the time in which an editor is open, which takes it for
// itself.
func (a *app) ownInterrupts(ctx context.Context) (own context.Context, stop func()) {
	own, cancel := context.WithCancel(ctx)
	signal.Reset(os.Interrupt)
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt)
	go func() {
		for range signals {
			if !a.editing.Load() {
				cancel()
			}
		}
	}()
	return own, func() {
		signal.Stop(signals)
		close(signals)
		cancel()
	}
}

// edit is a file of the site that is edited here.
type edit struct {
	*hand
	path   string
	before *manifest.Entry // what is there, as far as is known
	was    []byte          // its text
	name   string          // of the copy here

	save  func(ctx context.Context, c *change) (*deploy.Result, error) // sends one save; nil: the last is sent
	saves int
	tried []byte // what was to be sent last
}

// run has the file edited, and gives the change that is left to be made.
func (e *edit) run(ctx context.Context, trial bool) (*change, error) {
	var err error
	if e.before, e.was, err = e.text(ctx, e.path); err != nil {
		return nil, err
	}
	if trial {
		return &change{}, nil
	}
	dir, err := os.MkdirTemp("", "tartine-edit-*")
	if err != nil {
		return nil, err
	}
	e.name = filepath.Join(dir, path.Base(e.path))
	if err := os.WriteFile(e.name, e.was, 0o600); err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	failed := e.open(ctx)
	now, err := os.ReadFile(e.name)
	switch {
	case err == nil && bytes.Equal(now, e.was):
		return &change{saves: e.saves, saved: e.path}, errors.Join(failed, os.RemoveAll(dir))
	case failed != nil:
		return nil, stays(failed, e.name)
	case err != nil:
		return nil, stays(err, e.name)
	}
	if err := e.stillThere(ctx, e.path, e.before, now); err != nil {
		return nil, stays(err, e.name)
	}
	c := e.change(now)
	c.edited = e.name
	return c, nil
}

// change gives what makes the file at the site another text.
func (e *edit) change(now []byte) *change {
	entry := *e.before
	entry.Size, entry.Digest, entry.ModTime = int64(len(now)), sha256.Sum256(now), time.Now().Truncate(time.Second)
	return &change{entries: []manifest.Entry{entry}, open: func(string) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(now)), nil }}
}

// open opens the editor until it ends, and meanwhile sends what is saved if that is wanted.
func (e *edit) open(ctx context.Context) error {
	e.app.editing.Store(true)
	defer e.app.editing.Store(false)
	if e.save == nil {
		return openEditor(ctx, e.app, e.name)
	}
	ended := make(chan error, 1)
	go func() { ended <- openEditor(ctx, e.app, e.name) }()
	tick := time.NewTicker(saveEvery)
	defer tick.Stop()
	var last fs.FileInfo
	for {
		select {
		case err := <-ended:
			return err
		case <-tick.C:
		}
		info, err := os.Stat(e.name)
		if err != nil { // it is being replaced
			continue
		}
		settled := last != nil && info.Size() == last.Size() && info.ModTime().Equal(last.ModTime())
		if last = info; !settled {
			continue
		}
		if now, err := os.ReadFile(e.name); err == nil && !bytes.Equal(now, e.was) {
			e.sendSave(ctx, now)
		}
	}
}

// saveEvery is how often a file is looked at that is open in an editor. A save is sent when it is as old.
const saveEvery = 100 * time.Millisecond

// sendSave sends what was saved, if nobody altered the file there meanwhile. An editor may have the terminal, so that
// nothing is said and nothing asked: what could not be sent is when the editor ends.
func (e *edit) sendSave(ctx context.Context, now []byte) {
	if bytes.Equal(now, e.tried) {
		return
	}
	e.tried = now
	there, _, err := e.text(ctx, e.path)
	if err != nil || there.Digest != e.before.Digest {
		return
	}
	c := e.change(now)
	result, err := e.save(ctx, c)
	if err != nil || result.Outcome == nil || len(result.Outcome.Failed) > 0 {
		return
	}
	e.before, e.was = &c.entries[0], now
	e.saves++
}

// stays says where an edited copy is that was not sent.
func stays(err error, name string) error {
	e := sentence(err)
	return &statusError{status: e.status, what: e.what, paths: e.paths,
		next: strings.TrimPrefix(e.next+"; what you wrote is in "+name, "; ")}
}

// text gives a text file of the site.
func (h *hand) text(ctx context.Context, p string) (*manifest.Entry, []byte, error) {
	entries, err := h.stands(ctx, []string{p})
	if err != nil {
		return nil, nil, err
	}
	if len(entries) != 1 || entries[0].Path != p || entries[0].Kind != manifest.File {
		return nil, nil, usageError(render.Name(p)+" is not a file", "tartine ls shows what is there")
	}
	if entries[0].Size > mostEdited {
		return nil, nil, usageError(fmt.Sprintf("%s has %s, which is too much to be edited", render.Name(p), render.Bytes(entries[0].Size)), "tartine fetch brings it here, and tartine send puts it back")
	}
	file, err := h.site.Open(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, mostEdited+1))
	switch {
	case err != nil:
		return nil, nil, err
	case manifest.Digest(sha256.Sum256(text)) != entries[0].Digest:
		return nil, nil, &statusError{status: ExitIncomplete, what: render.Name(p) + " changed while it was read", next: "run it again"}
	case !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0:
		return nil, nil, usageError(render.Name(p)+" is not a text", "tartine fetch brings it here, and tartine send puts it back")
	}
	return &entries[0], text, nil
}

// stillThere asks before a file is replaced that is not the one that was brought.
func (h *hand) stillThere(ctx context.Context, p string, before *manifest.Entry, now []byte) error {
	var there []byte
	entry, text, err := h.text(ctx, p)
	switch {
	case err == nil && entry.Digest == before.Digest:
		return nil
	case err == nil:
		there = text
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	h.app.printer().TextWritten(p, string(there), string(now))
	return h.sure("the file was altered at the site meanwhile, and would be replaced by what you wrote", []string{p})
}

// editors are what is looked for where no editor is named.
var editors = []string{"sensible-editor", "nano", "vi"}

// openEditor has a person edit a file.
func openEditor(ctx context.Context, a *app, name string) error {
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	for _, known := range editors {
		if _, err := exec.LookPath(known); err == nil && editor == "" {
			editor = known
		}
	}
	var cmd *exec.Cmd
	switch {
	case runtime.GOOS == "windows":
		words := strings.Fields(editor)
		if len(words) == 0 {
			words = []string{"notepad"}
		}
		cmd = exec.CommandContext(ctx, words[0], append(words[1:], name)...)
	case editor == "":
		return usageError("no editor is known: neither $VISUAL nor $EDITOR is set", "set EDITOR, as in EDITOR=nano")
	default: // it may have options, as the shell reads them; Ctrl-C is for it alone
		cmd = exec.CommandContext(ctx, "sh", "-c", "trap : INT; "+editor+` "$1"`, "sh", name)
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = a.stdin, a.terminal, a.stderr
	if err := cmd.Run(); err != nil {
		return usageError(fmt.Sprintf("the editor %q failed: %v; nothing was sent", editor, err), "")
	}
	return nil
}
