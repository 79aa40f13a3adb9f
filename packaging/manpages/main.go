// Manpages writes the manual pages of all commands into a folder.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"tartine/internal/cli"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: manpages VERSION FOLDER")
		os.Exit(2)
	}
	err := os.MkdirAll(os.Args[2], 0o755)
	for name, text := range cli.Manual(cli.Build{Version: os.Args[1]}) {
		if err == nil {
			err = os.WriteFile(filepath.Join(os.Args[2], name), []byte(text), 0o644)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
