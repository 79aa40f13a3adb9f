//go:build !unix

package site

// processLives cannot be found out here: the lock must run out.
func processLives(int) bool { return true }
