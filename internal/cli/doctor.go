package cli

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/connect"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
)

func (a *app) doctorCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "doctor [TARGET]",
		Short: "Test every step on the way to a target and say what to fix",
		Long: `Doctor goes the way of a deployment, from the name of the host to the rights in the folder, and says of each step whether it
is good, slow or wrong, and what to fix. It writes only in a folder of its own, which it removes. Where the settings have the address
at which visitors see the site (web:), it goes on there: name, certificate, front page, and whether a small file that is put into the
root for a moment is what the web gives.`,
		Args: atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.doctor(cmd.Context(), args)
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	a.webFlags(cmd)
	return cmd
}

func (a *app) doctor(ctx context.Context, args []string) error {
	all, err := a.meant(ctx, args)
	if err != nil {
		return err
	}
	return a.together(all, func(m *meant) error { return a.examine(ctx, m.reach, m.heading) })
}

func (a *app) examine(ctx context.Context, reach targets.Settings, heading render.Heading) error {
	took := map[connect.Step]time.Duration{}
	reach.Took = func(step connect.Step, length time.Duration) { took[step] = length }
	opened, err := a.open(ctx, reach)
	checks, status := wayThere(reach.Address.Driver(), took, opened, err)
	if err == nil {
		defer opened.Close()
		examined, failed := calls.Examine.On(ctx, opened, calls.None{})
		if failed != nil {
			return failed
		}
		seen, failed := a.webChecks(ctx, heading, opened)
		if failed != nil {
			return failed
		}
		checks = append(append(checks, examined...), seen...)
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

// wayThere says how far the connection came, which steps took longer than they should, and how an open site is reached.
func wayThere(driver *targets.Driver, took map[connect.Step]time.Duration, opened *targets.Opened,
	err error) (checks []site.Check, status int) {
	failed := driver.Failed(err)
	if err != nil && failed == "" {
		return nil, ExitDone
	}
	for _, s := range driver.Steps {
		switch {
		case failed == s.Step:
			said := sentence(err)
			return append(checks, site.Check{Name: string(s.Step), Verdict: site.Wrong, Found: said.what,
				Fix: said.next}), said.status
		case s.Good == "" || opened != nil && opened.Agent && s.NoAgent:
			continue
		}
		check := site.Check{Name: string(s.Step), Verdict: site.Good, Found: s.Good}
		if length, known := took[s.Step]; known {
			check.Found += fmt.Sprintf(" (%s)", render.Duration(length.Round(time.Millisecond)))
			if s.Long > 0 && length > s.Long {
				check.Verdict, check.Fix = site.Slow, s.Fix
			}
		}
		checks = append(checks, check)
	}
	if opened != nil {
		checks = append(checks, driver.Reached(opened)...)
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
	cmd.Flags().BoolVar(&check, "check", false, "ask each of them whether it answers and which deployment is there")
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
	reaches := make([]targets.Settings, len(list))
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
func askTarget(ctx context.Context, reach targets.Settings, state *render.TargetState) {
	reach.SSH.Passphrase, reach.Ask, reach.Reconnect = nil, nil, 0
	opened, err := targets.Open(ctx, reach)
	if err == nil {
		defer opened.Close()
		var past []site.Past
		if past, err = calls.History.On(ctx, opened, calls.None{}); err == nil {
			state.Answers = true
			if len(past) > 0 {
				state.Stands = &past[0]
			}
			return
		}
	}
	state.Problem = sentence(err).what
}
