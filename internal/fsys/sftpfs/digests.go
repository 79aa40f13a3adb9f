package sftpfs

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/manifest"
)

// digestCommand reads names that end in NUL. It holds nothing that a login shell could read in another way.
const digestCommand = "xargs -0 sha256sum --"

// digestSessions is how many such commands run at once: one process's output lines must not mix with another's, so
// each has a session of its own, and servers commonly allow ten.
const digestSessions = 2

// Digests implements fsys.Digester with the far end's sha256sum. Names that it could not read are passed over.
func (f *FS) Digests(ctx context.Context, names []string, each func(int, manifest.Digest)) error {
	if f.exec == nil {
		return farend.ErrUnsupported
	}
	group, ctx := errgroup.WithContext(ctx)
	share := (len(names) + digestSessions - 1) / digestSessions
	for start := 0; start < len(names); start += share {
		part := names[start:min(start+share, len(names))]
		group.Go(func() error {
			return f.digestPart(ctx, part, func(i int, d manifest.Digest) { each(start+i, d) })
		})
	}
	return group.Wait()
}

func (f *FS) digestPart(ctx context.Context, names []string, each func(int, manifest.Digest)) error {
	var list bytes.Buffer
	index := make(map[string]int, len(names))
	for i, name := range names {
		full := f.full(name)
		list.WriteString(full)
		list.WriteByte(0)
		index[full] = i
	}
	in, out := io.Pipe()
	parsed := make(chan error, 1)
	go func() {
		err := parseDigests(in, index, each)
		in.CloseWithError(err) // the command stops at its next line
		parsed <- err
	}()
	err := f.exec(ctx, digestCommand, &list, out)
	out.Close()
	if failed := <-parsed; failed != nil {
		return failed
	}
	return err
}

// parseDigests reads the lines of sha256sum for names that were asked for.
func parseDigests(r io.Reader, index map[string]int, each func(int, manifest.Digest)) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 64<<10)
	for lines.Scan() {
		name, digest, err := manifest.ReadSum(lines.Text())
		if err != nil {
			return fmt.Errorf("sha256sum at the far end printed %q: %w", farend.Said(lines.Text(), 200),
				farend.ErrUnsupported)
		}
		if i, asked := index[name]; asked {
			each(i, digest)
		}
	}
	return lines.Err()
}
