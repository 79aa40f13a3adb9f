package site

import (
	"sync"
	"sync/atomic"

	"tartine/internal/manifest"
)

// Whoever is to compare a site knows early that its content is another one than is recorded: often while the site is surveyed, folder by
// folder, with what is recorded in each. From then on the survey computes what the comparison needs of a folder, so that it
// need not be read once more.

// Digests computes digests of what is recorded in folders, each under the name of its block. It is used by several goroutines at once.
type Digests interface {
	// Add adds a folder. The paths of the entries are their names, and it must not keep them.
	Add(block manifest.Digest, entries []manifest.Entry)
	// Digest gives the digest of one that was added.
	Digest(block manifest.Digest) (digest manifest.Digest, known bool)
}

// Foretell tells that what is wanted is probably not what is recorded: the survey that is under way, or comes next, computes digests. It may
// be called at any time.
func (s *Site) Foretell(digests Digests) { s.foretold.Store(&digests) }

// foretold is what a survey has computed ahead.
type foretold struct {
	site *Site

	once    sync.Once
	digests Digests // nil: nothing was foretold
}

// leastForetold is how many entries a folder must have: of very many small ones it would take memory to know them.
const leastForetold = 16

// take takes what is recorded in a folder in which there is no other one, and which is as it is recorded, if digests are wanted.
func (f *foretold) take(block manifest.Digest, entries []manifest.Entry) {
	wanted := f.site.foretold.Load()
	if wanted == nil || len(entries) < min(leastForetold, f.site.briefAt) {
		return
	}
	for i := range entries {
		if entries[i].Kind == manifest.Dir {
			return
		}
	}
	f.once.Do(func() { f.digests = *wanted })
	f.digests.Add(block, entries)
}

// is tells whether what is recorded in a folder is known to have a digest.
func (f *foretold) is(block, digest manifest.Digest) bool {
	if f.digests == nil || digest.IsZero() {
		return false
	}
	known, found := f.digests.Digest(block)
	return found && known == digest
}

// foretelling is what is foretold to a site; nil: nothing.
type foretelling = atomic.Pointer[Digests]
