package cli

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/connect"
	"tartine/internal/connect/engine"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/target"
)

func (a *app) doctorCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "doctor [TARGET]",
		Short: "Test every step on the way to a target and say what to fix",
		Long: `Doctor goes the way of a deployment, from the name of the host to the rights in the folder, and says of each step whether it
is good, slow or wrong, and what to fix. It writes only in a folder of its own, which it removes.`,
		Args: atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.doctor(cmd.Context(), args)
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	return cmd
}

func (a *app) doctor(ctx context.Context, args []string) error {
	all, err := a.meant(ctx, args)
	if err != nil {
		return err
	}
	return a.together(all, func(m *meant) error { return a.examine(ctx, m.reach, m.heading) })
}

func (a *app) examine(ctx context.Context, reach target.Settings, heading render.Heading) error {
	took := map[connect.Step]time.Duration{}
	reach.Took = func(step connect.Step, length time.Duration) { took[step] = length }
	opened, err := a.open(ctx, reach)
	checks, status := wayThere(reach, took, err)
	if err == nil && opened.Way == "agent" && len(checks) > 0 {
		checks = checks[:len(checks)-1] // SFTP was not tried
	}
	if err == nil {
		defer opened.Close()
		examined, failed := opened.Examine(ctx)
		if failed != nil {
			return failed
		}
		checks = append(checks, wayOf(reach.Address.Kind, opened)...)
		checks = append(checks, examined...)
	} else if len(checks) == 0 {
		return err
	}
	for _, check := range checks {
		if check.Verdict == site.Wrong && status == ExitDone {
			status = ExitDiffers
		}
	}
	a.status = status
	p := a.printer()
	if a.json() {
		return p.ChecksJSON(heading, checks)
	}
	p.Checks(heading, checks)
	return nil
}

// wayOf says whether an agent runs at the far end, where one could.
func wayOf(kind target.Kind, opened *target.Opened) []site.Check {
	switch {
	case opened.Way == "agent" && kind == target.Container:
		return []site.Check{{Name: "engine", Verdict: site.Good, Found: "a container engine answers"},
			{Name: "container", Verdict: site.Good, Found: "it runs"}, {Name: "agent", Verdict: site.Good, Found: "it runs there"}}
	case opened.Way == "agent":
		return []site.Check{{Name: "agent", Verdict: site.Good, Found: "it runs there"}}
	case len(opened.Facts) > 0:
		return opened.Facts
	case opened.Why != nil && kind == target.Container:
		return []site.Check{{Name: "engine", Verdict: site.Good, Found: "a container engine answers"},
			{Name: "agent", Verdict: site.Slow, Found: opened.Why.Error(), Mend: startIt(opened.Why)}}
	case opened.Why != nil:
		return []site.Check{{Name: "agent", Verdict: site.Slow, Found: opened.Why.Error(), Mend: "every file operation crosses the line; where that is fast enough, say agent: off"}}
	}
	return nil
}

// wayStep is a step of connecting, how it is when it is good, and how long it may take.
type wayStep struct {
	step connect.Step
	good string
	long time.Duration
	mend string
}

// startIt says what there is to gain where a container does not run.
func startIt(why error) string {
	var container *target.ContainerError
	if errors.As(why, &container) && container.Stopped {
		return "what is needed of the site is carried here and back; in one that runs, files are changed where they are"
	}
	return ""
}

// wayThere says how far the connection came, and which steps took longer than they should. A folder of this machine has
// no way.
func wayThere(reach target.Settings, took map[connect.Step]time.Duration, err error) (checks []site.Check, status int) {
	service := "an SSH server"
	if reach.Address.Kind == target.FTP || reach.Address.Kind == target.FTPS {
		service = "an FTP server"
	}
	steps := []wayStep{
		{connect.Lookup, "the name is known", time.Second, "a name server on the way does not answer: look at the resolver's settings of this machine"},
		{connect.Port, service + " answers", time.Second, "the line is long or busy: many small files will take their time"},
		{connect.HostKey, "it is trusted", 3 * time.Second, "the line is long, or the server busy"},
		{connect.Login, "the login is accepted", 3 * time.Second, "the server may look our name up: UseDNS no in its settings avoids that"},
		{connect.Start, "SFTP is offered", 0, ""},
	}
	switch reach.Address.Kind {
	case target.FTP:
		steps = []wayStep{steps[0], steps[1], steps[3]}
	case target.FTPS:
		steps = []wayStep{steps[0], steps[1], {connect.Certificate, "it is trusted", 3 * time.Second, "the line is long, or the server busy"}, steps[3]}
	}
	var failed *connect.Error
	if reach.Address.Kind == target.Container && err != nil {
		said := sentence(err)
		name := "container"
		var none *engine.Error
		if errors.As(err, &none) {
			name = "engine"
		}
		return []site.Check{{Name: name, Verdict: site.Wrong, Found: said.what, Mend: said.next}}, said.status
	}
	if reach.Address.Kind == target.Folder || reach.Address.Kind == target.Container || err != nil && !errors.As(err, &failed) {
		return nil, ExitDone
	}
	for _, s := range steps {
		if failed != nil && failed.Step == s.step {
			said := sentence(err)
			return append(checks, site.Check{Name: string(s.step), Verdict: site.Wrong, Found: said.what, Mend: said.next}), said.status
		}
		check := site.Check{Name: string(s.step), Verdict: site.Good, Found: s.good}
		if length, known := took[s.step]; known {
			check.Found += fmt.Sprintf(" (%s)", render.Duration(length.Round(time.Millisecond)))
			if length > s.long {
				check.Verdict, check.Mend = site.Slow, s.mend
			}
		}
		checks = append(checks, check)
	}
	return checks, ExitDone
}

func (a *app) targetsCommand() *cobra.Command {
	var check bool
	cmd := &cobra.Command{
		Use:   "targets",
		Short: "List the targets of the settings, and with --check how they are",
		Args:  noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.targets(cmd.Context(), check)
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	cmd.Flags().BoolVar(&check, "check", false, "ask each of them whether it answers and which deployment stands there")
	return cmd
}

func (a *app) targets(ctx context.Context, check bool) error {
	settings, err := a.settings()
	if err != nil {
		return err
	}
	if len(settings.TargetNames) == 0 {
		return usageError("the settings name no target", `write one under targets, or start with "tartine init"`)
	}
	list := make([]render.TargetState, len(settings.TargetNames))
	reaches := make([]target.Settings, len(list))
	for i, name := range settings.TargetNames {
		reach, heading, err := a.target(settings, []string{name})
		if err != nil {
			return err
		}
		reaches[i], list[i] = reach, render.TargetState{Name: name, Address: heading.Address}
	}
	if check {
		var asking sync.WaitGroup
		for i := range list {
			asking.Go(func() { askTarget(ctx, reaches[i], &list[i]) })
		}
		asking.Wait()
	}
	for _, t := range list {
		if t.Problem != "" {
			a.status = ExitConnection
		}
	}
	p := a.printer()
	if a.json() {
		return p.TargetsJSON(list)
	}
	p.Targets(list, check)
	return nil
}

// askTarget finds out how a target is. It asks nobody and writes nothing.
func askTarget(ctx context.Context, reach target.Settings, state *render.TargetState) {
	reach.Passphrase, reach.Ask, reach.Reconnect = nil, nil, 0
	opened, err := target.Open(ctx, reach)
	if err == nil {
		defer opened.Close()
		var past []site.Past
		if past, err = opened.History(ctx); err == nil {
			state.Answers = true
			if len(past) > 0 {
				state.Stands = &past[0]
			}
			return
		}
	}
	state.Problem = sentence(err).what
}
