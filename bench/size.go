package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// A site of three sizes, behind a command, so that the system tells the memory of both ends: what a deployment, a no-op and
// one changed file cost.

// ofSize is what was measured of a site of one size.
type ofSize struct {
	files int

	first, noop, change sample // here
	firstThere          int64  // memory of the far end, in bytes
	noopThere           int64  //
	changeThere         int64  //
	grown               int64  // by how many bytes the record has grown for the changed file
}

var sizes = []int{10_000, 100_000, 1_000_000}

// bySize measures them all, once.
func (b *bench) bySize() ([]ofSize, error) {
	if b.measured != nil {
		return b.measured, nil
	}
	for _, files := range sizes {
		one, err := b.size(b.scaled(files))
		if err != nil {
			return nil, err
		}
		b.measured = append(b.measured, *one)
	}
	return b.measured, nil
}

func (b *bench) size(files int) (out *ofSize, err error) {
	out = &ofSize{files: files}
	tree := fmt.Sprintf("sized%d", files)
	bytes := 4 << 10
	if files > b.scaled(100_000) {
		bytes = 16 // the number of files counts
	}
	if err := writePages(b.in(tree), files, bytes); err != nil {
		return nil, err
	}
	defer os.RemoveAll(b.in(tree))
	if err := b.clear(); err != nil {
		return nil, err
	}
	settings := fmt.Sprintf("content: [{source: %s}]\ntargets: {rock: {url: %s, command: [/usr/bin/env, time, -f, \"%%M\", -o, %s, sh]}}\n", b.in(tree), b.in("site"), b.in("peak"))
	if err := os.WriteFile(b.in("tartine.yaml"), []byte(settings), 0o644); err != nil {
		return nil, err
	}
	deploy := func(there *int64) (sample, error) {
		s, err := b.exec(b.program, "deploy", "--config", b.in("tartine.yaml"), "--quiet")
		if err != nil {
			return s, err
		}
		*there, err = b.peak()
		return s, err
	}
	if out.first, err = deploy(&out.firstThere); err != nil {
		return nil, err
	}
	m, err := b.medians(min(b.runs, 3), func() (sample, error) { return deploy(&out.noopThere) })
	if err != nil {
		return nil, err
	}
	out.noop = m[0]
	before, err := recordSize(b.in(".site.tartine"))
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(pageName(b.in(tree), files/2), []byte("changed"), 0o644); err != nil {
		return nil, err
	}
	if out.change, err = deploy(&out.changeThere); err != nil {
		return nil, err
	}
	after, err := recordSize(b.in(".site.tartine"))
	out.grown = after - before
	if err != nil {
		return nil, err
	}
	return out, b.clear()
}

// peak gives the memory that the far end had at most, in bytes.
func (b *bench) peak() (int64, error) {
	text, err := os.ReadFile(b.in("peak"))
	if err != nil {
		return 0, err
	}
	var kib int64
	_, err = fmt.Sscan(strings.TrimSpace(string(text)), &kib)
	return kib << 10, err
}

// recordSize gives how many bytes the files of a record have, but for content.
func recordSize(dir string) (bytes int64, err error) {
	for _, part := range []string{dir, filepath.Join(dir, "deployments")} {
		list, err := os.ReadDir(part)
		if err != nil {
			return 0, err
		}
		for _, entry := range list {
			if info, err := entry.Info(); err == nil && info.Mode().IsRegular() {
				bytes += info.Size()
			}
		}
	}
	return bytes, nil
}

func (b *bench) memory() (rows []row, err error) {
	all, err := b.bySize()
	if err != nil {
		return nil, err
	}
	for _, s := range all[1:] {
		most := int64(60)
		if s.files > b.scaled(100_000) {
			most = 150
		}
		of := grouped(float64(s.files)) + " files"
		rows = append(rows, memoryRow("memory here, first deployment of "+of, s.first.memory, most), memoryRow("memory at the far end", s.firstThere, most),
			memoryRow("memory here, no-op on "+of, s.noop.memory, most), memoryRow("memory at the far end", s.noopThere, most))
	}
	hundred, million := all[1], all[2]
	return append(rows,
		row{"the record's growth for one changed file of 1,000,000", fmt.Sprintf("%d kB", million.grown/1000), "100 kB", float64(million.grown) / 100e3, 1},
		ratioRow("no-op on 1,000,000 files", "no-op on 100,000", million.noop, hundred.noop, 12),
		ratioRow("one file changed of 1,000,000", "no-op on 1,000,000", million.change, million.noop, 1.3)), nil
}

// memoryPlot draws memory against the number of files.
func (b *bench) memoryPlot() (*plot, error) {
	all, err := b.bySize()
	if err != nil {
		return nil, err
	}
	p := &plot{title: "Memory at most, against the number of files", x: "files", y: "MB", logX: true,
		lines: []line{{name: "first deployment, here"}, {name: "first deployment, far end"}, {name: "no-op, here"}, {name: "no-op, far end"}}}
	for _, s := range all {
		for i, bytes := range []int64{s.first.memory, s.firstThere, s.noop.memory, s.noopThere} {
			p.lines[i].points = append(p.lines[i].points, [2]float64{float64(s.files), float64(bytes) / 1e6})
		}
	}
	return p, nil
}
