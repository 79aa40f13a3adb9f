package targets

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect/engine"
	"tartine/internal/content"
	"tartine/internal/demo/engineserver"
	"tartine/internal/deploy"
	"tartine/internal/filter"
	"tartine/internal/site"
	"tartine/internal/testservers/enginetest"
)

// TestAProgramThatIsPlantedInAContainerIsNotRun holds for what other processes of the container may have made beforehand, or in the moment
// between writing and starting.
func TestAProgramThatIsPlantedInAContainerIsNotRun(t *testing.T) {
	e := enginetest.StandIn(t, engineserver.Options{})
	name := e.Run(enginetest.Wanted{})
	opened, err := engine.Open(t.Context(), e.Address, nil)
	require.NoError(t, err)
	defer opened.Close()
	c, err := opened.Container(t.Context(), name)
	require.NoError(t, err)

	program := []byte("the program")
	sum := sha256.Sum256(program)
	digest := hex.EncodeToString(sum[:])
	put := func(folder string, user int, mode int64, content string, more bool) string {
		var archive bytes.Buffer
		w := tar.NewWriter(&archive)
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: folder + "/", Mode: mode, Uid: user}))
		for _, file := range []string{programName, "more"} {
			if file == programName || more {
				require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: folder + "/" + file, Mode: mode, Uid: user, Size: int64(len(content))}))
				_, err := w.Write([]byte(content))
				require.NoError(t, err)
			}
		}
		require.NoError(t, w.Close())
		require.NoError(t, c.Put(t.Context(), "/tmp", &archive))
		return "/tmp/" + folder
	}
	require.NoError(t, c.Put(t.Context(), "/tmp", programArchive("ours", program)))
	require.NoError(t, isProgram(t.Context(), c, "/tmp/ours", 0, digest))
	for what, folder := range map[string]string{
		"other bytes":                  put("bytes", 0, 0o700, "planted", false),
		"of another user":              put("user", 4711, 0o700, string(program), false),
		"others may write":             put("mode", 0, 0o777, string(program), false),
		"something beside the program": put("more", 0, 0o700, string(program), true),
	} {
		require.ErrorContains(t, isProgram(t.Context(), c, folder, 0, digest), "does not hold what was put there", what)
	}

	require.NoError(t, rootsFolder(t, c, "/tmp"), "others may write there, and take away only what is theirs")
	require.NoError(t, rootsFolder(t, c, "/"))
	require.ErrorContains(t, rootsFolder(t, c, put("open", 0, 0o777, "", false)), "others may replace files")
	require.ErrorContains(t, rootsFolder(t, c, put("theirs", 4711, 0o755, "", false)), "is not a folder of its root")
	require.Error(t, rootsFolder(t, c, "/tmp/none"))
}

func rootsFolder(t *testing.T, c *engine.Container, folder string) error {
	root, err := rootsOwn(t.Context(), c, folder)
	require.True(t, err != nil || root == 0)
	return err
}

// interrupter interrupts when publishing begins.
type interrupter struct{ cancel func() }

func (interrupter) Tell(deploy.Event)                      {}
func (interrupter) Agree(*deploy.Consent) error            { return nil }
func (interrupter) Output(deploy.Runs) (io.Writer, func()) { return io.Discard, func() {} }
func (i interrupter) Watch(context.Context, deploy.Stage) (*site.Watch, func()) {
	return &site.Watch{Phase: func(phase string, _ int, _ int64) {
		if phase == "publish" {
			i.cancel()
		}
	}}, func() {}
}

// TestAnArchiveThatHasBegunIsNotBrokenOff has somebody interrupt while a container that does not run is deployed to.
func TestAnArchiveThatHasBegunIsNotBrokenOff(t *testing.T) {
	e := enginetest.StandIn(t, engineserver.Options{})
	name := e.Make(enginetest.Wanted{})
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.html"), []byte("<h1>"), 0o644))
	ctx, cancel := context.WithCancel(t.Context())
	s, err := Open(ctx, Settings{Address: Address{Kind: Container, Host: name, Path: "/srv/site"}, Container: ContainerSettings{Engine: e.Address}, Writes: true})
	require.NoError(t, err)
	defer s.Close()
	session := &deploy.Session{Engine: s, Person: interrupter{cancel}, Content: func(ctx context.Context) (*content.Content, error) {
		tree, err := content.Scan(ctx, []content.Source{{Path: dir, Dest: ".", Rules: &filter.Set{}}}, content.Options{})
		if err != nil {
			return nil, err
		}
		return tree.Content(), nil
	}}
	result, err := session.Deploy(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, result.Outcome.Number)
	require.Equal(t, "<h1>", e.Read(name, "/srv/site/index.html"))
}
