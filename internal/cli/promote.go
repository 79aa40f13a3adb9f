package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/config"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/filter"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// fromSite is a target that content comes from.
type fromSite struct {
	*deploy.Promotion
	name  string
	reach targets.Settings
	dest  string
	alone bool // nothing else is content
}

func (a *app) promoteCommand() *cobra.Command {
	var (
		look    looking
		own     deployFlags
		drifted string
	)
	cmd := &cobra.Command{
		Use:   "promote FROM TO",
		Short: "Bring what is at one target to another",
		Long: `Promote brings what the last deployment recorded at FROM, and still is there, to TO, with the filters and the settings of TO. Only what TO
lacks is sent, through the memory of this machine; between two folders of one host it is copied there. --identity and --fingerprint are for TO.`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usageError("promote needs two targets", "name where it comes from, and where it goes: tartine promote staging live")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			own.options.Started = time.Now()
			from, err := a.promotion(args[0], drifted)
			if err != nil {
				return err
			}
			a.writes, a.reads = !own.options.Trial, deploy.Compare(look.compare) == deploy.ByHash
			all, err := a.meant(cmd.Context(), args[1:])
			if err != nil {
				return err
			}
			if look.given, err = a.promoted(from); err != nil {
				return err
			}
			return a.deployToEach(cmd.Context(), all, look, own)
		},
	}
	a.configFlag(cmd)
	a.ruleFlags(cmd)
	a.targetFlags(cmd)
	look.flags(cmd)
	a.outputFlags(cmd)
	a.writing(cmd, &own)
	a.deployingFlags(cmd, &look, &own)
	cmd.Flags().StringVar(&drifted, "drifted", "", "what counts where FROM is not as it was deployed, a `WORD`: recorded (what was deployed) or standing (what is there now)")
	return cmd
}

// promotion gives what is at a target as content. It is opened when it is asked for, and closed when the program ends.
func (a *app) promotion(name, drifted string) (*fromSite, error) {
	if drifted != "" && drifted != string(deploy.TakeRecorded) && drifted != string(deploy.TakeStanding) {
		return nil, usageError(fmt.Sprintf("--drifted is recorded or standing, not %q", drifted), "")
	}
	flags, writes, reads := a.flags, a.writes, a.reads
	a.flags.identity, a.flags.pinned, a.writes, a.reads = "", "", false, false
	reach, heading, err := a.reach([]string{name})
	a.flags, a.writes, a.reads = flags, writes, reads
	if err != nil {
		return nil, err
	}
	for _, from := range a.from { // settings may be read twice
		if from.name == name && from.reach.Address == reach.Address && string(from.Drifted) == drifted {
			return from, nil
		}
	}
	from := &fromSite{name: name, reach: reach, dest: "."}
	from.Promotion = &deploy.Promotion{From: cmp.Or(heading.Target, heading.Address), Drifted: deploy.Drifted(drifted),
		Open: func(ctx context.Context) (calls.Engine, error) {
			each, err := reach.Each(ctx)
			if err != nil {
				return nil, err
			}
			opened, err := a.open(ctx, each[0])
			if err != nil {
				return nil, err
			}
			a.closing(func() {
				from.Close()
				_ = opened.Close() // nothing was written there
			})
			return opened, nil
		}}
	a.from = append(a.from, from)
	return from, nil
}

// closing has something done when the program ends.
func (a *app) closing(do func()) {
	a.ending.Lock()
	defer a.ending.Unlock()
	a.ends = append(a.ends, do)
}

// end does what is to be done when the program ends.
func (a *app) end() {
	a.ending.Lock()
	defer a.ending.Unlock()
	for _, do := range slices.Backward(a.ends) {
		do()
	}
	a.ends = nil
}

// source gives the source that it is.
func (f *fromSite) source(rules *filter.Set) content.Source {
	return content.Source{Path: f.From, Dest: f.dest, Rules: rules, Entries: f.Entries()}
}

// promoted gives what is loaded where content is what is at another target: its modes are brought as they are there.
func (a *app) promoted(from *fromSite) (*loaded, error) {
	var (
		l   loaded
		err error
	)
	if l.settings, err = a.settings(); err != nil {
		return nil, err
	}
	if l.scan, err = a.scanOptions(l.settings); err != nil {
		return nil, err
	}
	l.scan.KeepModes, l.scan.Links = true, content.KeepLinks
	rules := &ruleMaker{}
	set := a.sharedRules(l.settings, rules)
	if l.last, err = lastOf(l.settings); err != nil {
		return nil, err
	}
	from.alone = true
	l.sources, l.rules, l.from = []content.Source{from.source(set)}, rules.all, from
	return &l, rules.err
}

// beside gives the tree from which the far end may take content itself; nil: there is none that it could reach.
func (f *fromSite) beside(to *targets.Settings) *site.Beside {
	from, there := &f.reach, to.Address
	at := from.Address
	same := at.Kind == there.Kind && at.Host == there.Host && at.Port == there.Port && slices.Equal(from.SSH.Via, to.SSH.Via) &&
		slices.Equal(from.Command, to.Command)
	remote := at.Kind == targets.SSH || at.Kind == targets.Container || len(from.Command) > 0
	if !same || !remote || at.Home && at.User != there.User {
		return nil
	}
	return &site.Beside{Root: at.Path, Home: at.Home, Dest: f.dest}
}

// describe says in a content where it comes from.
func (f *fromSite) describe(c *content.Content) {
	c.Promoted = f.Promoted
	if f.alone {
		own := origin(context.Background(), nil)
		c.Origin = &manifest.Origin{User: own.User, Host: own.Host}
		if f.Origin != nil {
			c.Origin.Commit, c.Origin.Branch = f.Origin.Commit, f.Origin.Branch
		}
	}
}

// fromTarget makes a source of the settings one of what is at a target.
func (a *app) fromTarget(c *config.Source, out *content.Source) error {
	from, err := a.promotion(c.Source.Target.Value, c.Source.Drifted.Value)
	if err != nil {
		return err
	}
	from.dest = out.Dest
	out.Path, out.Entries = "target "+from.From, from.Entries()
	return nil
}
