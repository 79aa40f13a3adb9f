//go:build !unix

package sshconfig

import "os"

// othersWrite does not look at access lists.
func othersWrite(os.FileInfo) string { return "" }
