//go:build !unix

package site

// ProcessLives cannot be found out here: the lock must run out.
func ProcessLives(int) bool { return true }
