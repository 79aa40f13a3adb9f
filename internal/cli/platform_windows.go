package cli

import (
	"io"
	"os"

	"golang.org/x/sys/windows"
)

// interruptible: no agent runs on this system.
func interruptible(file *os.File) io.Reader { return file }

// takesSequences has a console understand the control sequences of ECMA-48, which those before Windows 10 cannot, and
// others do when they are told.
func takesSequences(console *os.File) bool {
	var mode uint32
	handle := windows.Handle(console.Fd())
	if err := windows.GetConsoleMode(handle, &mode); err != nil {
		return false
	}
	return mode&windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING != 0 ||
		windows.SetConsoleMode(handle, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}

// sizes tells each time that a terminal gets another width and height, which this system tells in another way.
func sizes(*os.File) (changed <-chan [2]int, stop func()) { return nil, func() {} }

// hush is for systems in which one user runs programs as another one.
func hush() {}
