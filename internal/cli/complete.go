package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/config"
	"tartine/internal/target"
)

// completionLimit is how long a shell waits for the numbers of deployments at most.
const completionLimit = 3 * time.Second

// completeTarget gives the names of targets; and, after one, for commands that take a number, those of its deployments. Nobody is asked
// anything meanwhile, and nothing is said.
func (a *app) completeTarget(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	quiet := &app{build: a.build, stdin: nil, stdout: io.Discard, stderr: io.Discard, flags: a.flags}
	quiet.flags.quiet = true
	s, err := quiet.settings()
	switch {
	case err != nil:
		return nil, cobra.ShellCompDirectiveDefault
	case len(args) == 0:
		return completeNames(s), cobra.ShellCompDirectiveDefault // a folder may be one, too
	case len(args) == 1 && (cmd.Name() == "history" || cmd.Name() == "rollback"):
		return quiet.completeNumbers(cmd.Context(), args[0]), cobra.ShellCompDirectiveNoFileComp
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
}

func completeNames(s *config.Settings) (out []string) {
	for _, name := range s.TargetNames {
		out = append(out, name+"\t"+s.Targets[name].URL.Value)
	}
	return out
}

func (a *app) completeNumbers(ctx context.Context, name string) (out []string) {
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, cancel := context.WithTimeout(ctx, completionLimit)
	defer cancel()
	reach, _, err := a.reach([]string{name})
	if err != nil {
		return nil
	}
	opened, err := target.Open(ctx, reach)
	if err != nil {
		return nil
	}
	defer opened.Close()
	all, err := opened.History(ctx)
	if err != nil {
		return nil
	}
	for i := len(all) - 1; i >= 0; i-- {
		out = append(out, strconv.Itoa(all[i].Number)+fmt.Sprintf("\t%s by %s", all[i].At.Local().Format("2006-01-02 15:04"), all[i].User))
	}
	return out
}
