package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"

	"tartine/internal/archive"
	"tartine/internal/content"
	"tartine/internal/packed"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// packing is a run of pack.
type packing struct {
	output, as string
	image      imageFlags
}

func (a *app) packCommand() *cobra.Command {
	p := &packing{}
	cmd := &cobra.Command{
		Use:   "pack",
		Short: "Put the content into an archive or an image",
		Long: `Pack puts the content, as a deployment would bring it, into one archive: with the same places, filters, guard and modes. The same content
gives the same bytes on any machine. All in it is of one time: that of SOURCE_DATE_EPOCH, else of the content's commit. What is written is read
again and compared before it takes its place.

With --image it is an image that container engines load and run: an OCI layout in a tar. Pages are a layer of their own on top, so that one that
changes leaves the layers of all else as they are.`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.pack(cmd.Context(), p) },
	}
	a.configFlag(cmd)
	a.contentFlags(cmd)
	a.outputFlags(cmd)
	f := cmd.Flags()
	f.StringVar(&p.output, "output", "", "write this `FILE`, whose ending says the form: "+archive.Endings()+"; - is standard output")
	p.image.flags(f)
	f.StringVar(&p.as, "as", "", "the `FORM` of what is written, as an ending without its dot (for standard output: tar)")
	return cmd
}

// isImage tells whether an image is to be written.
func (p *packing) isImage() bool {
	return p.image.name != "" || strings.HasSuffix(p.output, ".oci.tar")
}

// form gives the form of what is written.
func (p *packing) form() (packed.Form, error) {
	name := p.output
	switch {
	case p.output == "":
		return packed.Form{}, usageError("pack needs the file to write", "name it: --output site.tar.zst")
	case p.as != "":
		name = "." + strings.TrimPrefix(p.as, ".")
	case p.output == "-":
		name = ".tar"
	}
	format, known := archive.Ending(name)
	if !known {
		return packed.Form{}, usageError(fmt.Sprintf("no archive is known whose name ends as that of %q", name),
			"end it in "+archive.Endings()+", or say which with --as")
	}
	return packed.Form{Format: format}, nil
}

func (a *app) pack(ctx context.Context, p *packing) error {
	form, err := p.form()
	if err != nil {
		return err
	}
	if p.isImage() {
		spec, done, err := a.spec(ctx, &p.image)
		if err != nil {
			return err
		}
		defer done()
		form.Image = spec
	} else if p.image.set() {
		return usageError("--base, --entrypoint, --user, --port and --platform are for images", "add --image NAME:TAG, or leave them out")
	}
	if p.output == "-" && a.json() {
		return usageError("standard output is for the archive", "leave --format out, or write to a file")
	}
	if p.output == "-" && isTerminal(a.terminal) {
		return usageError("standard output is a terminal", "pipe it on, or name a file with --output")
	}
	from, err := a.load()
	if err != nil {
		return err
	}
	withoutOwners(&from.scan)
	if form.When, err = contentTime(ctx, from.sources); err != nil {
		return err
	}
	if p.output != "-" {
		at, err := targets.ParseAddress(targets.ArchivePrefix + p.output)
		if err == nil {
			err = targets.CheckOverlap(at, paths(from.sources))
		}
		if err != nil {
			return err
		}
	}
	if form.Image != nil {
		form.Image.Revision = origin(ctx, from.sources).Commit
	}
	tree, err := content.Scan(ctx, from.sources, from.scan)
	if err != nil {
		return err
	}
	out := a.printer()
	warnUnused(out, from.rules)
	out.Warnings(tree)
	if !a.flags.quiet && p.output != "-" {
		root := "/"
		if form.Image != nil {
			root = form.Image.At
		}
		out.Landings(render.Heading{Site: from.settings.Name.Value, Address: p.output, Root: root}, tree)
	}
	watch, end := a.watch(ctx)
	done, err := a.packTo(ctx, &form, tree.Content(), p.output, watch)
	end()
	switch {
	case errors.Is(err, fs.ErrNotExist) && !errors.As(err, new(*packed.FileError)):
		return usageError(fmt.Sprintf("%s cannot be written: its folder does not exist", p.output), "make the folder")
	case err != nil:
		return err
	case a.json():
		kind := string(form.Format)
		if form.Image != nil {
			kind = "image"
		}
		return out.PackedJSON(p.output, kind, done)
	case !a.flags.quiet:
		out.Packed(a.stderr, p.output, done)
	}
	return nil
}

func (a *app) packTo(ctx context.Context, form *packed.Form, c *content.Content, output string, watch *site.Watch) (done *packed.Done, err error) {
	switch {
	case output == "-":
		return form.PackTo(ctx, c, a.stdout, watch)
	case isStream(output):
		err = writeStream(output, func(out io.Writer) (err error) {
			done, err = form.PackTo(ctx, c, out, watch)
			return err
		})
		return done, err
	}
	return form.Pack(ctx, c, output, watch)
}
