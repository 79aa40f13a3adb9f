package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/content"
	"tartine/internal/manifest"
	"tartine/internal/render"
)

func (a *app) manifestCommand() *cobra.Command {
	var format, output string
	cmd := &cobra.Command{
		Use:   "manifest",
		Short: "Write the manifest of the content",
		Long: `Manifest writes down the content: every path with its kind, size, mode and digest. The listing is a text that
sha256sum -c accepts, and its own SHA-256 is the tree digest.`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if format != "json" && format != "listing" {
				return usageError(fmt.Sprintf("--format is json or listing, not %q", format), "")
			}
			return a.manifest(cmd.Context(), format, output)
		},
	}
	a.configFlag(cmd)
	a.contentFlags(cmd)
	cmd.Flags().StringVar(&format, "format", "json", "write it in this `FORM`: json or listing")
	cmd.Flags().StringVar(&output, "output", "", "write to this `FILE`, in one step, not to standard output")
	cmd.Flags().BoolVarP(&a.flags.quiet, "quiet", "q", false, "write nothing but the manifest, warnings and errors")
	cmd.Flags().BoolVar(&a.flags.noColor, "no-color", false, "no colours (as with NO_COLOR set)")
	return cmd
}

func (a *app) manifest(ctx context.Context, format, output string) error {
	from, err := a.load()
	if err != nil {
		return err
	}
	tree, err := content.Scan(ctx, from.sources, from.scan)
	if err != nil {
		return err
	}
	p := a.printer()
	warnUnused(p, from.rules)
	p.Warnings(tree)
	for _, f := range tree.Refused {
		p.Warn("left out: %s: %v", render.Name(f.Path), f.Err)
	}
	m := &manifest.Manifest{Created: time.Now().UTC().Truncate(time.Second), Generator: a.build.String(),
		Origin: origin(ctx, from.sources), Entries: tree.Entries()}
	write := m.WriteJSON
	if format == "listing" {
		write = m.WriteListing
	}
	if output == "" {
		err = write(a.stdout)
	} else {
		err = writeWhole(output, write)
	}
	if err != nil {
		return err
	}
	if !a.flags.quiet {
		render.Fprintf(a.stderr, "tree      %s, %s\n", m.Tree(), render.Count(len(m.Entries), "entry"))
	}
	if len(tree.Failed) > 0 {
		var paths []string
		for _, f := range tree.Failed {
			paths = append(paths, fmt.Sprintf("%s  (%v)", render.Name(f.Path), f.Err))
		}
		return &statusError{status: ExitIncomplete, what: "the manifest is not complete: some content could not be read", paths: paths, next: "fix these, or exclude them"}
	}
	return nil
}

// isStream tells whether a name is that of a device or a pipe: it is written to, and must stay what it is.
func isStream(name string) bool {
	info, err := os.Stat(name)
	return err == nil && !info.Mode().IsRegular() && !info.IsDir()
}

// writeStream writes into a device or a pipe.
func writeStream(name string, write func(io.Writer) error) error {
	file, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		return usageError(fmt.Sprintf("%s cannot be written: %v", name, err), "")
	}
	return errors.Join(write(file), file.Close())
}

// writeWhole writes a file in one step: it is whole and new, or as it was.
func writeWhole(name string, write func(io.Writer) error) error {
	if isStream(name) {
		return writeStream(name, write)
	}
	file, err := os.CreateTemp(filepath.Dir(name), ".tartine-*")
	if err != nil {
		return usageError(fmt.Sprintf("%s cannot be written: %v", name, err), "")
	}
	defer os.Remove(file.Name()) // gone already when all went well
	err = write(file)
	if err == nil {
		err = file.Chmod(0o644)
	}
	if closing := file.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = os.Rename(file.Name(), name)
	}
	if err != nil {
		return usageError(fmt.Sprintf("%s cannot be written: %v", name, err), "")
	}
	return nil
}
