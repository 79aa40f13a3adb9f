package ftpfs

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"strings"

	"tartine/internal/connect/ftpline"
	"tartine/internal/farend"
	"tartine/internal/manifest"
)

// Digests implements fsys.Digester with HASH (draft-bryan-ftpext-hash) or XSHA256.
func (f *FS) Digests(ctx context.Context, names []string, each func(i int, digest manifest.Digest)) error {
	if f.hash == "" {
		return farend.ErrUnsupported
	}
	return f.lines.all(ctx, len(names), func(ctx context.Context, i int) error {
		err := f.lines.do(ctx, nil, func(line *ftpline.Conn) error {
			if err := line.Steps(f.choose(line)...); err != nil {
				return err
			}
			_, text, err := line.Command(2, "%s %s", f.hash, f.full(names[i]))
			if err != nil {
				return err
			}
			if digest, ok := f.digestIn(text); ok {
				each(i, digest)
			}
			return nil
		})
		if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
			return err
		}
		return nil // it is read back
	})
}

// choose gives what a connection must be told before it is asked for the first digest.
func (f *FS) choose(line *ftpline.Conn) []ftpline.Step {
	if _, chosen := f.chosen.LoadOrStore(line, true); chosen || f.hash != "HASH" {
		return nil
	}
	return []ftpline.Step{{Want: 200, Command: "OPTS HASH SHA-256"}}
}

// digestIn finds a SHA-256 in a reply. One to HASH names its algorithm.
func (f *FS) digestIn(text string) (out manifest.Digest, ok bool) {
	if f.hash == "HASH" && !strings.Contains(strings.ToUpper(text), "SHA-256") {
		return out, false
	}
	for _, word := range strings.Fields(text) {
		if len(word) != 2*sha256.Size {
			continue
		}
		if n, err := hex.Decode(out[:], []byte(word)); err == nil && n == sha256.Size {
			return out, true
		}
	}
	return out, false
}
