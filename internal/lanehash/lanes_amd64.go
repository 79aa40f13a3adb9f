package lanehash

import (
	"unsafe"

	"golang.org/x/sys/cpu"
)

var able = hasLanes() && !hasSHA()

// hasLanes tells whether the processor has vectors that are wide enough.
func hasLanes() bool { return cpu.X86.HasAVX512F && cpu.X86.HasAVX512BW }

// hasSHA tells whether the processor has instructions of its own for SHA-256.
func hasSHA() bool

// compress takes the state of each lane on by so many blocks, which follow one another from where its pointer points. It
// writes nothing but the state.
//
//go:noescape
func compress(state *[8][lanes]uint32, at *[lanes]unsafe.Pointer, blocks uint64)
