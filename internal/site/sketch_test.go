package site

import (
	"crypto/sha256"
	"encoding/binary"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
)

func TestASketchHasWhatWasAddedAndLittleElse(t *testing.T) {
	content := func(i int) (digest manifest.Digest) {
		return sha256.Sum256(binary.BigEndian.AppendUint32(nil, uint32(i)))
	}
	for _, many := range []int{1, 100, 5000} {
		s := newSketch(many)
		require.LessOrEqual(t, 8*len(s), max(512, 4*many), "it is small")
		var adding sync.WaitGroup
		for part := range 4 {
			adding.Go(func() {
				for i := part; i < many; i += 4 {
					digest := content(i)
					s.add(&digest)
				}
			})
		}
		adding.Wait()
		wrong := 0
		for i := range 20_000 {
			digest := content(i)
			if i < many {
				require.True(t, s.mayHave(&digest))
			} else if s.mayHave(&digest) {
				wrong++
			}
		}
		require.Less(t, wrong, 200, "one of a hundred, at most")
	}
}
