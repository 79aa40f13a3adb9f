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
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/manifest"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// handwork is a change at a site that a person makes by hand: it is staged, published and recorded as a deployment, beside
// all else that is there, and a rollback takes it back.
type handwork struct {
	app *app
	own deployFlags
}

// change is what is to be at a site then.
type change struct {
	entries []manifest.Entry // sorted by path
	gone    []string         // with all below them
	open    func(path string) (io.ReadCloser, error)
	edited  string // the file here that holds what is sent; it goes once that is there
	saved   string // a path that was sent already, several times
	saves   int
}

// agreeing is a person who was asked already.
type agreeing struct{ *person }

// Agree implements deploy.Person.
func (agreeing) Agree(*deploy.Consent) error { return nil }

// handCommand makes a command that changes a site by hand.
func (a *app) handCommand(use, short, long string, atLeast int, plan func(ctx context.Context, w *handwork, at *hand, args []string) (*change, error)) *cobra.Command {
	w := &handwork{app: a}
	cmd := &cobra.Command{
		Use: use, Short: short, Long: long,
		RunE: func(cmd *cobra.Command, args []string) error {
			names, rest, err := a.splitPaths(args)
			if err != nil {
				return err
			}
			if len(rest) < atLeast {
				return usageError(fmt.Sprintf("%s needs %s", cmd.CommandPath(), strings.SplitN(use, "] ", 2)[1]), "")
			}
			w.own.options.Started, a.writes = time.Now(), !w.own.options.Trial
			return a.withSiteAsItIs(cmd.Context(), names, func(ctx context.Context, s *targets.Opened, heading render.Heading, reach targets.Settings) error {
				return w.run(ctx, &hand{a, s, heading, reach}, func(ctx context.Context, at *hand) (*change, error) {
					return plan(ctx, w, at, rest)
				})
			})
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	f := cmd.Flags()
	f.BoolVarP(&a.flags.yes, "yes", "y", false, "answer every question with yes")
	f.BoolVarP(&w.own.options.Trial, "dry-run", "n", false, "do everything but write")
	f.DurationVar(&w.own.options.Wait, "wait", 0, "wait so long for another deployment to end, as in 90s or 5m")
	return cmd
}

// hand is an open site that is worked on.
type hand struct {
	app     *app
	site    *targets.Opened
	heading render.Heading
	reach   targets.Settings
}

// session gives what changes the site; later: it is told little of it, since it is one change of several.
func (w *handwork) session(ctx context.Context, at *hand, later bool) *deploy.Session {
	a, opt, reach := w.app, w.own.options, at.reach
	opt.Hand, opt.RemoveStrays, opt.History, opt.User = true, true, reach.History, userName()
	opt.Retire, opt.Generator, opt.Origin = a.retire(reach, nil, true), a.build.String(), origin(ctx, nil)
	opt.Published, opt.Like = at.site.TakeUp, reach.Like
	return &deploy.Session{Engine: at.site, Options: opt,
		Person: agreeing{&person{app: a, title: at.heading.Place() + ": by hand", strays: true, later: later}}}
}

// put makes a change.
func (c *change) put(ctx context.Context, session *deploy.Session) (*deploy.Result, error) {
	for i := range c.entries {
		c.entries[i].Hand = true
	}
	session.Content = func(context.Context) (*content.Content, error) {
		out := content.Of(c.entries)
		out.Left, out.Gone, out.Open = []string{"."}, c.gone, c.open
		return out, nil
	}
	return session.Deploy(ctx)
}

func (w *handwork) run(ctx context.Context, at *hand, plan func(context.Context, *hand) (*change, error)) error {
	a, s := w.app, at.site
	session := w.session(ctx, at, false)
	if !session.Options.Trial {
		if err := session.Finish(ctx); err != nil {
			return err
		}
	}
	c, err := plan(ctx, at)
	if err != nil {
		return a.noSuchPath(ctx, s, at.heading, err)
	}
	if len(c.entries)+len(c.gone) == 0 {
		return a.nothingToDo(at, c)
	}
	session.Options.Watched = w.own.options.Watched
	result, err := c.put(ctx, session)
	if c.edited != "" {
		if err != nil || result.Outcome != nil && len(result.Outcome.Failed) > 0 {
			a.printer().Warn("what you wrote is in %s", c.edited)
		} else if err := os.RemoveAll(filepath.Dir(c.edited)); err != nil {
			a.printer().Warn("%v", err)
		}
	}
	if err != nil {
		return err
	}
	done := &render.Done{Heading: at.heading, Result: result, Options: session.Options}
	return a.report(s, done,
		at.unchanged(), "To do it leave out --dry-run.")
}

func (h *hand) unchanged() string { return h.heading.Place() + " is so already, nothing was done" }

// nothingToDo says that a site is as it is to be, or that what was changed is there already.
func (a *app) nothingToDo(at *hand, c *change) error {
	if c.saves > 0 {
		a.printer().Line("saved       %s of %s: sent %s while it was open", render.Name(c.saved), at.heading.Place(), render.Count(c.saves, "time"))
		return a.object(map[string]any{"target": at.heading.Name(), "result": "deployed", "path": c.saved, "saves": c.saves})
	}
	a.printer().Line("unchanged   %s", at.unchanged())
	return a.object(map[string]any{"target": at.heading.Name(), "result": "unchanged", "deployment": 0})
}

// expand gives the paths of a site that arguments mean: a pattern means what it matches there.
func (h *hand) expand(ctx context.Context, args []string) (out []string, err error) {
	for _, arg := range args {
		p, err := sitePath(arg)
		if err != nil {
			return nil, err
		}
		if p == "." {
			return nil, usageError("the root itself is not changed by hand", "name what is in it, or a pattern")
		}
		if !strings.ContainsAny(p, "*?[") {
			out = append(out, p)
			continue
		}
		found, err := h.app.list(ctx, h.site, h.heading, &site.Listing{Bare: true, Names: []string{p}, Recursive: strings.Contains(p, "/")})
		if err != nil {
			return nil, err
		}
		if len(found) == 0 {
			return nil, usageError(fmt.Sprintf("%q matches nothing at %s", p, h.heading.Name()), "tartine ls shows what is there")
		}
		for _, l := range found {
			out = append(out, l.Path)
		}
	}
	slices.Sort(out)
	kept := out[:0]
	for _, p := range out { // what is below another one goes with it
		if !slices.ContainsFunc(kept, func(above string) bool { return p == above || strings.HasPrefix(p, above+"/") }) {
			kept = append(kept, p)
		}
	}
	return kept, nil
}

// lookup gives what is at one path; nil: nothing is.
func (h *hand) lookup(ctx context.Context, p string) (*site.Listed, error) {
	found, err := calls.List.On(ctx, h.site, &site.Listing{Paths: []string{path.Dir(p)}})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for i := range found {
		if found[i].Path == p {
			return &found[i], nil
		}
	}
	return nil, nil
}

// sure asks before what is there goes.
func (h *hand) sure(what string, paths []string) error {
	a := h.app
	if a.flags.yes {
		return nil
	}
	if !a.canAsk() {
		return &statusError{status: ExitRefused, what: what, paths: paths, next: "to go on all the same give --yes"}
	}
	if !a.ask([]string{what}) {
		return &statusError{status: ExitRefused, what: "nothing was changed"}
	}
	return nil
}

func (a *app) rmCommand() *cobra.Command {
	var recursive bool
	cmd := a.handCommand("rm [TARGET] PATH…", "Remove files and folders at the site",
		`Rm removes files, links and empty folders at the site, and with --recursive folders with all that is in them, after a
question. Patterns are matched at the far end. What a deployment had put there is kept as long as the history goes: a
rollback brings it back.`, 1,
		func(ctx context.Context, w *handwork, at *hand, args []string) (*change, error) {
			paths, err := at.expand(ctx, args)
			if err != nil {
				return nil, err
			}
			below, err := at.app.list(ctx, at.site, at.heading, &site.Listing{Bare: true, Paths: paths, Recursive: true})
			if err != nil {
				return nil, err
			}
			files, bytes := 0, int64(0)
			for i := range below {
				if below[i].Kind == manifest.File {
					files++
					bytes += below[i].Size
				}
			}
			for _, p := range paths {
				l, err := at.lookup(ctx, p)
				if err != nil {
					return nil, err
				}
				filled := slices.ContainsFunc(below, func(b site.Listed) bool { return strings.HasPrefix(b.Path, p+"/") })
				if l != nil && l.Kind == manifest.Dir && filled && !recursive {
					return nil, usageError(fmt.Sprintf("%s is a folder, and not empty", render.Name(p)), "to remove it with all that is in it give --recursive")
				}
			}
			if recursive && !w.own.options.Trial {
				if err := at.sure(fmt.Sprintf("%s with %s would be removed at %s", render.Count(files, "file"), render.Bytes(bytes),
					at.heading.Name()), paths); err != nil {
					return nil, err
				}
			}
			return &change{gone: paths}, nil
		})
	cmd.Flags().BoolVarP(&recursive, "recursive", "r", false, "remove folders with all that is in them")
	return cmd
}

func (a *app) mkdirCommand() *cobra.Command {
	return a.handCommand("mkdir [TARGET] PATH…", "Make folders at the site",
		`Mkdir makes folders at the site, and those that they are in. No deployment removes them, unless it removes strays.`, 1,
		func(ctx context.Context, w *handwork, at *hand, args []string) (*change, error) {
			c := &change{}
			for _, arg := range args {
				p, err := sitePath(arg)
				if err != nil {
					return nil, err
				}
				l, err := at.lookup(ctx, p)
				if err != nil {
					return nil, err
				}
				if l != nil && (l.Kind != manifest.Dir || l.Other != 0) {
					return nil, usageError(fmt.Sprintf("%s is there, and is not a folder", render.Name(p)), "choose another name, or move it away with tartine mv")
				}
				if l == nil {
					c.entries = append(c.entries, manifest.Entry{Path: p, Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: manifest.DirMode}})
				}
			}
			c.sort()
			return c, nil
		})
}

func (c *change) sort() {
	slices.SortFunc(c.entries, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	c.entries = slices.CompactFunc(c.entries, func(a, b manifest.Entry) bool { return a.Path == b.Path })
}

// stands gives what is at some paths, with the digests of all files.
func (h *hand) stands(ctx context.Context, paths []string) ([]manifest.Entry, error) {
	there, err := calls.Stands.On(ctx, h.site, paths)
	if err != nil {
		return nil, err
	}
	if len(there.Left) > 0 {
		return nil, usageError(fmt.Sprintf("%s cannot be moved or changed by hand: %v", render.Name(there.Left[0].Path), there.Left[0].Err), "")
	}
	return there.Entries.Entries(), nil
}

func (a *app) mvCommand() *cobra.Command {
	return a.handCommand("mv [TARGET] FROM… TO", "Move or rename files and folders at the site",
		`Mv gives files and folders of the site other names, or moves them into a folder that is there. No byte is sent where the
far end can do it. What would be replaced is asked about.`, 2,
		func(ctx context.Context, w *handwork, at *hand, args []string) (*change, error) {
			to, err := sitePath(args[len(args)-1])
			if err != nil {
				return nil, err
			}
			from, err := at.expand(ctx, args[:len(args)-1])
			if err != nil {
				return nil, err
			}
			into := to == "."
			if !into {
				there, err := at.lookup(ctx, to)
				if err != nil {
					return nil, err
				}
				into = there != nil && there.Kind == manifest.Dir && there.Other == 0
			}
			if len(from) > 1 && !into {
				return nil, usageError(fmt.Sprintf("%s is not a folder, and several paths are to go there", render.Name(to)), "make it first: tartine mkdir")
			}
			entries, err := at.stands(ctx, from)
			if err != nil {
				return nil, err
			}
			return at.move(ctx, entries, from, to, into)
		})
}

// move gives the change that moves what is at some paths.
func (h *hand) move(ctx context.Context, entries []manifest.Entry, from []string, to string, into bool) (*change, error) {
	was := map[string]string{}
	c := &change{gone: from, open: func(p string) (io.ReadCloser, error) { return h.site.Open(ctx, was[p]) }}
	var replaced []string
	for _, f := range from {
		dest := to
		if into {
			dest = path.Join(to, path.Base(f))
		}
		if dest == f || strings.HasPrefix(dest, f+"/") {
			return nil, usageError(fmt.Sprintf("%s cannot be moved into itself", render.Name(f)), "")
		}
		there, err := h.lookup(ctx, dest)
		if err != nil {
			return nil, err
		}
		if there != nil {
			if replaced = append(replaced, dest); there.Kind == manifest.Dir {
				return nil, usageError(fmt.Sprintf("%s is there already", render.Name(dest)), "remove it first, or choose another name")
			}
		}
		for _, e := range entries {
			if e.Path != f && !strings.HasPrefix(e.Path, f+"/") {
				continue
			}
			old := e.Path
			e.Path = dest + e.Path[len(f):]
			was[e.Path] = old
			c.entries = append(c.entries, e)
		}
	}
	c.sort()
	if len(replaced) > 0 {
		if err := h.sure(render.Count(len(replaced), "path")+" would be replaced", replaced); err != nil {
			return nil, err
		}
	}
	return c, nil
}

func (a *app) chmodCommand() *cobra.Command {
	var recursive bool
	cmd := a.handCommand("chmod [TARGET] MODE PATH…", "Give files and folders at the site another mode",
		`Chmod gives files and folders of the site another mode, an octal number as in 0640. With --recursive it is that of all files
in folders that are named.`, 2,
		func(ctx context.Context, w *handwork, at *hand, args []string) (*change, error) {
			mode, err := strconv.ParseUint(args[0], 8, 32)
			if err != nil || mode > 0o777 {
				return nil, usageError(fmt.Sprintf("%q is not a mode", args[0]), "write it as an octal number, as in 0644 or 755")
			}
			if !at.site.Abilities().Modes {
				return nil, usageError(at.heading.Name()+" keeps no modes", "set them in the host's control panel")
			}
			paths, err := at.expand(ctx, args[1:])
			if err != nil {
				return nil, err
			}
			return at.chmod(ctx, paths, fs.FileMode(mode), recursive)
		})
	cmd.Flags().BoolVarP(&recursive, "recursive", "r", false, "the files in folders, and not the folders")
	return cmd
}

// chmod gives the change that gives paths a mode.
func (h *hand) chmod(ctx context.Context, paths []string, mode fs.FileMode, recursive bool) (*change, error) {
	c := &change{open: func(p string) (io.ReadCloser, error) { return h.site.Open(ctx, p) }}
	var files []string
	for _, p := range paths {
		l, err := h.lookup(ctx, p)
		if err != nil {
			return nil, err
		}
		if l != nil && l.Kind == manifest.Dir && !recursive {
			c.entries = append(c.entries, manifest.Entry{Path: p, Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: mode}})
		} else {
			files = append(files, p)
		}
	}
	if len(files) > 0 {
		entries, err := h.stands(ctx, files)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if e.Kind == manifest.File {
				e.Mode = mode
				c.entries = append(c.entries, e)
			}
		}
	}
	c.sort()
	return c, nil
}
