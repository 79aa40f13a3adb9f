//go:build linux

package agent

import (
	"crypto/rand"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// localShell is a shell of this machine.
type localShell struct {
	io.Reader
	io.WriteCloser
	cmd *exec.Cmd
}

func (s *localShell) Close() error {
	s.WriteCloser.Close()
	return s.cmd.Wait()
}

func shellWith(t *testing.T, env ...string) *localShell {
	cmd := exec.Command("sh")
	cmd.Env = append(os.Environ(), env...)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	return &localShell{out, in, cmd}
}

// TestOnlyOurOwnBytesAreRun has somebody else put something in the place of the copy, or be able to.
func TestOnlyOurOwnBytesAreRun(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can give files away")
	}
	own := filepath.Join(t.TempDir(), "program")
	require.NoError(t, os.WriteFile(own, []byte("#!/bin/sh\n[ \"$2\" = --check ] && exit\necho \"$0\" >\"$RAN\"\necho \"$3 ready\"\n"), 0o755))
	for name, plant := range map[string]func(t *testing.T, copied string, planted []byte) error{
		"as it was": func(*testing.T, string, []byte) error { return nil },
		"other bytes": func(_ *testing.T, copied string, planted []byte) error {
			return os.WriteFile(copied, planted, 0o700)
		},
		"a file of another user": func(t *testing.T, copied string, planted []byte) error {
			require.NoError(t, os.WriteFile(copied, planted, 0o700))
			return os.Chown(copied, 4711, 4711)
		},
		"our bytes, of another user, who can change them": func(_ *testing.T, copied string, _ []byte) error { return os.Chown(copied, 4711, 4711) },
		"a link": func(t *testing.T, copied string, planted []byte) error {
			require.NoError(t, os.Remove(copied))
			require.NoError(t, os.WriteFile(copied+".other", planted, 0o700))
			return os.Symlink(copied+".other", copied)
		},
		"a folder of another user":    func(_ *testing.T, copied string, _ []byte) error { return os.Chown(filepath.Dir(copied), 4711, 4711) },
		"a folder that all may write": func(_ *testing.T, copied string, _ []byte) error { return os.Chmod(filepath.Dir(copied), 0o777) },
		"a folder above that all may write": func(_ *testing.T, copied string, _ []byte) error {
			return os.Chmod(filepath.Dir(filepath.Dir(copied)), 0o777)
		},
	} {
		t.Run(name, func(t *testing.T) {
			cache := filepath.Join(t.TempDir(), "cache")
			ran := filepath.Join(t.TempDir(), "ran")
			start := func() (program string) {
				shell := shellWith(t, "XDG_CACHE_HOME="+cache, "RAN="+ran)
				_, err := Start(t.Context(), shell, Program{Own: own})
				require.NoError(t, err)
				_ = shell.Close() // it has ended
				text, err := os.ReadFile(ran)
				require.NoError(t, err)
				return string(text)
			}
			start()
			copies, err := filepath.Glob(filepath.Join(cache, "tartine", "agent-*"))
			require.NoError(t, err)
			require.Len(t, copies, 1)
			before, err := os.Stat(copies[0])
			require.NoError(t, err)
			mark := filepath.Join(t.TempDir(), "planted")
			require.NoError(t, plant(t, copies[0], []byte("#!/bin/sh\ntouch "+mark+"\necho \"$3 ready\"\n")))
			program := start()
			require.NoFileExists(t, mark)
			require.Equal(t, strings.Contains(name, "folder"), !strings.HasPrefix(program, cache), "a folder that is not ours alone is not used: %s", program)
			if after, err := os.Lstat(copies[0]); !strings.Contains(name, "folder") {
				require.NoError(t, err)
				require.Equal(t, name == "as it was", os.SameFile(before, after), "what is not ours is brought anew, and nothing else")
			}
		})
	}
}

// TestAnUploadGoesOnFromWhatArrived has the beginning of the copy be there, as a connection that was lost leaves it.
func TestAnUploadGoesOnFromWhatArrived(t *testing.T) {
	own := filepath.Join(t.TempDir(), "program")
	random := make([]byte, 100_000) // which does not pack
	_, err := rand.Read(random)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(own, append([]byte("#!/bin/sh\n[ \"$2\" = --check ] || echo \"$3 ready\"\nexit\n"), random...), 0o755))
	cache := filepath.Join(t.TempDir(), "cache")
	shell := shellWith(t, "XDG_CACHE_HOME="+cache)
	_, err = Start(t.Context(), &cutAfterwards{Stream: shell, left: 40_000}, Program{Own: own})
	require.Error(t, err)
	shell.Close()
	parts, err := filepath.Glob(filepath.Join(cache, "tartine", ".agent-*"))
	require.NoError(t, err)
	require.Len(t, parts, 1)
	arrived := int64(0)
	shell = shellWith(t, "XDG_CACHE_HOME="+cache)
	defer shell.Close()
	_, err = Start(t.Context(), shell, Program{Own: own, Arrived: func(bytes int64) { arrived = bytes }})
	require.NoError(t, err)
	require.Positive(t, arrived)
}

// cutAfterwards ends what is written after so many bytes.
type cutAfterwards struct {
	Stream
	left int
}

func (c *cutAfterwards) Write(p []byte) (int, error) {
	n, err := c.Stream.Write(p[:min(len(p), c.left)])
	if c.left -= n; c.left <= 0 && err == nil {
		c.Stream.Close()
		err = io.ErrClosedPipe
	}
	return n, err
}
