package main

import (
	"bytes"
	"fmt"
	"math"
	"time"
)

// plot is lines over an axis of numbers, both axes with time or counts growing by factors.
type plot struct {
	title, x, y string
	lines       []line
	logX        bool
}

type line struct {
	name   string
	points [][2]float64
}

// plots measures what the plots show.
func (b *bench) plots() (map[string]*plot, error) {
	files := &plot{title: "First deployment against the number of files (4 KB each)", x: "files", y: "seconds",
		logX: true, lines: []line{{name: "tartine deploy"}, {name: "tar through ssh"},
			{name: "tartine deploy, nothing changed"}}}
	for _, n := range []int{1_000, 3_000, 10_000, 30_000, 100_000, 300_000} {
		tree := fmt.Sprintf("plot%d", b.scaled(n))
		if err := writePages(b.in(tree), b.scaled(n), 4<<10); err != nil {
			return nil, err
		}
		m, err := b.medians(b.options.plots, b.first(tree, b.server.port, "ssh"), b.pipe(tree, b.server.port))
		if err != nil {
			return nil, err
		}
		if _, err := b.first(tree, b.server.port, "ssh")(); err != nil {
			return nil, err
		}
		same, err := b.medians(b.options.plots, b.again(tree))
		if err != nil {
			return nil, err
		}
		for at, s := range append(m, same...) {
			files.lines[at].points = append(files.lines[at].points, [2]float64{float64(b.scaled(n)), s.took.Seconds()})
		}
	}
	trips := &plot{title: "First deployment of 10,000 files of 12 KB against the round trip time", x: "round trip, ms",
		y: "seconds", lines: []line{{name: "tartine deploy"}, {name: "tar through ssh"}}}
	tree := fmt.Sprintf("pages%d", b.scaled(10_000))
	for _, trip := range []int{0, 10, 50, 150} {
		port, stop, err := delayed(b.server.port, time.Duration(trip)*time.Millisecond)
		if err != nil {
			return nil, err
		}
		m, err := b.medians(b.options.plots, b.first(tree, port, "ssh"), b.pipe(tree, port))
		stop()
		if err != nil {
			return nil, err
		}
		for at, s := range m {
			trips.lines[at].points = append(trips.lines[at].points, [2]float64{float64(trip), s.took.Seconds()})
		}
	}
	memory, err := b.memoryPlot()
	return map[string]*plot{"benchmarks-files.svg": files, "benchmarks-round-trip.svg": trips, "benchmarks-memory.svg": memory}, err
}

const (
	width, height            = 880, 480
	left, right, top, bottom = 70, 30, 50, 60
	innerWidth, innerHeight  = width - left - right, height - top - bottom
	half                     = 3.8 // of how wide a character of a label is
)

// svg draws the plot. Lines differ by dashes and marks as well as by colour.
func (p *plot) svg() []byte {
	var out bytes.Buffer
	fmt.Fprintf(&out, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="sans-serif" font-size="13">`+"\n", width, height)
	fmt.Fprintf(&out, `<rect width="%d" height="%d" fill="#fff"/><text x="%d" y="28" font-size="16">%s</text>`+"\n",
		width, height, left, p.title)
	minX, maxX, maxY := math.Inf(1), 0.0, 0.0
	for _, l := range p.lines {
		for _, at := range l.points {
			minX, maxX, maxY = min(minX, at[0]), max(maxX, at[0]), max(maxY, at[1])
		}
	}
	step := niceStep(maxY / 5)
	maxY = math.Ceil(maxY/step) * step
	x := func(v float64) float64 {
		if p.logX {
			return left + innerWidth*math.Log(v/minX)/math.Log(maxX/minX)
		}
		return left + innerWidth*(v-minX)/(maxX-minX)
	}
	y := func(v float64) float64 { return top + innerHeight*(1-v/maxY) }
	for v := 0.0; v <= maxY+step/2; v += step {
		fmt.Fprintf(&out, `<line x1="%d" x2="%d" y1="%.1f" y2="%.1f" stroke="#ddd"/><text x="%d" y="%.1f" text-anchor="end">%g</text>`+"\n", left, width-right, y(v), y(v), left-8, y(v)+4, math.Round(v*1000)/1000)
	}
	for _, at := range p.lines[0].points {
		label := grouped(at[0])
		middle := min(x(at[0]), width-4-half*float64(len(label))) // it must not leave the picture
		fmt.Fprintf(&out, `<line x1="%.1f" x2="%.1f" y1="%d" y2="%d" stroke="#eee"/><text x="%.1f" y="%d" text-anchor="middle">%s</text>`+"\n", x(at[0]), x(at[0]), top, height-bottom, middle, height-bottom+20, label)
	}
	fmt.Fprintf(&out, `<text x="%d" y="%d" text-anchor="middle">%s</text><text x="16" y="%d" transform="rotate(-90 16 %[4]d)" text-anchor="middle">%s</text>`+"\n", left+innerWidth/2, height-16, p.x, top+innerHeight/2, p.y)
	for i, l := range p.lines {
		colour, dash := []string{"#0b6e8f", "#b5491c", "#4d7a1f", "#6a4c93"}[i], []string{"none", "7 4", "2 3", "10 3 2 3"}[i]
		var path bytes.Buffer
		for n, at := range l.points {
			fmt.Fprintf(&path, "%s%.1f %.1f ", map[bool]string{true: "M", false: "L"}[n == 0], x(at[0]), y(at[1]))
			fmt.Fprintf(&out, `<circle cx="%.1f" cy="%.1f" r="3.5" fill="%s"/>`+"\n", x(at[0]), y(at[1]), colour)
		}
		fmt.Fprintf(&out, `<path d="%s" fill="none" stroke="%s" stroke-width="2" stroke-dasharray="%s"/>`+"\n",
			path.String(), colour, dash)
		fmt.Fprintf(&out, `<line x1="%d" x2="%d" y1="%d" y2="%[3]d" stroke="%s" stroke-width="2" stroke-dasharray="%s"/><text x="%d" y="%d">%s</text>`+"\n", left+16, left+52, top+16+22*i, colour, dash, left+60, top+20+22*i, l.name)
	}
	out.WriteString("</svg>\n")
	return out.Bytes()
}

func niceStep(v float64) float64 {
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, m := range []float64{1, 2, 5, 10} {
		if m*power >= v {
			return m * power
		}
	}
	return 10 * power
}

func grouped(v float64) string {
	if v >= 1e6 {
		return fmt.Sprintf("%d,%03d,%03d", int(v)/1_000_000, int(v)/1000%1000, int(v)%1000)
	}
	if v >= 1000 {
		return fmt.Sprintf("%d,%03d", int(v)/1000, int(v)%1000)
	}
	return fmt.Sprint(int(v))
}
