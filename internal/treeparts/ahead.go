package treeparts

import (
	"sync"

	"tartine/internal/lanehash"
	"tartine/internal/manifest"
)

// Ahead is digests of folders that are computed before it is known which are asked for. It implements site.Digests.
type Ahead struct {
	rooms sync.Pool // of *[]byte

	mu    sync.Mutex
	batch lanehash.Batch
	of    map[manifest.Digest]*manifest.Digest
}

// Add adds a folder; one that has its digests in parts is passed over.
func (a *Ahead) Add(block manifest.Digest, entries []manifest.Entry) {
	if len(entries) > MostEntries {
		return
	}
	room, _ := a.rooms.Get().(*[]byte)
	if room == nil {
		room = new([]byte)
	}
	defer a.rooms.Put(room)
	*room = (*room)[:0]
	for i := range entries {
		*room = appendMember(*room, &entries[i])
	}
	full := a.add(block, *room)
	full.Sum()
}

// add gives what is to be digested now.
func (a *Ahead) add(block manifest.Digest, text []byte) (full lanehash.Batch) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.of == nil {
		a.of = map[manifest.Digest]*manifest.Digest{}
	}
	digest := new(manifest.Digest)
	a.of[block] = digest
	copy(a.batch.Room(len(text)), text)
	a.batch.Add(len(text), (*[lanehash.Size]byte)(digest))
	if a.batch.Full() {
		full, a.batch = a.batch, lanehash.Batch{}
	}
	return full
}

// Digest gives the digest of a folder. Nothing is added any more.
func (a *Ahead) Digest(block manifest.Digest) (digest manifest.Digest, known bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.batch.Sum()
	if of := a.of[block]; of != nil {
		return *of, true
	}
	return digest, false
}
