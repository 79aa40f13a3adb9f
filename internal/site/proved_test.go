package site_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys"
	"tartine/internal/site"
)

// readingBack is a place that tells what it has written, as one over SFTP does.
type readingBack struct {
	fsys.FS
	spoil func(text []byte) []byte
}

func (r *readingBack) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	text, err := io.ReadAll(content)
	if err != nil {
		return 0, err
	}
	written := r.spoil(text)
	if _, err := r.FS.Put(ctx, name, bytes.NewReader(written), attr); err != nil {
		return 0, err
	}
	if proved, ok := content.(fsys.Proved); ok {
		proved.Proved(sha256.Sum256(written))
	}
	return int64(len(text)), nil
}

func TestWhatIsReadBackWrongIsNotPublished(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(first)
	place := &readingBack{FS: w.between.FS, spoil: func(text []byte) []byte { return text }}
	w.between.FS = place
	out := w.mustDeploy(second)
	require.Equal(t, site.ReadBack, out.Method)
	w.verify(second)

	third := tree{"index.html": "three", "logo.css": "as sent"}
	place.spoil = func(text []byte) []byte { return bytes.ReplaceAll(text, []byte("as sent"), []byte("altered")) }
	out, err := w.deploy(third)
	require.NoError(t, err)
	require.Zero(t, out.Number)
	require.Len(t, out.Failed, 1)
	require.Equal(t, "logo.css", out.Failed[0].Path)
	require.ErrorIs(t, out.Failed[0].Err, site.ErrWrongBytes)
	w.verify(second)
}
