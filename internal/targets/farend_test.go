package targets

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/agent"
	"tartine/internal/calls"
	"tartine/internal/farend"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// failing is an engine at a far end whose connection is lost once, before or after a call was done there.
type failing struct {
	*calls.Here
	at    calls.Any
	after bool
	lost  *bool
	place io.Closer
}

func (f *failing) Asked() agent.Asked { return agent.Asked{} }

func (f *failing) Recorded() manifest.Digest { return manifest.Digest{} }

func (f *failing) Close() error {
	_ = f.End(context.Background())
	return f.place.Close()
}

func (f *failing) Do(ctx context.Context, call calls.Any, question, answer any, watch *site.Watch) error {
	fails := call == f.at && !*f.lost
	if fails && !f.after {
		*f.lost = true
		return farend.ErrLost
	}
	err := f.Here.Do(ctx, call, question, answer, watch)
	if fails && err == nil {
		*f.lost = true
		return farend.ErrLost
	}
	return err
}

func openFailing(t *testing.T, dir string, at calls.Any, after bool) *Opened {
	t.Helper()
	lost := false
	open := func(ctx context.Context) (far, error) {
		place, err := osfs.Open(dir)
		if err != nil {
			return nil, err
		}
		s, err := site.Open(ctx, place, "www", "www", site.Options{})
		if err != nil {
			return nil, err
		}
		return &failing{calls.NewHere(s), at, after, &lost, place}, nil
	}
	first, err := open(t.Context())
	require.NoError(t, err)
	settings := &Settings{Reconnect: time.Minute}
	opened := settings.lastingAgent(first, "far", open)
	t.Cleanup(func() { opened.Close() })
	t.Cleanup(func() { require.True(t, lost, "the connection was lost once") })
	return opened
}

// deployText deploys a page, call by call. Between comparison and staging something else may happen.
func deployText(t *testing.T, e calls.Engine, text string, between func()) (*site.Outcome, error) {
	t.Helper()
	if err := stageText(t, e, text, between); err != nil {
		return nil, err
	}
	return calls.Publish.On(t.Context(), e, 3)
}

func stageText(t *testing.T, e calls.Engine, text string, between func()) error {
	t.Helper()
	entries := []manifest.Entry{{Path: "index.html", Size: int64(len(text)), Attributes: manifest.Attributes{Mode: 0o644, ModTime: time.Unix(1777617015, 0)}, Digest: sha256.Sum256([]byte(text))}}
	survey, err := calls.Survey.On(t.Context(), e, calls.Surveying{As: 1})
	require.NoError(t, err)
	_, err = calls.Compare.On(t.Context(), e, &calls.Comparing{As: 2, Survey: 1, Recorded: survey.Number > 0, Wanted: site.Wanted{Entries: entries}})
	require.NoError(t, err)
	between()
	_, err = calls.Stage.On(t.Context(), e, &calls.Staging{As: 3, Comparison: 2, Plan: site.Plan{Want: entries,
		Open: func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }}})
	return err
}

// TestADeploymentSurvivesALossAtEveryCall loses the connection before and after each call that a deployment makes.
func TestADeploymentSurvivesALossAtEveryCall(t *testing.T) {
	for _, at := range []calls.Any{calls.Survey, calls.Compare, calls.Stage, calls.Publish} {
		for _, after := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, after it %v", at.Title(), after), func(t *testing.T) {
				dir := t.TempDir()
				e := openFailing(t, dir, at, after)
				out, err := deployText(t, e, "<h1>", func() {})
				require.NoError(t, err)
				require.Equal(t, 1, out.Number)
				require.True(t, out.Verified)
				require.FileExists(t, filepath.Join(dir, "www", "index.html"))
				past, err := calls.History.On(t.Context(), e, calls.None{})
				require.NoError(t, err)
				require.Len(t, past, 1, "it was published once")
				holder, err := calls.Locked.On(t.Context(), e, calls.None{})
				require.NoError(t, err)
				require.Nil(t, holder)
			})
		}
	}
}

func TestWhatIsAbandonedIsUnlockedAlsoWhenTheConnectionIsLost(t *testing.T) {
	for _, after := range []bool{false, true} {
		e := openFailing(t, t.TempDir(), calls.Abandon, after)
		require.NoError(t, stageText(t, e, "<h1>", func() {}))
		_, err := calls.Abandon.On(t.Context(), e, 3)
		require.NoError(t, err)
		holder, err := calls.Locked.On(t.Context(), e, calls.None{})
		require.NoError(t, err)
		require.Nil(t, holder)
		past, err := calls.History.On(t.Context(), e, calls.None{})
		require.NoError(t, err)
		require.Empty(t, past)
	}
}

// TestAnotherDeploymentThatCameBetweenIsSeen has somebody publish before the connection is lost.
func TestAnotherDeploymentThatCameBetweenIsSeen(t *testing.T) {
	dir := t.TempDir()
	_, err := deployText(t, openFailing(t, dir, calls.Stage, false), "mine", func() {
		other, err := Open(t.Context(), Settings{Address: Address{Kind: Folder, Path: filepath.Join(dir, "www")}})
		require.NoError(t, err)
		defer other.Close()
		_, err = deployText(t, other, "theirs", func() {})
		require.NoError(t, err)
	})
	var overtaken *site.OvertakenError
	require.ErrorAs(t, err, &overtaken)
	require.Equal(t, 1, overtaken.Found)
}
