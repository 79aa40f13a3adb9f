// Bench measures the program beside what an engineer would write by hand with the system's own tools: tar through ssh,
// sha256sum, find. Everything runs on this machine, over a real OpenSSH server on loopback, on a memory disk where
// there is one; so the figures are ratios within one run, medians of pairs that are run one after the other.
//
// It is a module of its own: make bench builds it as bin/bench.
//
//	bin/bench                               prints the table
//	bin/bench -report docs                  writes docs/benchmarks.md and its plots, too
package main

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
)

// options is what can be asked for.
type options struct {
	program string
	runs    int
	plots   int
	scale   float64
	report  string
	only    string
}

func main() {
	var opt options
	flag.StringVar(&opt.program, "program", "bin/tartine", "the program that is measured")
	flag.IntVar(&opt.runs, "runs", 5, "pairs of runs of which the median is taken")
	flag.IntVar(&opt.plots, "plots", 3, "runs for each point of a plot; 0: no plots")
	flag.Float64Var(&opt.scale, "scale", 1, "the number of files and bytes, as a share of the full size")
	flag.StringVar(&opt.only, "only", "", "measure this part alone: startup, many, mixed, large, longLine, memory, watch, living, sources, containers or rented")
	flag.StringVar(&opt.report, "report", "", "the folder in which benchmarks.md and its plots are written")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, opt); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context, opt options) error {
	program, err := filepath.Abs(opt.program)
	if err != nil {
		return err
	}
	opt.program = program
	b, err := newBench(ctx, opt)
	if err != nil {
		return err
	}
	defer b.close()
	rows, err := b.table()
	if err != nil {
		return err
	}
	text := render(b.machine(), rows)
	fmt.Print(text)
	if opt.plots == 0 || opt.only != "" {
		return nil
	}
	plots, err := b.plots()
	if err != nil || opt.report == "" {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(plots)) {
		plot := plots[name]
		if err := os.WriteFile(filepath.Join(opt.report, name), plot.svg(), 0o644); err != nil {
			return err
		}
		text += fmt.Sprintf("\n![%s](%s)\n", plot.title, name)
	}
	return os.WriteFile(filepath.Join(opt.report, "benchmarks.md"), []byte(text), 0o644)
}
