//go:build !unix

package archive

import "os"

// unlink leaves a file its name: it cannot be taken away while the file is open. It is swept by a later run.
func unlink(*os.File) {}
