package targets

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"tartine/internal/archive"
	"tartine/internal/content"
	"tartine/internal/fsys/archivefs"
	"tartine/internal/packed"
)

// ArchivePrefix begins the address of an archive: archive:PATH.
const ArchivePrefix = "archive:"

// archiveDriver reaches archives of this machine.
func archiveDriver() *Driver {
	return &Driver{Kind: Archive, parse: parseArchive, open: openArchive,
		insteadOfRun: "deploy it to where something runs",
		NoHostKey:    "%s is an archive of this machine and has no host key",
		problems:     []rule{archiveProblem}}
}

func parseArchive(text, name string) (Address, error) {
	const fix = "it reads archive:PATH, and ends in .tar, .tar.gz, .tar.xz, .tar.zst or .zip"
	if name == "" {
		return Address{}, &AddressError{text, "names no file", fix}
	}
	absolute, err := filepath.Abs(name)
	if err != nil {
		return Address{}, &AddressError{text, err.Error(), ""}
	}
	return Address{Kind: Archive, Path: absolute}, nil
}

// archiveProblem says what there is to say of archives that are no archives, or no sites.
func archiveProblem(err error) *Problem {
	switch {
	case errors.Is(err, packed.ErrInPlace):
		return &Problem{Trouble: Unsafe, What: err.Error(), Next: "look what it is, and move it away; nothing was changed"}
	case errors.Is(err, packed.ErrNoHistory):
		return &Problem{Trouble: Misused, What: err.Error(), Next: "keep the archives of earlier builds, each under a name of its own"}
	case errors.Is(err, packed.ErrWiped):
		return &Problem{Trouble: Misused, What: err.Error(), Next: "remove the file"}
	case errors.Is(err, packed.ErrNoTree):
		return &Problem{Trouble: Misused, What: err.Error(), Next: "name the manifest that it should hold: --manifest FILE"}
	case errors.Is(err, archivefs.ErrReadOnly):
		return &Problem{Trouble: Misused, What: err.Error(), Next: "change the content, and deploy or pack it again"}
	}
	return nil
}

func openArchive(ctx context.Context, s Settings) (*Opened, error) {
	var (
		form  packed.Form
		known bool
		err   error
	)
	if form.Format, known = archive.Ending(s.Address.Path); !known && s.Writes {
		return nil, &AddressError{s.Address.String(), "has an ending by which no format is known", fmt.Sprintf("end it in %s", archive.Endings())}
	}
	if s.Writes {
		if form.When, err = s.Archive.When(ctx); err != nil {
			return nil, err
		}
	}
	cache := s.Archive.Cache
	if s.Reads {
		cache = nil
	}
	opened, err := packed.Open(ctx, s.Address.Path, form, cache, s.Archive.Scratch)
	if err != nil {
		return nil, err
	}
	return &Opened{Engine: opened, place: opened}, nil
}

// ArchiveSettings is what there is to say of archives.
type ArchiveSettings struct {
	When    func(context.Context) (time.Time, error) // of everything in it
	Cache   *content.Cache                           // nil: it is read in any case
	Scratch string                                   // the folder for what is unpacked and does not fit into memory
}
