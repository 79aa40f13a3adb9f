//go:build !windows

package connect

import (
	"io"
	"net"
)

// dialAgent connects to a key agent, which listens on a Unix socket.
func dialAgent(socket string) (io.ReadWriteCloser, error) { return net.Dial("unix", socket) }
