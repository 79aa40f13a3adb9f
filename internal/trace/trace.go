// Package trace carries a log through contexts, for whoever wants to know what is decided (level info) and what crosses
// the wire (level debug). Secrets never go there: neither passwords nor keys, nor the content of files.
package trace

import (
	"context"
	"log/slog"
)

type key struct{}

var silent = slog.New(slog.DiscardHandler)

// With gives a context with a log.
func With(ctx context.Context, log *slog.Logger) context.Context {
	return context.WithValue(ctx, key{}, log)
}

// Log gives the log of a context. There is always one; it may discard everything.
func Log(ctx context.Context) *slog.Logger {
	if log, ok := ctx.Value(key{}).(*slog.Logger); ok {
		return log
	}
	return silent
}

// Wire gives the log of a context where it takes what crosses the wire, else nil.
func Wire(ctx context.Context) *slog.Logger {
	if log := Log(ctx); log.Enabled(ctx, slog.LevelDebug) {
		return log
	}
	return nil
}
