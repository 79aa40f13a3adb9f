package targets

import (
	"context"
	"fmt"

	"tartine/internal/connect"
	"tartine/internal/farend"
)

// NoProgramsError tells that a target is reached in a way that runs no programs.
type NoProgramsError struct{ Reason, Instead string }

func (e *NoProgramsError) Error() string { return e.Reason }

// Run runs a program in the root's folder of a target, and gives its exit status. Folder and Home of the program are
// filled in. It fails with a *NoProgramsError where that cannot be, and with a *farend.NotStartedError where the far end
// does not start it. When the context ends the program is interrupted, and its status given.
func Run(ctx context.Context, s Settings, p *farend.Program) (int, error) {
	p.Folder, p.Home = s.Address.Path, s.Address.Home
	if len(s.Command) > 0 {
		status, err := connect.RunThrough(ctx, s.Command, p)
		if err != nil {
			err = &CommandError{s.Command, err}
		}
		return status, err
	}
	driver := known().find(s.Address.Kind)
	if driver == nil || driver.run == nil {
		return 0, &NoProgramsError{noPrograms(s.Address.Kind), driver.insteadOfRun}
	}
	return driver.run(ctx, s, p)
}

func runOverSSH(ctx context.Context, s Settings, p *farend.Program) (int, error) {
	dial, err := s.Dialer(ctx)
	if err != nil {
		return 0, err
	}
	client, err := dial.Dial(ctx)
	if err != nil {
		return 0, err
	}
	defer client.Close()
	status, err := connect.RunProgram(ctx, client, p)
	return status, err
}

func runInContainer(ctx context.Context, s Settings, p *farend.Program) (int, error) {
	e, err := s.openEngine(ctx)
	if err != nil {
		return 0, err
	}
	defer e.Close()
	c, err := e.Container(ctx, s.Address.Host)
	switch {
	case err != nil:
		return 0, err
	case c.Paused:
		return 0, &ContainerError{Name: c.Name, Paused: true}
	case !c.Running:
		return 0, &ContainerError{Name: c.Name, Stopped: true}
	}
	return c.Run(ctx, p)
}

func noPrograms(kind Kind) string {
	if kind == Archive {
		return "no program can be run in an archive"
	}
	return fmt.Sprintf("%s:// is for files alone: no program can be run there", kind)
}
