//go:build !amd64

package lanehash

import "unsafe"

const able = false

func hasLanes() bool { return false }

func compress(*[8][lanes]uint32, *[lanes]unsafe.Pointer, uint64) {}
