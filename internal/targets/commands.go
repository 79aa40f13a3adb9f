package targets

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"tartine/internal/connect"
	"tartine/internal/farend"
)

// Command is a program that is run for a deployment, here or at a target.
type Command struct {
	Words   []string // the program and its arguments
	Shell   string   // a line for the shell, in the place of Words
	Env     []string // NAME=VALUE each
	Changed []byte   // the text of a file whose name is in TARTINE_CHANGED; nil: there is none
	ByZero  []byte   // and the same with a zero byte behind each entry, whose name is in TARTINE_CHANGED_Z
	Out     io.Writer
}

// The statuses of shells for programs that they cannot run (POSIX).
const (
	notExecutable = 126
	noProgram     = 127
)

// RunsPrograms tells with a *NoProgramsError that a target is reached in a way that runs none.
func (s *Settings) RunsPrograms() error {
	if len(s.Command) > 0 {
		return nil
	}
	driver := known().find(s.Address.Kind)
	if driver == nil || driver.run == nil {
		return &NoProgramsError{noPrograms(s.Address.Kind), driver.insteadOfRun}
	}
	return nil
}

// RunHere runs a command on this machine, in a folder, and gives its exit status. When the context ends it is
// interrupted.
func (c *Command) RunHere(ctx context.Context, folder string) (int, error) {
	p := &farend.Program{Args: c.Words, Folder: folder, Out: c.Out, Err: c.Out, Env: c.Env}
	if c.Shell != "" {
		p.Args = []string{"sh", "-c", c.Shell}
		if runtime.GOOS == "windows" {
			p.Args = []string{"cmd", "/C", c.Shell}
		}
	}
	if c.Changed != nil {
		dir, err := os.MkdirTemp("", "tartine-changed-")
		if err != nil {
			return 0, err
		}
		defer os.RemoveAll(dir)
		for name, text := range map[string][]byte{"changed": c.Changed, "changed-z": c.ByZero} {
			if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
				return 0, err
			}
		}
		p.Env = append(p.Env, "TARTINE_CHANGED="+filepath.Join(dir, "changed"), "TARTINE_CHANGED_Z="+filepath.Join(dir, "changed-z"))
	}
	status, err := connect.RunHere(ctx, p)
	var notStarted *farend.NotStartedError
	switch {
	case !errors.As(err, &notStarted) || notStarted.Folder != "":
		return status, err
	case errors.Is(notStarted.Err, exec.ErrNotFound), errors.Is(notStarted.Err, fs.ErrNotExist):
		return noProgram, nil
	case errors.Is(notStarted.Err, fs.ErrPermission):
		return notExecutable, nil
	}
	return status, err
}

// withChanged has a shell write down what changed, from standard input, and run a program that knows where.
const withChanged = `umask 077; d=$(mktemp -d) || exit 126
trap 'rm -rf "$d"; exit 130' HUP INT TERM; trap 'rm -rf "$d"' EXIT
head -c "$1" >"$d/changed" && cat >"$d/changed-z" || exit 126
shift; TARTINE_CHANGED=$d/changed TARTINE_CHANGED_Z=$d/changed-z "$@" </dev/null`

// RunThere runs a command at a target, in the root of its site, or, where that does not exist yet, in the home folder
// of who logs in. It gives its exit status. When the context ends it is interrupted.
func (c *Command) RunThere(ctx context.Context, s Settings) (int, error) {
	if err := s.RunsPrograms(); err != nil {
		return 0, err
	}
	if s.Address.Kind == Folder && len(s.Command) == 0 {
		own := *c
		own.Env = append(own.Env, "TARTINE_ROOT="+s.Address.Path)
		home, _ := os.UserHomeDir() // without one, the next of them counts
		for _, folder := range []string{s.Address.Path, home, os.TempDir()} {
			if info, err := os.Stat(folder); err == nil && info.IsDir() {
				return own.RunHere(ctx, folder)
			}
		}
		return own.RunHere(ctx, s.Address.Path)
	}
	p := &farend.Program{Args: c.Words, Out: c.Out, Err: c.Out, Env: c.Env, Anywhere: true, Named: "TARTINE_ROOT"}
	if c.Shell != "" {
		p.Args = []string{"sh", "-c", c.Shell}
	}
	if c.Changed != nil {
		p.Wrap = append([]string{"sh", "-c", withChanged, "sh", strconv.Itoa(len(c.Changed))}, p.Args...)
		p.In = io.MultiReader(bytes.NewReader(c.Changed), bytes.NewReader(c.ByZero))
	}
	return Run(ctx, s, p)
}

// ChangedFiles gives the two forms in which commands are told what changed: the status and the path of each, in lines,
// and with zero bytes in the place of the line's end. A path with a line break is in the second alone.
func ChangedFiles(each func(yield func(status, path string) bool)) (lines, byZero []byte) {
	var text, zero strings.Builder
	for status, path := range each {
		if !strings.Contains(path, "\n") {
			fmt.Fprintf(&text, "%s %s\n", status, path)
		}
		fmt.Fprintf(&zero, "%s %s\x00", status, path)
	}
	return []byte(text.String()), []byte(zero.String())
}
