package manifest

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"testing"
	"time"
)

func many(n int) *Manifest {
	m := &Manifest{Created: time.Unix(1777617015, 0).UTC()}
	for i := range n {
		m.Entries = append(m.Entries, Entry{Path: fmt.Sprintf("species/%03d/page-%06d.html", i/100, i), Attributes: Attributes{Mode: FileMode, ModTime: time.Unix(int64(1777617015+i), 0).UTC()}, Size: int64(i),
			Digest: sha256.Sum256(fmt.Append(nil, i))})
	}
	return m
}

func BenchmarkTreeDigestOf100000(b *testing.B) {
	m := many(100_000)
	for b.Loop() {
		m.Tree()
	}
}

func BenchmarkWriteListingOf100000(b *testing.B) {
	m := many(100_000)
	for b.Loop() {
		if err := m.WriteListing(io.Discard); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkReadJSONOf100000(b *testing.B) {
	var text bytes.Buffer
	if err := many(100_000).WriteJSON(&text); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := ReadJSON(bytes.NewReader(text.Bytes())); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkUnpack100000(b *testing.B) {
	packed := Pack(many(100_000).Entries)
	for b.Loop() {
		if _, err := packed.Unpack(); err != nil {
			b.Fatal(err)
		}
	}
}
