package fsystest_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/fsys/osfs"
)

func between(f fsys.FS) *fsystest.Between {
	return &fsystest.Between{FS: f, Before: func(string, ...string) error { return nil }}
}

func TestMemoryConforms(t *testing.T) {
	fsystest.Run(t, func(*testing.T) fsys.FS { return fsystest.NewMemory() })
}

func TestBetweenConformsWhateverItStandsBefore(t *testing.T) {
	for name, wrap := range map[string]func(fsys.FS) fsys.FS{
		"everything": func(f fsys.FS) fsys.FS { return f },
		"plain":      func(f fsys.FS) fsys.FS { return fsystest.Plain{FS: f} },
	} {
		t.Run(name, func(t *testing.T) {
			fsystest.Run(t, func(t *testing.T) fsys.FS {
				f, err := osfs.Open(t.TempDir())
				require.NoError(t, err)
				return between(wrap(f))
			})
		})
	}
}
