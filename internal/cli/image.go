package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"regexp"
	"strings"

	"github.com/spf13/pflag"

	"tartine/internal/archive"
	"tartine/internal/config"
	"tartine/internal/connect/engine"
	"tartine/internal/content"
	"tartine/internal/image"
	"tartine/internal/packed"
)

// imageSource is an image that is on this machine's disk, or in the container engine.
type imageSource struct {
	app      *app
	name     string
	file     string // where it is on the disk; empty: in the engine
	platform string
}

// findImage tells where an image is that is called by its name or its file.
func (a *app) findImage(name, file, platform string) *imageSource {
	out := &imageSource{app: a, name: name, platform: platform}
	if _, err := os.Stat(file); err == nil {
		out.file = file
	}
	return out
}

// withEngine opens the container engine.
func (s *imageSource) withEngine(ctx context.Context, use func(*engine.Engine) error) error {
	reach, _, err := s.app.target(&config.Settings{}, []string{"container://image/source"})
	if err != nil {
		return err
	}
	e, err := reach.Engine(ctx)
	if err != nil {
		return err
	}
	defer e.Close()
	return use(e)
}

// id gives what the image is known by.
func (s *imageSource) id(ctx context.Context) (id string, err error) {
	if s.file != "" {
		i, err := image.Open(s.file, s.platform)
		if err != nil {
			return "", err
		}
		defer i.Close()
		return i.Digest.String(), nil
	}
	err = s.withEngine(ctx, func(e *engine.Engine) error {
		id, err = e.ImageID(ctx, s.name)
		return err
	})
	return id, err
}

// open opens the image. One of the engine is saved first, in a file that goes with the program.
func (s *imageSource) open(ctx context.Context) (*image.Image, error) {
	if s.file != "" {
		return image.Open(s.file, s.platform)
	}
	var file *os.File
	err := s.withEngine(ctx, func(e *engine.Engine) error {
		if _, err := e.ImageID(ctx, s.name); err != nil {
			return err
		}
		saved, err := archive.Scratch(scratchFolder())
		if err != nil {
			return err
		}
		file = saved
		return e.SaveImage(ctx, s.name, saved)
	})
	if err != nil {
		if file != nil {
			file.Close()
		}
		return nil, err
	}
	return image.OpenTar(file, s.platform)
}

// fromImage makes a source one of what is in a folder of an image.
func (a *app) fromImage(c *config.Source, out *content.Source, cache *content.Cache) error {
	p, err := archived(c, cache)
	if err != nil {
		return err
	}
	folder := strings.Trim(path.Clean("/"+c.Source.Path.Value), "/")
	s := a.findImage(c.Source.Image.Value, config.Resolve(c.Source.Image), "")
	of := &packed.FromImage{ID: s.id, Open: s.open, Folder: folder, Dir: scratchFolder()}
	p.Opened, p.Identify = of.Unpack, of.Identify
	fromArchive(p, out)
	out.Path, out.Inside, out.Local = "image "+c.Source.Image.Value, folder, s.file
	return nil
}

// imageFlags is what there is to say of an image that is packed.
type imageFlags struct {
	name, base, at, user, platform string
	entrypoint, ports              []string
}

func (i *imageFlags) flags(f *pflag.FlagSet) {
	f.StringVar(&i.name, "image", "", "write an image of this `NAME:TAG`, as an OCI layout in a tar that engines load")
	f.StringVar(&i.base, "base", "", "put it on top of this image: a `FILE`, a folder with a layout, or a name in the container engine; left out: an image of data alone")
	f.StringVar(&i.at, "at", "/usr/share/site", "the `FOLDER` of the image into which the content goes")
	f.StringArrayVar(&i.entrypoint, "entrypoint", nil, "the program that a container of it starts, or one of its `WORD`s (repeatable; that of the base)")
	f.StringVar(&i.user, "user", "", "the `USER` that it runs as (that of the base)")
	f.StringArrayVar(&i.ports, "port", nil, "a `PORT` that it serves, as in 8080 or 53/udp (repeatable)")
	f.StringVar(&i.platform, "platform", "", "the `OS/PROCESSOR` of the image (that of the base, else linux/amd64)")
}

var (
	imageName = regexp.MustCompile(`^[a-z0-9]+([._:/-]+[a-z0-9]+)*(:[A-Za-z0-9_][A-Za-z0-9_.-]{0,127})?$`)
	portName  = regexp.MustCompile(`^[0-9]{1,5}(/(tcp|udp|sctp))?$`)
)

// set tells whether anything was said but the name.
func (i *imageFlags) set() bool {
	return i.base+i.user+i.platform != "" || len(i.entrypoint)+len(i.ports) > 0
}

// spec gives the image that is to be written. Done closes the base.
func (a *app) spec(ctx context.Context, i *imageFlags) (spec *image.Spec, done func(), err error) {
	done = func() {}
	switch {
	case i.name == "":
		return nil, done, usageError("an image needs a name", "name it: --image gannet-rock:1.4")
	case !imageName.MatchString(i.name):
		return nil, done, usageError(fmt.Sprintf("--image %q is not the name of an image", i.name), "it reads NAME:TAG, the name in small letters: gannet-rock:1.4")
	case !strings.HasPrefix(i.at, "/"):
		return nil, done, usageError(fmt.Sprintf("--at %q is not a folder from the root of the image", i.at), "it begins with /")
	}
	for _, port := range i.ports {
		if !portName.MatchString(port) {
			return nil, done, usageError(fmt.Sprintf("--port %q is not a port", port), "write it as in 8080 or 53/udp")
		}
	}
	spec = &image.Spec{Name: i.name, At: path.Clean(i.at), Platform: i.platform, Entrypoint: i.entrypoint, User: i.user, Ports: i.ports,
		Scratch: scratchFolder()}
	if _, tag, tagged := strings.Cut(path.Base(i.name), ":"); tagged && tag != "latest" {
		spec.Version = tag
	}
	if i.base == "" {
		if spec.Platform == "" {
			spec.Platform = "linux/amd64"
		}
		return spec, done, nil
	}
	if spec.Base, err = a.findImage(i.base, i.base, i.platform).open(ctx); err != nil {
		return nil, done, err
	}
	return spec, func() { _ = spec.Base.Close() }, nil // it was read
}

// imageSentence says what there is to say of images.
func imageSentence(err error) *statusError {
	var (
		missing *engine.ImageError
		folder  *image.NoFolderError
		out     *image.LeadsOutError
		name    *image.NameError
	)
	e := &statusError{status: ExitRefused, what: err.Error()}
	switch {
	case errors.As(err, &missing):
		e.status, e.next = ExitUsage, "name a file, a folder with an OCI layout, or an image that the engine has"
	case errors.As(err, &folder):
		e.status, e.next = ExitUsage, "name a folder of the image with path"
	case errors.As(err, &out), errors.Is(err, image.ErrDamaged):
		e.next = "nothing was sent; build or fetch the image again"
	case errors.As(err, &name):
		e.next = "give the file another name, or exclude it"
	case errors.Is(err, image.ErrNoImage), errors.Is(err, fs.ErrNotExist) && strings.Contains(err.Error(), "source image"):
		e.status, e.next = ExitUsage, "name an image in the engine, or a file or a folder with an OCI layout"
	default:
		return nil
	}
	return e
}
