package main

import (
	"fmt"
	"os"
	"runtime"
	"strings"
	"time"
)

// row is one line of the table.
type row struct {
	work     string
	measured string
	beside   string
	ratio    float64
	most     float64 // what it should be at most
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.2f s", d.Seconds()) }

func ratioRow(work, beside string, ours, theirs sample, most float64) row {
	return row{work, seconds(ours.took), beside + ", " + seconds(theirs.took),
		ours.took.Seconds() / theirs.took.Seconds(), most}
}

const far = "the hand pipeline"

// table measures everything that the table has.
func (b *bench) table() (rows []row, err error) {
	for _, part := range []struct {
		name    string
		measure func() ([]row, error)
	}{{"startup", b.startup}, {"many", b.many}, {"mixed", b.mixed}, {"large", b.large}, {"longLine", b.longLine}, {"memory", b.memory},
		{"watch", b.watch}, {"living", b.living}, {"sources", b.sources}, {"containers", b.containers}, {"rented", b.rented}} {
		if b.only != "" && b.only != part.name {
			continue
		}
		more, err := part.measure()
		if err != nil {
			return nil, err
		}
		rows = append(rows, more...)
		fmt.Fprintf(os.Stderr, "%d rows are measured\n", len(rows))
	}
	return rows, nil
}

func (b *bench) startup() ([]row, error) {
	m, err := b.medians(b.runs, func() (sample, error) { return b.exec(b.program, "--version") })
	if err != nil {
		return nil, err
	}
	return []row{{"start of the program (--version)", fmt.Sprintf("%d ms", m[0].took.Milliseconds()), "30 ms",
		m[0].took.Seconds() / 0.030, 1}}, nil
}

// hashBoth is sha256sum of both ends, by one process each.
func (b *bench) hashBoth(tree string) func() (sample, error) {
	return func() (sample, error) {
		return b.sh("cd %s && find . -type f -print0 | xargs -0 sha256sum >/dev/null && cd %s && find . -type f -print0 | xargs -0 sha256sum >/dev/null", b.in(tree), b.in("hand"))
	}
}

func (b *bench) many() (rows []row, err error) {
	for _, t := range []struct {
		name        string
		files, size int
	}{{"10,000 files of 12 KB", b.scaled(10_000), 12 << 10}, {"100,000 files of 4 KB", b.scaled(100_000), 4 << 10}} {
		tree := fmt.Sprintf("pages%d", t.files)
		if err := writePages(b.in(tree), t.files, t.size); err != nil {
			return nil, err
		}
		m, err := b.medians(b.runs, b.pipe(tree, b.server.port), b.hashBoth(tree), b.first(tree, b.server.port, "ssh"))
		if err != nil {
			return nil, err
		}
		both := sample{took: m[0].took + m[1].took}
		rows = append(rows, ratioRow("first deployment, "+t.name, far, m[2], m[0], 1.3),
			ratioRow("the same", far+" and sha256sum of both ends", m[2], both, 0.45))
		if t.files < b.scaled(100_000) {
			continue
		}
		more, err := b.standing(tree, m[0])
		if err != nil {
			return nil, err
		}
		rows = append(rows, more...)
	}
	return rows, nil
}

// standing measures what is done with a site that exists.
func (b *bench) standing(tree string, pipe sample) (rows []row, err error) {
	find := func() (sample, error) { return b.sh(`find %s -printf '%%s %%T@\n' >/dev/null`, b.in(tree)) }
	login := func() (sample, error) { return b.sh("%s true", b.server.ssh(b.server.port)) }
	m, err := b.medians(b.runs, b.again(tree), find, login)
	if err != nil {
		return nil, err
	}
	rows = append(rows, ratioRow("no-op on 100,000 files", far, m[0], pipe, 0.12),
		ratioRow("the same", "one find of the tree", m[0], m[1], 2.2),
		ratioRow("the same", "a login that does nothing, ssh … true", m[0], m[2], 0))
	n := 0
	change := func() (sample, error) {
		n++
		if err := os.WriteFile(pageName(b.in(tree), b.scaled(100_000)/2),
			fmt.Appendf(nil, "changed for the %d. time", n), 0o644); err != nil {
			return sample{}, err
		}
		return b.deploy(tree, b.server.port, "ssh")
	}
	one, err := b.medians(b.runs, change, b.settled(tree))
	if err != nil {
		return nil, err
	}
	rows = append(rows, ratioRow("one file changed of 100,000", "no-op on 100,000", one[0], one[1], 1.3))
	verify := func() (sample, error) { return b.ask("verify") }
	hash := func() (sample, error) {
		return b.sh("cd %s && find . -type f -print0 | xargs -0 -n 500 -P %d sha256sum >/dev/null", b.in(tree),
			runtime.NumCPU())
	}
	v, err := b.medians(b.runs, verify, hash)
	if err != nil {
		return nil, err
	}
	rows = append(rows, ratioRow("verify 100,000 files, 400 MB", "sha256sum on all cores", v[0], v[1], 1))
	more, err := b.back(one[0], v[1])
	if err != nil {
		return nil, err
	}
	rows = append(rows, more...)
	more, err = b.switched(tree)
	return append(rows, more...), err
}

// back measures what brings things back: an earlier deployment, and the files. One is a deployment of one changed file, hash the digests
// of all.
func (b *bench) back(one, hash sample) ([]row, error) {
	rollback := func() (sample, error) { return b.ask("rollback", "--yes") }
	r, err := b.medians(b.runs, rollback)
	if err != nil {
		return nil, err
	}
	m, err := b.medians(min(b.runs, 3), b.pipeBack(b.server.port), b.fetch(b.server.port))
	if err != nil {
		return nil, err
	}
	again := func() (sample, error) { return b.ask("fetch", "--into", b.in("back"), "--yes") }
	a, err := b.medians(b.runs, again)
	if err != nil {
		return nil, err
	}
	return []row{ratioRow("rollback by one file of 100,000", "one file changed of 100,000", r[0], one, 1.3),
		ratioRow("fetch 100,000 files of 4 KB", far+" the other way", m[1], m[0], 1.3),
		ratioRow("fetch, nothing to do", "sha256sum on all cores", a[0], hash, 1.3)}, os.RemoveAll(b.in("back"))
}

// switched measures a site that is switched from tree to tree, beside a copy of hard links.
func (b *bench) switched(tree string) ([]row, error) {
	config := fmt.Sprintf("name: bench\ncontent: [{source: %q}]\ntargets:\n  live: {url: %q, publish: switch}\n", b.in(tree),
		fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", b.server.user, b.server.port, b.in("live")))
	if err := os.WriteFile(b.in("switched.yaml"), []byte(config), 0o644); err != nil {
		return nil, err
	}
	n := 0
	change := func() (sample, error) {
		n++
		if err := os.WriteFile(pageName(b.in(tree), b.scaled(100_000)/3), fmt.Appendf(nil, "switched for the %d. time", n), 0o644); err != nil {
			return sample{}, err
		}
		return b.exec(b.program, "deploy", "live", "--config", b.in("switched.yaml"), "--identity", b.in("identity"), "--fingerprint", b.server.fingerprint,
			"--ssh-config", "none", "--yes")
	}
	copied := func() (sample, error) {
		n++
		return b.sh("%s 'cp -al %s %s'", b.server.ssh(b.server.port), b.in("live")+"/.", b.in(fmt.Sprintf("linked%d", n)))
	}
	m, err := b.medians(b.runs, change, copied)
	if err != nil {
		return nil, err
	}
	_, err = b.sh("rm -rf %s %s %s %s", b.in("live"), b.in(".live.tartine"), b.in(".live.trees"), b.in("linked*"))
	return []row{ratioRow("one file changed of 100,000, switched", "ssh … cp -al of the tree", m[0], m[1], 1.3)}, err
}

func (b *bench) large() ([]row, error) {
	size := int64(float64(1<<30) * b.scale)
	if err := writePicture(b.in("large/plate.tif"), size); err != nil {
		return nil, err
	}
	cat := func() (sample, error) {
		if err := b.clear(); err != nil {
			return sample{}, err
		}
		return b.sh("%s 'cat >%s' <%s", b.server.ssh(b.server.port), b.in("hand"), b.in("large/plate.tif"))
	}
	sum := func() (sample, error) { return b.sh("sha256sum %s >/dev/null", b.in("large/plate.tif")) }
	m, err := b.medians(b.runs, cat, b.first("large", b.server.port, "ssh"), sum)
	if err != nil {
		return nil, err
	}
	file, err := os.OpenFile(b.in("large/plate.tif"), os.O_WRONLY, 0)
	if err != nil {
		return nil, err
	}
	if _, err := file.WriteAt(make([]byte, 1<<20), size/2); err != nil {
		return nil, err
	}
	if err := file.Close(); err != nil {
		return nil, err
	}
	changed, err := b.deploy("large", b.server.port, "ssh")
	if err != nil {
		return nil, err
	}
	sent := float64(sentBytes(changed)) / (1 << 20)
	slower, name := m[0], "ssh … 'cat > file'"
	if m[2].took > slower.took {
		slower, name = m[2], "sha256sum of it"
	}
	return []row{ratioRow("first deployment of one file of 1 GiB that does not pack", "the slower of ssh … 'cat > file' and sha256sum: "+name, m[1], slower,
		1.25),
		{"1 MiB changed inside it", fmt.Sprintf("%.1f MiB sent", sent), "3 MiB", sent / 3, 1}}, nil
}

func (b *bench) longLine() ([]row, error) {
	port, stop, err := delayed(b.server.port, 50*time.Millisecond)
	if err != nil {
		return nil, err
	}
	defer stop()
	tree := fmt.Sprintf("pages%d", b.scaled(10_000))
	if err := writePages(b.in(tree), b.scaled(10_000), 12<<10); err != nil { // it may be already
		return nil, err
	}
	m, err := b.medians(b.runs, b.pipe(tree, port), b.first(tree, port, "ssh"))
	if err != nil {
		return nil, err
	}
	plain, err := b.medians(min(b.runs, 3), b.first(tree, port, "sftp"))
	if err != nil {
		return nil, err
	}
	back, err := b.medians(min(b.runs, 3), b.pipeBack(port), b.fetch(port))
	if err != nil {
		return nil, err
	}
	rows := []row{ratioRow("10,000 files of 12 KB over a round trip of 50 ms", far+" over the same line", m[1], m[0],
		1.2),
		ratioRow("the same over plain SFTP", far+" over the same line", plain[0], m[0], 2.5),
		ratioRow("the same fetched back", far+" the other way", back[1], back[0], 1.2)}
	// A window of 2 MiB lets through 14 MB/s here.
	port, stopLonger, err := delayed(b.server.port, 150*time.Millisecond)
	if err != nil {
		return nil, err
	}
	defer stopLonger()
	if err := writePicture(b.in("wide/plate.tif"), int64(float64(256<<20)*b.scale)); err != nil {
		return nil, err
	}
	m, err = b.medians(min(b.runs, 3), b.pipe("wide", port), b.first("wide", port, "ssh"))
	if err != nil {
		return nil, err
	}
	return append(rows, ratioRow("256 MiB over a round trip of 150 ms", far+" over the same line", m[1], m[0], 1)), nil
}

func memoryRow(work string, bytes, most int64) row {
	return row{work, fmt.Sprintf("%d MB", bytes/1e6), fmt.Sprintf("%d MB", most), float64(bytes) / float64(most*1e6), 1}
}

// render writes the table.
func render(machine string, rows []row) string {
	var out strings.Builder
	fmt.Fprintf(&out, "# Benchmarks\n\nMedians of paired runs of whole programs, over OpenSSH's server on loopback, logged in to a home folder without start files (`make bench`). Only the ratios mean anything.\n\nMeasured %s on %s.\n\n", time.Now().UTC().Format(time.DateOnly), machine)
	out.WriteString("A first deployment hashes every file at both ends and verifies what is there; the hand pipeline, `tar -C A -cf - . | ssh … tar -C B -xf -`, hashes nothing. [performance.md](performance.md) says where the time goes.\n\n")
	out.WriteString("| work | measured | beside | ratio | aim | |\n| --- | --- | --- | --- | --- | --- |\n")
	for _, r := range rows {
		verdict, aim := "reached", fmt.Sprintf("%.2f", r.most)
		switch {
		case r.most == 0: // it is only measured
			verdict, aim = "", ""
		case r.ratio > r.most:
			verdict = "not reached"
		}
		fmt.Fprintf(&out, "| %s | %s | %s | %.2f | %s | %s |\n", r.work, r.measured, strings.ReplaceAll(r.beside, "|", "\\|"), r.ratio, aim,
			verdict)
	}
	return out.String()
}
