package deploy_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/filter"
	"tartine/internal/fsys/osfs"
	"tartine/internal/site"
)

// BenchmarkNoOp looks at a site of 20,000 files in which nothing has changed, on memory disk where there is one.
func BenchmarkNoOp(b *testing.B) { benchmarkDeploy(b, true) }

// BenchmarkFirst deploys 20,000 files of 1 KB for the first time.
func BenchmarkFirst(b *testing.B) { benchmarkDeploy(b, false) }

func benchmarkDeploy(b *testing.B, again bool) {
	base := ""
	if _, err := os.Stat("/dev/shm"); err == nil {
		base = "/dev/shm"
	}
	dir, err := os.MkdirTemp(base, "tartine-bench")
	must(b, err)
	b.Cleanup(func() { os.RemoveAll(dir) })
	for i := range 20_000 {
		folder := filepath.Join(dir, "content", fmt.Sprintf("d%02d", i/1000))
		must(b, os.MkdirAll(folder, 0o755))
		must(b, os.WriteFile(filepath.Join(folder, fmt.Sprintf("page-%06d.html", i)), fmt.Appendf(nil, "%0*d", 1000, i), 0o644))
	}
	run := func(n int) {
		f, err := osfs.Open(dir)
		must(b, err)
		defer f.Close()
		opened, err := site.Open(context.Background(), f, fmt.Sprint("www", n), "www", site.Options{Jobs: 0})
		must(b, err)
		s := calls.NewHere(opened)
		sources := []content.Source{{Path: filepath.Join(dir, "content"), Dest: ".", Rules: &filter.Set{}}}
		scan := content.Options{Links: content.KeepLinks, Cache: content.NewCache(filepath.Join(dir, "cache"))}
		session := &deploy.Session{Engine: s, Person: &nobody{}, Content: func(ctx context.Context) (*content.Content, error) {
			tree, err := content.Scan(ctx, sources, scan)
			if err != nil {
				return nil, err
			}
			return tree.Content(), nil
		}}
		_, err = session.Deploy(context.Background())
		must(b, err)
	}
	n := 0
	run(n)
	for b.Loop() {
		if !again {
			n++
		}
		run(n)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/20_000, "ns/file")
}

func must(b *testing.B, err error) {
	b.Helper()
	if err != nil {
		b.Fatal(err)
	}
}
