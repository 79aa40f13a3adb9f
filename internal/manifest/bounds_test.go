package manifest_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
)

// TestNoMoreIsUnpackedThanIsAllowed unpacks one entry behind as many as there may be: they are not touched, so they take no memory.
func TestNoMoreIsUnpackedThanIsAllowed(t *testing.T) {
	one := manifest.Pack([]manifest.Entry{{Path: "index.html"}})
	out, err := one.UnpackTo(make([]manifest.Entry, manifest.MostPacked-1, manifest.MostPacked))
	require.NoError(t, err)
	require.Len(t, out, manifest.MostPacked)
	_, err = one.UnpackTo(out)
	require.ErrorContains(t, err, "more than 2097152 entries")
}
