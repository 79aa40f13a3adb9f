package cli

import (
	"bytes"
	"context"
	"errors"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tartine/internal/farend"
	"tartine/internal/render"
	"tartine/internal/targets"
)

func (a *app) runCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "run [TARGET] -- COMMAND [ARGUMENT…]",
		Short: "Run a program at the far end, in the folder of the site",
		Long: `Run runs a program where the site is: in its root, with exactly the arguments that are given, whatever shell a login has there.
Standard input goes to it, and both outputs come from it; where this is a terminal it has one. Ctrl-C interrupts it. Patterns
and pipes are for a shell: tartine run TARGET -- sh -c 'COMMANDS'.

It ends with the exit status of the program: 128 and the number of a signal that ended it, 126 and 127 as shells say them.`,
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			at := cmd.ArgsLenAtDash()
			if at < 0 || at == len(args) {
				return usageError("no command is named", "write it behind two hyphens: tartine run TARGET -- COMMAND ARGUMENT…")
			}
			if err := atMostOne("target")(cmd, args[:at]); err != nil {
				return err
			}
			return a.run(cmd.Context(), args[:at], args[at:])
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	return cmd
}

// run runs a program at a target.
func (a *app) run(ctx context.Context, names, command []string) error {
	all, err := a.meant(ctx, names)
	if err != nil {
		return err
	}
	one := &a.firstOf(all)[0]
	p := &farend.Program{Args: command, Out: a.terminal, Err: a.stderr}
	if a.stdin != nil {
		p.In = a.stdin
	}
	var out, errs bytes.Buffer
	switch {
	case a.json():
		p.Out, p.Err = &out, &errs
	case a.stdin != nil && isTerminal(a.stdin) && isTerminal(a.terminal):
		back, err := a.lendTerminal(p, one.reach.Address.Kind == targets.Folder)
		if err != nil {
			return err
		}
		defer back()
	}
	status, err := targets.Run(ctx, one.reach, p)
	if err != nil {
		return notRun(err, one)
	}
	a.status = status
	if !a.json() {
		return nil
	}
	return a.printer().RanJSON(one.heading, command, status, out.String(), errs.String())
}

// lendTerminal gives a program the terminal, until back is called. One of this machine has it already.
func (a *app) lendTerminal(p *farend.Program, here bool) (back func(), err error) {
	width, height, err := term.GetSize(int(a.terminal.Fd()))
	if err != nil || width <= 0 || height <= 0 {
		width, height = 80, 24
	}
	resized, stop := sizes(a.terminal)
	p.Terminal = &farend.Terminal{Kind: os.Getenv("TERM"), Width: width, Height: height, Resized: resized}
	if here {
		return stop, nil
	}
	state, err := term.MakeRaw(int(a.stdin.Fd()))
	if err != nil {
		stop()
		return nil, err
	}
	return func() {
		stop()
		_ = term.Restore(int(a.stdin.Fd()), state) // the terminal may be gone
	}, nil
}

// notRun says why a program was not run.
func notRun(err error, at *meant) error {
	var (
		none       *targets.NoProgramsError
		notStarted *farend.NotStartedError
	)
	switch {
	case errors.As(err, &none):
		return usageError(none.Reason, none.Instead)
	case errors.Is(err, farend.ErrTooLong):
		return usageError(err.Error(), "hand the rest over on standard input")
	case errors.As(err, &notStarted) && notStarted.Folder != "":
		return &statusError{status: ExitConnection, what: render.Name(notStarted.Folder) + " does not exist at " + at.heading.Name() + ", or may not be entered",
			next: "deploy first, or look whether the path is right"}
	case errors.As(err, &notStarted):
		return &statusError{status: ExitConnection, what: strings.Replace(notStarted.Error(), "the far end", at.heading.Name(), 1),
			next: "it needs a login with a shell, sh and base64 there, or, in a container, the program itself"}
	}
	return err
}
