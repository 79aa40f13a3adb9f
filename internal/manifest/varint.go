package manifest

import (
	"encoding/binary"
	"math/bits"
)

// Uvarint is binary.Uvarint, which is what takes most of the time of unpacking: it reads up to nine bytes at once. Where there is no
// number n is not positive.
func Uvarint(b []byte) (value uint64, n int) {
	if len(b) > 0 && b[0] < 0x80 {
		return uint64(b[0]), 1
	}
	return longUvarint(b)
}

func longUvarint(b []byte) (value uint64, n int) {
	if len(b) < 9 {
		return binary.Uvarint(b)
	}
	const goesOn = 0x8080808080808080
	x := binary.LittleEndian.Uint64(b)
	ends := ^x & goesOn
	if ends == 0 {
		if b[8] >= 0x80 {
			return binary.Uvarint(b)
		}
		return sevens(x) | uint64(b[8])<<56, 9
	}
	n = bits.TrailingZeros64(ends)/8 + 1
	return sevens(x & (^uint64(0) >> (64 - 8*n))), n
}

// sevens puts the lower seven bits of each byte together.
func sevens(x uint64) uint64 {
	x = x&0x007f007f007f007f | x&0x7f007f007f007f00>>1
	x = x&0x00003fff00003fff | x&0x3fff00003fff0000>>2
	return x&0x000000000fffffff | x&0x0fffffff00000000>>4
}
