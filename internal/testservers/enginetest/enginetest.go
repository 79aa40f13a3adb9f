// Package enginetest gives tests containers of the machine's own engine and of the stand-in, from an image that holds
// nothing but a few programs.
package enginetest

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
	"github.com/stretchr/testify/require"

	"tartine/internal/demo/engineserver"
)

// Engine is an engine with an image.
type Engine struct {
	T       testing.TB
	Address string
	API     *client.Client
	image   string
}

// Each runs something with the machine's engine, and with the stand-in. Without an engine of the machine the stand-in
// is alone, but not in CI.
func Each(t *testing.T, run func(t *testing.T, e *Engine)) {
	t.Run("the machine's engine", func(t *testing.T) { run(t, Own(t)) })
	t.Run("the stand-in", func(t *testing.T) { run(t, StandIn(t, engineserver.Options{})) })
}

// Own is the engine of this machine, or the one whose socket DOCKER_HOST names. A test without one is passed over, but
// not in CI.
func Own(t testing.TB) *Engine {
	t.Helper()
	address := cmp.Or(os.Getenv("DOCKER_HOST"), client.DefaultDockerHost)
	if _, err := os.Stat(strings.TrimPrefix(address, "unix://")); err != nil && os.Getenv("CI") == "" {
		t.Skip("this machine has no container engine")
	}
	return open(t, address)
}

// StandIn starts an engine for the test. Options need no folder.
func StandIn(t testing.TB, opt engineserver.Options) *Engine {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("without root the stand-in mounts nothing")
	}
	dir, err := os.MkdirTemp("", "engine-") // a socket's name must be short
	require.NoError(t, err)
	opt.Dir = dir
	server, err := engineserver.Start(opt)
	require.NoError(t, err)
	t.Cleanup(func() {
		require.NoError(t, server.Close())
		require.NoError(t, os.RemoveAll(dir))
	})
	return open(t, server.Address)
}

func open(t testing.TB, address string) *Engine {
	t.Helper()
	api, err := client.New(client.WithHost(address))
	require.NoError(t, err)
	t.Cleanup(func() { api.Close() })
	e := &Engine{T: t, Address: address, API: api, image: "tartine-" + strings.ToLower(rand.Text())}
	imported, err := api.ImageImport(t.Context(), client.ImageImportSource{Source: image(t), SourceName: "-"}, e.image,
		client.ImageImportOptions{})
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, imported)
	require.NoError(t, err)
	t.Cleanup(func() {
		_, _ = api.ImageRemove(context.Background(), e.image, client.ImageRemoveOptions{Force: true}) // it may have gone
	})
	return e
}

// For is the engine for a test below the one that it was started for.
func (e *Engine) For(t testing.TB) *Engine {
	own := *e
	own.T = t
	return &own
}

// image is an archive of busybox under a few of its names, and some folders.
func image(t testing.TB) io.Reader {
	t.Helper()
	file, err := exec.LookPath("busybox")
	require.NoError(t, err)
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	out := &bytes.Buffer{}
	w := tar.NewWriter(out)
	for _, dir := range []string{"bin", "tmp", "srv", "usr", "usr/share", "usr/share/www"} {
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: dir + "/",
			Mode: map[bool]int64{true: 0o1777, false: 0o755}[dir == "tmp"]}))
	}
	require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: "bin/busybox", Mode: 0o755,
		Size: int64(len(content))}))
	_, err = w.Write(content)
	require.NoError(t, err)
	for _, name := range []string{"sleep", "cat", "sh", "stat"} {
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeLink, Name: "bin/" + name,
			Linkname: "bin/busybox", Mode: 0o755}))
	}
	require.NoError(t, w.Close())
	return out
}

// Wanted is what a container is to be like.
type Wanted struct {
	Command    []string // nil: sleep
	User       string
	ReadOnly   bool
	Volume     string            // a path
	Memory     map[string]string // paths of memory disks, and their options
	Labels     map[string]string
	StopSignal string
	Limit      int64 // of memory, in bytes; 0: none
	Programs   int64 // how many processes it may have; 0: as many as it likes
}

// Run makes a container, starts it, and gives its name. It goes with the test.
func (e *Engine) Run(w Wanted) string {
	e.T.Helper()
	name := e.Make(w)
	e.Start(name)
	return name
}

// Make makes a container that does not run.
func (e *Engine) Make(w Wanted) string {
	e.T.Helper()
	if w.Command == nil {
		w.Command = []string{"/bin/sleep", "600"}
	}
	name := "rock-" + strings.ToLower(rand.Text())
	config := &container.Config{Cmd: w.Command, User: w.User, Labels: w.Labels, StopSignal: w.StopSignal,
		NetworkDisabled: true}
	if w.Volume != "" {
		config.Volumes = map[string]struct{}{w.Volume: {}}
	}
	var limit *int64
	if w.Programs > 0 {
		limit = &w.Programs
	}
	_, err := e.API.ContainerCreate(e.T.Context(), client.ContainerCreateOptions{Name: name, Image: e.image,
		Config: config,
		HostConfig: &container.HostConfig{NetworkMode: "none", ReadonlyRootfs: w.ReadOnly, Tmpfs: w.Memory,
			Resources: container.Resources{Memory: w.Limit, PidsLimit: limit}}})
	require.NoError(e.T, err)
	e.T.Cleanup(func() {
		_, _ = e.API.ContainerRemove(context.Background(), name, client.ContainerRemoveOptions{Force: true, RemoveVolumes: true}) // it may have gone
	})
	return name
}

// Start starts a container again.
func (e *Engine) Start(name string) {
	e.T.Helper()
	_, err := e.API.ContainerStart(e.T.Context(), name, client.ContainerStartOptions{})
	require.NoError(e.T, err)
}

// Stop stops a container at once.
func (e *Engine) Stop(name string) {
	e.T.Helper()
	at := 0
	_, err := e.API.ContainerStop(e.T.Context(), name, client.ContainerStopOptions{Timeout: &at})
	require.NoError(e.T, err)
}

// Pause holds a container.
func (e *Engine) Pause(name string) {
	e.T.Helper()
	_, err := e.API.ContainerPause(e.T.Context(), name, client.ContainerPauseOptions{})
	require.NoError(e.T, err)
}

// Unpause lets a container go on.
func (e *Engine) Unpause(name string) {
	e.T.Helper()
	_, err := e.API.ContainerUnpause(e.T.Context(), name, client.ContainerUnpauseOptions{})
	require.NoError(e.T, err)
}

// State gives whether a container runs, and when it was started.
func (e *Engine) State(name string) (running bool, started string) {
	e.T.Helper()
	found, err := e.API.ContainerInspect(e.T.Context(), name, client.ContainerInspectOptions{})
	require.NoError(e.T, err)
	return found.Container.State.Running, found.Container.State.StartedAt
}

// ID gives the id of a container.
func (e *Engine) ID(name string) string {
	e.T.Helper()
	found, err := e.API.ContainerInspect(e.T.Context(), name, client.ContainerInspectOptions{})
	require.NoError(e.T, err)
	return found.Container.ID
}

// In runs a program in a container, which must end well, and gives what it wrote.
func (e *Engine) In(name string, command ...string) string {
	e.T.Helper()
	ctx, cancel := context.WithTimeout(e.T.Context(), time.Minute)
	defer cancel()
	made, err := e.API.ExecCreate(ctx, name, client.ExecCreateOptions{Cmd: command, AttachStdout: true,
		AttachStderr: true})
	require.NoError(e.T, err)
	attached, err := e.API.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	require.NoError(e.T, err)
	defer attached.Close()
	var out, words bytes.Buffer
	_, err = stdcopy.StdCopy(&out, &words, attached.Reader)
	require.NoError(e.T, err)
	ended, err := e.API.ExecInspect(ctx, made.ID, client.ExecInspectOptions{})
	require.NoError(e.T, err)
	require.Zero(e.T, ended.ExitCode, "%s%s", out.String(), words.String())
	return out.String()
}

// Read gives the content of a file of a container, through an archive, whether it runs or not.
func (e *Engine) Read(name, file string) string {
	e.T.Helper()
	got, err := e.API.CopyFromContainer(e.T.Context(), name, client.CopyFromContainerOptions{SourcePath: file})
	require.NoError(e.T, err)
	defer got.Content.Close()
	in := tar.NewReader(got.Content)
	_, err = in.Next()
	require.NoError(e.T, err)
	text, err := io.ReadAll(in)
	require.NoError(e.T, err)
	return string(text)
}
