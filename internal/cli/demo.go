package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tartine/internal/demo"
)

func (a *app) demoCommand() *cobra.Command {
	var (
		keep bool
		kind string
	)
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Walk through a full example with a built-in server",
		Long: `Demo unpacks an example site, starts a server on a free loopback port (SSH, or a rented host with FTP), and deploys,
changes, tampers with and repairs the site, printing each command and its output. It needs no network and no rights, and
leaves nothing behind. For a container it makes one on this machine's engine, or on a small one of its own where none
answers.`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !slices.Contains(demo.Targets, kind) {
				return usageError(fmt.Sprintf("--target is %s, not %q", strings.Join(demo.Targets, " or "), kind), "")
			}
			program, err := os.Executable()
			if err != nil {
				return fmt.Errorf("find this program: %w", err)
			}
			stdout, ok := a.terminal, a.terminal != nil
			stderr, ok2 := a.stderr.(*os.File)
			if !ok || !ok2 {
				return fmt.Errorf("the demo writes to files only")
			}
			if a.json() { // the object alone goes to standard output
				stdout = stderr
			}
			walk := &demo.Walk{Program: program, Stdout: stdout, Stderr: stderr, Keep: keep, Target: kind}
			err = walk.Run(cmd.Context())
			if err == nil {
				err = a.object(map[string]any{"target": kind, "steps": walk.Steps, "result": "done"})
			}
			return err
		},
	}
	a.outputFlags(cmd)
	cmd.Flags().StringVar(&kind, "target", "ssh", "the `KIND` of server: "+strings.Join(demo.Targets, " or "))
	cmd.Flags().BoolVar(&keep, "keep", false, "leave folder and server for trying, until Ctrl-C")
	return cmd
}
