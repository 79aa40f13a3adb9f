package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/config"
	"tartine/internal/filter"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// looker is what commands that list names at a site have in common.
type looker struct {
	app    *app
	asked  site.Listing
	sort   string
	long   bool
	nul    bool
	larger string
	small  string
	newer  string
	older  string
}

// withPaths opens the target that is named and hands it on with the paths behind it.
func (a *app) withPaths(ctx context.Context, args []string, use func(ctx context.Context, s *targets.Opened, heading render.Heading, paths []string) error) error {
	names, paths, err := a.splitPaths(args)
	if err != nil {
		return err
	}
	for i, p := range paths {
		if paths[i], err = sitePath(p); err != nil {
			return err
		}
	}
	return a.withSiteAsItIs(ctx, names, func(ctx context.Context, s *targets.Opened, heading render.Heading, _ targets.Settings) error {
		return use(ctx, s, heading, paths)
	})
}

// sitePath gives a path of a site in its shortest form.
func sitePath(p string) (string, error) {
	clean, err := config.CleanDest(p)
	if err != nil || path.IsAbs(p) {
		return "", usageError(fmt.Sprintf("%s is not a path of the site: it is absolute, or leads out of it", render.Name(p)),
			"paths are relative to the site's root, as in log/june.html")
	}
	return clean, nil
}

// list asks for a listing; where a path does not exist, the nearest name is told.
func (a *app) list(ctx context.Context, s *targets.Opened, heading render.Heading, asked *site.Listing) ([]site.Listed, error) {
	found, err := calls.List.On(ctx, s, asked)
	return found, a.noSuchPath(ctx, s, heading, err)
}

// noSuchPath says what is there in the place of a path at which nothing is.
func (a *app) noSuchPath(ctx context.Context, s *targets.Opened, heading render.Heading, err error) error {
	var missing *fs.PathError
	if !errors.As(err, &missing) || !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	next := fmt.Sprintf("tartine ls %s shows what is there", heading.Name())
	above, failed := calls.List.On(ctx, s, &site.Listing{Bare: true, Paths: []string{path.Dir(missing.Path)}})
	if failed == nil {
		var names []string
		for _, l := range above {
			names = append(names, l.Path)
		}
		if near := config.Nearest(missing.Path, names); near != "" && !strings.HasPrefix(missing.Path, near+"/") {
			next = "did you mean " + render.Name(near) + "?"
		}
	}
	what := fmt.Sprintf("%s does not exist at %s", render.Name(missing.Path), heading.Name())
	if why := strings.TrimSuffix(missing.Err.Error(), ": "+fs.ErrNotExist.Error()); why != "nothing is there" && why != fs.ErrNotExist.Error() {
		what += ": " + why
	}
	return usageError(what, next)
}

func (a *app) lsCommand() *cobra.Command {
	l := &looker{app: a}
	cmd := &cobra.Command{
		Use:   "ls [TARGET] [PATH…]",
		Short: "List what is at the site, and what the record says of it",
		Long: `Ls lists what is at the top of a site, or in the folders that are named: kind, mode, size, date and path, and beside
each whether it is as a deployment put it there (same), was altered since (drifted), was sent by hand, or was put there by
nobody that is known (stray). No file is read for that but those whose date alone differs. In a pipe it prints paths alone.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains([]string{"name", "size", "time"}, l.sort) {
				return usageError(fmt.Sprintf("--sort is name, size or time, not %q", l.sort), "")
			}
			return a.withPaths(cmd.Context(), args, func(ctx context.Context, s *targets.Opened, heading render.Heading, paths []string) error {
				l.asked.Paths, l.asked.Bare = paths, !a.json() && !l.detailed(cmd.Flags().Changed("long"))
				found, err := a.list(ctx, s, heading, &l.asked)
				if err != nil {
					return err
				}
				return l.show(found, cmd.Flags().Changed("long"))
			})
		},
	}
	l.common(cmd)
	l.print0(cmd)
	f := cmd.Flags()
	f.BoolVarP(&l.asked.Recursive, "recursive", "r", false, "go into folders")
	f.BoolVarP(&l.long, "long", "l", false, "say what each name is; on a terminal that is usual")
	f.StringVar(&l.sort, "sort", "name", "sort by this `FACT`: name, size (the largest first) or time (the latest first)")
	return cmd
}

func (l *looker) common(cmd *cobra.Command) {
	l.app.configFlag(cmd)
	l.app.targetFlags(cmd)
	l.app.outputFlags(cmd)
}

func (l *looker) print0(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&l.nul, "print0", false, "end each path with a zero byte, for xargs -0")
}

// detailed tells whether each name is described. Asked tells whether that was said.
func (l *looker) detailed(asked bool) bool {
	return l.long || !asked && isTerminal(l.app.terminal)
}

func (l *looker) show(found []site.Listed, asked bool) error {
	a := l.app
	switch l.sort {
	case "size":
		slices.SortStableFunc(found, func(a, b site.Listed) int { return cmp.Compare(b.Size, a.Size) })
	case "time":
		slices.SortStableFunc(found, func(a, b site.Listed) int { return b.ModTime.Compare(a.ModTime) })
	}
	p := a.printer()
	switch {
	case a.json():
		return p.ListedJSON(found)
	case l.nul && !isTerminal(a.terminal):
		return render.PathsForPrograms(a.stdout, found)
	case l.detailed(asked):
		p.Listed(found)
		return nil
	}
	return p.Paths(found)
}

func (a *app) findCommand() *cobra.Command {
	l := &looker{app: a, sort: "name"}
	cmd := &cobra.Command{
		Use:   "find [TARGET] [PATH…]",
		Short: "Find names at the site by what they are and what they hold",
		Long: `Find walks the site, or the folders that are named, and prints the paths of which all holds that is asked for. With an
agent it walks at the far end. --name and --status may be given several times: one of them must fit.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := l.parse(time.Now()); err != nil {
				return err
			}
			return a.withPaths(cmd.Context(), args, func(ctx context.Context, s *targets.Opened, heading render.Heading, paths []string) error {
				l.asked.Paths, l.asked.Recursive, l.asked.Bare = paths, true, !a.json() && !l.long
				found, err := a.list(ctx, s, heading, &l.asked)
				if err != nil {
					return err
				}
				return l.show(found, true)
			})
		},
	}
	l.common(cmd)
	l.print0(cmd)
	f := cmd.Flags()
	f.StringArrayVar(&l.asked.Names, "name", nil, "names that match this `PATTERN`, as in filters")
	f.StringArrayVar(&l.asked.Kinds, "kind", nil, "this `KIND`: file, folder, link or other")
	f.StringArrayVar(&l.asked.Words, "status", nil, "what has this `STATUS` by the record: same, drifted, stray or hand")
	f.StringVar(&l.larger, "larger", "", "files larger than this `SIZE`, as in 500kB or 1MB")
	f.StringVar(&l.small, "smaller", "", "files smaller than this `SIZE`")
	f.StringVar(&l.newer, "newer", "", "what changed within this `TIME`, as in 90s, 2h, 2d or 3w")
	f.StringVar(&l.older, "older", "", "what did not change within this `TIME`")
	f.StringVar(&l.asked.Contains, "contains", "", "files that hold this `TEXT`")
	return cmd
}

// parse reads what is asked for.
func (l *looker) parse(now time.Time) error {
	for _, pattern := range l.asked.Names {
		if _, err := filter.NewRule(pattern, "--name"); err != nil {
			return err
		}
	}
	for i, kind := range l.asked.Kinds {
		if !slices.Contains([]string{"file", "folder", "link", "other"}, kind) {
			return usageError(fmt.Sprintf("--kind is file, folder, link or other, not %q", kind), "")
		}
		l.asked.Kinds[i] = kind
	}
	for i, word := range l.asked.Words {
		switch word {
		case "same", "drifted", "stray":
		case "hand", site.AsHand:
			l.asked.Words[i] = site.AsHand
		default:
			return usageError(fmt.Sprintf("--status is same, drifted, stray or hand, not %q", word), "")
		}
	}
	var err error
	for flag, size := range map[string]struct {
		text string
		to   *int64
	}{"--larger": {l.larger, &l.asked.Larger}, "--smaller": {l.small, &l.asked.Smaller}} {
		if *size.to, err = parseSize(size.text); err != nil {
			return usageError(fmt.Sprintf("%s: %v", flag, err), "")
		}
	}
	for flag, age := range map[string]struct {
		text string
		to   *time.Time
	}{"--newer": {l.newer, &l.asked.After}, "--older": {l.older, &l.asked.Before}} {
		if age.text == "" {
			continue
		}
		length, err := parseAge(age.text)
		if err != nil {
			return usageError(fmt.Sprintf("%s: %v", flag, err), "")
		}
		*age.to = now.Add(-length)
	}
	return nil
}

// parseSize reads a size as in 500, 500kB or 1MB.
func parseSize(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	if number, err := strconv.ParseInt(strings.TrimSuffix(text, "B"), 10, 64); err == nil && number > 0 {
		return number, nil
	}
	size, err := config.ParseRate(text)
	if err != nil || strings.HasSuffix(text, "/s") {
		return 0, fmt.Errorf("%q is not a size; write it as in 500kB or 1MB", text)
	}
	return size, nil
}

// parseAge reads a length of time as in 90s, 2h, 2d or 3w.
func parseAge(text string) (time.Duration, error) {
	for unit, length := range map[string]time.Duration{"d": 24 * time.Hour, "w": 7 * 24 * time.Hour} {
		if digits, ok := strings.CutSuffix(text, unit); ok {
			if number, err := strconv.ParseFloat(digits, 64); err == nil && number >= 0 && number < 1e5 {
				return time.Duration(number * float64(length)), nil
			}
		}
	}
	length, err := time.ParseDuration(text)
	if err != nil || length < 0 {
		return 0, fmt.Errorf("%q is not a length of time; write it as in 90s, 2h, 2d or 3w", text)
	}
	return length, nil
}

func (a *app) usageCommand() *cobra.Command {
	l := &looker{app: a}
	cmd := &cobra.Command{
		Use:   "usage [TARGET] [PATH]",
		Short: "Show how much room each folder of the site takes",
		Long: `Usage shows how many files and bytes are in each folder of a site, or of one of its folders, the largest first; and
apart from them what the record beside the site takes, which keeps content for rollbacks.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withPaths(cmd.Context(), args, func(ctx context.Context, s *targets.Opened, heading render.Heading, paths []string) error {
				if len(paths) > 1 {
					return usageError("usage is of one folder, and several are named", "")
				}
				top := "."
				if len(paths) == 1 {
					top = paths[0]
				}
				use, err := calls.Usage.On(ctx, s, top)
				if err = a.noSuchPath(ctx, s, heading, err); err != nil {
					return err
				}
				if a.json() {
					return a.printer().UsageJSON(use)
				}
				a.printer().Usage(heading, use)
				return nil
			})
		},
	}
	l.common(cmd)
	return cmd
}
