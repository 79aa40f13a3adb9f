// Package porttest gives ports on loopback to servers that tests start as programs of their own.
package porttest

import (
	"fmt"
	"math/rand/v2"
	"net"
)

// The ports lie below those that systems give to whoever asks for any port, so no listener or connection of another
// test gets one in the time until the server has bound it.
const lowest, highest = 10000, 30000

// Free gives a port at which nothing listens. Nobody else gets it from here, also in another process, until release is
// called.
func Free() (port int, release func(), err error) {
	for range 100 {
		port = lowest + rand.IntN(highest-lowest)
		held, err := net.Listen("tcp", fmt.Sprint("127.0.0.2:", port)) // says that the number is taken
		if err != nil {
			continue
		}
		if tried, err := net.Listen("tcp", fmt.Sprint("127.0.0.1:", port)); err == nil {
			return port, func() { held.Close() }, tried.Close()
		}
		held.Close()
	}
	return 0, nil, fmt.Errorf("no free port between %d and %d", lowest, highest)
}
