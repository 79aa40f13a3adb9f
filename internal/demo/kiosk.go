package demo

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"tartine/internal/agent"
	"tartine/internal/connect/engine"
	"tartine/internal/demo/engineserver"
)

// kiosk is a container that shows the example's site. It is made on the machine's engine, or, where none answers, on a
// stand-in, from an image that holds this program and nothing else.
type kiosk struct {
	engine    *engine.Engine
	container *engine.Container
	name      string
	standIn   *engineserver.Server // nil: it is the machine's engine
	why       error                // why it is not
}

// kioskRoot is where the site is in the container.
const kioskRoot = "/srv/gannet"

// engineAnswers is how long the machine's engine has to answer.
const engineAnswers = 5 * time.Second

// openKiosk makes the container. The stand-in lies in dir.
func openKiosk(ctx context.Context, program, dir string) (*kiosk, error) {
	k, err := machinesKiosk(ctx, program)
	if err == nil || ctx.Err() != nil {
		return k, err
	}
	if mkdir := os.Mkdir(dir, 0o700); mkdir != nil {
		return nil, mkdir
	}
	server, failed := engineserver.Start(engineserver.Options{Dir: dir})
	if failed != nil {
		return nil, failed
	}
	e, failed := engine.Open(ctx, server.Address, nil)
	if failed == nil {
		k, failed = makeKiosk(ctx, e, program, false)
	}
	if failed != nil {
		return nil, errors.Join(failed, server.Close())
	}
	k.standIn, k.why = server, err
	return k, nil
}

func machinesKiosk(ctx context.Context, program string) (*kiosk, error) {
	hurried, cancel := context.WithTimeout(ctx, engineAnswers)
	defer cancel()
	e, err := engine.Open(hurried, "", func(context.Context, *url.URL) (net.Conn, error) {
		return nil, errors.New("it is another machine's")
	})
	if err != nil {
		return nil, err
	}
	return makeKiosk(ctx, e, program, true)
}

// makeKiosk makes the container on an engine, which is let go of when that fails. A program that needs libraries of
// this machine does not start in it; then the container does not run, unless it is to run.
func makeKiosk(ctx context.Context, e *engine.Engine, program string, runs bool) (*kiosk, error) {
	k := &kiosk{engine: e, name: "gannet-rock-" + strings.ToLower(rand.Text()[:6])}
	content, err := os.ReadFile(program)
	if err == nil {
		err = e.Import(ctx, k.name, kioskImage(content))
	}
	if err != nil {
		return nil, errors.Join(err, e.Close())
	}
	if k.container, err = e.Make(ctx, k.name, k.name, "/tartine", agent.HiddenCommand); err != nil &&
		(runs || k.container == nil) {
		return nil, errors.Join(err, k.Close())
	}
	return k, nil
}

// Close removes the container and its image.
func (k *kiosk) Close() error {
	ctx := context.Background() // also when the walk was interrupted
	err := errors.Join(k.engine.Remove(ctx, k.name), k.engine.RemoveImage(ctx, k.name), k.engine.Close())
	if k.standIn != nil {
		err = errors.Join(err, k.standIn.Close())
	}
	return err
}

// kioskImage is the program, and folders.
func kioskImage(program []byte) io.Reader {
	var image bytes.Buffer
	w := tar.NewWriter(&image)
	for _, dir := range []string{"srv/", "tmp/"} {
		_ = w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: dir, Mode: 0o755}) // into memory
	}
	_ = w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: "tartine", Mode: 0o755, Size: int64(len(program))})
	_, _ = w.Write(program)
	_ = w.Close()
	return &image
}

// alter changes a text in a file of the container.
func (k *kiosk) alter(ctx context.Context, name, old, new string) error {
	full := path.Join(kioskRoot, name)
	archive, err := k.container.Get(ctx, full)
	if err != nil {
		return err
	}
	defer archive.Close()
	in := tar.NewReader(archive)
	head, err := in.Next()
	if err != nil {
		return err
	}
	content, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	content = bytes.Replace(content, []byte(old), []byte(new), 1)
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	head.Name, head.Size, head.ModTime = path.Base(full), int64(len(content)), time.Now()
	err = w.WriteHeader(head)
	if err == nil {
		_, err = w.Write(content)
	}
	if err = errors.Join(err, w.Close()); err != nil {
		return err
	}
	return k.container.Put(ctx, path.Dir(full), &out)
}

// settings are the example's for the container.
func (k *kiosk) settings() string {
	lines := []string{"url: container://" + k.name + kioskRoot}
	if k.standIn != nil {
		lines = append(lines, "engine: "+k.standIn.Address)
	}
	return settings(lines...)
}

// introduce says where the container is.
func (k *kiosk) introduce() string {
	if k.standIn == nil {
		return fmt.Sprintf("The container engine at %s answers. An image and a container %s are made there;\nboth are removed at the end.\n", k.engine.Where(), k.name)
	}
	return fmt.Sprintf("A small container engine of the example's own stands in, because %s.\n",
		filepath.ToSlash(k.why.Error()))
}
