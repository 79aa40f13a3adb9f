package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"tartine/internal/render"
)

// Stamp fills in what the linker was not told, from what the compiler notes of the module and the repository.
func (b Build) Stamp() Build {
	info, ok := debug.ReadBuildInfo()
	if !ok || b.Version != "" {
		return b
	}
	b.Version = info.Main.Version
	if b.Version == "" || b.Version == "(devel)" {
		b.Version = "dev"
	}
	dirty := false
	for _, setting := range info.Settings {
		switch setting.Key {
		case "vcs.revision":
			b.Commit = setting.Value[:min(len(setting.Value), 7)]
		case "vcs.modified":
			dirty = setting.Value == "true"
		}
	}
	if b.Commit == "" {
		b.Commit = "unknown"
	}
	if dirty {
		b.Commit += "-dirty"
	}
	return b
}

func (a *app) versionCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "version",
		Short: "Say which program this is",
		Args:  noArguments,
		RunE: func(*cobra.Command, []string) error {
			if a.json() {
				return render.WriteJSON(a.stdout, map[string]string{"version": a.build.Version,
					"commit": a.build.Commit, "go": runtime.Version(), "system": runtime.GOOS + "/" + runtime.GOARCH})
			}
			_, err := fmt.Fprintln(a.stdout, a.build)
			return err
		},
	}
	a.outputFlags(cmd)
	return cmd
}
