package content

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"tartine/internal/filter"
)

// benchTree makes 20,000 files of 1 KB in 200 folders, on memory disk where there is one.
func benchTree(b *testing.B) string {
	b.Helper()
	base := ""
	if _, err := os.Stat("/dev/shm"); err == nil {
		base = "/dev/shm"
	}
	dir, err := os.MkdirTemp(base, "tartine-bench")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { os.RemoveAll(dir) })
	content := make([]byte, 1000)
	for i := range 20_000 {
		folder := filepath.Join(dir, fmt.Sprintf("d%02d", i/2000), fmt.Sprintf("s%02d", i/100%20))
		if i%100 == 0 {
			if err := os.MkdirAll(folder, 0o755); err != nil {
				b.Fatal(err)
			}
		}
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("page-%06d.html", i)), content, 0o644); err != nil {
			b.Fatal(err)
		}
	}
	return dir
}

func benchmarkScan(b *testing.B, cache *Cache) {
	dir := benchTree(b)
	if cache != nil {
		cache.clock = func() time.Time { return time.Now().Add(time.Minute) }
	}
	sources := []Source{{Path: dir, Dest: ".", Rules: &filter.Set{}}}
	scan := func() {
		if _, err := Scan(context.Background(), sources, Options{Links: KeepLinks, Cache: cache, Fold: 1}); err != nil {
			b.Fatal(err)
		}
	}
	scan()
	for b.Loop() {
		scan()
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/20_000, "ns/file")
}

func BenchmarkScanCold(b *testing.B) { benchmarkScan(b, nil) }

func BenchmarkScanWarm(b *testing.B) { benchmarkScan(b, NewCache(b.TempDir())) }
