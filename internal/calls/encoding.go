package calls

import (
	"errors"

	"github.com/fxamacker/cbor/v2"
)

// MaxList is how many elements a list may have that crosses a connection: entries, folders, changes.
const MaxList = 2 << 20

// MostSaid is how much a far end may say at once that is shown to a person, in bytes.
const MostSaid = 4 << 10

// ErrProtocol tells that the other side does not keep to the protocol.
var ErrProtocol = errors.New("the other side does not keep to the protocol")

// The encoding of what crosses a connection: CBOR (RFC 8949). Names at a far end may be any bytes; whoever shows or
// records one looks at it first.
var (
	Encoding = must(cbor.EncOptions{Time: cbor.TimeRFC3339Nano}.EncMode())
	Decoding = must(cbor.DecOptions{MaxArrayElements: MaxList, MaxMapPairs: 1 << 16, MaxNestedLevels: 16,
		UTF8: cbor.UTF8DecodeInvalid}.DecMode())
)

// must is for options that are right or wrong for good.
func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}
