package cli

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/archive"
	"tartine/internal/config"
	"tartine/internal/content"
	"tartine/internal/filter"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// sourceFlags is what the flags say of sources.
type sourceFlags struct {
	names                 []string
	unpack                bool
	inside, digest, asked string // asked is the most that an archive may unpack to
}

func (a *app) sourceFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&a.flags.source.names, "source", nil,
		"take the content from this `DIR`, file or https:// address, or - for standard input, not from the settings (repeatable)")
	f.BoolVar(&a.flags.source.unpack, "unpack", false, "the sources named by --source are archives (tar, also packed, or zip), and what is in them is wanted")
	f.StringVar(&a.flags.source.inside, "inside", "", "of such an archive, take the content of this `FOLDER`")
	f.StringVar(&a.flags.source.digest, "digest", "", "the `DIGEST`, sha256:…, that the archive, or what the address gives, must have; any: whatever comes")
	f.StringVar(&a.flags.source.asked, "max-unpacked", "", "let archives unpack to this `SIZE`, as in 500MB (20GiB)")
}

// standardInput is the name of the source that comes through standard input.
const standardInput = "-"

// sources gives the content's sources and the rules that were made for them.
func (a *app) sources(s *config.Settings, cache *content.Cache) ([]content.Source, []*filter.Rule, error) {
	rules := &ruleMaker{}
	shared := a.sharedRules(s, rules)
	given, err := a.givenSources()
	if err != nil {
		return nil, nil, err
	}
	var out []content.Source
	for i := range given {
		source, err := a.source(&given[i], shared, cache)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, source)
	}
	if len(out) == 0 {
		for i := range s.Content {
			c := &s.Content[i]
			source, err := a.source(c, &filter.Set{
				Includes: slices.Concat(shared.Includes, rules.make(c.Include, "include")),
				Excludes: slices.Concat(shared.Excludes, rules.make(c.Exclude, "exclude")),
			}, cache)
			if err != nil {
				return nil, nil, err
			}
			out = append(out, source)
		}
	}
	if rules.err != nil {
		return nil, nil, rules.err
	}
	if len(out) == 0 {
		return nil, nil, usageError("there is no content: neither a tartine.yaml with a content list nor --source", `write one with "tartine init", or name a folder with --source DIR`)
	}
	return out, rules.all, nil
}

// sharedRules gives the rules that hold for every source.
func (a *app) sharedRules(s *config.Settings, rules *ruleMaker) *filter.Set {
	out := &filter.Set{Includes: rules.make(s.Include, "include"), Excludes: rules.make(s.Exclude, "exclude")}
	for _, pattern := range a.flags.include {
		out.Includes = append(out.Includes, rules.one(pattern, "--include"))
	}
	for _, pattern := range a.flags.exclude {
		out.Excludes = append(out.Excludes, rules.one(pattern, "--exclude"))
	}
	return out
}

// givenSources gives the sources that the flags name, in the form of the settings.
func (a *app) givenSources() ([]config.Source, error) {
	given := &a.flags.source
	alone := given.unpack || given.inside+given.digest+given.asked != ""
	if len(given.names) == 0 && alone {
		return nil, usageError("--unpack, --inside, --digest and --max-unpacked are for what --source names",
			"in tartine.yaml, write unpack: true and the like beside the source")
	}
	out := make([]config.Source, len(given.names))
	for i, name := range given.names {
		out[i] = config.Source{Source: config.From{Text: config.Text{Value: name}}, Unpack: given.unpack,
			Inside: config.Text{Value: given.inside}, Digest: config.Text{Value: given.digest}, Most: config.Text{Value: given.asked}}
		if err := out[i].Check(); err != nil {
			return nil, usageError(err.Error(), "")
		}
		if name == standardInput && slices.Contains(given.names[:i], name) {
			return nil, usageError("standard input can be read once", "name it once")
		}
		if name == standardInput && !given.unpack {
			return nil, usageError("what comes through standard input is taken as an archive", "add --unpack")
		}
	}
	return out, nil
}

// source gives one source.
func (a *app) source(c *config.Source, rules *filter.Set, cache *content.Cache) (content.Source, error) {
	dest, err := config.CleanDest(c.Dest.Value)
	if err != nil {
		return content.Source{}, err
	}
	out := content.Source{Path: config.Resolve(c.Source.Text), Dest: dest, Name: c.Name.Value, Rules: rules}
	if c.Source.Target.Value != "" {
		err := a.fromTarget(c, &out)
		return out, err
	}
	if c.Source.Image.Value != "" {
		err := a.fromImage(c, &out, cache)
		return out, err
	}
	if c.Source.IsAddress() {
		err := a.fromWeb(c, &out, cache)
		return out, err
	}
	if c.Unpack {
		err := a.unpacked(c, &out, cache)
		return out, err
	}
	return out, nil
}

// archived gives what the settings say of an archive.
func archived(c *config.Source, cache *content.Cache) (p *content.Packed, err error) {
	p = &content.Packed{Cache: cache, Dir: scratchFolder()}
	if p.Inside, err = config.CleanInside(c.Inside.Value); err != nil {
		return nil, err
	}
	if p.Most, err = config.ParseSize(c.Most.Value); err != nil {
		return nil, err
	}
	if digest := c.Digest.Value; digest != "" && digest != "any" {
		must, err := manifest.ParseDigest(digest)
		if err != nil {
			return nil, err
		}
		p.Digest = &must
	}
	return p, nil
}

// fromArchive makes a source one of what is in an archive.
func fromArchive(p *content.Packed, out *content.Source) {
	out.Files, out.Want, out.Inside = p.Files, p.Want, p.Inside
}

// unpacked makes a source one of what is in an archive of this machine, or in one that comes through standard input.
func (a *app) unpacked(c *config.Source, out *content.Source, cache *content.Cache) error {
	p, err := archived(c, cache)
	if err != nil {
		return err
	}
	if c.Source.Value == standardInput && c.Source.At == (config.Position{}) {
		out.Path, p.Opened = "standard input", a.standardInput()
	} else {
		p.Name, out.Local = out.Path, out.Path
	}
	fromArchive(p, out)
	return nil
}

// standardInput gives what comes through standard input, which is read once and kept for as long as the program runs.
func (a *app) standardInput() func(context.Context) (*os.File, manifest.Digest, error) {
	var (
		once   sync.Mutex
		kept   *os.File
		digest manifest.Digest
	)
	return func(ctx context.Context) (*os.File, manifest.Digest, error) {
		once.Lock()
		defer once.Unlock()
		if kept != nil {
			return kept, digest, nil
		}
		if a.stdin == nil || isTerminal(a.stdin) {
			return nil, digest, usageError("standard input is a terminal, and an archive is to come through it",
				"pipe one in: make dist | tartine deploy --source - --unpack TARGET")
		}
		file, err := archive.Scratch(scratchFolder())
		if err != nil {
			return nil, digest, err
		}
		hash, in := sha256.New(), interruptible(a.stdin)
		if pollable, ok := in.(interface{ SetReadDeadline(time.Time) error }); ok {
			stop := context.AfterFunc(ctx, func() { _ = pollable.SetReadDeadline(time.Now()) }) // a file does not wait
			defer stop()
		}
		if _, err := fsys.Copy(ctx, io.MultiWriter(file, hash), in); err != nil {
			file.Close()
			if ctx.Err() != nil {
				return nil, digest, ctx.Err()
			}
			return nil, digest, fmt.Errorf("standard input cannot be kept in %s: %w", scratchFolder(), err)
		}
		kept, digest = file, manifest.Digest(hash.Sum(nil))
		return kept, digest, nil
	}
}

// scratchFolder gives the folder for what must be put aside while the program runs.
func scratchFolder() string {
	dir, err := content.UserCacheFolder()
	if err != nil { // without a home folder there is none
		return os.TempDir()
	}
	return dir
}
