//go:build !unix

package containerfs

import "io"

// claim does nothing: what a program leaves that was killed stays here.
func claim(string) (io.Closer, error) { return io.NopCloser(nil), nil }

func sweep() {}
