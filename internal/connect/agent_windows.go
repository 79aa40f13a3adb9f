package connect

import (
	"io"
	"net"
	"os"
	"strings"
)

// pipes begins the names of named pipes.
const pipes = `\\.\pipe\`

// dialAgent connects to a key agent, which listens on a named pipe, as OpenSSH's does on Windows, or on a Unix socket.
func dialAgent(socket string) (io.ReadWriteCloser, error) {
	if strings.HasPrefix(strings.ToLower(strings.ReplaceAll(socket, "/", `\`)), pipes) {
		return os.OpenFile(socket, os.O_RDWR, 0)
	}
	return net.Dial("unix", socket)
}
