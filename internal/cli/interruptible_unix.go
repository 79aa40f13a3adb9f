//go:build unix

package cli

import (
	"io"
	"os"
	"syscall"
)

// interruptible gives a file whose reading ends when it is closed, which that of a pipe does only when it does not block.
func interruptible(file *os.File) io.Reader {
	fd, err := syscall.Dup(int(file.Fd()))
	if err != nil {
		return file
	}
	if syscall.SetNonblock(fd, true) != nil {
		syscall.Close(fd)
		return file
	}
	return os.NewFile(uintptr(fd), file.Name())
}
