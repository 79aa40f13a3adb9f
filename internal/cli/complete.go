package cli

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/config"
	"tartine/internal/manifest"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// completionLimit is how long a shell waits for the numbers of deployments at most.
const completionLimit = 3 * time.Second

// completeTarget gives the names of targets; and, after one, for commands that take a number, those of its deployments.
// Nobody is asked anything meanwhile, and nothing is said.
func (a *app) completeTarget(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	quiet := &app{build: a.build, stdin: nil, stdout: io.Discard, stderr: io.Discard, flags: a.flags}
	quiet.flags.quiet = true
	s, err := quiet.settings()
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	names, _, err := quiet.splitPaths(args)
	named := len(args) > 0 && err == nil && len(names) > 0 || len(s.TargetNames) == 1
	switch {
	case cmd.Name() == "send" && len(args) > 0:
		return nil, cobra.ShellCompDirectiveDefault // files of this machine
	case takesPaths[cmd.Name()] && named && (len(args) > 0 || begun != "" && len(s.TargetNames) == 1):
		return quiet.completePaths(cmd.Context(), names, begun), cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
	case len(args) == 0:
		return completeNames(s), cobra.ShellCompDirectiveDefault // a folder may be one, too
	case len(args) == 1 && (cmd.Name() == "history" || cmd.Name() == "rollback"):
		return quiet.completeNumbers(cmd.Context(), args[0]), cobra.ShellCompDirectiveNoFileComp
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
}

// takesPaths are the commands whose arguments are paths of a site.
var takesPaths = map[string]bool{"ls": true, "find": true, "cat": true, "usage": true, "edit": true, "fetch": true, "mkdir": true,
	"mv": true, "rm": true, "chmod": true, "adopt": true}

// completionLasts is for how long the names in a folder are taken for what they were.
const completionLasts = 5 * time.Second

// completePaths gives the names of a site that begin so. What was listed a moment ago is not asked for again.
func (a *app) completePaths(ctx context.Context, names []string, begun string) (out []string) {
	folder := begun[:strings.LastIndexByte(begun, '/')+1]
	for _, name := range a.listForCompletion(ctx, names, path.Clean("./"+folder)) {
		if strings.HasPrefix(name, begun) {
			out = append(out, name)
		}
	}
	return out
}

func (a *app) listForCompletion(ctx context.Context, names []string, folder string) (out []string) {
	reach, _, err := a.reach(names)
	if err != nil {
		return nil
	}
	file := ""
	if dir, err := os.UserCacheDir(); err == nil {
		key := sha256.Sum256([]byte(reach.Address.String() + "\x00" + folder))
		file = filepath.Join(dir, "tartine", fmt.Sprintf("names-%x", key[:8]))
		if info, err := os.Stat(file); err == nil && time.Since(info.ModTime()) < completionLasts {
			if text, err := os.ReadFile(file); err == nil {
				return strings.FieldsFunc(string(text), func(r rune) bool { return r == '\n' })
			}
		}
	}
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, cancel := context.WithTimeout(ctx, completionLimit)
	defer cancel()
	opened, err := targets.Open(ctx, reach)
	if err != nil {
		return nil
	}
	defer opened.Close()
	found, err := calls.List.On(ctx, opened, &site.Listing{Paths: []string{folder}, Bare: true})
	if err != nil {
		return nil
	}
	for i := range found {
		name := found[i].Path
		if found[i].Kind == manifest.Dir && found[i].Other == 0 {
			name += "/"
		}
		if render.Name(name) == name { // a shell's line is no place for others
			out = append(out, name)
		}
	}
	if file != "" && os.MkdirAll(filepath.Dir(file), 0o700) == nil {
		_ = os.WriteFile(file, []byte(strings.Join(out, "\n")), 0o600) // the next one asks again
	}
	return out
}

// completionScript gives the command of a shell's script the options of output.
func (a *app) completionScript(root, shell *cobra.Command) {
	a.outputFlags(shell)
	write := shell.RunE
	shell.RunE = func(cmd *cobra.Command, args []string) error {
		if !a.json() {
			return write(cmd, args)
		}
		var script bytes.Buffer
		root.SetOut(&script)
		if err := write(cmd, args); err != nil {
			return err
		}
		return a.object(map[string]string{"shell": shell.Name(), "script": script.String()})
	}
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
	opened, err := targets.Open(ctx, reach)
	if err != nil {
		return nil
	}
	defer opened.Close()
	all, err := calls.History.On(ctx, opened, calls.None{})
	if err != nil {
		return nil
	}
	for i := len(all) - 1; i >= 0; i-- {
		out = append(out, strconv.Itoa(all[i].Number)+fmt.Sprintf("\t%s by %s",
			all[i].At.Local().Format("2006-01-02 15:04"), all[i].User))
	}
	return out
}
