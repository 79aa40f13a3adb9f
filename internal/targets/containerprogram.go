package targets

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"tartine/internal/agent"
	"tartine/internal/connect/engine"
	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// agentFolders gives the folders of a container in which the program may be, the better ones first: never in the root
// of the site, where visitors see it, nor in its record.
func (s *Settings) agentFolders(c *engine.Container) []string {
	usable := func(folder string) bool {
		at := mountAt(c, folder)
		return (at == nil && !c.ReadOnly || at != nil && at.Writable) && !within(folder, s.Address.Path) && !within(folder, recordIn(c, s.Address.Path))
	}
	var out []string
	for _, folder := range []string{"/tmp", "/"} {
		if usable(folder) {
			out = append(out, folder)
		}
	}
	mounts := slices.Clone(c.Mounts)
	slices.SortStableFunc(mounts, func(a, b engine.Mount) int { return strings.Compare(b.Path, a.Path) })
	for _, m := range mounts {
		if usable(m.Path) && m.Kind != "bind" && (within(s.Address.Path, m.Path) || m.Kind == memoryDisk) {
			out = append(out, m.Path)
		}
	}
	return append(out, "/dev/shm")
}

// memoryDisk is the kind of a mount that is in memory alone. What is put below it through the engine is not seen by
// programs there.
const memoryDisk = "tmpfs"

// inMemory tells whether a folder of a container is in memory.
func inMemory(c *engine.Container, folder string) bool {
	at := mountAt(c, folder)
	return at != nil && at.Kind == memoryDisk || at == nil && within(folder, "/dev/shm")
}

// The program runs as root of the container, so it must be the one that we wrote, whatever other processes do in there.
// It is written anew for each session, into a folder with a name that nobody can know beforehand, which belongs to root
// alone; in a folder of root's, out of which nobody else can take it. It is read back and its digest compared before it
// is started. It removes its folder itself.

// agentPrefix begins the name of the folder in which the program is in a container; chance ends it.
const agentPrefix = ".tartine-"

// agentAt puts the program into a folder of a container and starts it.
func (s *Settings) agentAt(ctx context.Context, c *engine.Container, folder string, content []byte,
	digest string) (*agentInside, error) {
	own := path.Join(folder, agentPrefix+strings.ToLower(rand.Text()))
	put := putByArchive
	if inMemory(c, folder) {
		put = putByShell
	}
	if err := put(ctx, c, own, content, digest); err != nil {
		return nil, &agent.UnavailableError{Reason: err.Error()}
	}
	marker := agent.Marker()
	stream, err := c.Exec(ctx, "0:0", path.Join(own, programName), agent.HiddenCommand, "--marker", marker, "--remove",
		own)
	if err != nil {
		removeProgram(ctx, c, own)
		return nil, &agent.UnavailableError{Reason: err.Error()}
	}
	in, err := agent.Await(ctx, stream, marker)
	if err != nil {
		stream.Close()
		removeProgram(ctx, c, own)
		if status, ended := stream.Ended(ctx); ended && (status == cannotRun || status == notFound) {
			err = &agent.UnavailableError{Reason: "no program runs in " + folder + " there"}
		} else if words := stream.Said(); words != "" {
			err = &agent.UnavailableError{Reason: farend.Said(words, 400)}
		}
		return nil, err
	}
	client, err := agent.Connect(ctx, in, stream, stream, s.Agent.Version, s.farRoot())
	return &agentInside{client, c, stream}, err
}

// putByArchive puts the program into a folder of its own through the engine, so that no shell is needed.
func putByArchive(ctx context.Context, c *engine.Container, own string, content []byte, digest string) error {
	root, err := rootsOwn(ctx, c, path.Dir(own))
	if err != nil {
		return err
	}
	if err := c.Put(ctx, path.Dir(own), programArchive(path.Base(own), content)); err != nil {
		return err
	}
	return isProgram(ctx, c, own, root, digest)
}

// putScript makes the folder of the program in one of root's, out of which nobody else can take it, and the program
// from standard input.
const putScript = `above=${1%/*}; [ -O "${above:-/}" ] || exit 3
[ -k "${above:-/}" ] || case $(ls -ld "${above:-/}") in d????w*|d???????w*) exit 3;; esac
umask 077; mkdir "$1" && cat >"$1/` + programName + `" && chmod 700 "$1/` + programName + `"`

// putByShell puts the program onto a memory disk, which only programs in the container see.
func putByShell(ctx context.Context, c *engine.Container, own string, content []byte, _ string) error {
	return runShell(ctx, c, bytes.NewReader(content), putScript, own)
}

// removeProgram removes a program that could not be started. Without a shell nothing can be removed through the engine;
// then an empty file takes the place of its folder.
func removeProgram(ctx context.Context, c *engine.Container, own string) {
	ctx = context.WithoutCancel(ctx)
	if runShell(ctx, c, strings.NewReader(""), `rm -rf "$1"`, own) == nil {
		return
	}
	var empty bytes.Buffer
	w := tar.NewWriter(&empty)
	_ = w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: path.Base(own), Mode: 0o600}) // into memory
	_ = w.Close()
	_ = c.Put(ctx, path.Dir(own), &empty) // else the whole of it stays; what was wanted is not hindered by that
}

func runShell(ctx context.Context, c *engine.Container, in io.Reader, script string, args ...string) error {
	stream, err := c.Exec(ctx, "0:0", append([]string{"/bin/sh", "-c", script, "sh"}, args...)...)
	if err != nil {
		return err
	}
	defer stream.Close()
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	_, err = io.Copy(stream, in)
	if err == nil {
		err = stream.CloseWrite()
	}
	if _, failed := io.Copy(io.Discard, stream); err == nil {
		err = failed
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if status, ended := stream.Ended(ctx); err == nil && (!ended || status != 0) {
		err = fmt.Errorf("the shell in the container ended with status %d: %s", status, farend.Said(stream.Said(), 200))
	}
	return err
}

// programName is the name of the program in its folder.
const programName = "agent"

// programArchive is an archive of the program in a folder of its own.
func programArchive(folder string, content []byte) io.Reader {
	var head, tail bytes.Buffer
	w := tar.NewWriter(&head)
	_ = w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: folder + "/", Mode: 0o700}) // into memory
	_ = w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: folder + "/" + programName, Mode: 0o700,
		Size: int64(len(content))})
	tail.Write(make([]byte, (512-len(content)%512)%512+1024)) // fills the last block; two empty ones are the end
	return io.MultiReader(&head, bytes.NewReader(content), &tail)
}

// rootsOwn refuses a folder of a container out of which others than its root could take what root puts there, and gives
// the number of root. An engine takes some time for each look, so all are taken at once.
func rootsOwn(ctx context.Context, c *engine.Container, folder string) (root int, err error) {
	dirs := []string{folder}
	for dir := folder; dir != "/"; {
		dir = path.Dir(dir)
		dirs = append(dirs, dir)
	}
	heads := make([]*tar.Header, len(dirs))
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		root, _, err = c.Root(ctx)
		return err
	})
	for i, dir := range dirs {
		group.Go(func() (err error) {
			heads[i], err = firstOf(ctx, c, dir)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return 0, err
	}
	for i, head := range heads {
		switch {
		case head.Typeflag != tar.TypeDir || head.Uid != root:
			return 0, fmt.Errorf("%s in the container is not a folder of its root", dirs[i])
		case head.Mode&0o022 != 0 && head.Mode&0o1000 == 0:
			return 0, fmt.Errorf("others may replace files in %s in the container", dirs[i])
		}
	}
	return root, nil
}

// firstOf gives the head of what is at a path of a container.
func firstOf(ctx context.Context, c *engine.Container, name string) (*tar.Header, error) {
	archive, err := c.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	defer archive.Close()
	head, err := tar.NewReader(archive).Next()
	if err != nil {
		return nil, fmt.Errorf("read the engine's archive of %s: %w", name, err)
	}
	return head, nil
}

// isProgram reads back what is in a folder: it must be root's alone, and hold the program and nothing else.
func isProgram(ctx context.Context, c *engine.Container, folder string, root int, digest string) error {
	archive, err := c.Get(ctx, folder)
	if err != nil {
		return err
	}
	defer archive.Close()
	in, wrong := tar.NewReader(archive), fmt.Errorf("%s in the container does not hold what was put there", folder)
	for _, want := range []byte{tar.TypeDir, tar.TypeReg} {
		head, err := in.Next()
		if err != nil {
			return fmt.Errorf("read the engine's archive of %s: %w", folder, err)
		}
		if head.Typeflag != want || head.Uid != root || head.Mode&0o777 != 0o700 {
			return wrong
		}
	}
	hash := sha256.New()
	if _, err := fsys.Copy(ctx, hash, in); err != nil {
		return fmt.Errorf("read the engine's archive of %s: %w", folder, err)
	}
	if hex.EncodeToString(hash.Sum(nil)) != digest {
		return wrong
	}
	if _, err := in.Next(); !errors.Is(err, io.EOF) {
		return wrong
	}
	return nil
}
