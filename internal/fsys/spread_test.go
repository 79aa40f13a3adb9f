package fsys_test

import (
	"errors"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/fsys"
)

func TestWorkThatIsSpreadIsAllDoneOnce(t *testing.T) {
	for _, count := range []int{0, 1, 4095, 8192, 8193, 100_001} {
		var (
			mu   sync.Mutex
			done = make([]int, count)
		)
		require.NoError(t, fsys.Spread(count, func(from, until int) error {
			mu.Lock()
			defer mu.Unlock()
			for i := from; i < until; i++ {
				done[i]++
			}
			return nil
		}))
		for i := range done {
			require.Equal(t, 1, done[i])
		}
		wrong := errors.New("wrong")
		require.ErrorIs(t, fsys.Spread(count, func(from, _ int) error {
			if from == 0 {
				return wrong
			}
			return nil
		}), wrong)
	}
}

func TestWhatIsMarkedIsKept(t *testing.T) {
	require.Equal(t, []int{2, 5, 7}, fsys.Marked([]int{1, 2, 3, 5, 7}, []bool{false, true, false, true, true}))
	require.Equal(t, []int{1, 2}, fsys.Marked([]int{1, 2}, []bool{true, true}))
	require.Empty(t, fsys.Marked([]int{1}, []bool{false}))
}
