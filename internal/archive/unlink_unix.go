//go:build unix

package archive

import "os"

// unlink takes the name from a file, so that nothing is left of it when the program ends, however it ends.
func unlink(file *os.File) { _ = os.Remove(file.Name()) } // else it stays in the cache until it is swept
