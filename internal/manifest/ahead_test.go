package manifest_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
)

// TestAWalkThatGoesAheadVisitsTheSame goes to its end, and to any place before it.
func TestAWalkThatGoesAheadVisitsTheSame(t *testing.T) {
	var all []manifest.Entry
	for i := range 5000 {
		all = append(all, manifest.Entry{Path: fmt.Sprintf("species/%05d.html", i), Size: int64(i)})
	}
	for _, count := range []int{0, 1, 511, 512, 513, 5000} {
		for _, most := range []int{1, 512, 700, 1 << 20} {
			var got []manifest.Entry
			room := manifest.Entry{} // each is visited in the same place, as where none may be kept
			manifest.Ahead(func(visit func(e *manifest.Entry) bool) {
				manifest.Each(all[:count], func(e *manifest.Entry) bool {
					room = *e
					return visit(&room)
				})
			})(func(e *manifest.Entry) bool {
				got = append(got, *e)
				return len(got) < most
			})
			require.Equal(t, min(count, most), len(got))
			for i := range got {
				require.Equal(t, all[i], got[i])
			}
		}
	}
}
