package site_test

import (
	"crypto/sha256"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
	"tartine/internal/site"
)

// toldLater is content whose digest is told in the end.
type toldLater struct {
	io.Reader
	digest manifest.Digest
	known  bool
}

func (l *toldLater) Close() error { return nil }

func (l *toldLater) Digest() (manifest.Digest, bool) { return l.digest, l.known }

// leftOpen leaves the digests of some paths open, which are told while they are sent.
func leftOpen(c tree, told func(text string) (string, bool), paths ...string) func(*site.Plan) {
	return func(p *site.Plan) {
		for _, path := range paths {
			at, _ := manifest.Find(p.Want, path)
			p.Want[at].Digest = manifest.Digest{}
		}
		p.Open = func(path string) (io.ReadCloser, error) {
			text, known := told(c[path])
			return &toldLater{strings.NewReader(c[path]), sha256.Sum256([]byte(text)), known}, nil
		}
	}
}

func honestly(text string) (string, bool) { return text, true }

func TestADigestThatIsToldWhileItIsSentIsRecorded(t *testing.T) {
	w := newWorld(t)
	one := tree{"index.html": "1", "plates/a.tif": "a plate", "plates/b.tif": "a plate", "plates/c.tif": "another"}
	w.mustDeploy(one, leftOpen(one, honestly, "plates/a.tif", "plates/b.tif")) // as a whole tree
	require.Equal(t, one, w.stands())
	w.verify(one)
	two := tree{"index.html": "2", "plates/a.tif": "a new plate", "plates/b.tif": "a new plate", "plates/c.tif": "a new plate", "plates/d.tif": "d"}
	w.mustDeploy(two, leftOpen(two, honestly, "plates/a.tif", "plates/b.tif", "plates/d.tif")) // file by file
	require.Equal(t, two, w.stands())
	w.verify(two)
	require.Empty(t, w.incoming())
	_, plan, err := w.plan(t.Context(), two)
	require.NoError(t, err)
	require.False(t, plan.Result.Publishes(true) || plan.Result.Stale)
}

func TestADigestThatIsToldWronglyIsFoundOut(t *testing.T) {
	for what, told := range map[string]struct {
		say func(string) (string, bool)
		is  error
	}{
		"another digest": {func(string) (string, bool) { return "other bytes", true }, site.ErrChangedSinceScan},
		"none":           {func(text string) (string, bool) { return text, false }, site.ErrChangedSinceScan},
	} {
		t.Run(what, func(t *testing.T) {
			w := newWorld(t)
			w.mustDeploy(first)
			next := tree{"index.html": "2", "plate.tif": "a plate"}
			out, err := w.deploy(next, leftOpen(next, told.say, "plate.tif"))
			require.NoError(t, err)
			require.Zero(t, out.Number)
			require.Len(t, out.Failed, 1)
			require.ErrorIs(t, out.Failed[0].Err, told.is)
			w.verify(first)
			w.mustDeploy(next)
			w.verify(next)
		})
	}
}

func TestSizesOfWhatTheSiteHoldsAreKnown(t *testing.T) {
	w := newWorld(t)
	w.mustDeploy(tree{"index.html": "seven b"})
	w.mustDeploy(tree{"index.html": "three", "more.css": "12345678901"})
	s, err := w.open(t.Context())
	require.NoError(t, err)
	survey, err := s.Survey(t.Context(), true)
	require.NoError(t, err)
	held, err := s.Sized(t.Context(), survey, []int64{7, 8, 11, 5, 6})
	require.NoError(t, err)
	require.Equal(t, []int64{7, 11, 5}, held, "what is kept counts, too")
}
