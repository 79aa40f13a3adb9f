//go:build race

package main

// raced tells that the race detector is in this binary, and that it is to be in the program, too.
const raced = true
