package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/config"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/filter"
	"tartine/internal/render"
	"tartine/internal/targets"
)

// sending is what is put at a site by hand.
type sending struct {
	app   *app
	own   deployFlags
	to    string
	as    string
	spool string // what standard input held
}

func (a *app) sendCommand() *cobra.Command {
	s := &sending{app: a}
	cmd := &cobra.Command{
		Use:   "send [TARGET] FILE… [--to FOLDER] [--as NAME]",
		Short: "Put single files or folders at the site, beside what is there",
		Long: `Send puts files and folders of this machine at the site, whatever the settings say of its content: staged, checked by
digest, and named by one rename, as in a deployment. What is there and differs is replaced after one question. What was
sent by hand is left alone by deployments, as strays are; a rollback restores what it replaced.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			names, files, err := a.splitPaths(args)
			if err != nil {
				return err
			}
			if len(names) > 0 && filepath.IsAbs(names[0]) && (len(files) == 0 || isFile(names[0])) {
				names, files = nil, args // it is what is sent, and not a folder that is a site
			}
			if len(files) == 0 {
				return usageError("no file is named", "name files or folders of this machine; - is standard input")
			}
			defer s.close()
			s.own.options.Started, a.writes = time.Now(), !s.own.options.Trial
			sources, err := s.sources(files)
			if err != nil {
				return err
			}
			all, err := a.meant(cmd.Context(), names)
			if err != nil {
				return err
			}
			return a.allOrNone(cmd.Context(), all, &s.own, func(m *meant, tried func(calls.Engine, int)) error {
				return a.withOne(cmd.Context(), m, func(ctx context.Context, at *targets.Opened, heading render.Heading, reach targets.Settings) error {
					return s.run(ctx, at, heading, reach, sources, tried)
				})
			})
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	a.writing(cmd, &s.own)
	f := cmd.Flags()
	f.StringVar(&s.to, "to", "", "the `FOLDER` of the site that takes them; left out: its top")
	f.StringVar(&s.as, "as", "", "another `NAME` for the one file or folder that is sent")
	f.BoolVar(&s.own.options.MakeRoot, "make-root", false, "make the folders above the root too when they are missing")
	return cmd
}

func (s *sending) close() {
	if s.spool != "" {
		_ = os.RemoveAll(s.spool) // the system removes what is left there
	}
}

// sources gives what is sent as sources of a content.
func (s *sending) sources(files []string) ([]content.Source, error) {
	dest, err := config.CleanDest(s.to)
	if err != nil {
		return nil, usageError("--to: "+err.Error(), "it is a folder of the site, as in --to img/plates")
	}
	switch {
	case s.as != "" && len(files) > 1:
		return nil, usageError("--as is another name for one file", "send that one alone")
	case strings.ContainsAny(s.as, `/\`) || s.as == "." || s.as == "..":
		return nil, usageError(fmt.Sprintf("--as %q is not the name of a file", s.as), "name the folder with --to")
	}
	var out []content.Source
	for _, name := range files {
		source := content.Source{Path: name, Dest: dest, Name: s.as, Rules: &filter.Set{}}
		if name == "-" {
			if source.Path, err = s.spooled(); err != nil {
				return nil, err
			}
			out = append(out, source)
			continue
		}
		info, err := os.Stat(name)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, usageError(name+" does not exist on this machine", "paths of what is sent are relative to this folder")
		}
		if err != nil {
			return nil, err
		}
		if info.IsDir() {
			absolute, err := filepath.Abs(name)
			if err != nil {
				return nil, err
			}
			base := filepath.Base(absolute)
			if s.as != "" {
				base = s.as
			}
			source.Dest, source.Name = path.Join(dest, base), ""
		}
		out = append(out, source)
	}
	return out, nil
}

func isFile(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.Mode().IsRegular()
}

// spooled puts what standard input holds into a file.
func (s *sending) spooled() (name string, err error) {
	switch {
	case s.as == "":
		return "", usageError("what standard input holds has no name", "give it one with --as NAME")
	case s.spool != "":
		return "", usageError("there is one standard input, and it is named twice", "")
	case s.app.stdin == nil:
		return "", usageError("there is no standard input", "")
	}
	if s.spool, err = os.MkdirTemp("", "tartine-send-*"); err != nil {
		return "", err
	}
	file, err := os.OpenFile(filepath.Join(s.spool, s.as), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return "", err
	}
	_, err = io.Copy(file, s.app.stdin)
	return file.Name(), errors.Join(err, file.Close())
}

func (s *sending) run(ctx context.Context, at *targets.Opened, heading render.Heading, reach targets.Settings,
	sources []content.Source, tried func(calls.Engine, int)) error {
	a := s.app
	settings, err := a.settings()
	if err != nil {
		return err
	}
	scan, err := a.scanOptions(settings)
	if err != nil {
		return err
	}
	if err := targets.CheckOverlap(reach.Address, paths(sources)); err != nil {
		return err
	}
	opt := s.own.options
	opt.Published, opt.Like = at.TakeUp, reach.Like
	opt.Hand, opt.History, opt.User = true, reach.History, userName()
	opt.Retire, opt.Generator, opt.Origin = a.retire(reach, nil, false), a.build.String(), origin(ctx, nil)
	person := &person{app: a, title: heading.Place() + ": sent by hand", drift: s.own.overwriteDrift}
	before := 0
	session := &deploy.Session{Engine: at, Options: opt, Person: person,
		Content: func(ctx context.Context) (*content.Content, error) {
			tree, err := content.Scan(ctx, sources, scan)
			if err != nil {
				return nil, err
			}
			c := tree.Content()
			c.Left = []string{"."} // all else stays as it is
			entries := c.Entries()
			for i := range entries {
				entries[i].Hand = true
			}
			return c, nil
		}}
	if !opt.Trial {
		if err := session.Finish(ctx); err != nil {
			return err
		}
	}
	result, err := session.Deploy(ctx)
	if result != nil && result.Comparison != nil {
		before = result.Survey.Number
		tried(at, before)
	}
	if err != nil {
		return err
	}
	done := &render.Done{Heading: heading, Result: result, Options: session.Options}
	return a.report(at, done,
		heading.Place()+" has all of it, nothing was done", "To do it leave out --dry-run.")
}
