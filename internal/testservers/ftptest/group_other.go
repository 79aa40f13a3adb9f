//go:build !unix

package ftptest

import "os/exec"

// Servers of FTP are started on Unix alone.

func inOwnGroup(*exec.Cmd) {}

func killGroup(int) {}
