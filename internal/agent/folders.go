package agent

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Two trees that differ are compared folder by folder: for each folder there is a digest of the entries that are
// directly in it, so that only the entries of folders that differ cross the connection.
//
// The digest of a folder is the SHA-256 of its entries, in their order, each as: the length of its name in four bytes,
// the name, kind, mode in two bytes, and the digest of a file or the SHA-256 of what a link says.

// byFolder gives the entries of each folder, by index, folders in the order of their first entry.
func byFolder(entries []manifest.Entry) (folders []string, of map[string][]int) {
	of = map[string][]int{}
	all := make([]int, 0, len(entries)) // of which the lists are parts, as long as a folder's entries follow each other
	for i := 0; i < len(entries); {
		dir, _ := fsys.Split(entries[i].Path)
		begin := len(all)
		for ; i < len(entries); i++ {
			if next, _ := fsys.Split(entries[i].Path); next != dir {
				break
			}
			all = append(all, i)
		}
		run := all[begin:len(all):len(all)]
		if before := of[dir]; before != nil {
			of[dir] = append(before, run...)
			continue
		}
		folders, of[dir] = append(folders, dir), run
	}
	return folders, of
}

func digestFolder(entries []manifest.Entry, of []int) manifest.Digest {
	hash := sha256.New()
	var (
		long   [4]byte
		number [2]byte
	)
	for _, i := range of {
		e := &entries[i]
		_, name := fsys.Split(e.Path)
		binary.BigEndian.PutUint32(long[:], uint32(len(name)))
		hash.Write(long[:])
		hash.Write([]byte(name))
		kind := byte(e.Kind)
		if e.Hand {
			kind |= 1 << 7
		}
		hash.Write([]byte{kind})
		binary.BigEndian.PutUint16(number[:], uint16(e.Mode.Perm()))
		hash.Write(number[:])
		digest := e.Digest
		if e.Kind == manifest.Link {
			digest = sha256.Sum256([]byte(e.Link))
		}
		hash.Write(digest[:])
		if e.Owner != nil {
			fmt.Fprintf(hash, " %s\n", e.Owner)
		}
	}
	return manifest.Digest(hash.Sum(nil))
}

// digestFolders gives the digest of each folder, and its entries as byFolder gives them.
func digestFolders(entries []manifest.Entry) (out []folderDigest, of map[string][]int) {
	folders, of := byFolder(entries)
	out = make([]folderDigest, len(folders))
	for i, dir := range folders {
		out[i] = folderDigest{Path: dir, Digest: digestFolder(entries, of[dir])}
	}
	return out, of
}

// differing gives the folders, by index, whose entries are not those of the base, of which of gives the folders.
func differing(folders []folderDigest, base []manifest.Entry, of map[string][]int) (out []int) {
	for i, f := range folders {
		if of[f.Path] == nil || digestFolder(base, of[f.Path]) != f.Digest {
			out = append(out, i)
		}
	}
	return out
}

// entriesOf gives the entries of some of the folders; of is as byFolder gives it.
func entriesOf(entries []manifest.Entry, of map[string][]int, folders []folderDigest, wanted []int) (manifest.Packed, error) {
	for _, i := range wanted {
		if i < 0 || i >= len(folders) {
			return nil, fmt.Errorf("%w: folder %d", ErrProtocol, i)
		}
	}
	var some []manifest.Entry
	for _, i := range wanted {
		for _, at := range of[folders[i].Path] {
			some = append(some, entries[at])
		}
	}
	return manifest.Pack(some), nil
}

// merge puts a tree together: the folders that differ from the base as they were sent, the others from the base.
func merge(folders []folderDigest, base []manifest.Entry, ofBase map[string][]int, sent []manifest.Entry) []manifest.Entry {
	_, ofSent := byFolder(sent)
	out := make([]manifest.Entry, 0, len(base)+len(sent))
	for _, f := range folders {
		if at, ok := ofSent[f.Path]; ok {
			for _, i := range at {
				out = append(out, sent[i])
			}
			continue
		}
		for _, i := range ofBase[f.Path] {
			out = append(out, base[i])
		}
	}
	if !inOrder(out) { // folders that lie in one another, or an entry that comes twice
		slices.SortFunc(out, func(a, b manifest.Entry) int { return strings.Compare(a.Path, b.Path) })
	}
	return out
}

// inOrder tells whether entries are sorted and none comes twice.
func inOrder(entries []manifest.Entry) bool {
	for i := 1; i < len(entries); i++ {
		if entries[i-1].Path >= entries[i].Path {
			return false
		}
	}
	return true
}
