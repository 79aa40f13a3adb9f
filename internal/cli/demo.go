package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"tartine/internal/demo"
)

func (a *app) demoCommand() *cobra.Command {
	var keep bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Walk through a full example with a built-in SSH server",
		Long: `Demo unpacks an example site, starts an SSH server on a free loopback port, and deploys, changes, tampers with and mends
the site, printing each command and its output. It needs no network and no rights, and leaves nothing behind.`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			program, err := os.Executable()
			if err != nil {
				return fmt.Errorf("find this program: %w", err)
			}
			stdout, ok := a.stdout.(*os.File)
			stderr, ok2 := a.stderr.(*os.File)
			if !ok || !ok2 {
				return fmt.Errorf("the demo writes to files only")
			}
			walk := &demo.Walk{Program: program, Stdout: stdout, Stderr: stderr, Keep: keep}
			return walk.Run(cmd.Context())
		},
	}
	cmd.Flags().BoolVar(&keep, "keep", false, "leave folder and server for trying, until Ctrl-C")
	return cmd
}
