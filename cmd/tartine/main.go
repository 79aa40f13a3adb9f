// Tartine deploys site files, sends only what changed, and verifies what is there against a manifest.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"syscall"

	"tartine/internal/cli"
)

// Set by the linker.
var (
	version string
	commit  string
)

func main() { os.Exit(run(cli.Build{Version: version, Commit: commit}.Stamp())) }

func run(build cli.Build) int {
	if os.Getenv("GOGC") == "" {
		// Large trees are long lists, which are made once and kept: what lies beside them is garbage, and collected early. What is
		// never written to takes no memory, but counts: so a small heap is not collected for each megabyte.
		debug.SetGCPercent(20)
		defer runtime.KeepAlive(make([]byte, 48<<20))
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	if !signal.Ignored(syscall.SIGHUP) { // as nohup has it
		signal.Notify(signals, syscall.SIGHUP)
	}
	signal.Ignore(syscall.SIGPIPE) // whoever reads what is told may leave; a deployment goes on
	go func() {
		<-signals
		cancel() // stop cleanly
		<-signals
		os.Exit(cli.ExitInterrupted) // at once
	}()
	return cli.Run(ctx, build, os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
}
