//go:build !unix

package engine

func groupOf(string) string { return "" }
