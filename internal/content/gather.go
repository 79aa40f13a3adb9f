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

// stretchFiles is how many files are read before what was found out is put away.
const stretchFiles = 8192
