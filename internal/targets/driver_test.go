package targets

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/connect"
	"tartine/internal/site"
)

// TestAKindOfTargetIsOneDriver adds a kind: crates, which are folders of one shelf. It is parsed, opened, examined and refused a host key
// like all others.
func TestAKindOfTargetIsOneDriver(t *testing.T) {
	shelf := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(shelf, "eggs"), 0o755))
	crates := &Driver{Kind: "crate", open: openFolder, NoHostKey: "%s is a crate",
		parse: func(text, rest string) (Address, error) {
			if strings.Contains(rest, "/") {
				return Address{}, &AddressError{text, "names no crate", "it reads crate://NAME"}
			}
			return Address{Kind: "crate", Path: filepath.Join(shelf, rest)}, nil
		},
		problems: []rule{forError(func(e *fs.PathError) *Problem {
			return &Problem{Unsafe, "the crate is broken", nil, "take another one"}
		})},
		reached: func(*Opened) []site.Check { return []site.Check{{Name: "crate", Found: "it is on the shelf"}} }}
	all := append(known(), crates)
	address, err := all.Parse("crate://eggs")
	require.NoError(t, err)
	_, err = all.Parse("crate://eggs/1")
	require.ErrorContains(t, err, "names no crate")
	_, err = all.Parse("barrel://eggs")
	require.ErrorContains(t, err, "crate://")

	opened, err := all.Open(t.Context(), Settings{Address: address})
	require.NoError(t, err)
	defer opened.Close()
	survey, err := calls.Survey.On(t.Context(), opened, calls.Surveying{As: 1})
	require.NoError(t, err)
	require.Zero(t, survey.Number)
	require.Len(t, crates.Reached(opened), 1)
	require.Empty(t, crates.Failed(os.ErrNotExist))
	require.Equal(t, &Problem{Unsafe, "the crate is broken", nil, "take another one"}, all.Explain(&fs.PathError{Err: os.ErrNotExist}))
	require.Nil(t, known().Explain(&fs.PathError{Err: os.ErrNotExist}))
	_, err = known().Open(t.Context(), Settings{Address: address})
	require.ErrorContains(t, err, `"crate"`)
}

func TestTheStepThatFailedIsNamedForEveryKind(t *testing.T) {
	login := &connect.Error{Step: connect.Login, Err: os.ErrDeadlineExceeded}
	for _, d := range known() {
		step := d.Failed(login)
		switch d.Kind {
		case Folder, Archive:
			require.Empty(t, step)
		case Container:
			require.Equal(t, stepContainer, step)
		default:
			require.Equal(t, connect.Login, step)
		}
		for _, s := range d.Steps {
			require.NotEmpty(t, s.Step, d.Kind)
		}
	}
}
