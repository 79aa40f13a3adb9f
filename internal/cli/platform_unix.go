//go:build unix

package cli

import (
	"golang.org/x/sys/unix"

	"io"
	"os"
	"os/signal"
	"syscall"

	"golang.org/x/term"
)

// interruptible gives a file whose reading ends when it is closed, which that of a pipe does only when it does not
// block.
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

// takesSequences tells whether a terminal understands the control sequences of ECMA-48. All do, but those that TERM
// says are dumb.
func takesSequences(*os.File) bool {
	kind := os.Getenv("TERM")
	return kind != "dumb" && kind != ""
}

// sizes tells each time that a terminal gets another width and height, until stop is called.
func sizes(terminal *os.File) (changed <-chan [2]int, stop func()) {
	signals, out := make(chan os.Signal, 1), make(chan [2]int, 1)
	signal.Notify(signals, syscall.SIGWINCH)
	go func() {
		for range signals {
			if width, height, err := term.GetSize(int(terminal.Fd())); err == nil {
				select {
				case out <- [2]int{width, height}:
				default: // the one before was not taken yet
				}
			}
		}
	}()
	return out, func() {
		signal.Stop(signals)
		close(signals)
	}
}

// hush has what is written to standard error go nowhere.
func hush() {
	if nowhere, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0); err == nil {
		_ = unix.Dup2(int(nowhere.Fd()), int(os.Stderr.Fd())) // else it is only disturbed
	}
}
