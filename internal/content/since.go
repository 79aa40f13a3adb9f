package content

import (
	"encoding/binary"
	"strings"

	"golang.org/x/crypto/blake2b"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Of a tree that is remembered it is known what each folder held. So of what is taken later it is known in which folders alone it is
// something else, and nobody need go through the others.

// mostRemembered is how many bytes that may take for one tree: of more it is not remembered.
const mostRemembered = 4 << 20

// held gives the digest of what each folder holds, in the order of folders, until visit tells that that is enough. That of a folder of several sources is that of
// the digests of what each brings.
func (f *folds) held(of *prints, visit func(dir string, holds manifest.Digest, count int) bool) {
	for i := 0; i < len(f.pieces); {
		dir, holds, count, first := f.pieces[i].dir, of.pieces[i], 0, i
		for ; i < len(f.pieces) && f.pieces[i].dir == dir; i++ {
			count += int(f.pieces[i].count)
		}
		if i > first+1 {
			var all []byte
			for j := range of.pieces[first:i] {
				all = append(all, of.pieces[first+j][:]...)
			}
			holds = blake2b.Sum256(all)
		}
		if !visit(dir, holds, count) {
			return
		}
	}
}

// packHeld gives that as it is remembered. For each folder: how many bytes its path has in common with the one before (uvarint), the length of
// the rest (uvarint), the rest, and the digest. Empty: it would be too much.
func (f *folds) packHeld(of *prints) (out []byte) {
	before := ""
	f.held(of, func(dir string, holds manifest.Digest, _ int) bool {
		common := 0
		for common < min(len(before), len(dir)) && before[common] == dir[common] {
			common++
		}
		out = binary.AppendUvarint(binary.AppendUvarint(out, uint64(common)), uint64(len(dir)-common))
		out = append(append(out, dir[common:]...), holds[:]...)
		before = dir
		return len(out) <= mostRemembered
	})
	if len(out) > mostRemembered {
		return nil
	}
	return out
}

// unpackHeld calls visit with each folder and the digest of what it held. It tells whether that is to be read.
func unpackHeld(packed []byte, visit func(dir string, held manifest.Digest)) bool {
	dir := ""
	for len(packed) > 0 {
		common, n := binary.Uvarint(packed)
		if n <= 0 || common > uint64(len(dir)) {
			return false
		}
		packed = packed[n:]
		length, n := binary.Uvarint(packed)
		if n <= 0 || length > uint64(len(packed)-n) {
			return false
		}
		dir, packed = dir[:common]+string(packed[n:n+int(length)]), packed[n+int(length):]
		var held manifest.Digest
		if len(packed) < len(held) {
			return false
		}
		packed = packed[copy(held[:], packed):]
		visit(dir, held)
	}
	return true
}

// since gives the folders in which alone something else was taken than a tree held. Where a folder is new, or gone, those above it are among
// them: whether they have an entry of their own follows from what is in them. Nil: they are not known, or many.
func (f *folds) since(of *prints, held []byte) map[string]bool {
	was := map[string]manifest.Digest{}
	if len(held) == 0 || !unpackHeld(held, func(dir string, holds manifest.Digest) { was[dir] = holds }) {
		return nil
	}
	in, changed := map[string]bool{}, 0
	moved := func(dir string) {
		for in[dir] = true; dir != "."; in[dir] = true {
			dir, _ = fsys.Split(dir)
		}
	}
	f.held(of, func(dir string, holds manifest.Digest, count int) bool {
		switch before, known := was[dir]; {
		case !known:
			moved(dir)
			changed += count
		case before != holds:
			in[dir] = true
			changed += count
		}
		delete(was, dir)
		return true
	})
	for dir := range was {
		moved(strings.Clone(dir))
	}
	if changed > max(f.count/8, 64) || len(in) > len(f.pieces)/8+64 {
		return nil
	}
	return in
}
