package fsys

import (
	"runtime"

	"golang.org/x/sync/errgroup"
)

// spreadFrom is from how many pieces of work on it pays to give some of them to another processor.
const spreadFrom = 4096

// Spread calls do with parts of so many pieces of work, one behind the other: where they are very many, for each processor one, at the same
// time. Its error is one of those of do.
func Spread(count int, do func(from, until int) error) error {
	parts := min(runtime.GOMAXPROCS(0), count/spreadFrom)
	if parts < 2 {
		return do(0, count)
	}
	var group errgroup.Group
	for part := range parts {
		group.Go(func() error { return do(part*count/parts, (part+1)*count/parts) })
	}
	return group.Wait()
}

// Marked gives those of a list that are marked, in the same memory.
func Marked[T any](all []T, marked []bool) []T {
	kept := 0
	for i := range all {
		if marked[i] {
			if kept < i {
				all[kept] = all[i]
			}
			kept++
		}
	}
	return all[:kept]
}
