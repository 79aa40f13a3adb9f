package lanehash

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func sums(t require.TestingT, run func([][]byte, []*[Size]byte), messages [][]byte) {
	out := make([][Size]byte, len(messages))
	to := make([]*[Size]byte, len(out))
	for i := range out {
		to[i] = &out[i]
	}
	run(messages, to)
	for i, m := range messages {
		require.Equal(t, sha256.Sum256(m), out[i], "message %d, of %d bytes", i, len(m))
	}
}

// ways gives how messages can be digested here: as Sum does it, and in lanes wherever the processor has them.
func ways() map[string]func([][]byte, []*[Size]byte) {
	out := map[string]func([][]byte, []*[Size]byte){"Sum": Sum}
	if hasLanes() {
		out["lanes"] = func(messages [][]byte, digests []*[Size]byte) { new(work).run(messages, digests) }
	}
	return out
}

func TestDigestsAreThoseOfTheStandardLibrary(t *testing.T) {
	random := rand.NewChaCha8([32]byte{7})
	long := make([]byte, 300<<10)
	_, _ = random.Read(long)
	for name, run := range ways() {
		t.Run(name, func(t *testing.T) {
			var each [][]byte
			for n := range 200 { // each end of a block, and where the length fits behind it or does not
				each = append(each, long[n:2*n])
			}
			sums(t, run, each)
			for n := range 40 { // lanes that stay empty
				sums(t, run, each[n:2*n])
			}
			sums(t, run, [][]byte{long, long[:Longest], long[:Longest+1], nil, {}, long[1:5000], long[3:4097], long})
			rapid.Check(t, func(t *rapid.T) {
				var messages [][]byte
				for range rapid.IntRange(0, 70).Draw(t, "messages") {
					n := rapid.OneOf(rapid.IntRange(0, 300), rapid.IntRange(0, 9000), rapid.SampledFrom([]int{Longest - 1, Longest, Longest + 1})).Draw(t, "length")
					from := rapid.IntRange(0, len(long)-n).Draw(t, "from")
					messages = append(messages, long[from:from+n])
				}
				before := bytes.Clone(long)
				sums(t, run, messages)
				require.True(t, bytes.Equal(before, long), "the messages are as they were")
			})
		})
	}
}

func BenchmarkSum(b *testing.B) {
	for name, run := range ways() {
		for _, size := range []int{500, 4 << 10, 16 << 10, 64 << 10} {
			b.Run(fmt.Sprintf("%s/%d", name, size), func(b *testing.B) {
				messages, out, to := make([][]byte, 32), make([][Size]byte, 32), make([]*[Size]byte, 32)
				for i := range messages {
					messages[i], to[i] = bytes.Repeat([]byte("gannet"), size/6), &out[i]
				}
				b.SetBytes(int64(32 * size))
				for b.Loop() {
					run(messages, to)
				}
			})
		}
		b.Run(name+"/one after the other", func(b *testing.B) {
			m := bytes.Repeat([]byte("gannet"), 4<<10/6)
			b.SetBytes(int64(len(m)))
			for b.Loop() {
				sha256.Sum256(m)
			}
		})
	}
}
