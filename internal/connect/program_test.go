package connect

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/farend"
)

// loginShells give how login shells of some kinds start what a server hands them, those that are here.
func loginShells(t *testing.T) map[string]func(line string) *exec.Cmd {
	out := map[string]func(string) *exec.Cmd{"PowerShell, as it reads lines": poweredShell}
	for name, words := range map[string][]string{"sh": {"sh", "-c"}, "bash": {"bash", "-c"}, "zsh": {"zsh", "-c"}, "fish": {"fish", "-c"},
		"busybox": {"busybox", "sh", "-c"}, "tcsh": {"tcsh", "-c"}} {
		if _, err := exec.LookPath(words[0]); err != nil {
			if os.Getenv("CI") != "" {
				require.NoError(t, err)
			}
			continue
		}
		out[name] = func(line string) *exec.Cmd { return exec.Command(words[0], append(words[1:], line)...) }
	}
	return out
}

// poweredShell takes a line apart as PowerShell does: within single quotes all is meant as it is, but for two of them,
// which are one; and double quotes in what programs are told get lost.
func poweredShell(line string) *exec.Cmd {
	var words []string
	for _, word := range regexp.MustCompile(`'(?:[^']|'')*'|[^ ']+`).FindAllString(line, -1) {
		if inner, quoted := strings.CutPrefix(word, "'"); quoted {
			word = strings.ReplaceAll(strings.TrimSuffix(inner, "'"), "''", "'")
		}
		words = append(words, strings.ReplaceAll(word, `"`, ""))
	}
	return exec.Command(words[0], words[1:]...)
}

// TestArgumentsArriveAsTheyAre has any login shell hand any arguments on.
func TestArgumentsArriveAsTheyAre(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "it's a $(folder)")
	require.NoError(t, os.Mkdir(folder, 0o755))
	for name, shell := range loginShells(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			odd := rapid.SampledFrom([]string{"", "'", `"`, `\`, "\\\\", "!", "!!", "\n", "\r\n", " ", "\t", "$HOME", "$(id)", "`id`", "*", "~", "-n", "--", ";", "&&", "|",
				"<", ">", "#", "(", ")", "{a,b}", "[a]", "%", "%s", "^", "é", "\xff", "\x01", "''", "a b", "${x}", "?", "="})
			list := rapid.SliceOfN(rapid.Custom(func(r *rapid.T) string {
				if rapid.Bool().Draw(r, "odd") {
					return strings.Join(rapid.SliceOfN(odd, 0, 4).Draw(r, "pieces"), "")
				}
				return strings.ReplaceAll(rapid.String().Draw(r, "text"), "\x00", "")
			}), 1, 60)
			seed := int(time.Now().UnixNano())
			for i := range 20 { // each starts a shell
				args := list.Example(seed + i)
				p := &farend.Program{Args: append([]string{"printf", `%s\0`}, args...), Folder: folder}
				line, err := p.Command("tartine-MARK")
				require.NoError(t, err)
				out, err := shell(line).CombinedOutput()
				require.NoError(t, err, "seed %d: %q: %s", seed+i, args, out)
				_, said, found := bytes.Cut(out, []byte("\n"))
				require.True(t, found && bytes.HasPrefix(out, []byte("tartine-MARK ")), "%s", out)
				require.Equal(t, strings.Join(args, "\x00")+"\x00", string(said), "seed %d", seed+i)
			}
		})
	}
}

func TestAProgramThatIsTooLongIsRefused(t *testing.T) {
	_, err := (&farend.Program{Args: []string{strings.Repeat("x", 100_000)}}).Command("m")
	require.ErrorIs(t, err, farend.ErrTooLong)
}

// TestAProgramOfThisMachine runs in its folder, and ends as it ends.
func TestAProgramOfThisMachine(t *testing.T) {
	dir := t.TempDir()
	run := func(ctx context.Context, args ...string) (int, string, error) {
		var out bytes.Buffer
		status, err := RunHere(ctx, &farend.Program{Args: args, Folder: dir, In: strings.NewReader("in"), Out: &out, Err: &out})
		return status, out.String(), err
	}
	status, said, err := run(t.Context(), "sh", "-c", "cat; pwd >&2; exit 7")
	require.NoError(t, err)
	require.Equal(t, 7, status)
	require.Equal(t, "in"+dir+"\n", said)
	status, _, err = run(t.Context(), "sh", "-c", "kill -TERM $$")
	require.NoError(t, err)
	require.Equal(t, 128+15, status)
	_, _, err = run(t.Context(), "no-such-program")
	var not *farend.NotStartedError
	require.ErrorAs(t, err, &not)
	require.Contains(t, not.Error(), "no-such-program")

	ctx, interrupt := context.WithCancel(t.Context())
	time.AfterFunc(200*time.Millisecond, interrupt)
	began := time.Now()
	status, _, err = run(ctx, "sh", "-c", "sleep 60 | cat") // all of them are interrupted
	require.NoError(t, err)
	require.Equal(t, 128+2, status)
	require.Less(t, time.Since(began), 10*time.Second)
}

// TestWhatALoginPrintsIsNotThePrograms has a shell that prints before, and one that leads nowhere.
func TestWhatALoginPrintsIsNotThePrograms(t *testing.T) {
	var out, errs bytes.Buffer
	p := &farend.Program{Args: []string{"cat"}, Folder: "/", In: strings.NewReader("for the program alone"), Out: &out, Err: &errs}
	status, err := RunThrough(t.Context(), []string{"sh", "-c", "echo welcome; echo hint >&2; sleep 0.3; exec sh"}, p)
	require.NoError(t, err)
	require.Zero(t, status)
	require.Equal(t, "for the program alone", out.String())
	require.Equal(t, "hint\n", errs.String())

	_, err = RunThrough(t.Context(), []string{"sh", "-c", "echo it is closed; exit 1"}, p)
	var not *farend.NotStartedError
	require.ErrorAs(t, err, &not)
	require.Equal(t, "it is closed", not.Said)
	p.Folder = "/no/such/folder"
	_, err = RunThrough(t.Context(), []string{"sh"}, p)
	require.ErrorAs(t, err, &not)
	require.Equal(t, p.Folder, not.Folder)
}
