package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"tartine/internal/render"
	"tartine/internal/trace"
)

// beginLog gives the context of a command the log that its options ask for: lines among the messages (-v what is
// decided, -vv also what crosses the wire), and all of it in a file (--log).
func (a *app) beginLog(cmd *cobra.Command, args []string) error {
	var all []slog.Handler
	switch {
	case a.flags.detail > 1:
		all = append(all, &lineHandler{out: a.stderr, level: slog.LevelDebug})
	case a.flags.detail > 0:
		all = append(all, &lineHandler{out: a.stderr, level: slog.LevelInfo})
	}
	if a.flags.log != "" {
		file, err := os.OpenFile(a.flags.log, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
		if err != nil {
			return usageError(fmt.Sprintf("the log cannot be written: %v", err), "name another file with --log")
		}
		a.logFile = file
		all = append(all, slog.NewTextHandler(file, &slog.HandlerOptions{Level: slog.LevelDebug}))
	}
	if len(all) == 0 {
		return nil
	}
	log := slog.New(slog.NewMultiHandler(all...))
	cmd.SetContext(trace.With(cmd.Context(), log))
	log.Info("begun", "program", a.build.String(), "command", strings.Join(append([]string{cmd.Name()}, args...), " "))
	a.endLog = func(status int) {
		log.Info("ended", "status", status)
		if a.logFile != nil {
			a.logFile.Close()
		}
	}
	return nil
}

// lineHandler writes records as lines like those of all other messages.
type lineHandler struct {
	out   io.Writer
	level slog.Level
	mu    sync.Mutex
	attrs []slog.Attr
}

func (h *lineHandler) Enabled(_ context.Context, level slog.Level) bool { return level >= h.level }

func (h *lineHandler) Handle(_ context.Context, record slog.Record) error {
	word := "detail"
	if record.Level < slog.LevelInfo {
		word = "wire"
	}
	var text bytes.Buffer
	text.WriteString(record.Message)
	add := func(attr slog.Attr) bool {
		if value := attr.Value.String(); value != "" && value != "<nil>" {
			fmt.Fprintf(&text, ", %s %s", attr.Key, value)
		}
		return true
	}
	for _, attr := range h.attrs {
		add(attr)
	}
	record.Attrs(add)
	h.mu.Lock()
	defer h.mu.Unlock()
	render.Fprintf(h.out, "%-8s  %s %s\n", word, record.Time.Format("15:04:05.000"), text.String())
	return nil
}

func (h *lineHandler) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &lineHandler{out: h.out, level: h.level, attrs: append(h.attrs, attrs...)}
}

func (h *lineHandler) WithGroup(string) slog.Handler { return h }
