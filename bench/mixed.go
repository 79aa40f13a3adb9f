package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
)

// mixed measures a tree that is not like pages: half of its files are in one folder; many have the same content; some lie deep, or have
// names that are not ASCII; one is large.
func (b *bench) mixed() ([]row, error) {
	const tree = "mixed"
	files := b.scaled(50_000)
	if err := writeMixed(b.in(tree), files, int64(float64(128<<20)*b.scale)); err != nil {
		return nil, err
	}
	m, err := b.medians(b.runs, b.pipe(tree, b.server.port), b.hashBoth(tree), b.first(tree, b.server.port, "ssh"))
	if err != nil {
		return nil, err
	}
	n := 0
	change := func() (sample, error) {
		n++
		if err := os.WriteFile(plateName(b.in(tree), files/4), fmt.Appendf(nil, "changed for the %d. time", n), 0o644); err != nil {
			return sample{}, err
		}
		return b.deploy(tree, b.server.port, "ssh")
	}
	find := func() (sample, error) { return b.sh(`find %s -printf '%%s %%T@\n' >/dev/null`, b.in(tree)) }
	again, err := b.medians(b.runs, change, b.settled(tree), find)
	if err != nil {
		return nil, err
	}
	name := fmt.Sprintf("%d mixed files", files)
	return []row{ratioRow("first deployment, "+name, far, m[2], m[0], 1.3),
		ratioRow("the same", far+" and sha256sum of both ends", m[2], sample{took: m[0].took + m[1].took}, 0.45),
		ratioRow("no-op on "+name, "one find of the tree", again[1], again[2], 0),
		ratioRow("one file changed of "+name+", among half of them", "no-op on them", again[0], again[1], 1.3)}, os.RemoveAll(b.in(tree))
}

func plateName(dir string, i int) string {
	return filepath.Join(dir, "plates", fmt.Sprintf("plate-%06d.svg", i))
}

// writeMixed writes such a tree. What is in it does not pack.
func writeMixed(dir string, files int, large int64) error {
	random := rand.New(rand.NewPCG(7, uint64(files)))
	noise := rand.NewChaCha8([32]byte{8})
	content := func(least, most int) []byte {
		out := make([]byte, least+random.IntN(most-least))
		_, _ = noise.Read(out) // never fails
		return out
	}
	twins := [][]byte{content(4096, 4097), content(2048, 2049)}
	deep := filepath.Join(dir, "log")
	for i := range files {
		name, text := plateName(dir, i), []byte(nil)
		switch {
		case i < files/2:
			text = content(500, 6000)
		case i < files*3/4:
			name, text = filepath.Join(dir, "twins", fmt.Sprint(i%250), fmt.Sprintf("twin-%d.css", i)), twins[i%2]
		case i < files*7/8:
			name, text = filepath.Join(dir, "möwen", fmt.Sprintf("стая-%d", i%100), fmt.Sprintf("鳥-%d-ünï.html", i)), content(2000, 4000)
		default:
			if at := i - files*7/8; at%max(files/8/60, 1) == 0 { // some sixty levels
				deep = filepath.Join(deep, fmt.Sprintf("level-%d", at))
			}
			name, text = filepath.Join(deep, fmt.Sprintf("page-%d.html", i)), content(1000, 3000)
		}
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, text, 0o644); err != nil {
			return err
		}
	}
	return writePicture(filepath.Join(dir, "film", "rock.bin"), large)
}
