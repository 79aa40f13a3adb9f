package osfs_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/fsys/osfs"
)

func TestConformance(t *testing.T) {
	fsystest.Run(t, func(t *testing.T) fsys.FS {
		f, err := osfs.Open(t.TempDir())
		require.NoError(t, err)
		return f
	})
}
