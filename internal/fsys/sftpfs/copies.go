package sftpfs

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// copyCommand reads commands. Whatever the login shell is, the commands are read by sh.
const copyCommand = "sh"

// Copies implements fsys.Copier with the far end's cp. Each copy that succeeded prints its number.
func (f *FS) Copies(ctx context.Context, pairs []fsys.Pair, done func(int)) error {
	if f.exec == nil || len(pairs) == 0 {
		return nil
	}
	var script strings.Builder
	for i, pair := range pairs {
		fmt.Fprintf(&script, "cp -- %s %s && echo %d\n", quote(f.full(pair.From)), quote(f.full(pair.To)), i)
	}
	in, out := io.Pipe()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for lines := bufio.NewScanner(in); lines.Scan(); {
			if i, err := strconv.Atoi(lines.Text()); err == nil && i >= 0 && i < len(pairs) {
				done(i)
			}
		}
		_, _ = io.Copy(io.Discard, in) // a line that is too long must not hold the command up
	}()
	err := f.exec(ctx, copyCommand, strings.NewReader(script.String()), out)
	out.Close()
	<-ended
	if errors.Is(err, farend.ErrLost) && ctx.Err() == nil {
		return err
	}
	return ctx.Err() // a command that fails has copied less, which is no error
}

// quote makes any text one word for sh.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
