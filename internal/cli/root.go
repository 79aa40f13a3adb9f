// Package cli is Tartine's command line: it parses, calls, renders, and gives the exit status.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/fsys"
	"tartine/internal/render"
)

// Exit statuses. They are a promise: schedulers and scripts read them.
const (
	ExitDone        = 0
	ExitDiffers     = 1   // verify found differences, or diff --exit-code did
	ExitUsage       = 2   // wrong usage or configuration
	ExitConnection  = 3   // could not connect or log in, or the connection was lost
	ExitIncomplete  = 4   // some files failed, the rest arrived
	ExitRefused     = 5   // refused for safety
	ExitUnwell      = 6   // deployed, found unwell by a command or a check after publishing, and rolled back
	ExitInterrupted = 130 // by Ctrl-C or SIGTERM
)

// Build says which program this is.
type Build struct {
	Version, Commit string
	// Between, when it is set, puts something between every site and the place where it is. Tests attack the program
	// from there.
	Between func(fsys.FS) fsys.FS
}

func (b Build) String() string {
	return fmt.Sprintf("tartine %s (commit %s, %s, %s/%s)", b.Version, b.Commit, runtime.Version(), runtime.GOOS,
		runtime.GOARCH)
}

// app is one run of the program.
type app struct {
	build    Build
	stdin    *os.File
	again    time.Time // when it was said last that a connection is open again
	stdout   io.Writer
	logFile  *os.File
	endLog   func(status int) // nil: there is no log
	said     *told            // what stdout writes to in the end
	terminal *os.File         // what standard output is
	stderr   io.Writer
	flags    flags
	status   int         // what to exit with when no error says otherwise
	writes   bool        // the command changes a site
	told     sync.Map    // notes that were written
	reads    bool        // the command reads all files of a site
	editing  atomic.Bool // an editor is open, and has the terminal

	from   []*fromSite // targets that content comes from
	ending sync.Mutex
	ends   []func() // what is to be done when the program ends

	hidden  sync.Map                        // secrets that this run knows, none of which is written anywhere
	phrases sync.Map                        // what was asked for key files
	showing atomic.Pointer[render.Progress] // where notes go while it is shown
}

// Run runs the program and gives its exit status.
func Run(ctx context.Context, build Build, args []string, stdin, stdout, stderr *os.File) (status int) {
	out := &told{Writer: stdout}
	a := &app{build: build, stdin: stdin, stdout: out, said: out, terminal: stdout, stderr: stderr}
	defer func() {
		if a.endLog != nil {
			a.endLog(status)
		}
	}()
	defer a.end()
	root := a.root()
	root.SetArgs(args)
	root.SetIn(stdin)
	root.SetOut(out)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	if failed, silent := out.failure(); failed != nil && !errors.As(err, new(*statusError)) {
		if silent {
			return max(a.status, ExitIncomplete)
		}
		err = &statusError{status: ExitIncomplete, what: "standard output cannot be written to: " + failed.Error(),
			next: "what was done is done; only the report is incomplete"}
	}
	if err == nil {
		return a.status
	}
	if ctx.Err() != nil && !errors.As(err, new(*statusError)) {
		err = errInterrupted
	}
	return a.explain(err)
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "tartine",
		Short: "Deploy site files: send what changed, and prove what is there",
		Long: `Tartine brings a folder of site files or build output to the place where it is served, sends only files whose
content changed, and verifies the site against a manifest.

Start with "tartine init", look with "tartine diff", then "tartine deploy". "tartine demo" shows it all on an example.`,
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	root.SetFlagErrorFunc(wrongOption)
	root.PersistentPreRunE = a.beginLog
	root.Args = func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return unknownCommand(cmd, args[0])
		}
		return nil
	}
	root.RunE = func(cmd *cobra.Command, _ []string) error {
		if asked, _ := cmd.Flags().GetBool("version"); asked { // by an option of our own: what Cobra would do for it makes the program a seventh larger
			_, err := fmt.Fprintln(a.stdout, a.build)
			return err
		}
		return cmd.Help()
	}
	root.AddCommand(a.initCommand(), a.diffCommand(), a.deployCommand(), a.verifyCommand(), a.fetchCommand(), a.sendCommand(), a.lsCommand(), a.findCommand(),
		a.catCommand(), a.usageCommand(), a.editCommand(), a.mkdirCommand(), a.mvCommand(), a.rmCommand(), a.chmodCommand(), a.adoptCommand(), a.runCommand(), a.wipeCommand(),
		a.historyCommand(), a.rollbackCommand(), a.promoteCommand(), a.watchCommand(), a.unlockCommand(), a.trustCommand(), a.doctorCommand(),
		a.targetsCommand(), a.manifestCommand(), a.explainCommand(), a.packCommand(), a.demoCommand(), a.versionCommand(),
		a.farEndCommand())
	a.dress(root)
	return root
}

// progress shows progress until the function that it returns is called. Notes go above it.
func (a *app) progress(ctx context.Context, terminal bool) (*render.Progress, func()) {
	p := render.NewProgress(ctx, a.stderr, terminal)
	p.Plain = plain()
	a.showing.Store(p)
	return p, func() {
		a.showing.Store(nil)
		p.Done()
	}
}

// againEvery is how often it is said at most that a connection is open again.
const againEvery = 10 * time.Second

// connectionLost says that a connection is opened again, and that it was.
func (a *app) connectionLost(err error, pause time.Duration) {
	if a.flags.quiet {
		return
	}
	note := "again     the connection was lost and is open again"
	switch {
	case err == nil && time.Since(a.again) < againEvery:
		return // over a bad connection it is always the same
	case err == nil:
		a.again = time.Now()
	case pause < time.Second:
		return // most are back by then
	default:
		note = fmt.Sprintf("lost      %v; trying again in %s", err, pause)
	}
	if p := a.showing.Load(); p != nil {
		p.Note(note)
		return
	}
	render.Fprintf(a.stderr, "%s\n", note)
}

// atMostOne accepts one argument or none.
func atMostOne(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) > 1 {
			return usageError(fmt.Sprintf("%s takes one %s, not %d", cmd.CommandPath(), what, len(args)), "")
		}
		return nil
	}
}

func noArguments(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usageError(fmt.Sprintf("%s takes no argument, and %q is one", cmd.CommandPath(), args[0]), "")
	}
	return nil
}

// printer gives the printer that the flags ask for.
func (a *app) printer() *render.Printer {
	return &render.Printer{Out: a.stdout, Err: a.stderr, Verbose: a.flags.detail > 0, Quiet: a.flags.quiet || a.json(),
		Color: a.color(a.terminal), Width: columns(a.terminal)}
}

// object writes an object where JSON is wanted.
func (a *app) object(value any) error {
	if !a.json() {
		return nil
	}
	return render.WriteJSON(a.stdout, value)
}

func (a *app) json() bool { return a.flags.format == "json" || a.flags.format == "jsonl" }
