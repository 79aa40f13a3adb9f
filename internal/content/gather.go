package content

import (
	"sync"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// found is a path that a walk took, with the facts by which a cached digest is believed.
type found struct {
	manifest.Entry
	id     identity
	source int32
}

// gathering puts a tree together of what folders hold, while they are read: the digests that a cache knows are looked up
// folder by folder. A file whose digest no cache knows has none until all is put together.
type gathering struct {
	*Tree
	opt    *Options
	caches []*digests

	mu       sync.Mutex
	pieces   []piece // what was taken, in any order
	suspects []suspect
}

// suspect is a file whose content, which is known, the guard has something to say of.
type suspect struct {
	path    string
	source  int32
	verdict verdict
}

// take takes what a folder of a source holds. It may be called by several goroutines at once.
func (g *gathering) take(all []found) {
	if len(all) == 0 {
		return
	}
	var (
		source   = &g.Sources[all[0].source]
		cache    folderLookup // of the folder that the files are in
		suspects []suspect
		hits     int
	)
	for i := range all {
		f := &all[i]
		if f.Kind != manifest.File {
			continue
		}
		digest, v, ok := source.known(f.Path)
		if !ok {
			dir, name := fsys.Split(source.relative(f.Path))
			if cache.digests == nil {
				cache = g.caches[f.source].beside(dir)
			}
			var hit cached
			if hit, ok = cache.lookup(name, f.id); ok {
				hits++
				digest, v = hit.digest, hit.verdict
			}
		}
		if f.Digest = digest; g.suspicious(f.Path, f.source, v) {
			suspects = append(suspects, suspect{f.Path, f.source, v})
		}
	}
	cache.leave()
	pieces := packPieces(all)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.pieces = append(g.pieces, pieces...)
	g.CacheHits += hits
	g.suspects = append(g.suspects, suspects...)
}

// unread gives files of the tree that have no digest, from an entry on and in the order of their paths: those that are to be
// read, and those whose digests stay open; no more than some thousands in all. Next is the entry to go on with.
func (g *gathering) unread(from int) (unread, unopened []reading, next int) {
	for next = from; next < len(g.entries) && len(unread)+len(unopened) < stretchFiles; next++ {
		e := &g.entries[next]
		if e.Kind != manifest.File || !e.Digest.IsZero() {
			continue
		}
		r := reading{entry: e, source: g.from[next]}
		if g.opt.Later > 0 && e.Size >= g.opt.Later && g.Sources[r.source].Files == nil {
			unopened = append(unopened, r)
		} else {
			unread = append(unread, r)
		}
	}
	return unread, unopened, next
}

// stretchFiles is how many files are read before what was found out is put away.
const stretchFiles = 8192
