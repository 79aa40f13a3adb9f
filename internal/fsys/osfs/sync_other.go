//go:build !linux

package osfs

// Elsewhere each file is made durable when it has been written.
const syncsAll = false
