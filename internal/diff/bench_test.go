package diff

import (
	"crypto/sha256"
	"fmt"
	"testing"
	"time"

	"tartine/internal/manifest"
)

func BenchmarkCompare100000(b *testing.B) {
	var want []manifest.Entry
	var found []Found
	for i := range 100_000 {
		e := manifest.Entry{Path: fmt.Sprintf("species/%03d/page-%06d.html", i/100, i), Attributes: manifest.Attributes{Mode: manifest.FileMode, ModTime: time.Unix(int64(i), 0)}, Size: int64(i), Digest: sha256.Sum256(fmt.Append(nil, i))}
		want, found = append(want, e), append(found, Found{Entry: &e})
	}
	rule := Rule{Modes: true, TimeStep: time.Nanosecond}
	for b.Loop() {
		if r := Compare(want, found, want, rule, nil); r.Same != len(want) {
			b.Fatal(r.Same)
		}
	}
}
