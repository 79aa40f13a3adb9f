package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/connect"
	"tartine/internal/render"
	"tartine/internal/targets"
)

func (a *app) trustCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "trust [TARGET]",
		Short: "Show a server's host key and record it once it is known to be right",
		Long: `Trust shows the key of a server that is not known yet, as a fingerprint and as a picture, and records it after consent; or
without a question when it is the one that --fingerprint names. A key that has changed is never recorded over the old one.`,
		Args: atMostOne("target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.trust(cmd.Context(), args)
		},
	}
	a.configFlag(cmd)
	a.targetFlags(cmd)
	a.outputFlags(cmd)
	return cmd
}

// trusted is what is told of a host key.
type trusted struct {
	Target      string `json:"target"`
	Host        string `json:"host"`
	Fingerprint string `json:"fingerprint"`
	File        string `json:"file,omitempty"`
	Result      string `json:"result"` // trusted, or known: it was before
}

func (a *app) trust(ctx context.Context, args []string) error {
	reach, heading, err := a.reach(args)
	if err != nil {
		return err
	}
	if driver := reach.Address.Driver(); driver.NoHostKey != "" {
		return usageError(fmt.Sprintf(driver.NoHostKey, heading.Address), driver.Instead)
	}
	expected := a.flags.pinned
	reach.SSH.HostKey = "" // what is recorded counts here, not what is pinned
	dial, err := reach.Dialer(ctx)
	if err != nil {
		return err
	}
	dial.Wanted = expected
	shown, err := dial.ShowKey(ctx)
	var unknown *connect.HostKeyError
	switch {
	case errors.Is(err, connect.ErrTrusted):
		a.printer().Line("trusted   the key of %s is recorded already", dial.Address())
		return a.object(trusted{heading.Name(), dial.Address(), shown, "", "known"})
	case !errors.As(err, &unknown) || !unknown.Unknown():
		return err
	case expected != "" && expected != unknown.Fingerprint:
		return &statusError{status: ExitRefused, what: fmt.Sprintf("%s shows the %s key %s, not %s; nothing was recorded", dial.Address(), unknown.Type, unknown.Fingerprint, expected),
			next: "ask the server's owner for the fingerprint of its key"}
	case expected == "":
		a.showKey(dial.Address(), unknown)
		if !a.canAsk() {
			return &statusError{status: ExitRefused, what: "nothing was recorded: there is no terminal to ask on",
				next: fmt.Sprintf("once it is known to be right: tartine trust %s --fingerprint %s",
					strings.Join(args, " "), unknown.Fingerprint)}
		}
		if !a.ask([]string{"this key will be trusted from now on; compare it with what the server's owner says"}) {
			return &statusError{status: ExitRefused, what: "nothing was recorded"}
		}
	}
	file, err := a.record(ctx, dial, unknown)
	if err != nil {
		return err
	}
	return a.object(trusted{heading.Name(), dial.Address(), unknown.Fingerprint, file, "trusted"})
}

// showKey shows a key so that a person can compare it.
func (a *app) showKey(address string, key *connect.HostKeyError) {
	render.Fprintf(a.stderr, "%s shows this %s key:\n\n    %s\n", address, key.Type, key.Fingerprint)
	for line := range strings.Lines(connect.Picture(key.Key)) {
		render.Fprintf(a.stderr, "    %s\n", strings.TrimSuffix(line, "\n"))
	}
	render.Fprintf(a.stderr, "\n")
}

// record writes a key that is trusted into known_hosts.
func (a *app) record(ctx context.Context, dial *connect.SSH, key *connect.HostKeyError) (file string, err error) {
	file, err = dial.Trust(ctx, key.Key)
	if err != nil {
		return "", usageError(err.Error(), "name another file with --known-hosts")
	}
	render.Fprintf(a.stderr, "trusted   the %s key of %s is recorded in %s\n", key.Type, dial.Address(), file)
	return file, nil
}

// open opens a target. When its host key is not known yet and there is somebody to ask, it asks once.
func (a *app) open(ctx context.Context, reach targets.Settings) (*targets.Opened, error) {
	opened, err := targets.Open(ctx, reach)
	var unknown *connect.HostKeyError
	if !errors.As(err, &unknown) || !unknown.Unknown() || unknown.Strict || !a.canAsk() {
		a.sayWay(opened)
		return opened, err
	}
	dial, failed := reach.Dialer(ctx)
	if failed != nil {
		return nil, failed
	}
	a.showKey(dial.Address(), unknown)
	if !a.ask([]string{"nothing is known of this server yet; compare the key with what its owner says"}) {
		return nil, err
	}
	if _, err := a.record(ctx, dial, unknown); err != nil {
		return nil, err
	}
	opened, err = targets.Open(ctx, reach)
	a.sayWay(opened)
	return opened, err
}

// wasHeld says that a container was stopped. That one still is must be known.
func (a *app) wasHeld(name string, down time.Duration, err error) {
	switch {
	case err != nil:
		a.printer().Warn("container %s was stopped, and does not run again: %v", name, err)
	case !a.flags.quiet:
		render.Fprintf(a.stderr, "note      container %s was stopped for %.1f s, and runs again\n", name,
			down.Seconds())
	}
}

// note tells once what a person should know.
func (a *app) note(text string) {
	if _, told := a.told.LoadOrStore(text, true); !told {
		render.Fprintf(a.stderr, "note      %s\n", text)
	}
}

// sayWay says that a site is reached in a slower way than was hoped for, and why.
func (a *app) sayWay(opened *targets.Opened) {
	if opened != nil && opened.Clear && !a.flags.quiet {
		a.printer().Warn("the password and all files cross the connection in the clear")
	}
	if opened != nil && opened.Why != nil && !a.flags.quiet {
		read := ""
		if opened.Read > 0 {
			read = "; " + render.Bytes(opened.Read) + " were read there first"
		}
		render.Fprintf(a.stderr, "note      over %s: %v%s\n", opened.Way, opened.Why, read)
	}
}
